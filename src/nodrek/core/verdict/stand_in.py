"""What a control unit shows in place of a value that it does not believe, and how long at a time it seems to.

Its own last value stands still to the last digit while the other corners move on. A value made of the other corners
agrees with them to the last digit, which a wheel of its own does for a sample or two by accident only. How often by
accident, the other corners say: each is asked the same.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner
from nodrek.core.motion.reference import median_of
from nodrek.core.verdict.examine import Examination

FROM_SPEED = 3.0
"""m/s: below, units fall asleep at speeds of their own."""
STEPS_OFF = 0.8
"""Steps of the log's values by which one that is made of others may differ from what is made of their logged values."""
MOST_AGREEMENT = 0.25
"""Share of all samples that agree by accident at the middle corner, from which values are too coarse to tell."""
FAST_LOG_HZ, FINE = 20.0, 0.05
"""Samples a second from which, and steps (m/s) up to which, a copy of another corner is looked for: two wheels of one
side are alike for long, but not to the last digit so often."""
SHARED = 0.5
"""Share of a run in which two corners each seem to stand in for the other, from which it is not the second's."""


class StandIn(StrEnum):
    """As words after "the control unit shows"."""

    LAST = "its last value"
    MIDDLE_OF_ALL = "the middle of all corners"
    MEAN_OF_OTHERS = "the mean of the other corners"
    MIDDLE_OF_OTHERS = "the middle of the other corners"


# copies last
MADE_OF_OTHERS = (StandIn.MIDDLE_OF_ALL, StandIn.MEAN_OF_OTHERS, StandIn.MIDDLE_OF_OTHERS)


@dataclass(frozen=True, eq=False)
class Runs:
    """Of samples in a row that may be stand-ins: place of the first, number of samples and the one before."""

    start: npt.NDArray[np.int64]
    length: npt.NDArray[np.int64]

    def where(self, chosen: npt.NDArray[np.bool_]) -> Runs:
        return Runs(self.start[chosen], self.length[chosen])

    def at(self, samples: int) -> npt.NDArray[np.int64]:
        """How many of the runs go on at each of so many samples."""
        ends = np.minimum(self.start + self.length - 1, samples)
        begin, end = (np.bincount(places, minlength=samples + 1) for places in (self.start, ends))
        return np.cumsum(begin - end)[:-1]


def own_and_mates(exam: Examination, corner: Corner, way: StandIn) -> tuple[Runs, dict[Corner, Runs]]:
    """The corner's runs, and what the same way makes of its mates; no mates where there are too few to ask."""
    every = runs_by_corner(exam, way)
    if corner not in every:
        return Runs(np.zeros(0, dtype=np.int64), np.zeros(0, dtype=np.int64)), {}
    return every[corner], exam.once(f"runs {way.name} against {corner}", lambda: _mates_runs(exam, corner, way))


def runs_by_corner(exam: Examination, way: StandIn) -> dict[Corner, Runs]:
    """Of every corner, with what a copy and its original share; none where the log cannot tell."""
    return exam.once(f"runs {way.name}", lambda: _all_runs(exam, way))


def _mates_runs(exam: Examination, corner: Corner, way: StandIn) -> dict[Corner, Runs]:
    every = runs_by_corner(exam, way)
    mates = {c: r for c, r in every.items() if c is not corner}
    if way is StandIn.MIDDLE_OF_OTHERS:
        # a copy is as like its original as the other way round: what both share is the copying corner's
        mates = {c: r.where(_share(exam, c, r, corner, every[corner]) < SHARED) for c, r in mates.items()}
    return mates


def _all_runs(exam: Examination, way: StandIn) -> dict[Corner, Runs]:
    if way is StandIn.LAST:
        return {c: _standstills(exam, c) for c in exam.followed} if len(exam.followed) >= 3 else {}
    if way not in ways_to_ask(exam):
        return {}
    every = {c: _agreements(exam, c, way) for c in exam.followed}
    usual = np.median([(r.length.sum() - r.length.size) / exam.followed[c].times.size for c, r in every.items()])
    return every if usual < MOST_AGREEMENT else {}


