"""Logs that write a value only when it changes, and logs that repeat it until it is read again."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from nodrek.core.corners import map_corners
from nodrek.core.model import Array, Corner, RawChannel, RawLog, WheelLog
from nodrek.core.on_change import SAID
from nodrek.core.polled_rows import SAID as REPEATS
from nodrek.jobs.analyze import cut_log

RATE_HZ, SECONDS = 20.0, 240.0


def every_row(step: float, dead: Corner | None = None) -> RawLog:
    """Stops, cruises and pulls in between, in km/h, rounded to `step`."""
    rng = np.random.default_rng(7)
    times = np.arange(0.0, SECONDS, 1.0 / RATE_HZ)
    aims = np.repeat(rng.choice((0.0, 8.0, 15.0, 27.0), int(SECONDS / 12.0)), int(12.0 * RATE_HZ))
    speed = np.convolve(aims, np.ones(120) / 120.0, mode="same")
    channels = []
    for corner in Corner:
        own = speed * (1.0 + 0.003 * rng.standard_normal(times.size)) * (0.0 if corner is dead else 3.6)
        channels.append(RawChannel(f"speed {corner}", "km/h", times, np.round(own / step) * step))
    return RawLog(tuple(channels), "csv")


def changes_only(raw: RawLog, late_s: float = 0.0, off_s: float = 0.0) -> RawLog:
    """As a logger writes it that looks at the channels `late_s` one after another, each row `off_s` too early or late;
    the last row ends the log."""
    channels = []
    off = off_s * np.random.default_rng(8).standard_normal(raw.channels[0].times_s.size)
    for place, channel in enumerate(raw.channels):
        kept = np.append(True, np.diff(channel.values) != 0.0)
        kept[-1] = True
        channels.append(
            replace(channel, times_s=(channel.times_s + off)[kept] + place * late_s, values=channel.values[kept])
        )
    return replace(raw, channels=tuple(channels))


def held_at(log: WheelLog, corner: Corner, times: Array) -> Array:
    channel = log.channels[corner]
    return channel.speed[np.maximum(np.searchsorted(channel.times, times + 1e-6) - 1, 0)]


@pytest.mark.parametrize("step", [0.5, 1.0])
@pytest.mark.parametrize("late_s", [0.0, 0.004])
@pytest.mark.parametrize("dead", [None, Corner.RL])
def test_values_that_stood_between_rows_are_put_back(step: float, late_s: float, dead: Corner | None) -> None:
    whole = map_corners(every_row(step, dead))
    written = changes_only(every_row(step, dead), late_s)
    log = map_corners(written)
    assert SAID in log.warnings
    for place, corner in enumerate(Corner):
        channel = log.channels[corner]
        assert channel.samples == written.channels[place].values.size < channel.times.size
        assert channel.rate == pytest.approx(RATE_HZ, rel=1e-6)
        np.testing.assert_allclose(np.diff(channel.times), 1.0 / RATE_HZ, atol=1e-6 + 2.0 * late_s)
        # a row of the whole log is answered by what stands in this one at that moment
        at = whole.channels[corner].times[:-1]
        np.testing.assert_allclose(held_at(log, corner, at + place * late_s), whole.channels[corner].speed[:-1])
    if not late_s:
        first, *others = (c.times for c in log.channels.values())
        assert all(times is first for times in others)
    part = cut_log(log, 30.0, 90.0).channels[Corner.FL]
    assert part.samples < part.times.size


def test_rows_that_come_a_little_early_or_late_keep_their_rate() -> None:
    log = map_corners(changes_only(every_row(0.5), off_s=0.15 / RATE_HZ))
    assert SAID in log.warnings
    assert log.channels[Corner.FL].rate == pytest.approx(RATE_HZ, rel=0.03)
    assert log.channels[Corner.FL].times.size == pytest.approx(RATE_HZ * SECONDS, rel=0.03)


def test_logs_of_all_rows_stay_as_they_are() -> None:
    for raw in (every_row(1.0), every_row(0.01), every_row(1e-6)):
        log = map_corners(raw)
        assert not {SAID, REPEATS} & set(log.warnings)
        assert all(c.cells is None and c.samples == raw.channels[0].values.size for c in log.channels.values())


def test_a_silence_of_all_corners_at_speed_stays_a_hole() -> None:
    raw = every_row(1.0)
    speed = raw.channels[0].values
    begin = int(np.flatnonzero((speed[:-400] > 60.0) & (speed[400:] > 20.0))[0])
    out = slice(begin, begin + 300)
    cut = replace(
        raw,
        channels=tuple(
            replace(c, times_s=np.delete(c.times_s, out), values=np.delete(c.values, out)) for c in raw.channels
        ),
    )
    log = map_corners(changes_only(cut))
    longest = float(np.diff(log.channels[Corner.FR].times).max())
    assert 300 / RATE_HZ - 1.0 < longest < 300 / RATE_HZ + 5.0


def asked_in_turn(step: float, hz: float) -> RawLog:
    """Each corner read `hz` times a second, one after another, at its own times."""
    raw, ask = every_row(1e-6), np.arange(0.2, SECONDS - 0.2, 0.25 / hz)
    channels = []
    for place, channel in enumerate(raw.channels):
        times = ask[place::4]
        speeds = np.round(np.interp(times, channel.times_s, channel.values) / step) * step
        channels.append(RawChannel(channel.name, "km/h", times, speeds))
    return replace(raw, channels=tuple(channels))


def repeated(raw: RawLog, rows: Array) -> RawLog:
    """All corners in every row, as they were read last."""
    channels = [
        RawChannel(c.name, c.unit, rows, c.values[np.searchsorted(c.times_s, rows + 1e-9, side="right") - 1])
        for c in raw.channels
    ]
    return replace(raw, channels=tuple(channels))


@pytest.mark.parametrize("hz", [2.0, 10.0])
@pytest.mark.parametrize("step", [0.01, 0.5])
def test_rows_written_at_each_answer_come_back_as_the_answers(step: float, hz: float) -> None:
    raw = asked_in_turn(step, hz)
    rows = np.sort(np.concatenate([c.times_s for c in raw.channels]))[4:]
    log = map_corners(repeated(raw, rows))
    assert REPEATS in log.warnings
    for place, corner in enumerate(Corner):
        channel = log.channels[corner]
        assert channel.samples == rows.size
        assert channel.rate == pytest.approx(hz, rel=0.02)
        read = raw.channels[place]
        at = np.searchsorted(read.times_s, channel.times + rows[0] + 1e-6, side="right") - 1
        np.testing.assert_allclose(channel.speed, read.values[at] / 3.6, atol=1e-9)
        # where the value changes, the moment is known to the row
        changed = np.flatnonzero(np.diff(channel.speed) != 0.0) + 1
        np.testing.assert_allclose(channel.times[changed] + rows[0], read.times_s[at[changed]], atol=1e-6)


@pytest.mark.parametrize("in_turn", [True, False])
def test_rows_written_by_a_clock_keep_the_fresh_ones(in_turn: bool) -> None:
    raw, rows = asked_in_turn(0.05, 3.1), np.arange(1.0, SECONDS - 1.0, 0.02)
    if not in_turn:
        raw = replace(
            raw, channels=tuple(replace(c, times_s=raw.channels[0].times_s[: c.times_s.size]) for c in raw.channels)
        )
    log = map_corners(repeated(raw, rows))
    assert REPEATS in log.warnings
    for channel in log.channels.values():
        assert channel.rate == pytest.approx(3.1, rel=0.03)
        assert channel.samples == rows.size


@pytest.mark.parametrize("unit_hz", [50.0, 62.5, 10.0])
def test_rows_that_come_faster_than_the_unit_works_are_left_out(unit_hz: float) -> None:
    """Also where the clocks do not fit; a minute at rest keeps its rows, and cells are counted as they are there."""
    raw = every_row(0.01)
    worked_out = np.arange(0.3, SECONDS - 1.0, 1.0 / unit_hz)
    raw = replace(
        raw,
        channels=tuple(
            replace(c, times_s=worked_out, values=np.interp(worked_out, c.times_s, c.values)) for c in raw.channels
        ),
    )
    rows = np.arange(0.5, SECONDS - 2.0, 0.01)
    log = map_corners(repeated(raw, rows))
    assert REPEATS not in log.warnings
    for channel in log.channels.values():
        assert channel.samples == rows.size
        assert channel.rate == pytest.approx(unit_hz, rel=0.03)
        assert np.diff(channel.times).max() < 4.0 / unit_hz
        rolls = channel.speed[1:] > 0.5
        assert np.mean(np.diff(channel.speed)[rolls] == 0.0) < 0.02


@pytest.mark.parametrize("step", [0.05, 0.5])
def test_rounded_values_that_stand_are_readings(step: float) -> None:
    raw = every_row(1e-6)
    times = np.arange(0.0, SECONDS - 1.0, 0.01)
    smooth = [np.convolve(c.values, np.ones(20) / 20.0, mode="same") for c in raw.channels]
    channels = tuple(
        replace(c, times_s=times, values=np.round(np.interp(times, c.times_s, own) / step) * step)
        for c, own in zip(raw.channels, smooth, strict=True)
    )
    log = map_corners(replace(raw, channels=channels))
    assert all(channel.times.size == times.size for channel in log.channels.values())


def test_cells_that_are_missing_evenly_leave_the_clock_of_the_rows() -> None:
    """Each corner lacks another row of every 53: no corner has a clock of its own that is slower by as much."""
    times = np.round(np.arange(0.0, 60.0, 0.1), 1)
    speed = 30.0 + 15.0 * np.sin(times / 9.0)
    channels = []
    for place, corner in enumerate(Corner):
        kept = (np.arange(times.size) * 7 + place) % 53 != 0
        channels.append(RawChannel(f"speed {corner}", "km/h", times, np.where(kept, speed, np.nan)))
    log = map_corners(RawLog(tuple(channels), "csv"))
    for channel in log.channels.values():
        assert np.abs(channel.speed * 3.6 - np.interp(channel.times, times, speed)).max() < 1e-6
