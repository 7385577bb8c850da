"""Logs that write a value only when it changes: what stood between two rows is put back.

Looked at row by row, such a log is full of dips and empty of steady driving: a ring that lost a tooth read 5 % low in
the mean for 2 %, and a motorway that was held to the kilometre per hour hardly existed.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner, WheelChannel, WheelLog

LEAST_SINGLE_STEPS = 60
"""Changes by one step of the values. In rows that come by a clock about half as many do not change at all, so that none
of these beside so many is no chance."""
OFTEN = 0.05
"""Share of the intervals that are no longer than the logger's own."""
ROUNDS = 4
HOLE_S, LONGEST_S = 5.0, 60.0
"""Silence of all corners, at speed, from which it may be a hole in the log and no steady driving, and from which it
certainly is one."""
JUMP = 2.5
"""Steps of the values, from which a change at the end of a silence shows that it was a hole."""
MOST_TIMES = 400
"""Rows that one written row may stand for, over a whole log."""
SAID = "The log writes a value only when it changes; until then the last one was taken."


def with_held_values(log: WheelLog) -> WheelLog:
    """The log with each corner's last value repeated for as long as it held; any other log as it is."""
    channels = log.channels
    if any(_repeats(c) for c in channels.values()):
        return log
    told = [c for c in channels.values() if _steps_singly(c)]
    if len(told) < 2:
        return log
    base = min(_own_interval(np.diff(c.times)) for c in told)
    if base <= 0.0 or log.duration / base > MOST_TIMES * sum(c.times.size for c in channels.values()):
        return log
    stamps = np.unique(np.concatenate([c.times for c in channels.values()]))
    holes = _holes(channels, stamps)
    out: dict[Corner, WheelChannel] = {}
    if float(np.quantile(np.diff(stamps), OFTEN)) > 0.5 * base:
        grid = _filled(stamps, base, holes)
        # of one clock: from where all of them are known
        grid = grid[grid >= max(float(c.times[0]) for c in channels.values())]
        out = {corner: _held(channel, grid, base) for corner, channel in channels.items()}
    else:
        last = stamps[-1]
        for corner, channel in channels.items():
            own = channel.times if channel.times[-1] > last - base else np.append(channel.times, last)
            out[corner] = _held(channel, _filled(own, base, holes), base)
    return replace(log, channels=out, warnings=(*log.warnings, SAID))


def _own_interval(intervals: Array) -> float:
    """The logger's own (s): intervals are once that, twice, and so on, each a little off."""
    base = float(np.quantile(intervals, OFTEN))
    for _ in range(ROUNDS):
        base = float(np.median(intervals[intervals < 1.5 * base]))
    return base


def _steps_singly(channel: WheelChannel) -> bool:
    steps = np.abs(np.diff(channel.speed))
    return bool(channel.quantum > 0.0 and np.count_nonzero(steps < 1.5 * channel.quantum) >= LEAST_SINGLE_STEPS)


def _repeats(channel: WheelChannel) -> bool:
    # the last row may be there to show where the log ends
    return bool((np.diff(channel.speed[:-1]) == 0.0).any())


def _holes(channels: Mapping[Corner, WheelChannel], stamps: Array) -> Array:
    """Silences of all corners, at speed, in which nothing is known: starts and ends (s), shape (2, n)."""
    silent = np.flatnonzero(np.diff(stamps) > HOLE_S)
    starts, ends = stamps[silent], stamps[silent + 1]
    before, after = (
        np.array([np.nan_to_num(c.speed[_newest(c, at)]) for c in channels.values()]) for at in (starts, ends)
    )
    steps = np.array([max(c.quantum, 1e-6) for c in channels.values()])[:, None]
    jumps = (np.abs(after - before) > JUMP * steps).any(axis=0) | (ends - starts > LONGEST_S)
    lost = jumps & (before > 0.0).any(axis=0)
    return np.array([starts[lost], ends[lost]])


def _newest(channel: WheelChannel, times: Array) -> npt.NDArray[np.int64]:
    return np.maximum(np.searchsorted(channel.times, times, side="right") - 1, 0)


def _filled(times: Array, base: float, holes: Array) -> Array:
    """`times` with steps of `base` s put in wherever they are further apart, but not across `holes`."""
    more = np.maximum(np.round(np.diff(times) / base).astype(np.int64) - 1, 0)
    number = np.arange(more.sum()) - np.repeat(np.cumsum(more) - more, more) + 1
    between = np.repeat(times[:-1], more) + base * number
    # inside a hole as many have begun as have not yet ended, and one more
    starts, ends = holes
    inside = np.searchsorted(starts, between, side="right") > np.searchsorted(ends, between, side="right")
    return np.asarray(np.sort(np.concatenate([times, between[~inside]])))


def _held(channel: WheelChannel, grid: Array, base: float) -> WheelChannel:
    at = _newest(channel, grid)
    cells = (np.diff(at, prepend=-1) > 0).astype(np.int64)
    return replace(
        channel, times=grid, speed=channel.speed[at], invalid=channel.invalid[at], rate=1.0 / base, cells=cells
    )
