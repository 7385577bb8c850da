"""All corners together against a speed that is independent of the wheels.

Four equally odd tyres agree with each other; only a speed from elsewhere (satellites,
optics) sees them. Such a speed is late by a fraction of a second, which shows as an error
in proportion to the change of speed and is fitted along:
ln v_wheels(t) − ln v_ref(t) = level + delay·d(ln v)/dt.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from nodrek.core.model import Corner, ReferenceSpeed, WheelChannel
from nodrek.core.motion.blocks import median_last_axis
from nodrek.core.motion.ratios import CALM, FROM_SPEED, RatioEstimate
from nodrek.core.motion.robust_line import robust_intercept
from nodrek.core.motion.usable import Usable

STEP_S = 0.5
"""Satellite speeds come once to some times a second; nothing faster is compared."""
STRETCH_S = 8.0
LEAST_S = 20.0
FLOOR = 0.001
"""What no satellite receiver of a phone tells better over minutes (common practice)."""


def overall_ratio(
    channels: Mapping[Corner, WheelChannel], usable: Usable, reference: ReferenceSpeed
) -> RatioEstimate | None:
    """Middle corner over the reference; ``None`` where too little of it is steady driving."""
    if reference.times.size < 2 or len(channels) < 2:
        return None
    times = np.arange(max(0.0, reference.times[0]), min(usable.grid[-1], reference.times[-1]), STEP_S)
    if times.size * STEP_S < LEAST_S:
        return None
    wheels = np.column_stack([_means(ch.times, ch.speed, usable.masks[c], times) for c, ch in channels.items()])
    wheel = median_last_axis(wheels)
    other = np.interp(times, reference.times, reference.speed)
    nearest = np.searchsorted(reference.times, times).clip(1, reference.times.size - 1)
    hole = reference.times[nearest] - reference.times[nearest - 1] > 3.0
    with np.errstate(invalid="ignore", divide="ignore"):
        difference = np.log(wheel) - np.log(other)
        slope = np.gradient(np.log(np.maximum(wheel, 0.5)), STEP_S)
        use = (wheel > FROM_SPEED) & (other > 0.5 * FROM_SPEED) & ~hole & (np.abs(slope * wheel) < CALM)
    use &= np.isfinite(difference) & np.isfinite(slope)
    if use.sum() * STEP_S < LEAST_S:
        return None
    per_stretch = round(STRETCH_S / STEP_S)
    everywhere = np.ones(int(use.sum()), dtype=bool)
    level, sigma, _ = robust_intercept(difference[use], [slope[use]], everywhere, per_stretch)
    return RatioEstimate(level, float(np.hypot(sigma, FLOOR)))


def _means(times: np.ndarray, speed: np.ndarray, mask: np.ndarray, at: np.ndarray) -> np.ndarray:
    """Mean of the good samples within half a step of each time; NaN where there is none."""
    good = mask & ~np.isnan(speed)
    total = np.concatenate([[0.0], np.cumsum(np.where(good, speed, 0.0))])
    count = np.concatenate([[0], np.cumsum(good)])
    lo, hi = np.searchsorted(times, at - STEP_S / 2), np.searchsorted(times, at + STEP_S / 2)
    filled = count[hi] - count[lo]
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(filled > 0, (total[hi] - total[lo]) / np.maximum(filled, 1), np.nan)
