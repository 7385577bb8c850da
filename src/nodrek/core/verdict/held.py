"""Values that stand still: what a control unit does not believe, it does not show.

A unit that holds its last value over an implausible one hides lost edges and short breaks: the reading neither falls
nor drops out. But it repeats, to the last digit, while those of the other corners move on. Where such repeats come at
one place of the turn the ring is to blame, at any other rate of repeating than that of the mates something else.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner, WheelChannel
from nodrek.core.turns.phase import resultant_length, ring_angle
from nodrek.core.turns.search import Scale, find_scale_of_events, rolled_path
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
    what chance by accident; ``agree``: how well they do there (0 to 1)."""

    count: int
    mates: int
    scale: Scale | None
    agree: float

    @property
    def is_tied(self) -> bool:
        return self.scale is not None and self.scale.log_p < TIED_LOG_P


def held_values(exam: Examination, corner: Corner) -> Held | None:
    """``None`` where the corner's values repeat no more than those of its mates."""
    return exam.once(f"held values {corner}", lambda: _held_values(exam, corner))


def _held_values(exam: Examination, corner: Corner) -> Held | None:
    runs = exam.once("runs", lambda: {c: _runs(exam, exam.log.channels[c]) for c in exam.compared})
    if corner not in runs or len(runs) < 3 or corner not in exam.rings:
        return None
    longer = {c: np.array([(r.length > usual).sum() for usual in USUAL_RUNS]) for c, r in runs.items()}
    own, mates = longer[corner], np.max([n for c, n in longer.items() if c is not corner], axis=0)
    usual = int(np.argmax((own - mates) / np.sqrt(mates + 1.0)))
    if own[usual] < LEAST_HELD or own[usual] < OVER_MATES * (mates[usual] + 1):
        return None
    scale, agree = _line_up(exam, corner, runs[corner].start[runs[corner].length > USUAL_RUNS[usual]])
    return Held(int(own[usual]), int(mates[usual]), scale, agree)


@dataclass(frozen=True, eq=False)
class _Runs:
    """Runs of equal values at speed: place of the first repeat in the channel, number of samples."""

    start: npt.NDArray[np.int64]
    length: npt.NDArray[np.int64]


def _runs(exam: Examination, channel: WheelChannel) -> _Runs:
    begins = np.flatnonzero(np.diff(channel.speed, prepend=np.nan) != 0.0)
    length = np.diff(begins, append=channel.speed.size)
    fast = exam.usable.vehicle_at(channel.times[begins]) > FROM_SPEED
    fast &= exam.usable.masks[channel.corner][begins] & (channel.speed[begins] > FROM_SPEED)
    return _Runs((begins + 1)[fast], length[fast])


def _line_up(exam: Examination, corner: Corner, at: npt.NDArray[np.int64]) -> tuple[Scale | None, float]:
    motion, stretches = exam.followed[corner], exam.rings[corner].stretches
    channel = exam.log.channels[corner]
    # a long log is followed in parts
    place = np.searchsorted(motion.times, channel.times[np.minimum(at, channel.times.size - 1)])
    place = place[place < motion.times.size]
    events: Array = np.zeros(motion.times.size)
    events[place] = -1.0
    scale = find_scale_of_events(motion, stretches, events)
    if scale is None:
        return None, 0.0
    turns = ring_angle(rolled_path(motion, scale.delay, scale.by_mates), events, stretches, scale.frequency)
    here = turns[place]
    return scale, resultant_length(here[~np.isnan(here)])
