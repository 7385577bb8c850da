"""How many edges are gone at a time, where a control unit shows single periods: as many as a gap in the ring is wide.

A unit that shows its last period reads a half where one edge is missing, a third where two are, and nothing in between.
An encoder that loses edges one by one loses two in a row only as often as it loses any; a ring that has lost two loses
two every time. Law of small numbers, the rate being what chance makes of the share of readings that dip (Poisson 1837;
from memory). No wheel angle is needed.
"""

from __future__ import annotations

import math

import numpy as np

from nodrek.core.model import Corner
from nodrek.core.motion.reference import Deviations
from nodrek.core.turns.statistic import log_tail
from nodrek.core.turns.track import DIP_SCORE
from nodrek.core.verdict.examine import Examination

LEAST_DEPTH, FROM_SPEED = -0.2, 2.0
"""ln from which a reading may lack a whole edge, and m/s at which it should be."""
MOST_EDGES, MOST_ERROR = 8.0, 0.15
"""Edges up to which they are counted, and the error (edges) of one reading."""
WHOLE, WHOLE_SHARE = 0.3, 0.85
"""How far from a whole number that is one (edges), and the share of dips that are, of six tenths by accident."""
LEAST_DIPS, LEAST_WIDE = 5, 4
"""Dips that are counted, and those among them that lack two and more."""
IN_BURSTS, MOST_IN_BURSTS = 6.0, 0.35
"""Times as often as on the whole that an encoder may lose edges where it loses most, and the largest such share."""
BY_ACCIDENT = 1e-3


def loses_several_at_once(exam: Examination, corner: Corner) -> bool:
    """Whether the corner loses more edges in a row than edges that are lost one by one ever are."""
    if corner not in exam.motions:
        return False
    step = exam.log.channels[corner].quantum
    return exam.once(f"several edges {corner}", lambda: are_several_at_once(exam.motions[corner], step))


def are_several_at_once(motion: Deviations, step: float) -> bool:
    """The same of its samples; `step` of its values, m/s."""
    dips = motion.dips(DIP_SCORE, LEAST_DEPTH) & (motion.expected > FROM_SPEED) & (motion.speed > 0.0)
    if np.count_nonzero(dips) < LEAST_DIPS:
        return False
    times_as_long = np.exp(-motion.deviation[dips])
    error = times_as_long * np.hypot(step / np.sqrt(12.0) / motion.speed[dips], motion.noise[dips])
    edges = times_as_long[(error < MOST_ERROR) & (times_as_long < MOST_EDGES + 1.0)] - 1.0
    whole = np.rint(edges)
    if edges.size < LEAST_DIPS or np.mean(np.abs(edges - whole) < WHOLE) < WHOLE_SHARE:
        return False
    wide = int(np.count_nonzero(whole >= 2.0))
    often = np.count_nonzero(dips) / np.count_nonzero(np.isfinite(motion.deviation))
    expected = edges.size * min(IN_BURSTS * often, MOST_IN_BURSTS)
    # so many and more of a Poisson law: what a gamma law of that shape leaves below
    return wide >= LEAST_WIDE and -math.expm1(log_tail(expected, wide)) < BY_ACCIDENT
