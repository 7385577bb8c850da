"""Readers of strangers' files are stopped when they take too much."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import polars as pl
import pytest

from nodrek.core.model import RawChannel, RawLog
from nodrek.errors import NeedsDatabase, NoWheelSpeeds, UnreadableFile
from nodrek.io.logs import bounded
from nodrek.io.logs.bounded import read_bounded
from nodrek.io.logs.read import read_log


def loops() -> RawLog:
    while True:
        pass


def sleeps() -> RawLog:
    time.sleep(3600)
    return RawLog((), "test")


def eats() -> RawLog:
    np.ones(2**33)
    return RawLog((), "test")


def dies() -> RawLog:
    os.abort()


def refuses() -> RawLog:
    raise NeedsDatabase("bus.log needs a database: give one.")


@pytest.mark.parametrize("read", [loops, sleeps, eats, dies])
def test_what_takes_too_much_is_refused(monkeypatch: pytest.MonkeyPatch, read: object) -> None:
    monkeypatch.setattr(bounded, "SECONDS", 1.0)
    began = time.monotonic()
    with pytest.raises(UnreadableFile, match=r"hostile\.mf4 takes more time or memory"):
        read_bounded(read, 1000, "hostile.mf4")  # type: ignore[arg-type]
    assert time.monotonic() - began < 10.0


def test_a_refusal_comes_through_with_its_kind() -> None:
    with pytest.raises(NoWheelSpeeds, match="needs a database"):
        read_bounded(refuses, 1000, "bus.log")


def test_arrays_come_through_unchanged_and_shared() -> None:
    times = np.arange(1000) * 0.01
    values = np.where(times > 5, np.nan, times**2)
    sent = RawLog((RawChannel("a", "km/h", times, values), RawChannel("ö", None, times, times)), "x", ("note",))
    got = read_bounded(lambda: sent, 1000, "a")
    assert (got.format, got.warnings) == ("x", ("note",))
    assert [(c.name, c.unit) for c in got.channels] == [("a", "km/h"), ("ö", None)]
    np.testing.assert_array_equal(got.channels[0].values, values)
    assert got.channels[0].times_s is got.channels[1].times_s


@pytest.mark.parametrize("write", ["write_parquet", "write_ipc"])
def test_a_small_table_that_unpacks_to_a_huge_one_is_refused(tmp_path: Path, write: str) -> None:
    rows = np.zeros(20_000_000)
    path = tmp_path / "bomb"
    getattr(pl.DataFrame(dict.fromkeys(("time", *"abcdefgh"), rows)), write)(path, compression="zstd")
    assert path.stat().st_size < 2_000_000
    with pytest.raises(UnreadableFile, match="unpacks to 20000000 rows"):
        read_log(path)


def test_the_bus_library_comes_without_the_measurement_library() -> None:
    code = (
        "import sys; from nodrek.io.bus.library import load_library;"
        "load_library('can.io.blf'); assert 'asammdf' not in sys.modules;"
        "load_library('asammdf'); assert sys.modules['asammdf'].MDF"
    )
    subprocess.run([sys.executable, "-c", code], check=True)
