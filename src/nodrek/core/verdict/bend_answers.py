"""Corners that follow no circle of their own: shown by what a control unit makes of the others, poll by poll.

Where corners are polled one after another, each value has noise of its own, and a stand-in agrees with no other value
to the last digit (`nodrek.core.verdict.stand_in`). Means over `BLOCK_S` say two things of it all the same. In a bend
a wheel runs as much faster than the middle of the other axle as half of what lies between the wheels of that axle, or
slower: it answers the bend with 1 (tight ones of the front axle with 0.5 to 1.5, since its circles are wider). What is
made of the others answers with nothing, or like the other side. And it lies nearer to what it is made of than any
wheel of its own does.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner
from nodrek.core.motion.bend_blocks import driven_hard
from nodrek.core.motion.blocks import consecutive, half_sample_mode
from nodrek.core.motion.robust_line import robust_line
from nodrek.core.motion.usable import GRID_STEP
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.stand_in import StandIn, made_of, speed_at

MADE_OF = "what it makes of the other corners"
"""As words after "the control unit shows"."""
WAYS = (StandIn.MIDDLE_OF_ALL, StandIn.MEAN_OF_OTHERS)
"""Asked for here: near the middle of the others runs any wheel of three that are alike, where the fourth is wrong."""
BLOCK_S, FULL = 1.5, 0.6
"""Seconds of one block, and part of the usual number of samples that one holds at least."""
FROM_SPEED, LEAST, MOST_OFF = 3.0, 0.1, 0.5
"""m/s; m/s below which no logarithm is taken; relative distance from the vehicle's speed up to which a value is one,
and no break."""
LEAST_BLOCKS, LEAST_BENDS, LEAST_ONE_WAY = 40, 10, 2
"""Blocks from which anything is told, those of them that are bends, and bends to either side."""
BEND, BEND_SIGMAS, STRAIGHT, LEAST_STRAIGHT = 0.006, 3.0, 0.002, 0.2
"""ln between left and right from which a block is a bend (more than tyres differ), in errors of the block's mean as
well; up to which, beside twice that error, it is straight, and the part of all blocks that must be. The answer to what
lies between is lost in noise."""
APART_SHARE = 0.6
"""Quantile of the spread of the others from which blocks are asked what the corner is like."""
OWN, SIGMAS, APART_SIGMAS, MOST_SIGMA, AGAINST = 0.5, 2.5, 3.5, 0.25, -0.65
"""Answer under which no wheel of its own stays in bends of either side, and by how many errors in the mean of both;
errors by which its mate answers otherwise; error from which nothing is known. Where the inner wheel goes further the
wrong way than the last, the other axle told of bends that are none."""
NEARER, THAN_OWN = 0.7, 0.5
"""Distance from what is made of the others, over that of any mate from the same; and over the distance from what a
wheel of its own would read there."""


def made_in_bends(exam: Examination, corner: Corner) -> bool:
    """Whether the corner shows all the time what is made of the others, as far as bends tell."""
    return corner in exam.once("made in bends", lambda: _all_made(exam))


def _all_made(exam: Examination) -> frozenset[Corner]:
    if set(exam.followed) != set(Corner):
        return frozenset()
    seen = {c: blocks for c in Corner if (blocks := _blocks(exam, c)) is not None}
    if len(seen) < len(Corner):
        return frozenset()
    distances = {c: _distances(exam, c, blocks) for c, blocks in seen.items()}
    near = [c for c in Corner if _is_near(c, distances)]
    if len(near) != 1:
        return frozenset()
    own, mate = (_answer(c, seen[c]) for c in (near[0], near[0].mate))
    return frozenset(near if _is_alone(own, mate) else ())


def _is_near(corner: Corner, of_all: Mapping[Corner, _Distances]) -> bool:
    """Whether the corner is nearer to what some way makes of the others than any of them, or than a wheel is."""
    here = of_all[corner]
    return any(
        off < THAN_OWN * here.own and all(off < NEARER * d.made[way] for c, d in of_all.items() if c is not corner)
        for way, off in here.made.items()
    )


@dataclass(frozen=True)
class _Answer:
    """Slopes (1: a wheel of its own) in bends that make it ``faster`` and ``slower``; 1 ``sigma`` of their mean."""

    faster: float
    slower: float
    sigma: float

    @property
    def mean(self) -> float:
        return 0.5 * (self.faster + self.slower)


def _is_alone(own: _Answer | None, mate: _Answer | None) -> bool:
    """Whether one wheel of an axle does not answer what the other axle tells of bends, and the other one does.

    Where that axle is wrong itself, and there was no bend at all, neither does, or the inner one goes the wrong way.
    """
    if own is None or mate is None or max(own.sigma, mate.sigma) > MOST_SIGMA:
        return False
    nothing = max(own.faster, own.slower, own.mean + SIGMAS * own.sigma) < OWN and own.slower > AGAINST
    apart = mate.mean - own.mean
    return nothing and mate.mean > OWN and apart > APART_SIGMAS * math.hypot(own.sigma, mate.sigma)


def _answer(corner: Corner, blocks: _Blocks) -> _Answer | None:
    """``None`` where bends to both sides, or straights, are too few."""
    left, right = (
        next(c for c in Corner if c.is_front is not corner.is_front and c.is_left is side) for side in (True, False)
    )
    across = blocks.logs[right] - blocks.logs[left]
    bend = blocks.means(across)
    noise = blocks.error(across, bend)
    # what tyres make of it is what most of the drive shows
    bend -= half_sample_mode(bend)
    straight = np.abs(bend) < STRAIGHT + 2.0 * noise
    above = blocks.means(blocks.logs[corner] - 0.5 * (blocks.logs[left] + blocks.logs[right]))
    tight = np.abs(bend) > max(BEND, BEND_SIGMAS * noise)
    sides = [int(np.count_nonzero(tight & side)) for side in (bend > 0.0, bend < 0.0)]
    if min(sides) < LEAST_ONE_WAY or sum(sides) < LEAST_BENDS or np.mean(straight) < LEAST_STRAIGHT:
        return None
    asked = tight | straight
    half = (-0.5 if corner.is_left else 0.5) * bend[asked]
    line = robust_line(above[asked], [np.maximum(half, 0.0), np.minimum(half, 0.0)])
    faster, slower = line.solution[1:].tolist()
    return _Answer(faster, slower, line.error_of((0.0, 0.5, 0.5)))


@dataclass(frozen=True)
class _Distances:
    """Median distance (ln) of a corner from what each way makes of the others (``made``), and from what the other
    wheels of a car say of one of its ``own``; in the blocks in which the others are far apart."""

    made: Mapping[StandIn, float]
    own: float


def _distances(exam: Examination, corner: Corner, blocks: _Blocks) -> _Distances:
    logs = blocks.logs
    mates = made_of(exam, corner, WAYS[0])[0]
    spread = blocks.means(_log(mates[-1]) - _log(mates[0]))
    apart = spread >= np.quantile(spread, APART_SHARE)
    beside = next(c for c in Corner if c.is_left is corner.is_left and c is not corner)
    own = blocks.means(logs[corner] - logs[corner.mate] - logs[beside] + logs[beside.mate])

    def off(way: StandIn) -> float:
        made = made_of(exam, corner, way)[1]
        return float(np.median(np.abs(blocks.means(logs[corner] - _log(made))[apart])))

    return _Distances({way: off(way) for way in WAYS}, float(np.median(np.abs(own - np.median(own))[apart])))


@dataclass(frozen=True, eq=False)
class _Blocks:
    """Runs of `BLOCK_S` with enough samples: ``logs`` of all corners' speeds at one corner's times, the ``chosen``
    samples of these, ``place`` of the block of each, and their ``count`` in each block."""

    logs: Mapping[Corner, Array]
    chosen: npt.NDArray[np.int64]
    place: npt.NDArray[np.int64]
    count: Array

    def means(self, values: Array) -> Array:
        """Mean of each block."""
        return np.bincount(self.place, values[self.chosen], self.count.size) / self.count

    def error(self, values: Array, means: Array) -> float:
        """1 sigma of the mean of a middling block."""
        squares = np.bincount(self.place, (values[self.chosen] - means[self.place]) ** 2, self.count.size)
        return float(np.sqrt(np.median(squares / self.count) / np.median(self.count)))


def _blocks(exam: Examination, corner: Corner) -> _Blocks | None:
    """``None`` where there are too few of them."""
    motion = exam.followed[corner]
    speeds = {c: speed_at(exam, c, motion.times) for c in Corner}
    # what parts wheels that brake or pull hard is no bend
    hard = driven_hard(exam.usable)
    at = np.clip((motion.times / GRID_STEP).astype(np.int64), 0, hard.size - 1)
    moving = (motion.vehicle > FROM_SPEED) & ~hard[at]
    with np.errstate(invalid="ignore"):
        for values in speeds.values():
            moving &= np.abs(values - motion.vehicle) < MOST_OFF * motion.vehicle
    place = consecutive(np.floor((motion.times - motion.times[0]) / BLOCK_S))
    held, asked = np.bincount(place), np.bincount(place, moving)
    full = asked >= max(2.0, FULL * float(np.median(held)))
    if np.count_nonzero(full) < LEAST_BLOCKS:
        return None
    chosen = np.flatnonzero(moving & full[place])
    logs = {c: _log(values) for c, values in speeds.items()}
    return _Blocks(logs, chosen, (np.cumsum(full) - 1)[place[chosen]], np.asarray(asked[full], dtype=np.float64))


def _log(speed: Array) -> Array:
    return np.log(np.maximum(speed, LEAST))
