"""Values that stand still: what a control unit does not believe, it does not show.

A unit that holds its last value over an implausible one hides lost edges and short breaks: the reading neither falls
nor drops out. But it repeats, to the last digit, while those of the other corners move on. Where such repeats come at
one place of the turn the ring is to blame. Where it stands still now and then, far longer than any mate ever does and
far longer than it does itself between, the signal was gone for that while.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner
from nodrek.core.motion.reference import CornerMotion
from nodrek.core.turns.search import Scale, find_scale_of_events
from nodrek.core.verdict.examine import Examination

FROM_SPEED = 3.0
USUAL_RUNS = (1, 2, 3, 4, 6)
"""Samples for which values may stand still in a sound channel: as many as set this corner best off from its mates."""
LEAST_HELD, OVER_MATES = 12, 1.2
"""Held values from which a corner is looked at: so many, and so many sigmas more than at the middle mate."""
OFTEN = 2.0
"""Times as often as at the worst of the mates, from which a ring is asked whatever else it shows."""
TIED_LOG_P = -15.0
TIED_OVER_MATES = 3.0
"""Times the (ln) chance at the best of the mates: slow units repeat in step with the polls, and where a wheel turns in
step with those too, the repeats of all corners line up, with one scale or another."""
COHERENT = 0.15
"""Part of the line-up that all odd runs at one place would make, from which it is them that line up: polls in step with
a slow unit make one corner repeat far oftener than the others, and a weak line-up of that many is no wonder."""
LEAST_FAST = 0.25
"""Share of them in the faster half of the driving: a weak arc is lost, and held, while the wheel is slow only."""
HIDDEN_BELOW = 0.003
"""Amplitude of the ring's pattern from which nothing is hidden: where speed swings, it stands still at the turning
points, twice a turn."""
LEAST_BREAKS, LEAST_BREAK = 3, 3
"""Long standstills that make breaks of the signal, and samples in each."""
OVER_LONGEST, OVER_USUAL = 1.5, 2.0
"""Times the longest run of the mates, and times all but a hundredth of its own, from which a run is one of them."""
BREAKS_FROM_SPEED = 4.5
"""m/s: below, sound channels stand still as well."""
HELD = "held_values"
"""Name of the evidence that needs no learnt probability: the line-up is its own proof."""


@dataclass(frozen=True)
class Held:
    """``count`` odd runs of equal values, the middle mate has ``mates``; ``scale`` at which they line up best, with
    what chance by accident; ``is_lost``: it is the odd ones that do, at no mate as well, and not while slow alone."""

    count: int
    mates: int
    scale: Scale | None
    is_lost: bool

    @property
    def is_tied(self) -> bool:
        return self.is_lost and self.scale is not None and self.scale.log_p < TIED_LOG_P


def held_values(exam: Examination, corner: Corner) -> Held | None:
    """``None`` where the corner's values repeat no more than those of its mates."""
    return exam.once(f"held values {corner}", lambda: _held_values(exam, corner))


def _held_values(exam: Examination, corner: Corner) -> Held | None:
    runs = _all_runs(exam)
    if corner not in runs or len(runs) < 3:
        return None
    longer = {c: np.array([(r.length > usual).sum() for usual in USUAL_RUNS]) for c, r in runs.items()}
    others = [n for c, n in longer.items() if c is not corner]
    own, mates, worst = longer[corner], np.median(others, axis=0), np.max(others, axis=0)
    worth = (own >= LEAST_HELD) & (own - mates > OVER_MATES * np.sqrt(mates + 1.0))
    often = bool((worth & (own >= OFTEN * (worst + 1))).any())
    ring = exam.rings[corner].fold
    if not often and (ring is None or float(ring.harmonics[:4].max()) > HIDDEN_BELOW):
        return None
    tries = {USUAL_RUNS[k]: _line_up(exam, corner, USUAL_RUNS[k]) for k in np.flatnonzero(worth)}
    best = min(tries, key=lambda usual: _log_p(tries[usual]), default=None)
    if best is None or not (often or _log_p(tries[best]) < TIED_LOG_P):
        return None
    return _held(exam, corner, best, tries[best])


