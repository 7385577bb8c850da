"""Lines in a log that are no turns of a wheel: corner after corner repeats, each over a distance of its own.

Four wheels of one vehicle turn once in nearly the same distance. Where several repeat as clearly as the one that is
asked, each over another distance, it is the log that repeats: whole counted edges at a steady speed, seen by a logger
that samples less often than the wheel turns.
"""

from __future__ import annotations

import math
from itertools import combinations

from nodrek.core.model import Corner
from nodrek.core.turns.search import Scale
from nodrek.core.verdict.examine import Examination

LOCKED = -10.0
"""ln of the chance from which a corner repeats."""
OTHER_DISTANCE = 0.012
"""ln by which distances differ that are not of one vehicle's wheels (tyres differ by less, but for an odd one)."""
LEAST_OTHERS, CLEARER = 2, 3.0
"""Mates that repeat over distances of their own, and times their ln from which the corner does by far more clearly."""


def repeats_like_its_log(exam: Examination, corner: Corner) -> bool:
    """Whether what the corner repeats is as likely the log's habit as its ring's."""
    own = exam.rings[corner].scale if corner in exam.rings else None
    if own is None:
        return False
    mates = [
        ring.scale
        for c, ring in exam.rings.items()
        if c is not corner and ring.scale is not None and ring.scale.log_p < LOCKED and _differ(ring.scale, own)
    ]
    if len(mates) < LEAST_OTHERS or not any(_differ(a, b) for a, b in combinations(mates, 2)):
        return False
    return own.log_p > CLEARER * min(scale.log_p for scale in mates)


def _differ(a: Scale, b: Scale) -> bool:
    return abs(math.log(a.frequency / b.frequency)) > OTHER_DISTANCE
