"""From a place of the ring to the moments at which it passed the sensor."""

from __future__ import annotations

import numpy as np

from nodrek.core.model import Corner
from nodrek.jobs.analyze import Answer

TURNS_SHOWN = 12
MOST_MARKS = 400
BESIDE, LONELY_S = 0.45, 1.3
"""Turns that are shown before the first mark and after the last; seconds that count as one where there is one mark."""


def moments_of_angle(
    answer: Answer, corner: Corner, turn: float, angle: float
) -> tuple[tuple[float, ...], tuple[float, float]]:
    """Moments (s) when `angle` (turns) passed, near turn number `turn`, and the stretch to show.

    Empty where the corner's turning could not be followed.
    """
    ring = answer.examination.rings.get(corner)
    motion = answer.examination.followed.get(corner)
    if ring is None or ring.fold is None or motion is None:
        return (), (0.0, 0.0)
    turns = ring.fold.turns
    known = np.flatnonzero(~np.isnan(turns))
    if known.size < 2:
        return (), (0.0, 0.0)
    first, last = turns[known[0]], turns[known[-1]]
    centre = float(np.clip(np.floor(turn) + angle, first, last))
    wanted = np.arange(np.floor(centre) - TURNS_SHOWN, np.floor(centre) + TURNS_SHOWN + 1) + angle
    wanted = wanted[(wanted >= first) & (wanted <= last)][:MOST_MARKS]
    rising = np.maximum.accumulate(turns[known])
    times = np.interp(wanted, rising, motion.times[known])
    if not times.size:
        return (), (0.0, 0.0)
    middle = float(np.interp(centre, rising, motion.times[known]))
    near = times[np.abs(times - middle) < 6.0]
    if not near.size:
        near = times[np.argmin(np.abs(times - middle))][None]
    # less than a turn beyond them: the place passes unmarked nowhere in the picture
    turn_s = float(np.diff(near).mean()) if near.size > 1 else LONELY_S
    return tuple(float(t) for t in near), (float(near[0]) - BESIDE * turn_s, float(near[-1]) + BESIDE * turn_s)
