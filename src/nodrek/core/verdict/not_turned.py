"""Wheels that read zero because nothing turned them: one axle on rollers or lifted, one wheel that the engine runs.

Two sensors of one axle hardly ever die together, and a roller bench turns one axle at a time. What tells a road is that
it bends: the wheels of the axle that turns then differ.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping

import numpy as np

from nodrek.core.model import Array, Corner, WheelChannel
from nodrek.core.motion.usable import MOVING

NOT_TURNED = "not turned"
"""Said in the evidence as what else silence may be."""
BLOCK_S, LEAST_BLOCKS, SURE = 2.0, 3, 3.0
"""Seconds of a block, how many of them bend on a road, and errors from which one does."""
BEND = 0.002
"""ln difference of left and right in a bend: some 750 m of radius (track over radius); rollers slip less unlike."""


def may_stand(channels: Mapping[Corner, WheelChannel], silent: Collection[Corner]) -> bool:
    """Whether the `silent` corners, which read zero all the time, may only not have been turned; of four corners."""
    turn = [c for c in channels if c not in silent]
    if len(channels) < len(Corner) or not turn:
        return False
    if len(turn) == 1:
        return True
    return turn == [turn[0], turn[0].mate] and not _takes_bends(channels[turn[0]], channels[turn[1]])


def _takes_bends(left: WheelChannel, right: WheelChannel) -> bool:
    speed = left.speed, np.interp(left.times, right.times, right.speed)
    with np.errstate(invalid="ignore"):
        rolls = ~left.invalid & (speed[0] > MOVING) & (speed[1] > MOVING)
    if not rolls.any():
        return False
    apart = np.log(speed[0][rolls] / speed[1][rolls])
    # what a value may be off by rounding, where all of a block are alike
    rounded = np.hypot(left.quantum, right.quantum) / np.sqrt(12.0) / speed[0][rolls]
    means, errors = _of_blocks(left.times[rolls], apart, rounded)
    if not means.size:
        return False
    return int(np.count_nonzero(np.abs(means - np.median(means)) > np.maximum(BEND, SURE * errors))) >= LEAST_BLOCKS


def _of_blocks(times: Array, values: Array, rounded: Array) -> tuple[Array, Array]:
    """Means of `values` by blocks of `BLOCK_S` with two samples and more, and their standard errors, each of them no
    less than that of `rounded` values."""
    block = np.unique((times / BLOCK_S).astype(np.int64), return_inverse=True)[1]
    count = np.bincount(block)
    mean = np.bincount(block, values) / count
    spread = np.bincount(block, (values - mean[block]) ** 2 + rounded**2) / np.maximum(count - 1, 1)
    enough = count >= 2
    return mean[enough], np.sqrt(spread[enough] / count[enough])
