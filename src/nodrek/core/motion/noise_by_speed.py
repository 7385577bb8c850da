"""How noisy a corner is, as it depends on its speed: what counts edges is louder while slow."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from nodrek.core.model import Array
from nodrek.core.motion.blocks import quick_quantiles

LEAST_NOISE = 3e-4
"""Relative noise that even a perfect log is granted."""
SPEED_BINS = 10
NOISE_SAMPLES = 20_000
"""As many samples as the noise is worked out from; more say nothing new."""
Q80_TO_SIGMA = 1.2816
"""80 % of a normal law lies within this many standard deviations."""


@dataclass(frozen=True, eq=False)
class NoiseBySpeed:
    """Noise (1 sigma, relative) by speed (m/s): two arrays of one shape, speeds rising; infinite where unknown."""

    speed: Array
    sigma: Array

    def at(self, speed: Array) -> Array:
        return np.maximum(np.interp(speed, self.speed, self.sigma), LEAST_NOISE)


def noise_by_speed(deviation: Array, expected: Array) -> NoiseBySpeed:
    """Robust spread of the deviation in bins of equal sample count by speed.

    From the 80 % point of its size rather than the median: a unit that counts edges in a
    window reads dead right most of the time and a whole count off the rest.
    """
    stride = max(1, deviation.size // NOISE_SAMPLES)
    size, speed = np.abs(deviation[::stride]), expected[::stride]
    known = np.flatnonzero(~np.isnan(size))
    if not known.size:
        return NoiseBySpeed(np.zeros(1), np.full(1, np.inf))
    bins = SPEED_BINS if known.size >= 20 * SPEED_BINS else 1
    order = known[np.argsort(speed[known])]
    per_bin = order.size // bins
    rows = order[: per_bin * bins].reshape(bins, per_bin)
    by_bin = quick_quantiles(size[rows], 0.8) / Q80_TO_SIGMA
    return NoiseBySpeed(speed[rows[:, per_bin // 2]], by_bin)
