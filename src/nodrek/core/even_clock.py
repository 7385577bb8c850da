"""Stamps that are coarser than the clock behind them.

A logger that asks by a steady clock and writes tenths or hundredths of a second says less than it knows: at 15 m/s
half a tenth is a third of a turn of a wheel, and rows that come at 0.10 and 0.19 s may both be stamped 0.1, and one of
them pass for a repetition. Where rows, counted, keep to a straight line within the step of the stamps, the line is the
clock.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array

STEPS_S = (1.0, 0.1, 0.01)
"""Steps of stamps that are asked, coarsest first."""
COARSE = 0.1
"""Part of the time between rows from which a step is worth evening out."""
LEAST_ROWS, MOST_ROWS, THIRDS = 20, 20_000, 25
"""Rows that make a line; rows that are looked at for its slope, and how often what is left of the slope is cut by a
third."""
WITHIN, ROUNDS = 1.05, 8
"""Steps that a row may be late without being missing; rounds in which the time between rows settles."""
SCATTER = 0.36
"""Steps (1 sigma) that stamps may be off the line: an even spread over one step is 0.29, and where rows come more
unevenly than stamps tell, the line knows less than they do."""
LEAST_SHARE = 0.8
"""Of the rows that must lie in stretches of `LEAST_ROWS`: a few rows lie on some line always."""
NEARLY, LEAST_SLIPS, UNEVEN = 1.2, 3, 0.25
"""Steps between rows, up to which or over which a step that is left out may as well be a row that is missing; how
many spans between such steps tell the two apart, and how unevenly long (1 sigma over mean) they may be (by chance it
is 1)."""
CUT, SAME = 1.0, 1e-3
"""Step (s) from which stamps are cut rather than rounded; part of the step within which the line says what the stamps
do."""


def even_clock(stamps: Array) -> Array | None:
    """Times (s) of rows by the clock behind their rising `stamps` (s), shape (rows,); ``None`` where there is none that
    is finer than they are, or rows are missing or repeated in a way that leaves no count."""
    if stamps.size < LEAST_ROWS:
        return None
    apart = np.diff(stamps)
    step = _step(stamps)
    if step is None or step < COARSE * float(apart.mean()):
        return None
    period = float(np.median(apart)) or float(apart.mean())
    for _ in range(ROUNDS):
        period = float(apart[apart <= period + WITHIN * step].mean())
    if (
        step / NEARLY < period < NEARLY * step
        and not (apart == 0.0).any()
        and not _slips_evenly(np.flatnonzero(apart > 1.5 * step))
    ):
        return None
    # a row that is missing shows as one more step than rows may be apart
    cuts = np.flatnonzero(apart > period + WITHIN * step) + 1
    stretches = np.split(np.arange(stamps.size), cuts)
    longest = max(stretches, key=len)
    long = sum(rows.size for rows in stretches if rows.size >= LEAST_ROWS)
    if period <= 0.0 or long < LEAST_SHARE * stamps.size:
        return None
    period = _period(stamps[longest], step)
    out = stamps.copy()
    for rows in stretches:
        line = period * np.arange(rows.size)
        left = stamps[rows] - line
        middle = float(left.mean())
        within = float(np.ptp(left)) <= WITHIN * step
        if not within and (np.abs(left - middle).max() > step or left.std() > SCATTER * step):
            return None
        # no row comes before a stamp that is cut
        out[rows] = line + (float(left.max()) if step >= CUT else middle)
    if float(np.abs(out - stamps).max()) < SAME * step or not bool((np.diff(out) > 0.0).all()):
        return None
    return out


def _slips_evenly(slips: npt.NDArray[np.int64]) -> bool:
    """Whether stamps that are as far apart as rows leave out a step every so many rows, as those of a clock that is a
    little slower do; rows that are missing do so by chance."""
    between = np.diff(slips)
    return between.size >= LEAST_SLIPS and float(between.std()) < UNEVEN * float(between.mean())


def _period(stamps: Array, step: float) -> float:
    """Time between rows that none is missing of: the line that all stamps keep to within a step where there is one,
    else the nearest one (least squares take the sawtooth of few steps for a slope)."""
    count = np.linspace(0, stamps.size - 1, min(stamps.size, MOST_ROWS)).astype(np.int64)
    some, nearest = stamps[count], float(np.polyfit(count, stamps[count], 1)[0])

    def spread(period: float) -> float:
        return float(np.ptp(some - period * count))

    # the spread is convex in the slope: thirds close in on its least
    low, high = (nearest + side * 2.0 * step / float(count[-1]) for side in (-1.0, 1.0))
    for _ in range(THIRDS):
        third = (high - low) / 3.0
        if spread(low + third) < spread(high - third):
            high -= third
        else:
            low += third
    narrowest = 0.5 * (low + high)
    return narrowest if spread(narrowest) <= WITHIN * step else nearest


def _step(stamps: Array) -> float | None:
    """Coarsest of `STEPS_S` that all stamps keep to."""
    for step in STEPS_S:
        # the first rows rule most steps out, at once
        if all(_keeps_to(part, step) for part in (stamps[:MOST_ROWS:10], stamps)):
            return step
    return None


def _keeps_to(stamps: Array, step: float) -> bool:
    counts = (stamps - stamps[0]) / step
    return float(np.abs(counts - np.rint(counts)).max()) < 1e-3
