"""Values that stand still: what a control unit does not believe, it does not show.

A unit that holds its last value over an implausible one hides lost edges and short breaks: the reading neither falls
nor drops out. But it repeats, to the last digit, while those of the other corners move on. Where such repeats come at
one place of the turn the ring is to blame, at any other rate of repeating than that of the mates something else.
"""

from __future__ import annotations

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
LEAST_HELD, OVER_MATES = 12, 2.0
"""Held values from which a corner is looked at: so many, and so many times as often as at the worst of its mates."""
TIED_LOG_P = -25.0
HELD = "held_values"
"""Name of the evidence that needs no learnt probability: the line-up is its own proof."""


@dataclass(frozen=True)
class Held:
    """``count`` odd runs of equal values, the worst mate has ``mates``; ``scale`` at which they line up best, with
    what chance by accident."""

    count: int
    mates: int
    scale: Scale | None

    @property
    def is_tied(self) -> bool:
        return self.scale is not None and self.scale.log_p < TIED_LOG_P


def held_values(exam: Examination, corner: Corner) -> Held | None:
    """``None`` where the corner's values repeat no more than those of its mates."""
    return exam.once(f"held values {corner}", lambda: _held_values(exam, corner))


def _held_values(exam: Examination, corner: Corner) -> Held | None:
    runs = exam.once("runs", lambda: {c: _runs(motion) for c, motion in exam.followed.items()})
    if corner not in runs or len(runs) < 3:
        return None
    longer = {c: np.array([(r.length > usual).sum() for usual in USUAL_RUNS]) for c, r in runs.items()}
    own, mates = longer[corner], np.max([n for c, n in longer.items() if c is not corner], axis=0)
    usual = int(np.argmax((own - mates) / np.sqrt(mates + 1.0)))
    if own[usual] < LEAST_HELD or own[usual] < OVER_MATES * (mates[usual] + 1):
        return None
    motion = exam.followed[corner]
    events: Array = np.zeros(motion.times.size)
    events[runs[corner].start[runs[corner].length > USUAL_RUNS[usual]]] = -1.0
    scale = find_scale_of_events(motion, exam.rings[corner].stretches, events)
    return Held(int(own[usual]), int(mates[usual]), scale)


@dataclass(frozen=True, eq=False)
class _Runs:
    """Runs of equal values at speed: place of the first repeat, number of samples."""

    start: npt.NDArray[np.int64]
    length: npt.NDArray[np.int64]


def _runs(motion: CornerMotion) -> _Runs:
    begins = np.flatnonzero(np.diff(motion.speed, prepend=np.nan) != 0.0)
    length = np.diff(begins, append=motion.speed.size)
    fast = (motion.vehicle[begins] > FROM_SPEED) & (motion.speed[begins] > FROM_SPEED)
    fast &= ~np.isnan(motion.deviation[begins])
    # the last sample of all has none after it to repeat it
    start = np.minimum(begins + 1, motion.speed.size - 1)
    return _Runs(start[fast], length[fast])
