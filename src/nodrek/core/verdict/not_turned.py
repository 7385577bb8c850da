"""Wheels that read zero because nothing turned them: one axle on rollers or lifted, one wheel that the engine runs.

Two sensors of one axle hardly ever die together, and a roller bench turns one axle at a time. What tells a road is that
it bends: the wheels of the axle that turns then differ.
"""

from __future__ import annotations

from collections.abc import Collection

import numpy as np

from nodrek.core.model import Corner
from nodrek.core.motion.blocks import mad_sigma
from nodrek.core.motion.usable import MOVING
from nodrek.core.verdict.examine import Examination

NOT_TURNED = "not turned"
"""Said in the evidence as what else silence may be."""
LEAST_BEND_S, SURE = 6.0, 3.0
"""Seconds of bends on a road at least, and errors from which a block is one."""
BEND = 0.002
"""ln difference of left and right in a bend: some 750 m of radius (track over radius); rollers slip less unlike."""


def may_stand(exam: Examination, silent: Collection[Corner]) -> bool:
    """Whether the `silent` corners, which read zero all the time, may only not have been turned; of four corners."""
    turn = [c for c in exam.log.corners if c not in silent]
    if len(exam.log.corners) < len(Corner) or not turn:
        return False
    return len(turn) == 1 or (turn[1:] == [turn[0].mate] and not _takes_bends(exam, turn[0]))


def _takes_bends(exam: Examination, left: Corner) -> bool:
    if exam.blocks is None:
        return False
    logs = exam.blocks.logs
    apart = logs[left] - logs[left.mate]
    rolls = ~np.isnan(apart) & (exam.blocks.speed > MOVING)
    apart, speed = apart[rolls], exam.blocks.speed[rolls]
    if apart.size < 2:
        return False
    # a block may hold a single value, off by its rounding, where nearly all of them are alike
    noise = np.maximum(mad_sigma(np.diff(apart)) / np.sqrt(2.0), exam.blocks.quantum / np.sqrt(6.0) / speed)
    bends = np.abs(apart - np.median(apart)) > np.maximum(BEND, SURE * noise)
    return float(np.count_nonzero(bends)) * exam.blocks.block_s >= LEAST_BEND_S
