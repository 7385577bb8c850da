"""Whether what a corner loses comes back with speed: then nothing is missing on its ring.

A lost edge is lost at any speed. A unit that takes its speed from a window of time, or filters it, shows it the
shallower the faster the wheel, but not rarer: of a window the depth goes with 1/speed, of two of them one behind
another with its square. A part of the ring that stands back is heard from some speed on, and then no reading dips,
however many turns are driven. So dips below each speed foretell how deep those above it would be at least, and where
such dips would stand far out of the noise they are counted. Law of two rates: given how many there are of both, those
of the fast part are binomial (Przyborowski & Wilenski 1940, Biometrika 31, 313; from memory). No wheel angle is
needed, and no fixed speeds; what one arc of a followed ring costs slow and fast, `ring.healed_share` asks.
"""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner
from nodrek.core.motion.reference import Deviations
from nodrek.core.turns.statistic import log_at_most
from nodrek.core.verdict.examine import Examination

SPEEDS = np.geomspace(1.6, 20.0, 18)
"""m/s from which a weak part of the ring may be heard."""
BELOW, ABOVE = (0.35, 1.0), (1.15, 2.5)
"""Times that speed: what is slow, and what is fast."""
CLASSES = np.geomspace(SPEEDS[0] * BELOW[0], SPEEDS[-1] * ABOVE[1], 81)
"""m/s: borders of the classes in which samples are counted."""
SLOW_SCORE, SLOW_DEPTH = -4.0, -0.03
"""Noise units and ln from which a slow reading is a dip."""
FAST_SCORE, FAST_DEPTH = -6.0, -0.015
"""The same that a dip must come to by what is foretold, to be asked for in fast ones."""
STILL_A_DIP = 0.5
"""Part of what is foretold from which it is there."""
LEFT = 0.15
"""Of the dips a sample, so many may be left in fast turns at most."""
LEAST_DIPS, LEAST_SAMPLES = 2, 10
"""Slow dips, and fast samples, from which it is asked."""
LEAST_AGAIN, AGAIN_SHARE, AGAIN_DEPTH = 8, 0.075, -0.1
"""Dips beyond from which nothing has healed: how many, how many a sample for each slow one a sample, and how deep (ln)
they are."""
OF_CHOICE = 1.5
"""Nats that the choice of the speed is worth: of 246 drives with a damaged ring none came below -1.4, of 183 with a
ring out of centre, one that stands back on a part or a sensor that stands off 74 are below -1.5."""
BY_ACCIDENT = 0.005
"""Less likely than that nothing becomes (own estimate)."""


def less_likely_lost(exam: Examination, corner: Corner) -> float:
    """How likely edges that are lost at any speed make what `corner` shows, over those that come back; 1 at most.

    Less than 1 where its dips are gone from some speed on, though they would be seen there.
    """
    if corner not in exam.motions:
        return 1.0
    chance = exam.once(f"stays {corner}", lambda: log_chance_of_staying(exam.motions[corner]))
    return max(BY_ACCIDENT, math.exp(min(0.0, chance + OF_CHOICE)))


def log_chance_of_staying(motion: Deviations) -> float:
    """ln of the chance that so few dips are fast by accident, at the speed that parts them best; 0 for no dips.

    Of edges that are lost at any speed, `LEFT` times as many a sample as while slow being taken for their least.
    """
    begins, depth = _dips(motion)
    speed = motion.expected[begins]
    slow = depth < np.minimum(SLOW_DEPTH, SLOW_SCORE * motion.noise[begins])
    if np.count_nonzero(slow) < LEAST_DIPS:
        return 0.0
    known = np.isfinite(motion.score)
    counted = np.searchsorted(CLASSES, motion.expected[known])
    samples = np.bincount(counted, minlength=CLASSES.size + 1)[1:-1]
    noise = np.bincount(counted, motion.noise[known], CLASSES.size + 1)[1:-1] / np.maximum(samples, 1)
    centres = np.sqrt(CLASSES[1:] * CLASSES[:-1])
    least = 0.0
    for heard in SPEEDS.tolist():
        below = slow & _between(speed, heard, BELOW)
        count = int(np.count_nonzero(below))
        if count < LEAST_DIPS:
            continue
        deep, at = float(np.median(depth[below])), float(np.median(speed[below]))
        foretold = deep * (at / centres) ** 2
        asked = _between(centres, heard, ABOVE) & (foretold < np.minimum(FAST_DEPTH, FAST_SCORE * noise))
        # a class lies to one side of that speed or the other, a dip in it may lie on the other
        fast, of_slow = int(samples[asked].sum()), max(count, int(samples[_between(centres, heard, BELOW)].sum()))
        if fast < LEAST_SAMPLES or _come_again(motion, speed, depth, heard, count / of_slow):
            continue
        there = asked[np.clip(np.searchsorted(CLASSES, speed) - 1, 0, centres.size - 1)]
        there &= _between(speed, heard, ABOVE) & (depth < STILL_A_DIP * deep * (at / np.maximum(speed, 0.1)) ** 2)
        left = int(np.count_nonzero(there))
        least = min(least, log_at_most(left, count + left, LEFT * fast / (of_slow + LEFT * fast)))
    return least


def _come_again(motion: Deviations, speed: Array, depth: Array, heard: float, share: float) -> bool:
    """Whether dips are as frequent again above all that is asked: a unit hides those that it does not believe, at the
    speeds at which they are deepest, and what is heard once stays so."""
    beyond = ABOVE[1] * heard
    again = int(np.count_nonzero((speed >= beyond) & (depth < AGAIN_DEPTH)))
    least = max(LEAST_AGAIN, AGAIN_SHARE * share * int(np.count_nonzero(motion.expected >= beyond)))
    return again >= least


def _between(speed: Array, heard: float, times: tuple[float, float]) -> npt.NDArray[np.bool_]:
    return np.asarray((speed >= times[0] * heard) & (speed < times[1] * heard))


def _dips(motion: Deviations) -> tuple[npt.NDArray[np.int64], Array]:
    """Where each dip begins, and how deep it is (ln): samples on end that read low by half of what is asked for."""
    with np.errstate(invalid="ignore"):
        low = np.flatnonzero(motion.deviation < STILL_A_DIP * np.minimum(FAST_DEPTH, FAST_SCORE * motion.noise))
    if not low.size:
        return low, np.zeros(0)
    first = np.flatnonzero(np.diff(low, prepend=-2) > 1)
    return low[first], np.minimum.reduceat(motion.deviation[low], first)
