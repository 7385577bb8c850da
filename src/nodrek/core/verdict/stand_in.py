"""What a control unit shows in place of a value that it does not believe, and how long at a time it seems to.

Its own last value stands still to the last digit while the other corners move on. A value made of the other corners
agrees with them to the last digit, which a wheel of its own does for a sample or two by accident only. How often by
accident, the other corners say: each is asked the same.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner
from nodrek.core.verdict.examine import Examination

FROM_SPEED = 3.0
"""m/s: below, units fall asleep at speeds of their own."""
STEPS_OFF = 0.8
"""Steps of the log's values by which one that is made of others may differ from what is made of their logged values."""
MOST_AGREEMENT = 0.25
"""Share of all samples that agree by accident at the middle corner, from which values are too coarse to tell."""
SHARED = 0.5
"""Share of a run in which two corners each seem to stand in for the other, from which it is not the second's."""


class StandIn(StrEnum):
    """As words after "the control unit shows"."""

    LAST = "its last value"
    MIDDLE_OF_ALL = "the middle of all corners"
    MEAN_OF_OTHERS = "the mean of the other corners"
    MIDDLE_OF_OTHERS = "the middle of the other corners"


@dataclass(frozen=True, eq=False)
class Runs:
    """Of samples in a row that may be stand-ins: place of the first, number of samples and the one before."""

    start: npt.NDArray[np.int64]
    length: npt.NDArray[np.int64]

    def where(self, chosen: npt.NDArray[np.bool_]) -> Runs:
        return Runs(self.start[chosen], self.length[chosen])


def own_and_mates(exam: Examination, corner: Corner, way: StandIn) -> tuple[Runs, dict[Corner, Runs]]:
    """The corner's runs, and what the same way makes of its mates; no mates where there are too few to ask."""
    every = exam.once(f"runs {way.name}", lambda: _all_runs(exam, way))
    if corner not in every:
        return Runs(np.zeros(0, dtype=np.int64), np.zeros(0, dtype=np.int64)), {}
    own = every[corner]
    mates = {c: r for c, r in every.items() if c is not corner}
    if way is StandIn.MIDDLE_OF_OTHERS:
        # a copy is as like its original as the other way round: what both share is the copying corner's
        mates = {c: r.where(_share(exam, c, r, corner, own) < SHARED) for c, r in mates.items()}
    return own, mates


def _all_runs(exam: Examination, way: StandIn) -> dict[Corner, Runs]:
    if way is not StandIn.LAST and len(exam.followed) < 4:
        return {}
    if way is StandIn.LAST:
        return {c: _standstills(exam, c) for c in exam.followed} if len(exam.followed) >= 3 else {}
    every = {c: _agreements(exam, c, way) for c in exam.followed}
    usual = np.median([(r.length.sum() - r.length.size) / exam.followed[c].times.size for c, r in every.items()])
    return every if usual < MOST_AGREEMENT else {}


def _standstills(exam: Examination, corner: Corner) -> Runs:
    motion = exam.followed[corner]
    begins = np.flatnonzero(np.diff(motion.speed, prepend=np.nan) != 0.0)
    length = np.diff(begins, append=motion.speed.size)
    fast = (motion.vehicle[begins] > FROM_SPEED) & (motion.speed[begins] > FROM_SPEED)
    fast &= ~np.isnan(motion.deviation[begins])
    # the last sample of all has none after it to repeat it
    return Runs(np.minimum(begins + 1, motion.speed.size - 1), length).where(fast)


def _agreements(exam: Examination, corner: Corner, way: StandIn) -> Runs:
    motion = exam.followed[corner]
    mates = np.sort([_at(exam, c, motion.times) for c in exam.followed if c is not corner], axis=0)
    made = {
        # of four the middle is the mean of the second and third, and the corner itself reads lowest
        StandIn.MIDDLE_OF_ALL: mates[:2].mean(axis=0),
        StandIn.MEAN_OF_OTHERS: mates.mean(axis=0),
        StandIn.MIDDLE_OF_OTHERS: mates[1],
    }[way]
    close = np.abs(motion.speed - made) <= STEPS_OFF * exam.log.channels[corner].quantum + 1e-6
    close &= (motion.vehicle > FROM_SPEED) & ~np.isnan(motion.deviation)
    edges = np.flatnonzero(np.diff(close.astype(np.int8), prepend=0, append=0))
    return Runs(edges[::2], edges[1::2] - edges[::2] + 1)


def _at(exam: Examination, corner: Corner, times: Array) -> Array:
    motion = exam.followed[corner]
    return np.interp(times, motion.times, motion.speed)


def _share(exam: Examination, corner: Corner, runs: Runs, other: Corner, of_other: Runs) -> Array:
    """Part of each of the corner's `runs` in which the other's runs go on as well."""
    times, theirs = exam.followed[corner].times, exam.followed[other].times
    change = np.zeros(theirs.size + 1)
    np.add.at(change, of_other.start, 1.0)
    np.add.at(change, np.minimum(of_other.start + of_other.length - 1, theirs.size), -1.0)
    covered = np.concatenate([[0.0], np.cumsum(np.cumsum(change[:-1]))])
    first = np.minimum(np.searchsorted(theirs, times[runs.start]), theirs.size - 1)
    last = np.minimum(first + runs.length - 1, theirs.size)
    return np.asarray((covered[last] - covered[first]) / np.maximum(last - first, 1))
