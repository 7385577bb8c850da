"""A frozen corner behind a control unit that shows the others in place of what is far from them.

Where the others come near the value that it keeps to, the unit believes it: the corner shows that one value, however
much the others change, and what is made of them everywhere else.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from nodrek.core.model import Corner
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.stand_in import StandIn, made_of

LEAST_VALUE = 1.5
"""m/s; lower values are those at which units begin to show any."""
STEPS_OUT, PART_OUT = 2.0, 0.03
"""Steps, and part of the value, by which it is out of the range of the others."""
LEAST_S, LEAST_SAMPLES, SPELL_S, LEAST_SPELLS = 0.8, 6, 2.0, 2
"""Seconds and samples at one value out of their range, in so many spells that far apart."""
STEPS_WIDE, PART_WIDE = 2.5, 0.08
"""Steps, and part of the value, over which the others change meanwhile: a ring that has lost many teeth reads one value
of a coarse unit for as long as they keep to one."""
MOSTLY = 0.5
"""Part of all that is out of their range at one value."""
WITHIN, ALWAYS = (0.1, 0.9), 0.8
"""Quantiles of what the others read meanwhile, and the share of samples at which the corner shows its value while they
are between these: a unit that shows a fixed value now and then does not."""


@dataclass(frozen=True)
class OneValue:
    """``value`` m/s that the corner keeps to from ``since`` (s) on, seen in so many ``samples`` and ``seconds`` out of
    the others' range."""

    value: float
    since: float
    samples: int
    seconds: float


def keeps_to_one_value(exam: Examination, corner: Corner) -> OneValue | None:
    """``None`` for a corner that does not, or where there are too few others to tell."""
    return exam.once(f"one value {corner}", lambda: _find(exam, corner))


def _find(exam: Examination, corner: Corner) -> OneValue | None:
    if len(exam.followed) < len(Corner) or corner not in exam.followed:
        return None
    motion = exam.followed[corner]
    speed, (others, middle) = motion.speed, made_of(exam, corner, StandIn.MIDDLE_OF_OTHERS)
    step = exam.log.channels[corner].quantum
    margin = np.maximum(STEPS_OUT * step, PART_OUT * speed)
    # where others do not read, those that do are no range
    out = (speed > LEAST_VALUE) & np.isfinite(others[-1])
    out &= (speed < others[0] - margin) | (speed > others[-1] + margin)
    values, numbers = np.unique(speed[out], return_counts=True)
    if not numbers.size or numbers.max() < max(LEAST_SAMPLES, MOSTLY * numbers.sum()):
        return None
    value = float(values[np.argmax(numbers)])
    seen = np.flatnonzero(out & (speed == value))
    seconds = seen.size * motion.step_s
    spells = 1 + np.count_nonzero(np.diff(motion.times[seen]) > SPELL_S)
    if seconds < LEAST_S or spells < LEAST_SPELLS:
        return None
    low, high = np.quantile(middle[seen], WITHIN)
    if high - low < max(STEPS_WIDE * step, PART_WIDE * value):
        return None
    near = (np.arange(speed.size) >= seen[0]) & (middle >= low) & (middle <= high)
    if np.mean(speed[near] == value) < ALWAYS:
        return None
    return OneValue(value, float(motion.times[seen[0]]), seen.size, seconds)
