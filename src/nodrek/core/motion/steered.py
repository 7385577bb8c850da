"""How much faster or slower than the mean of all each wheel of a steered vehicle rolls in a bend.

All wheels roll round one point, which lies on the line of the rear axle (Ackermann). With the curvature of the middle
of that axle times half the track, u, wheels roll as fast as 1 ± u behind, and as √((1 ± u)² + g·u²) in front, where g
is the square of wheelbase over half a track. What axles show between left and right tells u. In wide bends that is half
of it for each side; in a junction, at a kerb or in a car park front wheels run up to a tenth ahead, and the two sides
of an axle differ by less in front than behind. (Plane kinematics without slip angles; Gillespie, Fundamentals of
Vehicle Dynamics, 1992, chapter 6; from memory.)
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from nodrek.core.model import Array, Corner

WHEELBASE_OVER_HALF_TRACK = 3.5
"""Of passenger cars 3.2 to 3.8, of vans up to 4.4 (common practice, no published source)."""
SHARPEST, STEP = 0.55, 0.0005
"""Largest u, and its steps: a wheel that stands while the vehicle turns round it has 1."""


def rolls_ahead(
    corner: Corner, left_over_right: Array, corners: tuple[Corner, ...], axles: tuple[Corner, ...]
) -> Array:
    """ln of the speed of `corner` over the (geometric) mean of `corners`, where the left wheels roll faster than the
    right ones by `left_over_right` (ln, NaN where unknown), the mean of `axles`, each named by its left corner."""
    asked, ahead = _table(corners, axles)
    inside = np.clip(left_over_right, asked[0], asked[-1])
    # what no bend can be is noise, or a corner that lies: half of it for each side
    beyond = (0.5 if corner.is_left else -0.5) * (left_over_right - inside)
    return np.asarray(np.interp(inside, asked, ahead[corner]) + beyond)


@lru_cache(maxsize=64)
def _table(corners: tuple[Corner, ...], axles: tuple[Corner, ...]) -> tuple[Array, dict[Corner, Array]]:
    """Left over right, rising, and what each corner is ahead of the mean, for bends of every sharpness."""
    bend = np.arange(-SHARPEST, SHARPEST + STEP, STEP)  # positive to the right
    ahead = {}
    for corner in Corner:
        side = 1.0 + bend if corner.is_left else 1.0 - bend
        steered = WHEELBASE_OVER_HALF_TRACK * bend if corner.is_front else np.zeros_like(bend)
        ahead[corner] = np.log(np.hypot(side, steered))
    mean = np.mean([ahead[c] for c in corners], axis=0)
    asked = np.mean([ahead[left] - ahead[left.mate] for left in axles], axis=0)
    return asked, {c: ahead[c] - mean for c in corners}