def ways_to_ask(exam: Examination) -> tuple[StandIn, ...]:
    """Those of `MADE_OF_OTHERS` that this log can tell."""
    if len(exam.followed) < 4:
        return ()
    channels = [exam.log.channels[c] for c in exam.followed]
    rate, step = (float(np.median(of)) for of in ([c.rate for c in channels], [c.quantum for c in channels]))
    return MADE_OF_OTHERS if rate >= FAST_LOG_HZ and step <= FINE else MADE_OF_OTHERS[:-1]


def _standstills(exam: Examination, corner: Corner) -> Runs:
    motion = exam.followed[corner]
    begins = np.flatnonzero(np.diff(motion.speed, prepend=np.nan) != 0.0)
    length = np.diff(begins, append=motion.speed.size)
    fast = moves(exam, corner)[begins] & (motion.speed[begins] > FROM_SPEED)
    # the last sample of all has none after it to repeat it
    return Runs(np.minimum(begins + 1, motion.speed.size - 1), length).where(fast)


def _agreements(exam: Examination, corner: Corner, way: StandIn) -> Runs:
    return _runs_of(agrees(exam, corner, way) & moves(exam, corner))


def _runs_of(close: npt.NDArray[np.bool_]) -> Runs:
    edges = np.flatnonzero(np.diff(close.astype(np.int8), prepend=0, append=0))
    return Runs(edges[::2], edges[1::2] - edges[::2] + 1)


def alike_outside_the_middle(exam: Examination, corner: Corner, mate: Corner) -> tuple[Runs, float]:
    """Runs in which the corner reads what `mate` reads, which is not the middle of the others there; samples in which
    that mate is the middle, over those in which it is not."""
    motion, close = exam.followed[corner], _as_good_as_equal(exam, corner)
    theirs = speed_at(exam, mate, motion.times)
    middle = made_of(exam, corner, StandIn.MIDDLE_OF_OTHERS)[1]
    fast, apart = moves(exam, corner), np.abs(theirs - middle) > close
    inside, outside = np.count_nonzero(fast & ~apart), np.count_nonzero(fast & apart)
    return _runs_of(fast & apart & (np.abs(motion.speed - theirs) <= close)), float(inside) / max(float(outside), 1.0)


def beside(exam: Examination, corner: Corner, way: StandIn, by: float) -> Runs:
    """Runs in which the corner reads what `way` makes of the others and `by` more, in what counts as agreement.

    A wheel of its own passes there as slowly as it passes what is made itself.
    """
    off = exam.followed[corner].speed - made_of(exam, corner, way)[1]
    close = _as_good_as_equal(exam, corner)
    return _runs_of((np.abs(off - by * close) <= close) & moves(exam, corner))


def bends(exam: Examination, corner: Corner) -> tuple[npt.NDArray[np.bool_], npt.NDArray[np.bool_]]:
    """Samples of the corner in bends to the left and to the right, by the wheels of the other axle (both compared)."""

    def look() -> tuple[npt.NDArray[np.bool_], npt.NDArray[np.bool_]]:
        times = exam.followed[corner].times
        left, right = (speed_at(exam, c, times) for c in Corner if c.is_front is not corner.is_front)
        return left < right, left > right

    return exam.once(f"bends {corner}", look)


def last_change(agreeing: npt.NDArray[np.bool_], share: float, accident: float) -> int:
    """Place from which samples in order agree as a copy does (so large a `share`) and before which by `accident`, as
    far as there is one: where the likelihood ratio of one change is largest."""
    gains = np.where(agreeing, math.log(share / accident), math.log((1.0 - share) / (1.0 - accident)))
    return int(np.argmax(np.cumsum(gains[::-1])[::-1]))


def share_of(agreeing: npt.NDArray[np.bool_], asked: npt.NDArray[np.bool_], least: int) -> float:
    """Part of the samples `asked` that agree; NaN for fewer than `least`."""
    count = np.count_nonzero(asked)
    return np.count_nonzero(asked & agreeing) / count if count >= least else math.nan


