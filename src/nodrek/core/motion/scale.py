"""A corner that steadily reads a quarter more than the others, twice as much or half: brought to their scale first.

A ring with other poles than its mates' (48 for 96), a unit that counts both edges of one corner or a column in another
unit makes such a corner. Everything that compares corners looks for differences of per cents, and would say nothing of
it, nor of the others. So its readings are divided by what they are too large, and its ratio is told as it was.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from nodrek.core.model import Corner, WheelChannel
from nodrek.core.motion.blocks import quick_quantile
from nodrek.core.motion.ratios import RatioEstimate, centred
from nodrek.core.motion.usable import Usable

FROM_LOG, UP_TO_LOG = 0.25, 1.5
"""ln of reading over vehicle from which a corner is far off (any slower ring or tyre is compared as it is), and up to
which it is a reading of the same wheel at all."""
STEADY = 0.08
"""Width (ln) of the middle half of it in a corner that only has another scale."""
FROM_SPEED, LEAST_SAMPLES, LEAST_S = 4.0, 20, 8.0
LEAST_CORNERS = 3
"""Of two corners nobody can say which is the odd one."""


def far_off(channels: Mapping[Corner, WheelChannel], usable: Usable) -> dict[Corner, float]:
    """ln of reading over the vehicle's speed, of the one corner that is steadily far off; empty where it is not one."""
    if len(channels) < LEAST_CORNERS:
        return {}
    out = {}
    for corner, channel in channels.items():
        vehicle = usable.vehicle_at(channel.times)
        fit = usable.masks[corner] & (vehicle > FROM_SPEED) & (channel.speed > 0.0)
        if np.count_nonzero(fit) < max(LEAST_SAMPLES, LEAST_S * channel.rate):
            continue
        ratios = channel.speed[fit] / vehicle[fit]
        low, middle, high = (math.log(quick_quantile(ratios, part)) for part in (0.25, 0.5, 0.75))
        if FROM_LOG < abs(middle) < UP_TO_LOG and high - low < STEADY:
            out[corner] = middle
    return out if len(out) == 1 else {}


def brought_to_scale(
    channels: Mapping[Corner, WheelChannel], off: Mapping[Corner, float]
) -> dict[Corner, WheelChannel]:
    """The channels, those `off` by so much (ln) divided by it."""
    return {
        c: replace(ch, speed=ch.speed / np.exp(off[c]), quantum=ch.quantum / float(np.exp(off[c]))) if c in off else ch
        for c, ch in channels.items()
    }


def as_read(ratios: Mapping[Corner, RatioEstimate], off: Mapping[Corner, float]) -> dict[Corner, RatioEstimate]:
    """Ratios of corners that were brought to scale, as their readings have them; geometric mean 1."""
    if not off:
        return dict(ratios)
    return centred({c: replace(r, log_ratio=r.log_ratio + off.get(c, 0.0)) for c, r in ratios.items()})
