"""What four corners differ by, as three contrasts of their log speeds.

left − right        known on straights: the most frequent value of a drive, since bends scatter
                    it to both sides and straights do not; and in bends from how far front
                    wheels run ahead of rear ones (`ahead`)
front − rear        mixed with slip of the driven axle and with the steering angle, which are
                    regressed out
diagonal            in every bend the squares of the speeds obey FL² + RR² = FR² + RL² (the four
                    wheels stand on a rectangle and run on circles round one point: British flag
                    theorem), so it needs no straight
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner
from nodrek.core.motion.ahead import nats_of_levels
from nodrek.core.motion.blocks import mad_sigma
from nodrek.core.motion.robust_line import Intercept, robust_intercept
from nodrek.core.motion.straights import Straights, blocks_of_stretch

GENTLE = 0.04
"""Bends (ln left over right) up to which slip follows a simple law."""
SIDES_ALIKE, SIDES_APART, FAR_APART = 0.001, 0.05, 0.01
"""1 sigma of what the wheels of one side differ by from those of the other, one odd wheel left out (crown of the road,
load, tyres); how often they differ by more, and how much (own estimates)."""
REACH, LEVELS = 4.0, 97
"""Standard deviations about the level of the straights, and how many levels there, that are weighed."""
FURTHEST, WIDE_LEVELS = 0.06, 121
"""ln left over right, as far from there as other levels are weighed too, and how many."""
FAR_OFF = 0.02
"""1 sigma of the level where what was taken for straights are bends, though their scatter does not show it."""
MOST_NATS = 20.0
"""What bends may say at most: their law is no surer than that."""
NO_RECTANGLE = 6.0
"""Standard deviations of the diagonal from which one corner reads wrong."""
LEAST_SIGMA = 2e-4
"""Of the level of the straights: the levels must not lie closer than anything that is known."""


@dataclass(frozen=True, eq=False)
class Steady:
    """Blocks of ``block_s`` seconds of steady driving, shape (n,), none NaN: ln speed by corner, ``yaw`` (ln left over
    right, mean of both axles), slips by pulling and braking, speed m/s; ``rounding``: least scatter of a contrast;
    ``is_clean``: whether no corner loses edges. What is left of these moves left over right and front over rear
    together, as no bend does."""

    logs: Mapping[Corner, Array]
    yaw: Array
    slips: tuple[Array, Array]
    speed: Array
    block_s: float
    rounding: float
    is_clean: bool = True


def front_over_rear(logs: Mapping[Corner, Array]) -> Array:
    """Half of ln front over rear, mean of both sides."""
    return np.asarray((logs[Corner.FL] + logs[Corner.FR] - logs[Corner.RL] - logs[Corner.RR]) / 4)


class Contrasts(NamedTuple):
    """Each with its 1 sigma; ``lr`` with what rounding leaves of it, the others with the share of each block."""

    lr: tuple[float, float]
    fr: Intercept
    dg: Intercept


def contrasts_of(steady: Steady, straights: Straights, sigma: float) -> Contrasts:
    """The three contrasts; `sigma` of the level of `straights`, rounding included."""
    logs, per_stretch = steady.logs, blocks_of_stretch(steady.block_s)
    diagonal = (logs[Corner.FL] + logs[Corner.RR] - logs[Corner.FR] - logs[Corner.RL]) / 4
    bend = steady.yaw - straights.level
    across = robust_intercept(diagonal, [bend**3], np.abs(bend) < GENTLE, per_stretch, steady.rounding)
    stands = _stands_on_a_rectangle(diagonal - across.value, bend, steady.rounding)
    left_right = _left_over_right(steady, stands, straights, sigma, across.value, across.sigma)
    bend = steady.yaw - 2 * left_right[0]
    slips = [*steady.slips, bend**2]
    along = robust_intercept(front_over_rear(logs), slips, np.abs(bend) < GENTLE, per_stretch, steady.rounding)
    return Contrasts(left_right, along, across)


def _stands_on_a_rectangle(off: Array, bend: Array, rounding: float) -> npt.NDArray[np.bool_]:
    """Blocks in which the diagonal is as it is in any bend; where one corner reads wrong for a moment it is not, and
    that would pass for a bend that front wheels run behind in."""
    scatter = max(mad_sigma(off), rounding)
    return np.asarray(np.abs(off) < NO_RECTANGLE * scatter + np.abs(bend) ** 3)


def _left_over_right(
    steady: Steady, stands: npt.NDArray[np.bool_], straights: Straights, sigma: float, diagonal: float, off: float
) -> tuple[float, float]:
    """Half of ln left over right on straights and its 1 sigma, of what straights and bends tell of it and what is
    known before looking; `diagonal` and how far it may be `off` (1 sigma).

    One odd wheel shows as much between left and right as in the diagonal, to one side or the other, and the sound ones
    of one side hardly ever differ from those of the other: a level that straights and bends tell poorly is drawn to
    one of these two, one that they tell well stays where it is.
    """
    level, sigma = straights.level, max(sigma, LEAST_SIGMA)
    levels = level + np.sort(
        np.concatenate([sigma * np.linspace(-REACH, REACH, LEVELS), np.linspace(-FURTHEST, FURTHEST, WIDE_LEVELS)])
    )
    by_bends = np.zeros(levels.size)
    if steady.is_clean:
        ahead, slips = front_over_rear(steady.logs)[stands], [slip[stands] for slip in steady.slips]
        yaw, speed = steady.yaw[stands], steady.speed[stands]
        told = nats_of_levels(ahead, slips, yaw, speed, levels, steady.block_s, steady.rounding)
        by_bends = np.maximum(told - told.max(), -MOST_NATS)
    by_straights = np.logaddexp(
        _ln_normal(levels, level, sigma), _ln_normal(levels, level, FAR_OFF) + math.log(straights.bent)
    )
    odd = 2.0 * float(np.hypot(SIDES_ALIKE, off))
    either = np.logaddexp(_ln_normal(levels, 2.0 * diagonal, odd), _ln_normal(levels, -2.0 * diagonal, odd))
    before = np.logaddexp(
        either + math.log(0.5 * (1.0 - SIDES_APART)), _ln_normal(levels, 0.0, 2.0 * FAR_APART) + math.log(SIDES_APART)
    )
    nats = by_bends + by_straights + before
    chances = np.exp(nats - nats.max()) * np.gradient(levels)
    chances /= chances.sum()
    mean = float(chances @ levels)
    spread = float(np.sqrt(chances @ (levels - mean) ** 2))
    return mean / 2.0, spread / 2.0


def _ln_normal(values: Array, middle: float, sigma: float) -> Array:
    """ln of the density of a normal law, up to a constant."""
    return np.asarray(-0.5 * ((values - middle) / sigma) ** 2 - math.log(sigma))
