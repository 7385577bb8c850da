"""Text logs: any dialect of the same table gives the same arrays; what is no log is refused."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path

import numpy as np
import polars as pl
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from nodrek.core.model import RawChannel, RawLog
from nodrek.errors import BadRequest, NodrekError, UnreadableFile
from nodrek.io.logs.cells import numbers_of
from nodrek.io.logs.read import read_log
from nodrek.io.logs.write import write_csv

NAMES = ("FL", "FR", "RL", "RR")


def table(rows: int, seed: int) -> np.ndarray:
    """Times and four speeds, two decimals as loggers write them."""
    rng = np.random.default_rng(seed)
    time = np.arange(rows) * 0.02
    return np.column_stack([time, np.round(rng.uniform(0, 90, (rows, 4)), 2)])


def write_dialect(
    path: Path,
    values: np.ndarray,
    *,
    separator: str = ",",
    decimal: str = ".",
    encoding: str = "utf-8",
    preamble: int = 0,
    unit_row: bool = False,
    ending: str = "\n",
    quoted: bool = False,
    padded: bool = False,
) -> None:
    mark = '"' if quoted else ""
    names = ["time", *(f"Wheel speed {n}" for n in NAMES)]
    lines = [f"# recorded by a logger, part {k}" for k in range(preamble)]
    units = ["s", *["km/h"] * 4]
    header = names if unit_row else [f"{n} [{u}]" for n, u in zip(names, units, strict=True)]
    lines.append(separator.join(f"{mark}{n}{mark}" for n in header))
    if unit_row:
        lines.append(separator.join(units))
    for row in values:
        cells = ["" if np.isnan(v) else f"{v:.2f}".replace(".", decimal) for v in row]
        if padded:
            cells = [f" {cell} " for cell in cells]
        lines.append(separator.join(f"{mark}{cell}{mark}" if cell else "" for cell in cells))
    path.write_bytes((ending.join(lines) + ending).encode(encoding))


dialects = st.fixed_dictionaries(
    {
        "separator": st.sampled_from([",", ";", "\t", "|"]),
        "decimal": st.sampled_from([".", ","]),
        "encoding": st.sampled_from(["utf-8", "utf-8-sig", "utf-16", "cp1252"]),
        "preamble": st.integers(0, 6),
        "unit_row": st.booleans(),
        "ending": st.sampled_from(["\n", "\r\n"]),
        "quoted": st.booleans(),
        "padded": st.booleans(),
    }
).filter(lambda d: not (d["separator"] == "," and d["decimal"] == ","))


@given(dialects, st.integers(8, 80), st.integers(0, 2**32 - 1))
@settings(max_examples=80, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_any_dialect_gives_the_same_arrays(tmp_path: Path, dialect: dict, rows: int, seed: int) -> None:
    values = table(rows, seed)
    path = tmp_path / "dialect.csv"
    write_dialect(path, values, **dialect)
    raw = read_log(path)
    assert [c.name for c in raw.channels] == [f"Wheel speed {n}" for n in NAMES]
    assert {c.unit for c in raw.channels} == {"km/h"}
    for k, channel in enumerate(raw.channels, start=1):
        np.testing.assert_allclose(channel.times_s, values[:, 0], atol=1e-9)
        np.testing.assert_allclose(channel.values, values[:, k], atol=1e-9)


def test_counts_to_the_base_of_16_are_no_decimals_with_gaps(tmp_path: Path) -> None:
    """A car that stands for long first: nothing but zeros where the kind of a column is told."""
    counts = np.concatenate([np.zeros(9000, dtype=int), np.arange(2500, 4500)])
    path = tmp_path / "hex.csv"
    path.write_text("time_ms,FL,FR\n" + "".join(f"{20 * k},{v:04X},{v + 7:04X}\n" for k, v in enumerate(counts)))
    assert [c.values.tolist() for c in read_log(path).channels] == [counts.tolist(), (counts + 7).tolist()]


def test_whole_numbers_of_one_width_with_gaps_are_decimals() -> None:
    values = numbers_of(pl.Series(["12", "--", None, "45", "2E"]), decimal_comma=False)
    np.testing.assert_array_equal(values, [12.0, np.nan, np.nan, 45.0, np.nan])
    assert numbers_of(pl.Series(["12", "--", "4B"]), decimal_comma=False)[[0, 2]].tolist() == [0x12, 0x4B]


def test_blank_cells_are_no_samples(tmp_path: Path) -> None:
    values = table(40, 1)
    values[::2, 3] = np.nan
    path = tmp_path / "sparse.csv"
    write_dialect(path, values)
    channel = read_log(path).channels[2]
    assert np.isnan(channel.values[::2]).all()
    assert not np.isnan(channel.values[1::2]).any()


@pytest.mark.parametrize(("factor", "says"), [(1000, "milliseconds"), (1_000_000, "microseconds")])
def test_a_clock_without_unit_is_told_by_its_steps(tmp_path: Path, factor: int, says: str) -> None:
    path = tmp_path / "clock.csv"
    rows = "\n".join(f"{int(k * 0.02 * factor)},{30 + k % 3},31,32,33" for k in range(50))
    path.write_text(f"timestamp,FL,FR,RL,RR\n{rows}\n")
    raw = read_log(path)
    assert np.diff(raw.channels[0].times_s) == pytest.approx(0.02)
    assert says in raw.warnings[0]


@given(st.integers(2, 60), st.integers(0, 2**32 - 1), st.booleans())
@settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_writing_and_reading_loses_nothing(tmp_path: Path, rows: int, seed: int, own_clocks: bool) -> None:
    rng = np.random.default_rng(seed)
    rows += 6
    channels = []
    for k, name in enumerate(NAMES):
        times = np.arange(rows) * 0.05 + (0.01 * k if own_clocks else 0.0)
        channels.append(RawChannel(name, "km/h", times, np.round(rng.uniform(0, 200, rows), 3)))
    path = tmp_path / "round.csv"
    write_csv(RawLog(tuple(channels), "test"), path)
    back = read_log(path)
    for before, after in zip(channels, back.channels, strict=True):
        known = ~np.isnan(after.values)
        np.testing.assert_allclose(after.values[known], before.values, atol=1e-9)
        np.testing.assert_allclose(after.times_s[known], before.times_s, atol=2e-6)


def bad_files(folder: Path) -> dict[str, tuple[Path, str]]:
    """Things that are no log, each with a word its sentence must hold."""
    out: dict[str, tuple[Path, str]] = {}

    def add(name: str, content: bytes, says: str) -> None:
        path = folder / name
        path.write_bytes(content)
        out[name] = (path, says)

    add("empty.csv", b"", "empty")
    add("binary.csv", bytes(range(256)) * 40, "not a log")
    add("prose.txt", b"Dear colleague,\nthe van is ready.\nBest wishes\n" * 30, "not a log")
    add("picture.png", b"\x89PNG\r\n\x1a\n" + os.urandom(4000), "not a log")
    add("one-row.csv", b"time,FL,FR\n0,1,2\n", "not a log")
    add("no-time.csv", b"FL,FR\n" + b"\n".join(b"%d,%d" % (30 - k % 2, 30 - k % 3) for k in range(60)), "time column")
    add("one-line.csv", b"1,2,3," * 300_000, "not a log")
    add("nul-in-middle.csv", b"time,FL\n0,1\n\x001,2\n2,3\n", "not a log")
    out["missing.csv"] = (folder / "missing.csv", "no such file")
    out["a folder"] = (folder, "folder")
    pipe = folder / "pipe.csv"
    os.mkfifo(pipe)
    out["pipe"] = (pipe, "device or pipe")
    out["zero"] = (Path("/dev/zero"), "device or pipe")
    loop = folder / "loop.csv"
    loop.symlink_to(loop)
    out["loop"] = (loop, "Check the name")
    huge = folder / "huge.csv"
    with huge.open("wb") as file:
        file.truncate(6 * 1024**3)
    out["huge"] = (huge, "more than the 4 GB")
    return out


BAD = ["empty.csv", "binary.csv", "prose.txt", "picture.png", "one-row.csv", "no-time.csv", "one-line.csv",
       "nul-in-middle.csv", "missing.csv", "a folder", "pipe", "zero", "loop", "huge"]  # fmt: skip


@pytest.mark.parametrize("name", BAD)
def test_what_is_no_log_gets_one_sentence(tmp_path: Path, name: str) -> None:
    path, says = bad_files(tmp_path)[name]
    with pytest.raises(UnreadableFile, match=says) as caught:
        read_log(path)
    assert "\n" not in str(caught.value)


@given(st.binary(max_size=3000))
@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_any_bytes_end_in_a_log_or_a_sentence(tmp_path: Path, content: bytes) -> None:
    path = tmp_path / "bytes.csv"
    path.write_bytes(content)
    with contextlib.suppress(UnreadableFile):
        read_log(path)


@given(st.integers(0, 2**32 - 1), st.integers(1, 30))
@settings(max_examples=100, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_a_damaged_log_ends_in_a_log_or_a_sentence(tmp_path: Path, seed: int, wounds: int) -> None:
    rng = np.random.default_rng(seed)
    path = tmp_path / "wounded.csv"
    write_dialect(path, table(60, seed))
    content = bytearray(path.read_bytes())
    for at in rng.integers(0, len(content), wounds):
        content[at] = int(rng.integers(1, 256))
    path.write_bytes(bytes(content[: int(rng.integers(1, len(content)))]))
    with contextlib.suppress(UnreadableFile):
        read_log(path)


@pytest.mark.parametrize("row", ["{:.3f}:Left front wheel speed:30.0:km/h ", "{:.1f},*,29.95,30.14,29.44,30.10,="])
def test_rows_that_never_end_get_one_sentence(tmp_path: Path, row: str) -> None:
    """Some hundred thousand letters between two colons once took an hour to be no clock."""
    path = tmp_path / "line.txt"
    path.write_text("time:mark:FL:FR" + "".join(row.format(k / 10) for k in range(20_000)), encoding="utf-8")
    with pytest.raises(UnreadableFile, match="not a log that Nodrek can read"):
        read_log(path)


def test_writing_where_one_may_not_says_so(tmp_path: Path, healthy_raw: RawLog) -> None:
    with pytest.raises(BadRequest, match="cannot be written"):
        write_csv(healthy_raw, tmp_path / "no" / "such" / "folder.csv")


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    damage=st.lists(st.tuples(st.integers(0, 4000), st.binary(min_size=1, max_size=4)), min_size=1, max_size=6),
    ending=st.sampled_from([b"\r", b"\n"]),
    spaces=st.booleans(),
)
def test_damaged_bytes_in_text_that_is_laid_out_anew(
    tmp_path: Path, damage: list[tuple[int, bytes]], ending: bytes, spaces: bool
) -> None:
    """Old line ends or columns of spaces, with bytes that no encoding knows: a log or a sentence, no crash."""
    values = table(120, 8)
    rows = [b"  ".join(b"%.2f" % x for x in row) if spaces else b";".join(b"%.2f" % x for x in row) for row in values]
    head = (b"  " if spaces else b";").join(b"time FL FR RL RR".split())
    content = bytearray(ending.join([head, *rows]) + ending)
    for at, piece in damage:
        where = at % len(content)
        content[where : where + len(piece)] = piece
    path = tmp_path / "damaged.txt"
    path.write_bytes(bytes(content))
    with contextlib.suppress(NodrekError):
        raw = read_log(path)
        assert all(c.values.shape == c.times_s.shape for c in raw.channels)


def test_bytes_of_another_code_page_in_old_line_ends(tmp_path: Path) -> None:
    """0x81 has no letter in the usual western code page; lines that end with a carriage return only."""
    rows = [f"{k * 0.1:.1f};{50 + k % 7};51;52;53" for k in range(60)]
    text = "\r".join(["time;FL;FR;RL;RR", *rows]).encode()
    path = tmp_path / "old.csv"
    path.write_bytes(text[:700] + b"\x81\xfc\x81" + text[700:])
    assert len(read_log(path).channels) == 4
