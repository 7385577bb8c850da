"""Rows that repeat each corner's last reading until that corner is asked again: only its fresh rows are kept.

A logger that asks one corner after another, and writes all four at each answer, shows stairs where a wheel rolled
evenly, and each reading at a moment at which it was not true. One that writes faster than the control unit works
shows each value twice and more, and what a filter carries from value to value cannot be told from that.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner, WheelChannel, WheelLog

Index = npt.NDArray[np.int64]

LEAST_CHANGES = 40
OFTEN = 0.02
"""Share of the changes that may follow each other sooner than the corner is asked."""
IN_STEP = 0.85
"""How well (0 to 1) changes keep to one interval, or they are the wheel's own."""
TOGETHER = 0.05
"""Share of changes that fall on one row with another corner's where corners are asked in turn."""
LONGEST_GATE_S = 0.22
"""s: where all corners change in the same rows, more often than this, it is the control unit that takes so long."""
LONGEST_ROWS = 400
WORTH_LEAVING_OUT, TOGETHER_OF = 0.2, 0.85
"""Share of rows in which all corners repeat that is worth leaving out, and part of the rows in which the liveliest
corner repeats that it has to be."""
USUAL_GAP, SELDOM = 3.0, 0.02
"""Times the usual number of rows between two new ones up to which a gap is a usual one, and share of longer ones: of
rounded values that change by chance one gap in twenty is (geometric law, e^-3)."""
FINENESS, ENOUGH = 24, 20_000
SAID = "Every row repeats what was read last; the rows in which a corner was asked anew were kept."


def without_repeats(log: WheelLog) -> WheelLog:
    """The log with each corner's fresh rows; any other log as it is."""
    first, *others = log.channels.values()
    if any(c.times is not first.times and not np.array_equal(c.times, first.times) for c in others):
        return log
    changes = {corner: _changes(channel) for corner, channel in log.channels.items()}
    alive = {corner: at for corner, at in changes.items() if at.size >= LEAST_CHANGES}
    if len(alive) < 2:
        return log
    every = {corner: _interval(at) for corner, at in alive.items()}
    usual = float(np.median(list(every.values())))
    if min(every.values()) < 2.0 or not (_are_in_turn(alive) or usual / first.rate >= LONGEST_GATE_S):
        return _as_worked_out(log, alive)
    out = {}
    for corner, channel in log.channels.items():
        rows = _fresh(changes[corner], every.get(corner, usual), channel.times.size)
        out[corner] = _kept(channel, rows, channel.times[rows])
    return replace(log, channels=out, warnings=(*log.warnings, SAID))


def _as_worked_out(log: WheelLog, changes: Mapping[Corner, Index]) -> WheelLog:
    """The log with the rows that the control unit worked out anew, where it is written faster than the unit works."""
    times = next(iter(log.channels.values())).times
    rows = _rows_of_the_unit(changes, times.size)
    if rows is None:
        return log
    times = times[rows]
    return replace(log, channels={c: _kept(channel, rows, times) for c, channel in log.channels.items()})


def _rows_of_the_unit(changes: Mapping[Corner, Index], count: int) -> Index | None:
    """Rows in which anything is new, and some in between where that takes long. ``None`` where corners do not repeat
    together, or now and then for much longer than usual: rounded values stand each for itself, by chance."""
    new = np.zeros((len(changes), count), dtype=bool)
    for row, at in zip(new, changes.values(), strict=True):
        row[at] = True
    anew = np.flatnonzero(new.any(axis=0))
    gaps = np.diff(anew)
    usual = gaps <= USUAL_GAP * np.median(gaps)
    every = float(gaps[usual].mean())
    # each gap is told by the row that ends it
    own = 1.0 - new[:, anew[1:][usual]].sum(axis=1).max() / gaps[usual].sum()
    same = 1.0 - 1.0 / every
    if same < max(WORTH_LEAVING_OUT, TOGETHER_OF * own) or np.mean(gaps > USUAL_GAP * every) > SELDOM:
        return None
    return _fresh(anew, every, count, USUAL_GAP)


def _changes(channel: WheelChannel) -> Index:
    value = np.nan_to_num(channel.speed, nan=-1.0)
    return np.asarray(np.flatnonzero(np.diff(value) != 0.0) + 1)


def _interval(changes: Index) -> float:
    """Rows from one reading to the next; 1 where changes do not keep to any such interval."""
    if 2 * changes.size > changes[-1] - changes[0]:
        return 1.0
    gaps = np.diff(changes).astype(float)
    least = float(np.quantile(gaps, OFTEN, method="higher"))
    if not 2.0 <= least <= LONGEST_ROWS:
        return 1.0
    # a logger's clock is not the poll's: the interval may lie between whole rows
    tried = np.linspace(least - 0.5, least + 1.0, FINENESS * 3 // 2 + 1)
    near = gaps[gaps < 4.0 * least][:ENOUGH]
    step = np.abs(np.mean(np.exp(2j * np.pi * near / tried[:, None]), axis=1))
    best = int(np.argmax(step))
    return float(tried[best]) if step[best] > IN_STEP else 1.0


def _are_in_turn(changes: Mapping[Corner, Index]) -> bool:
    rows, many = np.unique(np.concatenate(list(changes.values())), return_counts=True)
    return bool(np.count_nonzero(many > 1) <= TOGETHER * rows.size)


def _fresh(changes: Index, every: float, count: int, longer: float = 0.0) -> Index:
    """Rows in which a corner was asked: its changes, and between those that are more than `longer` intervals apart as
    many as fit."""
    if not changes.size:
        return np.arange(0, count, max(1, round(every)))
    begins = int(changes[0] - every * np.floor(changes[0] / every))
    ends = np.append(changes, count)
    starts = np.append(begins, changes)
    many = np.where(ends - starts > longer * every, np.round((ends - starts) / every).astype(np.int64), 1)
    many = np.maximum(many, 1)
    number = np.arange(many.sum()) - np.repeat(np.cumsum(many) - many, many)
    rows = np.repeat(starts, many) + np.round(number * np.repeat((ends - starts) / many, many)).astype(np.int64)
    return np.unique(rows)


def _kept(channel: WheelChannel, rows: Index, times: Array) -> WheelChannel:
    """Only those `rows`, at their `times`, each of which stands for the cells up to the next."""
    cells = np.diff(np.append(rows, channel.times.size))
    cells[0] += rows[0]
    if channel.cells is not None:
        cells = np.add.reduceat(channel.cells, rows)
    rate = (rows.size - 1) / float(times[-1] - times[0]) if rows.size > 1 else channel.rate
    return replace(
        channel, times=times, speed=channel.speed[rows], invalid=channel.invalid[rows], rate=rate, cells=cells
    )
