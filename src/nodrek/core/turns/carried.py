"""What a control unit's filter carries from one value into the next, and a corner's deviations without it.

A filter drags a lost tooth over the turn, by more the faster the wheel, and where it is slow over several turns. But
what is new in a sample, against what the samples before it foretell, comes at the tooth's own place. Of first order
the part that is carried is read off deep dips themselves, since placement errors and bends repeat from sample to
sample as well. Of second order both parts are fitted to all deviations by least squares (autoregression; Yule 1927,
Phil. Trans. R. Soc. A 226, 267; from memory), and believed where they foretell much better than one does.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from nodrek.core.model import Array
from nodrek.core.motion.reference import SLOW, CornerMotion

DEEP_SCORE, LEAST_DEEP = -5.0, 20
"""Noise units from which a dip shows how it fades, and how many such samples that takes."""
WORTH_FORGETTING, MOST_MEMORY = 0.5, 0.97
MOSTLY, EVERYWHERE = 0.6, 0.8
"""Share of deep dips that are the very value before them from which a unit holds values there, and filters none; part
of it from which other samples are that as well."""
LIMITS = (-30.0, 8.0)
"""Noise units beyond which a deviation is no more than that: standstill and silence are no dips of a filter's."""
LEAST_FITTED, LEAST_SECOND, FORETELLS = 300, -0.2, 0.85
"""Samples that two parts are fitted to; the second one from which a filter swings back, as those of second order do;
and what it may leave of the variance that the first alone leaves."""


class Carried(NamedTuple):
    """Parts of the value before, and of the one before that, which a sample still holds; none: no filter is seen."""

    before: float = 0.0
    earlier: float = 0.0

    @property
    def lasting(self) -> float:
        """Part of a lasting deviation that is carried, 0 to 1."""
        return self.before + self.earlier

    @property
    def is_second(self) -> bool:
        return self.earlier != 0.0

    @property
    def fresh(self) -> float:
        """1 sigma of what is new in a sample, over that of the samples, where nothing else repeats."""
        left = (1.0 + self.earlier) * ((1.0 - self.earlier) ** 2 - self.before**2) / (1.0 - self.earlier)
        return math.sqrt(max(left, 1e-4))

    def delay(self, step_s: float) -> float:
        """Seconds by which values describe an *earlier* moment than the distance: speed comes late through a filter,
        what is new in a sample does not. 0 or negative; `step_s` between two samples."""
        return -step_s * (self.before + 2.0 * self.earlier) / max(1.0 - self.lasting, 1e-2)


def carried_by_filter(motion: CornerMotion) -> Carried:
    """What the unit's filter carries over; none where it forgets at once."""
    second = _of_second_order(motion)
    if second is not None:
        return second
    memory = dip_memory(motion)
    return Carried(memory) if memory >= WORTH_FORGETTING else Carried()


def dip_memory(motion: CornerMotion) -> float:
    """Part of a deep dip that is still there one sample later: 0 where the control unit forgets at once."""
    score = motion.score
    with np.errstate(invalid="ignore"):
        asked = motion.expected[:-1] >= motion.asked_from(SLOW)
        deep = (score[:-1] < DEEP_SCORE) & asked & np.isfinite(score[1:])
    if deep.sum() < LEAST_DEEP:
        return 0.0
    same = motion.speed[1:] == motion.speed[:-1]
    held = float(np.mean(same[deep]))
    others = same[asked & ~deep]
    # rows that are written faster than the unit works repeat everywhere
    if held > MOSTLY and others.size and np.mean(others) < EVERYWHERE * held:
        return 0.0
    return float(np.clip(np.median(score[1:][deep] / score[:-1][deep]), 0.0, MOST_MEMORY))


def _of_second_order(motion: CornerMotion) -> Carried | None:
    """``None`` where a filter of second order is not seen."""
    score = np.clip(motion.score, *LIMITS)
    with np.errstate(invalid="ignore"):
        score[motion.expected < motion.asked_from(SLOW)] = np.nan
    rows = np.column_stack([score[1:-1], score[:-2], score[2:]])
    rows = rows[~np.isnan(rows).any(axis=1)]
    if len(rows) < LEAST_FITTED:
        return None
    (bb, be, bn), (_, ee, en), (_, _, nn) = (rows.T @ rows).tolist()
    whole = bb * ee - be * be
    if min(whole, bb, nn) <= 0.0:
        return None
    before, earlier = (ee * bn - be * en) / whole, (bb * en - be * bn) / whole
    left_by_one, left_by_two = nn - bn * bn / bb, nn - before * bn - earlier * en
    if earlier > LEAST_SECOND or left_by_two > FORETELLS * left_by_one or before + earlier < 0.0:
        return None
    # a filter of second order swings back (complex poles); a rough road behind a short window fades in two paces
    if before**2 >= -4.0 * earlier:
        return None
    return Carried(before, max(earlier, -(MOST_MEMORY**2)))


def new_part(values: Array, carried: Carried) -> Array:
    """What each value has that a filter did not carry over from those before it. All of the value where those before
    are not known (NaN)."""
    out = np.array(values)
    np.subtract(out[1:], carried.before * values[:-1], out=out[1:], where=~np.isnan(values[:-1]))
    if carried.is_second:
        np.subtract(out[2:], carried.earlier * values[:-2], out=out[2:], where=~np.isnan(values[:-2]))
    return out


def without_filter(deviation: Array, carried: Carried) -> Array:
    """What a filter was given.

    The mean stays as it is, and so does a sample whose forerunner is not known (NaN).
    """
    out = new_part(deviation, carried)
    out[1:] /= np.where(np.isnan(deviation[:-1]), 1.0, 1.0 - carried.lasting)
    return out
