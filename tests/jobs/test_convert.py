"""A round trip through every open format loses nothing."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from nodrek.core.corners import map_corners
from nodrek.core.model import Corner, RawChannel, RawLog
from nodrek.errors import BadRequest
from nodrek.io.logs.read import read_log
from nodrek.io.logs.write import write_log
from nodrek.jobs.convert import convert_file

Writer = Callable[..., Path]


def two_clocks() -> RawLog:
    fast, slow = np.arange(200) * 0.02, np.arange(60) * 0.1 + 0.013
    return RawLog(
        (
            RawChannel("Wheel speed FL", "km/h", fast, 40 + np.sin(fast)),
            RawChannel("Wheel speed FR", "mph", slow, 25 + np.cos(slow)),
            RawChannel("Wheel speed FR", None, fast, np.where(fast > 2, np.nan, 3.0)),
        ),
        "test",
    )


@pytest.mark.parametrize("ending", ["csv", "parquet", "mf4"])
def test_names_units_times_and_values_are_kept(tmp_path: Path, ending: str) -> None:
    before = two_clocks()
    path = tmp_path / f"out.{ending}"
    write_log(before, path)
    after = read_log(path)
    assert list(tmp_path.iterdir()) == [path]
    assert len(after.channels) == 3
    for a, b in zip(before.channels, after.channels, strict=True):
        assert b.name.startswith(a.name)
        assert b.unit == a.unit
        wanted, known = ~np.isnan(a.values), ~np.isnan(b.values)
        np.testing.assert_allclose(b.values[known], a.values[wanted], atol=1e-12)
        np.testing.assert_allclose(b.times_s[known], a.times_s[wanted], atol=2e-6)


def test_a_chain_of_formats_ends_where_it_began(tmp_path: Path, healthy_raw: RawLog, log_file: Writer) -> None:
    path = log_file(healthy_raw)
    for ending in ("mf4", "parquet", "csv"):
        following = tmp_path / f"next.{ending}"
        convert_file(path, following)
        path = following
    before, after = map_corners(healthy_raw), map_corners(read_log(path))
    for corner in Corner:
        np.testing.assert_allclose(after.channels[corner].speed, before.channels[corner].speed)


def test_the_mapping_is_kept_in_the_names(tmp_path: Path, healthy_raw: RawLog, log_file: Writer) -> None:
    renamed = RawLog(
        tuple(RawChannel(f"S{k}", c.unit, c.times_s, c.values) for k, c in enumerate(healthy_raw.channels)), "test"
    )
    out = tmp_path / "mapped.csv"
    convert_file(log_file(renamed), out, mapping={c: f"S{k}" for k, c in enumerate(Corner)})
    assert list(map_corners(read_log(out)).corners) == list(Corner)


def test_wrong_places_are_refused(tmp_path: Path, healthy_raw: RawLog) -> None:
    with pytest.raises(BadRequest, match="ends in"):
        write_log(healthy_raw, tmp_path / "a.docx")
    with pytest.raises(BadRequest, match="cannot be written"):
        write_log(healthy_raw, tmp_path / "no" / "a.csv")
    with pytest.raises(BadRequest, match="no channels"):
        write_log(RawLog((), "test"), tmp_path / "a.csv")