def would_tell(exam: Examination, corner: Corner, way: StandIn, apart: float) -> npt.NDArray[np.bool_]:
    """Samples in which the others are `apart` (in what counts as agreement) and what is made of them is like none."""
    least = apart * STEPS_OFF * exam.log.channels[corner].quantum
    return np.asarray(exam.once(f"unlike {corner} {way.name}", lambda: _unlike(exam, corner, way)) > least)


def _unlike(exam: Examination, corner: Corner, way: StandIn) -> Array:
    mates, made = made_of(exam, corner, way)
    if way is StandIn.MIDDLE_OF_OTHERS:
        return spread_of_others(exam, corner)
    return np.asarray(2.0 * np.abs(mates - made).min(axis=0))


def moves(exam: Examination, corner: Corner) -> npt.NDArray[np.bool_]:
    """Samples of the corner that can be asked."""
    motion = exam.followed[corner]
    return exam.once(f"moves {corner}", lambda: (motion.vehicle > FROM_SPEED) & ~np.isnan(motion.deviation))


def agrees(exam: Examination, corner: Corner, way: StandIn) -> npt.NDArray[np.bool_]:
    """Samples in which the corner reads what `way` makes of the others, to the last digit."""

    def ask() -> npt.NDArray[np.bool_]:
        off = np.abs(exam.followed[corner].speed - made_of(exam, corner, way)[1])
        return np.asarray(off <= _as_good_as_equal(exam, corner))

    return exam.once(f"agrees {corner} {way.name}", ask)


def _as_good_as_equal(exam: Examination, corner: Corner) -> float:
    """m/s by which values that are made of each other may differ in the log."""
    return STEPS_OFF * exam.log.channels[corner].quantum + 1e-6


def speed_at(exam: Examination, corner: Corner, times: Array) -> Array:
    """What the corner shows at any times (s), m/s."""
    motion = exam.followed[corner]
    return motion.speed if motion.times is times else np.interp(times, motion.times, motion.speed)


def made_of(exam: Examination, corner: Corner, way: StandIn) -> tuple[Array, Array]:
    """The others at the corner's times, lowest first, shape (3, samples); what a unit would make of them."""
    mates = exam.once(f"mates {corner}", lambda: _mates(exam, corner))
    if way is StandIn.MEAN_OF_OTHERS:
        return mates, np.asarray(mates.mean(axis=0))
    # of four the middle is the mean of the second and third, and the corner itself reads lowest
    return mates, np.asarray(mates[1] if way is StandIn.MIDDLE_OF_OTHERS else mates[:2].mean(axis=0))


def spread_of_others(exam: Examination, corner: Corner) -> Array:
    """From the lowest to the highest of the others at the corner's times, m/s."""
    mates = exam.once(f"mates {corner}", lambda: _mates(exam, corner))
    # they come in order
    return np.asarray(mates[-1] - mates[0])


def _mates(exam: Examination, corner: Corner) -> Array:
    times = exam.followed[corner].times
    told = np.array([speed_at(exam, c, times) for c in exam.followed if c is not corner])
    if len(told) != 3:
        return np.sort(told, axis=0)
    # three are in order sooner without sorting; where one is not known, the least of all is not either
    out = np.array([told.min(axis=0), median_of([*told]), told.max(axis=0)])
    odd = np.flatnonzero(np.isnan(out[0]))
    out[:, odd] = np.sort(told[:, odd], axis=0)
    return out


def _share(exam: Examination, corner: Corner, runs: Runs, other: Corner, of_other: Runs) -> Array:
    """Part of each of the corner's `runs` in which the other's runs go on as well."""
    times, theirs = exam.followed[corner].times, exam.followed[other].times
    covered = np.concatenate([[0.0], np.cumsum(of_other.at(theirs.size))])
    first = np.minimum(np.searchsorted(theirs, times[runs.start]), theirs.size - 1)
    last = np.minimum(first + runs.length - 1, theirs.size)
    return np.asarray((covered[last] - covered[first]) / np.maximum(last - first, 1))
