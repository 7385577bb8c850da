"""What two corners do against the other two, faster than bends and slip are followed by blocks.

Four readings are their mean and three contrasts: left against right (the rest of a bend), front against rear (slip
while braking and pulling, the rest of a steered axle), and one diagonal against the other. No driving makes much of the
last; a single corner, whatever is wrong with it, makes as much of it as of the others. So where a contrast is louder
than the diagonal one, the excess is the vehicle's. Then the mates are brought to where a corner is by what the others
say of that contrast: the axle beside it tells its left from its right, the side beside it its front from its rear. The
corner itself has no voice, so its own dips stay as deep as they are.

With mates of noise σ, a contrast of variance s² that is followed by the share w leaves (16/9)·(1 − w)²·s² + (8/9)·w²·σ²
at the corner, which is least at w = s² / (s² + σ²/2).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from nodrek.core.model import Array, Corner

SECONDS, LEAST_SAMPLES = 1.0, 5
"""Time over which contrasts are compared, and the samples that takes at least."""
MOST_TIMES = 2.5
"""Times its own size to which a contrast is followed: a mate that dips while others go round a bend is no bend."""


@dataclass(frozen=True, eq=False)
class Together:
    """By sample, for front against rear and for left against right: the ``shares`` that are followed, and the
    ``sizes`` (ln, 1 sigma) of what the vehicle makes of each."""

    shares: tuple[Array, Array]
    sizes: tuple[Array, Array]

    def mates_at(self, corner: Corner, fast: Mapping[Corner, Array]) -> list[Array]:
        """What each of the others says of `corner`: their `fast` deviations (ln), brought to its axle and its side."""
        beside = next(c for c in fast if c.is_left is corner.is_left and c is not corner)
        mate, across = corner.mate, beside.mate
        axle, side = (
            np.where(share > 0.0, share * np.clip(fast[near] - fast[across], -limit, limit), 0.0)
            for share, near, limit in zip(
                self.shares, (mate, beside), (2.0 * MOST_TIMES * size for size in self.sizes), strict=True
            )
        )
        return [fast[mate] + side, fast[beside] + axle, fast[across] + side + axle]


def together(fast: Mapping[Corner, Array], rate: float) -> Together | None:
    """How far the vehicle makes the contrasts of `fast` deviations (ln, NaN where unknown; `rate` per second);
    ``None`` where not all four corners are known."""
    if len(fast) < len(Corner):
        return None
    contrasts = [np.asarray(sum(c.signs[k] * values for c, values in fast.items())) / 4.0 for k in range(3)]
    known = ~np.isnan(contrasts[0])
    size = max(LEAST_SAMPLES, round(SECONDS * rate))
    axle, side, chance = (_mean_around(np.where(known, c * c, 0.0), size) for c in contrasts)
    excess = [np.maximum(energy - chance, 0.0) for energy in (axle, side)]
    # of four readings with noise σ a contrast has σ/2
    shares = [np.where(known & (e > 0.0), e / np.maximum(e + 2.0 * chance, 1e-30), 0.0) for e in excess]
    return Together((shares[0], shares[1]), (np.sqrt(excess[0]), np.sqrt(excess[1])))


def _mean_around(values: Array, size: int) -> Array:
    """Mean of some `size` samples round each, fewer at the ends."""
    before = np.concatenate([[0.0], np.cumsum(values)])
    at = np.arange(values.size)
    low, high = np.maximum(at - size // 2, 0), np.minimum(at + size // 2 + 1, values.size)
    return np.asarray((before[high] - before[low]) / (high - low))
