"""Whether a fault could be seen in a log at all, by one who knows everything but the noise.

The same drive is simulated with and without the fault. What the two differ by, sample by sample,
is what a filter matched to it would look for; over the noise of the sound twin it gives the
distance from nothing in sigmas. A fault is *visible* where that filter sees it with 99 % at one
false alarm in a thousand (North 1943; from memory), whatever a detector without that knowledge can do.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from scipy.ndimage import median_filter
from scipy.stats import norm

from nodrek.core.model import RawChannel, RawLog
from nodrek.simulate.chain import Scenario, simulate
from nodrek.simulate.faults import Cause

VISIBLE_SIGMAS = float(norm.isf(1e-3) + norm.isf(0.01))
SMALLEST_TYRE = 0.005
"""Sound tyres differ by up to some 0.3 % (common practice): the noise of a size is not in the log."""
TREND_S = 6.0


def is_visible(scenario: Scenario, log: RawLog) -> bool:
    """`log` is that of `scenario`, whose first fault is asked for; two at once are not taken apart."""
    fault = scenario.faults[0]
    if fault.cause is Cause.WHEEL_SIZE:
        return abs(fault.size) >= SMALLEST_TYRE
    sound = simulate(replace(scenario, faults=()))
    at = list(scenario.names).index(fault.corner)
    shown, clean = log.channels[at], sound.channels[at]
    if shown.values.size != clean.values.size:
        raise AssertionError("twins of one seed have the same rows")
    noise = _noise(clean, [c for k, c in enumerate(sound.channels) if k != at])
    # hundredths of a kilometre per hour are in every log, whatever its steps are
    sigma = max(noise, scenario.logger.quantum / np.sqrt(12.0), 0.005)
    return bool(np.sqrt(np.sum(((shown.values - clean.values) / sigma) ** 2)) >= VISIBLE_SIGMAS)


def _noise(own: RawChannel, mates: list[RawChannel]) -> float:
    """1 sigma, in the log's unit, of one sound channel about its mates, slow differences (bends) taken out."""
    others = np.median([np.interp(own.times_s, c.times_s, c.values) for c in mates], axis=0)
    rest = (own.values - others)[own.values > 0]
    if rest.size < 9:
        return 0.0
    rate = own.times_s.size / max(float(own.times_s[-1] - own.times_s[0]), 1e-9)
    rest = rest - median_filter(rest, size=max(5, int(TREND_S * rate) | 1))
    # the mates' noise is in it as well: the median of three carries 0.45 of the variance of one
    return float(1.4826 * np.median(np.abs(rest)) / np.sqrt(1.45))
