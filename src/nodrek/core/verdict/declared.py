"""Breaks that the control unit declares itself: "no valid value" for a while, at one corner, on the move."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from nodrek.core.model import Array, Corner
from nodrek.core.motion.usable import FROZEN_AT_LEAST
from nodrek.core.verdict.examine import Examination

FROM_SPEED = 4.5
"""m/s: below, coil sensors and control units fall asleep at speeds of their own."""
TOGETHER_S = 0.5
"""Breaks closer than this are one: a contact chatters."""
SHORTEST_S, LEAST = 0.18, 2
"""Seconds of a break at least, since a logger or a bus spoils a sample now and then; and how many are no accident."""
MOST_OTHERS = 0.5
"""Share of the other corners that may be invalid as well, since a control unit that starts declares all of them."""


@dataclass(frozen=True, eq=False)
class Declared:
    """Moments (s) at which the breaks begin, and seconds of the longest."""

    times: Array
    longest_s: float


def declared_breaks(exam: Examination, corner: Corner) -> Declared | None:
    """``None`` for fewer than `LEAST`. What lasts for `FROZEN_AT_LEAST` is a corner that stands (`find_frozen`)."""
    return exam.once(f"declared breaks {corner.value}", lambda: _declared_breaks(exam, corner))


def _declared_breaks(exam: Examination, corner: Corner) -> Declared | None:
    channel = exam.log.channels[corner]
    if np.count_nonzero(channel.invalid) < LEAST:
        return None
    others = [ch for c, ch in exam.log.channels.items() if c is not corner]
    also = np.mean([np.interp(channel.times, ch.times, ch.invalid.astype(float)) for ch in others], axis=0)
    gone = channel.invalid & (also <= MOST_OTHERS)
    edges = np.flatnonzero(np.diff(gone.astype(np.int8), prepend=0, append=0))
    starts, stops = edges[::2], edges[1::2]
    if not starts.size:
        return None
    lasts = channel.times[stops - 1] - channel.times[starts] + 1.0 / channel.rate
    moves = exam.usable.vehicle_at(channel.times)[starts] > FROM_SPEED
    counts = moves & (lasts >= SHORTEST_S) & (lasts < FROZEN_AT_LEAST)
    times, lasts = channel.times[starts[counts]], lasts[counts]
    apart = np.diff(times, prepend=-np.inf) > TOGETHER_S
    return Declared(times[apart], float(lasts.max())) if np.count_nonzero(apart) >= LEAST else None
