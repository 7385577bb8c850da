"""Moments: dropouts of one corner."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner, WheelChannel
from nodrek.core.motion.reference import Deviations
from nodrek.core.motion.usable import Usable

DIP_SCORE = -6.0
DIP_DEPTH = -0.05
"""A dropout is at least five percent deep and six times the noise."""
FROM_SPEED = 3.0
LOST_SCORE, LOST_DEPTH, LOST_SHARE = -4.0, -0.02, 0.01
"""Noise units and ln by which a sample reads low, and share of driving from which that is the habit of a corner."""
RISES_TOO, AS_LARGE = 0.3, 0.95
"""Samples that read as much too high, over those too low, in number and size, from which both belong together: a tooth
that is moved makes one period longer and the next one shorter (what filters leave above lost edges is flatter)."""
HIGHEST_READINGS = 0.98
"""Quantile of readings that says how high they reach."""
LOST_SILENCE, LOST_PARTS, LEAST_OF_PART = -2.5, 16, 4
"""ln below which nothing is read at all; parts of a log whose losses are compared, and samples in each."""
SILENCE_BELOW = 0.6
SILENCE_MARGIN_S = 0.1
HARD_BRAKING = -2.6
"""m/s²: beyond this a wheel may truly turn slower than the vehicle moves."""
ROLLS_AGAIN_S, STILL_SILENT = 0.8, -2.0
"""How long after hard braking a locked wheel, and the filter behind it, is back at speed; ln under which one that reads
nothing then is not locked."""


@dataclass(frozen=True, eq=False)
class Dropouts:
    """Runs of samples [start, stop) that read far too low; arrays of one shape.

    ``depth``: deepest ln deviation of the run; ``braking``: whether the vehicle braked
    hard as it began, so that slip explains it; ``seconds``: how long.
    """

    start: npt.NDArray[np.int64]
    stop: npt.NDArray[np.int64]
    depth: Array
    seconds: Array
    braking: npt.NDArray[np.bool_]

    @property
    def count(self) -> int:
        return int(self.start.size)


def find_dropouts(motion: Deviations, usable: Usable) -> Dropouts:
    """All dropouts above `FROM_SPEED`, shortest and deepest alike."""
    with np.errstate(invalid="ignore"):
        low = motion.dips(DIP_SCORE, DIP_DEPTH) & (motion.expected > FROM_SPEED)
    edges = np.flatnonzero(np.diff(np.concatenate([[False], low, [False]]).astype(np.int8)))
    start, stop = edges[::2], edges[1::2]
    acceleration = np.gradient(usable.vehicle, usable.grid) if usable.grid.size > 1 else usable.vehicle * 0
    hardest = np.minimum(acceleration, np.minimum(np.roll(acceleration, 2), np.roll(acceleration, -2)))
    # of each run alone: what lies between two runs may hold standstills
    depth = np.minimum.reduceat(np.append(motion.deviation, 0.0), edges)[::2] if start.size else np.empty(0)
    braking = np.interp(motion.times[start], usable.grid, hardest) < HARD_BRAKING
    if braking.any():
        braked = usable.grid[hardest < HARD_BRAKING]
        since = motion.times - braked[np.searchsorted(braked, motion.times, side="right") - 1]
        silent = (since > ROLLS_AGAIN_S) & (motion.deviation < STILL_SILENT)
        braking &= ~np.logical_or.reduceat(np.append(silent, False), edges)[::2]
    seconds = motion.times[stop - 1] - motion.times[start] + motion.step_s
    return Dropouts(start, stop, depth, seconds, braking)


@dataclass(frozen=True, eq=False)
class LostEdges:
    """Of a corner that reads low again and again: which ``samples`` do (and read high, where that is as usual), the
    ``change`` (ln, 0 or negative) that they make in the mean of its readings, and the 1 ``sigma`` of it; how far
    ``above`` (ln) its usual reading the highest ones are."""

    samples: npt.NDArray[np.bool_]
    change: float
    sigma: float
    above: float


def losing_edges(motions: Mapping[Corner, Deviations]) -> dict[Corner, LostEdges]:
    """Corners that read low too often for noise; what reaches down to silence is a break, and changes no mean."""
    out = {}
    for corner, motion in motions.items():
        with np.errstate(invalid="ignore"):
            driven = (motion.expected > FROM_SPEED) & ~np.isnan(motion.deviation)
            low = motion.dips(LOST_SCORE, LOST_DEPTH)
            high = motion.rises(-LOST_SCORE, -LOST_DEPTH)
            counted = driven & ~_around_silence(low, motion.deviation)
        dips = np.count_nonzero(low & driven)
        if np.count_nonzero(counted) < LOST_PARTS * LEAST_OF_PART or dips <= LOST_SHARE * np.count_nonzero(driven):
            continue
        above = float(np.quantile(motion.deviation[counted], HIGHEST_READINGS))
        rises, falls = motion.deviation[high & counted], motion.deviation[low & counted]
        if falls.size and rises.size > RISES_TOO * dips and np.median(rises) > -AS_LARGE * np.median(falls):
            # no way goes unreported
            out[corner] = LostEdges(low | high, 0.0, 0.0, above)
            continue
        usual = float(np.exp(motion.deviation[counted & ~low]).mean()) if np.any(counted & ~low) else 1.0
        less = np.where(counted & low, np.exp(motion.deviation) / usual - 1.0, 0.0)[counted]
        # what an edge costs hangs on where the samples look, and that goes on for a while
        parts = np.array([part.mean() for part in np.array_split(less, LOST_PARTS)])
        mean = float(less.mean())
        sigma = float(parts.std()) / np.sqrt(LOST_PARTS) / (1.0 + mean)
        out[corner] = LostEdges(low, float(np.log1p(mean)), sigma, above)
    return out


def _around_silence(low: npt.NDArray[np.bool_], deviation: Array) -> npt.NDArray[np.bool_]:
    """Samples of runs of `low` ones that reach down to silence: filters drag a break out."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], low, [False]]).astype(np.int8)))
    silent = np.zeros(low.size + 1, dtype=np.int8)
    if edges.size:
        broken = np.fmin.reduceat(np.append(deviation, 0.0), edges)[::2] <= LOST_SILENCE
        silent[edges[::2][broken]] += 1
        silent[edges[1::2][broken]] -= 1
    return np.cumsum(silent[:-1]) > 0


def silence_breaks(channels: Mapping[Corner, WheelChannel], usable: Usable) -> dict[Corner, Array]:
    """Corrections (0, or NaN: do not listen) that keep a broken signal from accusing its mates.

    While one corner reads nothing, the left/right difference of its axle is nonsense and
    its mates would seem to deviate too. No bend makes a wheel turn at less than six
    tenths of the vehicle's speed. Empty where nothing breaks.
    """
    out: dict[Corner, Array] = {}
    for corner, channel in channels.items():
        vehicle = usable.vehicle_at(channel.times)
        off = (channel.speed < SILENCE_BELOW * vehicle) | (SILENCE_BELOW * channel.speed > vehicle)
        off &= vehicle > FROM_SPEED
        if not off.any():
            continue
        # what comes just before and after the break belongs to it
        reach = max(1, round(SILENCE_MARGIN_S * channel.rate))
        count = np.cumsum(np.concatenate([[0], off]))
        lo = np.clip(np.arange(off.size) - reach, 0, None)
        hi = np.clip(np.arange(off.size) + reach + 1, None, off.size)
        out[corner] = np.where(count[hi] > count[lo], np.nan, 0.0)
    return out
