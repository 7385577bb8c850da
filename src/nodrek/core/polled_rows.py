"""Rows that repeat each corner's last reading until that corner is asked again: only its fresh rows are kept.

A logger that asks one corner after another, and writes all four at each answer, shows stairs where a wheel rolled
evenly, and each reading at a moment at which it was not true.
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
"""s: where all corners change in the same rows, more often than this, it is the control unit that counts so long."""
LONGEST_ROWS = 400
FINENESS, ENOUGH = 24, 20_000
SAID = "Every row repeats what was read last; the rows in which a corner was asked anew were kept."


def without_repeats(log: WheelLog) -> WheelLog:
    """The log with each corner's fresh rows; any other log as it is."""
    first, *others = log.channels.values()
    if any(c.times is not first.times and not np.array_equal(c.times, first.times) for c in others):
        return log
    changes = {corner: _changes(channel) for corner, channel in log.channels.items()}
    alive = {corner: at for corner, at in changes.items() if at.size >= LEAST_CHANGES}
    every = {corner: _interval(at) for corner, at in alive.items()}
    if len(alive) < 2 or any(rows < 2.0 for rows in every.values()):
        return log
    usual = float(np.median(list(every.values())))
    if not _are_in_turn(alive) and usual / first.rate < LONGEST_GATE_S:
        return log
    out = {}
    for corner, channel in log.channels.items():
        rows = _fresh(changes[corner], every.get(corner, usual), channel.times.size)
        out[corner] = _kept(channel, rows)
    return replace(log, channels=out, warnings=(*log.warnings, SAID))


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


def _fresh(changes: Index, every: float, count: int) -> Index:
    """Rows in which a corner was asked: its changes, and in between as many as fit."""
    if not changes.size:
        return np.arange(0, count, max(1, round(every)))
    begins = int(changes[0] - every * np.floor(changes[0] / every))
    ends = np.append(changes, count)
    starts = np.append(begins, changes)
    many = np.maximum(np.round((ends - starts) / every).astype(np.int64), 1)
    number = np.arange(many.sum()) - np.repeat(np.cumsum(many) - many, many)
    rows = np.repeat(starts, many) + np.round(number * np.repeat((ends - starts) / many, many)).astype(np.int64)
    return np.unique(rows)


def _kept(channel: WheelChannel, rows: Index) -> WheelChannel:
    """Only those `rows`, each of which stands for the cells up to the next."""
    times: Array = channel.times[rows]
    cells = np.diff(np.append(rows, channel.times.size))
    cells[0] += rows[0]
    if channel.cells is not None:
        cells = np.add.reduceat(channel.cells, rows)
    rate = (rows.size - 1) / float(times[-1] - times[0]) if rows.size > 1 else channel.rate
    return replace(
        channel, times=times, speed=channel.speed[rows], invalid=channel.invalid[rows], rate=rate, cells=cells
    )
