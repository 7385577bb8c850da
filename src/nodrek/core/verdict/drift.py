"""A wheel that turns faster at the end of a log than at its start: a tyre that loses air, or two drives in one."""

from __future__ import annotations

import math
from collections.abc import Collection

import numpy as np

from nodrek.core.model import Corner
from nodrek.core.motion.blocks import quick_median
from nodrek.core.motion.ratios import RatioData, estimate_ratios
from nodrek.core.verdict.examine import Examination

PART, LEAST_S = 1.0 / 3.0, 30.0
"""Of the log that is its start and its end; seconds of driving that each of them lasts at least."""
LEAST_CHANGE, SURE, REST, REST_ERRORS = 0.007, 4.0, 0.3, 2.5
"""ln of the ratio: tyres that warm up unlike change by less than half of that (common practice, no published source);
errors; and the part of the change, or errors, by which the other corners may change unlike."""
HARDLY = 0.06
"""Part of the least change by which the diagonal is to have changed, to be worth asking: one wheel's is a quarter."""


def find_drift(exam: Examination, doubtful: Collection[Corner]) -> str | None:
    """One sentence of the corner whose ratio changes on the way, ``None`` where none does plainly.

    `doubtful`: corners of which something else is said that comes and goes.
    """
    if exam.blocks is None or len(exam.compared) < len(Corner):
        return None
    count = exam.blocks.speed.size
    length = math.floor(PART * count)
    if length * exam.blocks.block_s < LEAST_S:
        return None
    parts = [exam.blocks.part(*ends) for ends in ((0, length), (count - length, count))]
    start, end = (_diagonal(part) for part in parts)
    if abs(end - start) < HARDLY * LEAST_CHANGE:
        return None
    before, after = (estimate_ratios(part, exam.compared) for part in parts)
    if not before or not after:
        return None
    change = {c: after[c].log_ratio - before[c].log_ratio for c in exam.compared}
    corner = max(change, key=lambda c: abs(change[c] - float(np.median(list(change.values())))))
    others = [change[c] for c in change if c is not corner]
    by = change[corner] - float(np.median(others))
    error = math.hypot(before[corner].sigma, after[corner].sigma)
    if (
        abs(by) < max(LEAST_CHANGE, SURE * error)
        or np.ptp(others) > max(REST * abs(by), REST_ERRORS * error)
        or corner in doubtful
    ):
        return None
    way, why = "slower", "Its tyre was changed or pumped up on the way"
    if by > 0.0:
        way, why = "faster", "Its tyre may be losing air, so stop and check it before you drive on"
    return (
        f"The {corner.words} wheel turns {100.0 * math.expm1(abs(by)):.1f} % {way} at the end of this log than at its "
        f"start. {why}; or the log holds two drives."
    )


def _diagonal(part: RatioData) -> float:
    """Quarter of ln FL and RR over FR and RL, which bends leave alone; NaN where it is never known."""
    logs = part.logs
    diagonal = 0.25 * (logs[Corner.FL] + logs[Corner.RR] - logs[Corner.FR] - logs[Corner.RL])
    return quick_median(diagonal[~np.isnan(diagonal)])
