"""Speeds of the corners by blocks of time, as bends are told from them: their logs, errors and steps, and the slip of
braking and pulling that is to be taken out of what left and right differ by."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, WheelChannel
from nodrek.core.motion.plateaus import ROUNDING
from nodrek.core.motion.usable import GRID_STEP, Usable

HARD, HARD_S = 3.0, 1.0
"""m/s² over so many seconds from which slip is no even one (common practice: comfortable braking is below 3 m/s²)."""
HALF, SCATTER = 0.5, 4
"""Part of the usual number of samples under which a block has too few, as beside a hole; samples that tell an error.
"""
NO_BEND, LEAST_STRAIGHT, LEAST_PULL = 0.01, 8, 0.5
"""ln difference of left and right up to which blocks are asked what pull makes of it, how many there must be, and m/s²
of pull that they need together to be believed."""


def driven_hard(usable: Usable) -> npt.NDArray[np.bool_]:
    """Points of the grid at which the vehicle brakes or pulls so hard that wheels slip each in its own way."""
    reach = round(HARD_S / GRID_STEP)
    change = np.abs(usable.vehicle[reach:] - usable.vehicle[:-reach]) > HARD * HARD_S
    # all of the time in which it changes so
    return np.asarray(np.convolve(change, np.ones(reach + 1)) > 0.5)


def brakes_or_pulls_hard(usable: Usable, count: int, block_s: float) -> npt.NDArray[np.bool_]:
    """Blocks in which it does for some of the time."""
    size = round(block_s / GRID_STEP)
    return np.asarray(driven_hard(usable)[: count * size].reshape(count, size).any(axis=1))


class BendBlocks(NamedTuple):
    """By block, for one corner: ln of the mean speed over the vehicle's, NaN where it is slow or not wholly fit
    (counted edges are right only on average, and corners that are asked one after another are asked at other
    speeds); its error as far as its own samples tell, which are the coarser the slower the wheel and say nothing where
    fewer than `SCATTER`, and by rounding, which is new only where the value changes; what a step of the values is of
    the speed; how often the value changes."""

    means: Array
    error: Array
    step: Array
    changes: npt.NDArray[np.int64]


def block_means(channel: WheelChannel, usable: Usable, from_speed: float, block_s: float) -> BendBlocks:
    count = int(usable.grid[-1] / block_s)
    index = (channel.times / block_s).astype(np.int64)
    fit = usable.masks[channel.corner] & (channel.speed > from_speed) & (index < count)
    relative = channel.speed[fit] / np.maximum(usable.vehicle_at(channel.times)[fit], 0.3)
    total = np.bincount(index[fit], weights=relative, minlength=count)[:count]
    good = np.bincount(index[fit], minlength=count)[:count]
    every = np.bincount(index[index < count], minlength=count)[:count]
    squares = np.bincount(index[fit], weights=relative**2, minlength=count)[:count]
    enough = max(1.0, HALF * float(np.median(every[every > 0]))) if every.any() else 1.0
    with np.errstate(invalid="ignore", divide="ignore"):
        means = np.where((good >= enough) & (good >= 0.8 * every), total / good, np.nan)
        error = np.sqrt(np.maximum(squares / good - means**2, 0.0) / (good - 1.0)) / means
        step = channel.quantum / (np.bincount(index[fit], weights=channel.speed[fit], minlength=count)[:count] / good)
        changes = np.bincount(index[1:][np.diff(channel.speed) != 0.0], minlength=count)[:count]
        error = np.maximum(np.where(good < SCATTER, 0.0, error), ROUNDING * step / np.sqrt(np.maximum(changes, 1)))
        return BendBlocks(np.log(means), error, step, changes)


def pull_of(usable: Usable, count: int, block_s: float) -> Array:
    """m/s² of the vehicle, mean of each block."""
    ends = np.minimum(np.arange(count + 1) * round(block_s / GRID_STEP), usable.vehicle.size - 1)
    return np.asarray(np.diff(usable.vehicle[ends]) / block_s)


def free_of_pull(difference: Array, pull: Array, known: npt.NDArray[np.bool_]) -> Array:
    """The left−right `difference` of an axle by block without what goes with the pull.

    Two driven wheels do not slip alike, two channels are not asked at one moment. Told by straight blocks; bends go to
    either side at any pull.
    """
    straight = known & (np.abs(difference) < NO_BEND)
    if np.count_nonzero(straight) < LEAST_STRAIGHT:
        return difference
    middle = pull[straight].mean()
    off, own = pull[straight] - middle, difference[straight]
    slope = float(off @ (own - own.mean())) / (float(off @ off) + LEAST_PULL**2)
    return np.asarray(difference - slope * (pull - middle))
