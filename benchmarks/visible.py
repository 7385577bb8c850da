"""Whether a fault could be seen in a log at all, by one who knows everything but the noise.

What a filter is matched to is what the fault changes in the *mean* reading: the same drive simulated
with and without it, on a ring without pitch errors, before a unit that rounds nothing, and logged
without steps. (Two twins that round differ at random as well, and that difference is noise: taken for
signal it would make swings visible that drown in counted edges.) Over the noise of the sound twin as it
is logged this gives the distance from nothing in sigmas. A fault is *visible* where that filter sees it
with 99 % at one false alarm in a thousand (North 1943; from memory), whatever a detector without that
knowledge can do.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from scipy.ndimage import median_filter
from scipy.stats import norm

from nodrek.core.model import Array, RawChannel
from nodrek.core.motion.noise_by_speed import Q80_TO_SIGMA
from nodrek.simulate.chain import Scenario, simulate
from nodrek.simulate.control_unit import ControlUnit, CountPerWindow, SmoothedSpan, SpanOfEdges
from nodrek.simulate.faults import Cause

VISIBLE_SIGMAS = float(norm.isf(1e-3) + norm.isf(0.01))
SMALLEST_TYRE = 0.005
"""Sound tyres differ by up to some 0.3 % (common practice): the noise of a size is not in the log."""
TREND_S = 6.0
FINE_STEP = 1e-4
LEAST_NOISE = 0.005
"""In the log's unit: hundredths of a kilometre per hour are in every log, whatever its steps are."""
SPEED_BANDS = 5
MATES_SHARE = 0.45
"""Variance of the median of three mates, in variances of one."""


def is_visible(scenario: Scenario) -> bool:
    """Of the first fault of `scenario`; two at once are not taken apart."""
    fault = scenario.faults[0]
    if fault.cause is Cause.WHEEL_SIZE:
        return abs(fault.size) >= SMALLEST_TYRE
    sound = simulate(replace(scenario, faults=()))
    at = list(scenario.names).index(fault.corner)
    clean = sound.channels[at]
    smooth = replace(
        scenario,
        pitch_error=0.0,
        exact_edges=True,
        control_unit=_without_counting(scenario.control_unit),
        logger=replace(scenario.logger, quantum=FINE_STEP),
    )
    change = simulate(smooth).channels[at].values - simulate(replace(smooth, faults=())).channels[at].values
    if change.size != clean.values.size:
        raise AssertionError("twins of one seed have the same rows")
    noise = noise_of(clean, [c for k, c in enumerate(sound.channels) if k != at])
    sigma = np.maximum(noise, max(scenario.logger.quantum / np.sqrt(12.0), LEAST_NOISE))
    return bool(np.sqrt(np.sum((change / sigma) ** 2)) >= VISIBLE_SIGMAS)


def _without_counting(unit: ControlUnit) -> ControlUnit:
    """The same averaging without whole edges."""
    if not isinstance(unit, CountPerWindow):
        return unit
    return SmoothedSpan(SpanOfEdges(unit.step), max(1, round(unit.window / unit.step)))


def noise_of(own: RawChannel, mates: list[RawChannel]) -> Array:
    """1 sigma of each sample of one sound channel, in the log's unit, about its mates, bends taken out.

    By speed: pitch errors grow with it, whole counts do not.
    """
    others = np.median([np.interp(own.times_s, c.times_s, c.values) for c in mates], axis=0)
    reads = np.flatnonzero(own.values > 0)
    if reads.size < 9:
        return np.zeros(own.values.size)
    rate = own.times_s.size / max(float(own.times_s[-1] - own.times_s[0]), 1e-9)
    rest = (own.values - others)[reads]
    rest = np.abs(rest - median_filter(rest, size=max(5, int(TREND_S * rate) | 1)))
    speeds = own.values[reads]
    bands = np.array_split(np.argsort(speeds, kind="stable"), SPEED_BANDS if reads.size > 99 else 1)
    sigma = [float(np.quantile(rest[band], 0.8)) / Q80_TO_SIGMA for band in bands]
    centre = [float(np.median(speeds[band])) for band in bands]
    return np.interp(own.values, centre, sigma) / np.sqrt(1.0 + MATES_SHARE)