def _held(exam: Examination, corner: Corner, usual: int, scale: Scale | None) -> Held:
    """What the runs of more than `usual` samples say."""
    starts = {c: r.start[r.length > usual] for c, r in _all_runs(exam).items()}
    own, mates = starts[corner].size, round(np.median([s.size for c, s in starts.items() if c is not corner]))
    vehicle = exam.followed[corner].vehicle
    above = float(np.median(vehicle[vehicle > FROM_SPEED]))
    fast = {c: np.count_nonzero(exam.followed[c].vehicle[s] > above) for c, s in starts.items()}
    odd_fast = fast[corner] - float(np.median([n for c, n in fast.items() if c is not corner]))
    is_lost = odd_fast >= LEAST_FAST * (own - mates)
    is_lost &= -_log_p(scale) >= COHERENT * (own - mates) ** 2 / own
    # the mates are asked last, each look costs as much as one for a ring; and at every length of run, because what
    # the pattern of a sound ring does to a steady slow speed shows at one length here and at another there
    is_lost = is_lost and all(
        _log_p(scale) < TIED_OVER_MATES * _log_p(_line_up(exam, c, length))
        for length in USUAL_RUNS
        for c in starts
        if c is not corner
    )
    return Held(own, mates, scale, is_lost)


def _line_up(exam: Examination, corner: Corner, usual: int) -> Scale | None:
    """Scale at which the corner's runs of more than `usual` samples line up best."""
    motion, runs = exam.followed[corner], _all_runs(exam)[corner]
    events: Array = np.zeros(motion.times.size)
    events[runs.start[runs.length > usual]] = -1.0
    return find_scale_of_events(motion, exam.rings[corner].stretches, events)


def _log_p(scale: Scale | None) -> float:
    return 0.0 if scale is None else scale.log_p


@dataclass(frozen=True, eq=False)
class HeldBreaks:
    """Places of the samples at which values begin to stand still as long as only a break explains; the longest, s."""

    starts: npt.NDArray[np.int64]
    longest_s: float


def held_breaks(exam: Examination, corner: Corner) -> HeldBreaks | None:
    """Breaks that the control unit bridges with its last value; ``None`` where there is no proof of any.

    Lost edges of a dirty encoder and of a ring make runs of all lengths, many of them short; a sleeping sensor makes
    them while the wheel is slow.
    """
    runs = {c: _faster(exam, c, r) for c, r in _all_runs(exam).items()}
    if corner not in runs or len(runs) < 3 or not all(r.length.size for r in runs.values()):
        return None
    own = runs.pop(corner)
    longest = max(int(r.length.max()) for r in runs.values())
    usual = float(np.quantile(own.length, 0.99))
    least = max(LEAST_BREAK, math.ceil(OVER_LONGEST * longest), math.ceil(OVER_USUAL * usual))
    between = (least + 1) // 2
    middling = [int(((r.length >= between) & (r.length < least)).sum()) for r in (own, *runs.values())]
    starts, length = own.start[own.length >= least], own.length[own.length >= least]
    motion = exam.followed[corner]
    fast = np.count_nonzero(motion.vehicle[starts] > np.median(motion.vehicle[motion.vehicle > FROM_SPEED]))
    few = starts.size < LEAST_BREAKS or fast < LEAST_FAST * starts.size
    mates = float(np.median(middling[1:]))
    if few or starts.size <= middling[0] - mates - 2.0 * math.sqrt(mates):
        return None
    return HeldBreaks(starts, float(length.max()) / exam.log.channels[corner].rate)


def _faster(exam: Examination, corner: Corner, runs: _Runs) -> _Runs:
    fast = exam.followed[corner].vehicle[runs.start] > BREAKS_FROM_SPEED
    return _Runs(runs.start[fast], runs.length[fast])


@dataclass(frozen=True, eq=False)
class _Runs:
    """Runs of equal values at speed: place of the first repeat, number of samples."""

    start: npt.NDArray[np.int64]
    length: npt.NDArray[np.int64]


def _all_runs(exam: Examination) -> dict[Corner, _Runs]:
    return exam.once("runs", lambda: {c: _runs(motion) for c, motion in exam.followed.items()})


def _runs(motion: CornerMotion) -> _Runs:
    begins = np.flatnonzero(np.diff(motion.speed, prepend=np.nan) != 0.0)
    length = np.diff(begins, append=motion.speed.size)
    fast = (motion.vehicle[begins] > FROM_SPEED) & (motion.speed[begins] > FROM_SPEED)
    fast &= ~np.isnan(motion.deviation[begins])
    # the last sample of all has none after it to repeat it
    start = np.minimum(begins + 1, motion.speed.size - 1)
    return _Runs(start[fast], length[fast])
