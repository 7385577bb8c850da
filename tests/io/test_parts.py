"""The small parts of reading, one by one: cells, clocks, flawed databases, the guard, captures."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import polars as pl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nodrek.errors import UnreadableFile
from nodrek.io.bus.database import load_databases
from nodrek.io.bus.frames import EXTENDED, frames_from
from nodrek.io.bus.heavy import NOT_AVAILABLE_KMH, heavy_channels
from nodrek.io.bus.lenient_dbc import read_dbc
from nodrek.io.bus.signals import Signal, last_byte, physical_values, raw_values
from nodrek.io.logs.cells import clock_seconds, is_clock, is_missing, is_number, numbers_of, uses_decimal_comma
from nodrek.io.logs.clock import seconds_of, unroll
from nodrek.io.logs.guard import check_file
from nodrek.io.logs.shape import find_shape, name_and_unit
from nodrek.io.logs.stated import stated_interval
from nodrek.io.logs.wide import assemble, is_clock_name


@pytest.mark.parametrize(("text", "seconds"), [
    ("12:34:56", 45296.0), ("12:34:56.5", 45296.5), ("12:34:56,25", 45296.25), ("34:56.5", 2096.5),
    ("2026-05-03 12:34:56.5", 45296.5), ("2026-05-03T12:34:56Z", 45296.0), ("2026-05-03T12:34:56.5+02:00", 45296.5),
    ("03.05.2026 12:34:56", 45296.0), ("5/3/2026 1:02:03 PM", 46923.0), ("12:00:01 AM", 1.0),
    ("12:34:56:250", 45296.25),
])  # fmt: skip
def test_clock_times(text: str, seconds: float) -> None:
    assert is_clock(text)
    assert clock_seconds([text])[0] == pytest.approx(seconds)


@pytest.mark.parametrize("text", ["", "abc", "12", "1.5", "12:3", "1:2:3:4:5", "km/h"])
def test_what_is_no_clock_time(text: str) -> None:
    assert not is_clock(text)
    assert math.isnan(clock_seconds([text])[0])


@pytest.mark.parametrize("cell", ["1", "-1.5", "+2", ".5", "5.", "1e3", "1,5", "1 234,5", "12,345.6", "1.234.567"])
def test_numbers(cell: str) -> None:
    assert is_number(cell)


@pytest.mark.parametrize("cell", ["", "N/A", "---", "NaN", "null", "#VALUE!", "k.A."])
def test_words_for_nothing(cell: str) -> None:
    assert is_missing(cell)


@pytest.mark.parametrize(("cells", "separator", "comma"), [
    (["1,5", "2,25"], ";", True), (["1.5", "2.25"], ";", False), (["1.234,5", "2,25"], ";", True),
    (["1,234.5"], ";", False), (["1,234", "0.5"], ";", False), (["1,5"], ",", True), (["1,500"], ",", False),
    (["12", "13"], ";", False), (["0,500"], ",", True), (["1234,500"], ",", True), (["1,234,567"], ";", False),
    (["1.234.567"], ";", True), (["1,234"], ";", True),
])  # fmt: skip
def test_the_decimal_sign_of_a_table(cells: list[str], separator: str, comma: bool) -> None:
    assert uses_decimal_comma(cells, separator) is comma


@settings(deadline=None)
@given(st.lists(st.floats(-1e6, 1e6).map(lambda v: round(v, 3)), min_size=1, max_size=20), st.booleans())
def test_grouped_numbers_come_back(values: list[float], comma: bool) -> None:
    spelled = [f"{v:,.3f}" for v in values]
    if comma:
        spelled = [s.translate(str.maketrans(",.", ".,")) for s in spelled]
    np.testing.assert_allclose(numbers_of(pl.Series(spelled), comma), values, atol=1e-9)


@pytest.mark.parametrize(("first", "step", "unit", "factor"), [
    (0.0, 0.02, None, 1.0), (0.0, 20.0, None, 1e-3), (0.0, 20_000.0, None, 1e-6), (0.0, 20.0, "ms", 1e-3),
    (1.7e9, 0.02, None, 1.0), (1.7e12, 20.0, None, 1e-3), (1.7e15, 2e4, "s", 1e-6), (46000.0, 2.3148e-7, None, 86400.0),
    (100.0, 0.5, "min", 60.0),
])  # fmt: skip
def test_units_of_clocks(first: float, step: float, unit: str | None, factor: float) -> None:
    seconds, _ = seconds_of(first + step * np.arange(60), unit)
    assert np.median(np.diff(seconds)) == pytest.approx(step * factor, rel=2e-3)


def test_clocks_that_start_again_are_counted_on() -> None:
    midnight = np.mod(86390.0 + np.arange(200) * 0.1, 86400.0)
    counter = np.mod(np.arange(2000) * 0.05, 65.536)
    at_a_blank = midnight.copy()
    at_a_blank[100] = np.nan  # a row without a time between the two days
    for clock, step in ((midnight, 0.1), (counter, 0.05), (at_a_blank, 0.1)):
        times, notes = unroll(clock)
        np.testing.assert_allclose(np.diff(times[~np.isnan(times)]), step, atol=0.11)
        assert len(notes) == 1
    steady = np.arange(100.0)
    assert unroll(steady)[0] is steady
    swapped = np.array([0.0, 1, 3, 2, 4, 5, 6, 7])
    np.testing.assert_array_equal(unroll(swapped)[0], swapped)


def test_a_column_of_milliseconds_that_is_no_clock_stays_one() -> None:
    """Stamps of whole seconds, and how long something took beside them."""
    stamps = np.repeat(np.arange(30.0), 10)
    took = np.random.default_rng(1).integers(5, 900, stamps.size).astype(float)
    raw = assemble("log.csv", ("time", "FL", "took ms"), ("s", "km/h", None), [stamps, 30.0 + stamps, took], "csv")
    assert [c.name for c in raw.channels] == ["FL", "took ms"]
    np.testing.assert_array_equal(raw.channels[0].times_s, stamps)


def test_names_and_units() -> None:
    assert name_and_unit("Speed FL [km/h]") == ("Speed FL", "km/h")
    assert name_and_unit("Speed (FL)") == ("Speed", "FL")
    assert name_and_unit("plain") == ("plain", None)
    assert is_clock_name("Zeit", None)
    assert is_clock_name("whatever", "ms")
    assert not is_clock_name("Wheel speed FL", "km/h")


def test_clock_that_carries_the_channels_name_wins_over_the_nearest() -> None:
    """All clocks first, then all values: names decide."""
    clocks = [np.arange(50) * 0.1 + 0.01 * k for k in range(2)]
    values = [np.linspace(0, 5, 50), np.linspace(5, 9, 50) % 3]
    raw = assemble("x", ["time FR", "time FL", "FL", "FR"], ["s", "s", None, None], [*clocks, *values], "test")
    by_name = {c.name: c.times_s for c in raw.channels}
    np.testing.assert_array_equal(by_name["FL"], clocks[1])
    np.testing.assert_array_equal(by_name["FR"], clocks[0])


@pytest.mark.parametrize("text", ["", "\n\n\n", "a,b,c\n" * 50, "1\n2\n3\n", "x;y\n1;2\n", "# 1,2,3\n" * 20])
def test_texts_without_a_table(text: str) -> None:
    assert find_shape(text, "utf-8") is None


KMH = '[0|0] "km/h" Y\n'
FLAWS = {
    "missing flag of a 29-bit identifier": (f"BO_ 200000 M: 8 X\n SG_ A : 0|8@1+ (1,0) {KMH}", 200000 | EXTENDED),
    "flag set": (f"BO_ 2147683648 M: 8 X\n SG_ A : 0|8@1+ (1,0) {KMH}", 200000 | EXTENDED),
    "name that begins with a digit": (f"BO_ 5 3rd: 8 X\n SG_ A : 0|8@1+ (1,0) {KMH}", 5),
    "number without a zero": (f"BO_ 5 M: 8 X\n SG_ A : 0|8@1+ (.25,-.5) {KMH}", 5),
    "no unit, no range, no receiver": ("BO_ 5 M: 8 X\n SG_ A : 0|8@1+ (1,0)\n", 5),
    "no sign": ('BO_ 5 M: 8 X\n SG_ A : 0|8@1 (1,0) [0|0] "" Y\n', 5),
    "no colon": (f"BO_ 5 M 8 X\n SG_ A : 0|8@1+ (1,0) {KMH}", 5),
    "sections out of order": (f'VAL_ 5 A 1 "x";\nCM_ "open\nBO_ 5 M: 8 X\n SG_ A : 0|8@1+ (1,0) {KMH}BU_: Z\n', 5),
    "tabs and spaces": (f"BO_\t5\tM:\t8 X\n\tSG_\tA\t:\t0 | 8 @ 1 +\t( 1 , 0 )\t{KMH}", 5),
}


@pytest.mark.parametrize("flaw", FLAWS)
def test_flawed_databases_give_their_signals(flaw: str) -> None:
    text, identifier = FLAWS[flaw]
    messages, lost = read_dbc(text)
    assert lost == 0
    assert [m.identifier for m in messages] == [identifier]
    assert [s.name for s in messages[0].signals] == ["A"]


def test_signals_beyond_understanding_are_counted(tmp_path: Path) -> None:
    path = tmp_path / "a.dbc"
    path.write_text('BO_ 5 M: 8 X\n SG_ A : 0|8@1+ (1,0) [0|0] "km/h" Y\n SG_ B : zero|8@1+ (1,0)\n SG_ C\n')
    messages, notes = load_databases((path,))
    assert len(messages[0].signals) == 1
    assert "2 signals" in notes[0]


@pytest.mark.parametrize(("name", "content", "says"), [
    ("a.dbc", "hello", "no bus database"),
    ("a.arxml", '<!DOCTYPE x [<!ENTITY a "aaaa">]><AUTOSAR/>', "entities"),
    ("a.kcd", "<broken", "no bus database"),
    ("a.sym", "", "empty"),
])  # fmt: skip
def test_what_is_no_database_is_refused(tmp_path: Path, name: str, content: str, says: str) -> None:
    path = tmp_path / name
    path.write_text(content)
    with pytest.raises(UnreadableFile, match=says):
        load_databases((path,))


def test_a_kcd_database_goes_through_the_library(tmp_path: Path) -> None:
    path = tmp_path / "a.kcd"
    path.write_text(
        '<NetworkDefinition xmlns="http://kayak.2codeornot2code.org/1.0"><Document/><Node id="1" name="N"/>'
        '<Bus name="B"><Message id="0x1A0" name="M" length="8"><Signal name="WheelSpeedFL" offset="0" length="16">'
        '<Value slope="0.01" unit="km/h"/></Signal></Message></Bus></NetworkDefinition>'
    )
    messages, _ = load_databases((path,))
    assert messages[0].identifier == 0x1A0
    assert messages[0].signals[0].factor == 0.01


def test_floats_and_signed_signals() -> None:
    data = np.frombuffer(np.array([1.5, -2.25], dtype="<f4").tobytes(), dtype=np.uint8).reshape(1, 8)
    base = Signal("S", 0, 32, True, True, 2.0, 1.0, None, is_float=True)
    assert physical_values(raw_values(data, base), base)[0] == pytest.approx(4.0)
    byte = Signal("S", 0, 8, True, True, 1.0, 0.0, None)
    assert physical_values(raw_values(np.array([[255, 127]], np.uint8), byte), byte)[0] == -1.0
    assert last_byte(Signal("S", 12, 8, True, False, 1, 0, None)) == 3
    assert last_byte(Signal("S", 7, 16, False, False, 1, 0, None)) == 2


def test_codes_of_the_heavy_vehicle_standard_are_no_speeds() -> None:
    """0xFFFF is "not available", 0xFE.. an error (SAE J1939-71; from memory)."""
    rows = [(k * 0.1, 0x08FE6E0B, True, bytes.fromhex("0064" * 3 + ("FFFF" if k % 2 else "00FE"))) for k in range(10)]
    channels = heavy_channels(frames_from(rows))
    assert len(channels) == 4
    assert channels[0].values[0] == 100.0
    assert set(channels[3].values) == {NOT_AVAILABLE_KMH}


def test_frames_keep_what_they_carry() -> None:
    frames = frames_from([(1.0, 0x1FFFFFFF, True, b"\x01"), (2.0, 0x7FF, False, bytes(range(64)))])
    assert frames.ids.tolist() == [0x1FFFFFFF | EXTENDED, 0x7FF]
    assert frames.data.shape == (2, 64)
    assert frames.lengths.tolist() == [1, 64]
    assert frames_from([]).count == 0


def test_the_guard_tells_what_is_wrong(tmp_path: Path) -> None:
    locked = tmp_path / "locked.csv"
    locked.write_text("1")
    assert check_file(locked) == 1
    with pytest.raises(UnreadableFile, match="Check the name"):
        check_file(Path("a\x00b"))
    with pytest.raises(UnreadableFile, match="no such file"):
        check_file(tmp_path / "missing")


@pytest.mark.parametrize(("above", "seconds"), [
    ("Sample rate: 10 Hz", 0.1), ("Abtastrate;10;Hz", 0.1), ("Abtastintervall [ms];100", 0.1), ("dt = 0,1", 0.1),
    ("Samples per second: 10", 0.1), ("Scan rate: 10", 0.1), ("# 10 Hz", 0.1), ("Cycle time: 100 ms", 0.1),
    ("Sample time (s): 0.1", 0.1), ("Logging rate 10/s", 0.1), ("Samples: 600", None), ("Version 2.1", None),
    ("Rate 10 Hz\nRate 20 Hz", None), ("Recorded 2026-03-14 09:00", None), ("Sampled by night shift, 14.03.2026", None),
    ("Interval 0", None), ("Resolution: 0.01 km/h", None), ("Channels: 4", None),
])  # fmt: skip
def test_how_far_apart_rows_are_is_told_by_the_lines_above_them(above: str, seconds: float | None) -> None:
    assert stated_interval(above) == seconds
