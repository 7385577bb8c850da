"""How left and right differ on straights, and how well a drive tells.

Bends scatter the difference to both sides and straights do not, so its most frequent value is that of straight
running. Where a drive goes round one way for most of the time, or wanders for all of it, the most frequent value is
that of some bend; how often it would have come out elsewhere, stretches drawn again say (block bootstrap: Künsch 1989,
Ann. Statist. 17, 1217; from memory).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array
from nodrek.core.motion.ahead import nats_of_levels
from nodrek.core.motion.blocks import half_sample_mode, mad_sigma
from nodrek.core.motion.robust_line import NO_SCATTER, scatter_of_mean

SMOOTH_S = 2.0
"""Differences are taken over so long: counted edges come out even, and most bends last longer."""
FEWEST = 20
"""Smoothed blocks, below which the blocks themselves are asked."""
BENT = 0.012
"""Left-right difference that sound tyres stay under: where *both* axles have more to one side, the vehicle is in a
bend, or, hardly ever, has two odd wheels on that side."""
TWO_ODD_NATS = 6.0
"""How much better (ln) the front wheels must speak for it before two odd wheels of one side are believed."""
LEAST_S = 4.0
"""Seconds of straight running without which the level is not known better than to `BENT`."""
STRETCH_S = 4.0
"""Stretches are independent of each other to good approximation."""
ELEMENT_M, TRACK_M = 200.0, 1.5
"""Length of a straight or a bend of a road, and the track of a usual vehicle (common practice)."""
GENTLE_PULL, GENTLEST = 0.2, 0.003
"""1 sigma of the pull to the side (m/s²) that passes for straight running, and of ln left over right at most."""
EACH_BENT, ALL_BENT = 0.2, 3e-4
"""Chance that an element of a road which passes for straight is a bend, and that all are, however many."""
AGAIN, AGAIN_S, MOST_AGAIN = 16, 16.0, 3_000
"""How often stretches are drawn again, seconds of one, and blocks of all that are drawn from."""
ROUNDS = 6
FEWEST_STRAIGHT = 12
"""Blocks that count as straight where none is within reach."""
ROUNDING_REACH = 0.75
NOISE_REACH = 1.5
"""Steps of the values, and sigmas of noise, within which a block still counts as straight."""


@dataclass(frozen=True, eq=False)
class Straights:
    """ln left over right on straights, mean of the axles; its 1 sigma; which blocks are straight, shape (n,);
    ``bent``: the chance that these are a bend all the same, though nothing shows it."""

    level: float
    sigma: float
    blocks: npt.NDArray[np.bool_]
    bent: float


@dataclass(frozen=True, eq=False)
class Blocks:
    """A drive in blocks of ``block_s`` seconds, NaN where nothing is known. ``sides``: ln left over right by axle,
    shape (1 or 2, n); ``ahead``: ln front over rear, the same of both sides, shape (n,), and ``slips`` that it follows,
    none where only one axle is known; ``speed`` and ``quantum``, the coarsest step of the values, m/s."""

    sides: Array
    ahead: Array | None
    slips: Sequence[Array]
    speed: Array
    block_s: float
    quantum: float


def find_straights(drive: Blocks) -> Straights | None:
    """``None`` where hardly anything is known of the drive."""
    sides, speed, block_s, quantum = drive.sides, drive.speed, drive.block_s, drive.quantum
    width = max(1, round(SMOOTH_S / block_s)) | 1
    smooth = np.array([_running_mean(side, width) for side in sides])
    if np.count_nonzero(~np.isnan(smooth[0])) < FEWEST:
        smooth, width = sides, 1
    at = np.flatnonzero(~np.isnan(smooth).any(axis=0))
    if at.size < 2:
        return None
    known = smooth[:, at]
    noise = 0.0
    if len(known) == 2:
        # both axles feel the same bend, so what they differ by from block to block is noise
        noise = 0.5 * mad_sigma(np.diff((known[0] - known[1])[::width])) / np.sqrt(2.0)
    rounding = np.maximum(ROUNDING_REACH * quantum / speed[at] / np.sqrt(width), NOISE_REACH * noise)
    weight = np.clip((speed[at] / 5.0).astype(int), 1, 6)
    yaw = known.mean(axis=0)
    straight, two_odd = _near_the_mode(yaw, weight, rounding), False
    if _is_bend(known[:, straight]):
        level = _near_level(known, weight, rounding)
        as_level = float(np.mean(yaw[level])) if level.any() else 0.0
        two_odd = _are_two_odd(drive, at, yaw, (float(np.mean(yaw[straight])), as_level))
        straight = straight if two_odd else level
    least = 0.0
    if np.count_nonzero(straight) * block_s < min(LEAST_S, 0.5 * at.size * block_s):
        least = BENT
        straight = straight if straight.any() else _near_the_mode(yaw, weight, rounding)
    sigma = max(
        least,
        scatter_of_mean(np.where(straight, yaw, np.nan), blocks_of_stretch(block_s)),
        _scatter_of_level(known, weight, rounding, max(1, round(AGAIN_S / block_s)), two_odd),
        _scatter_of_elements(yaw[straight], speed[at][straight], block_s),
    )
    blocks = np.zeros(speed.size, dtype=bool)
    blocks[at[straight]] = True
    bent = max(EACH_BENT ** _elements(speed[at][straight], block_s), ALL_BENT)
    return Straights(float(np.mean(yaw[straight])), sigma, blocks, bent)


def _elements(speed: Array, block_s: float) -> float:
    """How many elements of a road blocks at `speed` are; one at least."""
    return max(float(np.sum(speed)) * block_s / ELEMENT_M, 1.0)


def _scatter_of_elements(near: Array, speed: Array, block_s: float) -> float:
    """1 sigma of the level of straight running, as roads are laid: of elements of some length, each of them straight
    only to within what it scatters by and what a gentle bend turns. (One bend that lasts for all of what passes for
    straight has no scatter that stretches drawn again could show.)"""
    gentle = min(GENTLE_PULL * TRACK_M / float(np.median(speed)) ** 2, GENTLEST)
    return float(np.sqrt((np.var(near) + gentle**2) / _elements(speed, block_s)))


def blocks_of_stretch(block_s: float) -> int:
    """Blocks of `block_s` seconds in a stretch; one at least."""
    return max(1, round(STRETCH_S / block_s))


def unbent(sides: Array, rounding: Array) -> npt.NDArray[np.bool_]:
    """Blocks in which one axle at least runs as level as tyres are alike; `sides` of shape (2, n)."""
    with np.errstate(invalid="ignore"):
        return np.asarray(np.abs(sides).min(axis=0) < np.maximum(BENT, rounding))


def _is_bend(sides: Array) -> bool:
    """Whether what was taken for straight running has both axles turn one way."""
    if len(sides) == 1:
        return False
    front, rear = np.median(sides, axis=1)
    return bool(min(abs(front), abs(rear)) > BENT and front * rear > 0.0)


def _are_two_odd(drive: Blocks, at: npt.NDArray[np.int64], yaw: Array, levels: tuple[float, float]) -> bool:
    """Whether the blocks `at` run straight at the first of two `levels`, with two odd wheels of one side, and not at
    the second, as a drive that mostly goes round does, by how far the front wheels run ahead."""
    if drive.ahead is None:
        return False
    ahead, slips = drive.ahead[at], [slip[at] for slip in drive.slips]
    told = nats_of_levels(ahead, slips, yaw, drive.speed[at], np.array(levels), drive.block_s, NO_SCATTER)
    return bool(told[0] - told[1] > TWO_ODD_NATS)


def _near_level(sides: Array, weight: npt.NDArray[np.int64], rounding: Array) -> npt.NDArray[np.bool_]:
    """Which blocks are straight among those that are no bend for certain."""
    level = np.flatnonzero(unbent(sides, rounding))
    out = np.zeros(sides.shape[1], dtype=bool)
    if level.size:
        out[level] = _near_the_mode(sides.mean(axis=0)[level], weight[level], rounding[level])
    return out


def _near_the_mode(yaw: Array, weight: npt.NDArray[np.int64], rounding: Array) -> npt.NDArray[np.bool_]:
    """Which blocks are straight: the most frequent value, then refined by the mean near it.

    Fast blocks count more (`weight`), as roads straighten with speed. What is near is never less than noise and
    rounding: whole km/h agree far more often than wheels do, and a level between two steps is seen only by
    how often each of them is shown.
    """
    mode = half_sample_mode(np.repeat(yaw, weight))
    reach = 0.004
    straight, step = _near(yaw, mode, np.maximum(reach, rounding)), float(np.median(rounding))
    for _ in range(ROUNDS):
        near, before, is_coarse = yaw[straight], straight, step > reach
        # the median of a few steps is one of them
        mode = float(np.mean(near) if is_coarse else np.median(near))
        spread = mad_sigma(near - mode)
        reach = min(0.004, max(3.0 * spread, 0.0006))
        straight = _near(yaw, mode, np.maximum(reach, rounding))
        if np.array_equal(straight, before) and (step > reach) is is_coarse:
            break
    return straight


def _near(values: Array, level: float, reach: Array) -> npt.NDArray[np.bool_]:
    """Which values lie within `reach` of `level`; the nearest few at the least, as a level of none is none."""
    off = np.abs(values - level)
    few = min(values.size, FEWEST_STRAIGHT) - 1
    return np.asarray(off <= np.maximum(reach, np.partition(off, few)[few]))


def _scatter_of_level(
    sides: Array, weight: npt.NDArray[np.int64], rounding: Array, length: int, two_odd: bool
) -> float:
    """1 sigma of the level over stretches of `length` blocks drawn again; always the same for the same drive."""
    rng = np.random.default_rng(0)
    # of hours every so many blocks are enough
    thin = -(-sides.shape[1] // MOST_AGAIN)
    sides, weight, rounding = sides[:, ::thin], weight[::thin], rounding[::thin]
    yaw = sides.mean(axis=0)
    parts = np.array_split(np.arange(yaw.size), max(2, -(-yaw.size * thin // length)))
    levels = []
    for _ in range(AGAIN):
        drawn = np.concatenate([parts[k] for k in rng.integers(len(parts), size=len(parts))])
        again = _near_the_mode(yaw[drawn], weight[drawn], rounding[drawn])
        if not two_odd and _is_bend(sides[:, drawn][:, again]):
            again = _near_level(sides[:, drawn], weight[drawn], rounding[drawn])
        if again.any():
            levels.append(float(np.mean(yaw[drawn][again])))
    return float(np.std(levels) * np.sqrt(len(parts) / (len(parts) - 1))) if levels else BENT


def _running_mean(values: Array, width: int) -> Array:
    """Mean over `width` (odd) blocks round each; NaN where one of them is not known."""
    out = np.full(values.size, np.nan)
    if values.size >= width:
        total = np.cumsum(np.concatenate([[0.0], np.nan_to_num(values)]))
        count = np.cumsum(np.concatenate([[0], ~np.isnan(values)]))
        whole = count[width:] - count[:-width] == width
        half = width // 2
        out[half : values.size - half] = np.where(whole, (total[width:] - total[:-width]) / width, np.nan)
    return out
