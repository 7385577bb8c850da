"""What a clean result is worth: would the smallest fault worth finding have been found here?

The fault is put into this very log: one lost edge at an angle of the corner's own turning,
with a control unit of ordinary averaging; the statistic that it would raise is compared
with the level that noise reaches. Ref.: own design, after injection tests in pulsar surveys.
"""

from __future__ import annotations

import math

import numpy as np

from nodrek.core.model import Corner, Fault
from nodrek.core.turns.search import FOLD_FROM, fold_weights
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.odds import passes
from nodrek.core.verdict.ring import EVEN_DAMAGE, EVEN_RUNOUT, NULL_FACTOR
from nodrek.core.verdict.tyre import could_measure

AVERAGING_S = 0.03
"""Typical time over which a control unit averages."""
INJECTED_TEETH = 60
TYPICAL_CIRCUMFERENCE = 1.95
SMALLEST_SWING = 0.002
SMALLEST_RATIO = 0.005
BREAK_S = 0.1
"""A break of this length, once a minute."""
AIR_GAP_SPEED = 8.0 / 3.6


def could_see(exam: Examination, corner: Corner) -> dict[Fault, float]:
    """Probability by fault that the smallest one worth finding would have been found."""
    if corner not in exam.motions:
        return dict.fromkeys(_FAULTS, 0.0)
    damage, swing = _turn_power(exam, corner)
    return {
        Fault.RING_DAMAGE: damage,
        Fault.RING_RUNOUT: swing,
        Fault.AIR_GAP: _gap_power(exam, corner),
        Fault.INTERMITTENT: _break_power(exam, corner),
        Fault.TYRE_SIZE: could_measure(exam, corner, SMALLEST_RATIO),
    }


_FAULTS = (
    Fault.RING_DAMAGE, Fault.RING_RUNOUT, Fault.AIR_GAP, Fault.INTERMITTENT, Fault.TYRE_SIZE,
)  # fmt: skip


def _turn_power(exam: Examination, corner: Corner) -> tuple[float, float]:
    motion, ring = exam.motions[corner], exam.rings[corner]
    if ring.scale is None or ring.fold is None:
        return 0.0, 0.0
    frequency = ring.scale.frequency if ring.scale.log_p < -20.0 else 1.0 / TYPICAL_CIRCUMFERENCE
    inside = np.zeros(motion.times.size, dtype=bool)
    for stretch in ring.stretches:
        inside[stretch.start : stretch.stop] = True
    used = inside & (fold_weights(motion) != 0.0) & (motion.expected > FOLD_FROM)
    # the same slower part of the log that the ring profile is made of
    speeds = motion.expected[used]
    if speeds.size < 50:
        return 0.0, 0.0
    used &= motion.expected <= np.quantile(speeds, 0.6)
    turns = np.mod(motion.path[used] * frequency, 1.0)
    window = motion.expected[used] * AVERAGING_S * frequency
    trust = 1.0 / motion.noise[used] ** 2
    trust /= trust.sum()
    # the lost edge lowers each value whose window holds it, by its pitch over the window
    pitch = 1.0 / INJECTED_TEETH
    width = np.maximum(window, pitch)
    first = []
    for place in (0.1, 0.6):
        hit = np.mod(turns - place, 1.0) < width
        dip = -np.minimum(pitch / width, 0.5) * hit
        dip -= np.sum(trust * dip)
        first.append(2.0 * abs(np.sum(trust * dip * np.exp(-2j * np.pi * turns))))
    sigma = ring.fold.sigma if math.isfinite(ring.fold.sigma) else 1.0
    noise = NULL_FACTOR * ring.fold.null
    amplitude = float(np.mean(first))
    spread = math.hypot(sigma, 0.1 * EVEN_DAMAGE)
    damage = passes(amplitude, max(EVEN_DAMAGE, noise), spread)
    smooth = float(np.sum(trust * np.sinc(window)))
    swing = passes(SMALLEST_SWING * smooth, max(EVEN_RUNOUT, noise), max(sigma, 1e-4))
    return damage, swing


def _gap_power(exam: Examination, corner: Corner) -> float:
    """A late wake-up shows on every pull-away that the log holds, unless all corners are late."""
    wakes = [v for v in exam.wake_up.values() if math.isfinite(v)]
    own = exam.wake_up.get(corner, math.nan)
    if not math.isfinite(own) or len(wakes) < 2:
        return 0.0
    channel = exam.log.channels[corner]
    # the speed changes by about 1.5 m/s² × sample period between two looks
    blur = 1.5 / channel.rate + channel.quantum
    return passes(AIR_GAP_SPEED - float(np.median(wakes)), 0.4, max(blur, 0.1))


def _break_power(exam: Examination, corner: Corner) -> float:
    """At least two of the breaks that one a minute gives must fall on samples."""
    rate = exam.log.channels[corner].rate
    expected = exam.usable.moving / 60.0 * min(1.0, BREAK_S * rate)
    return 1.0 - math.exp(-expected) * (1.0 + 0.5 * expected)
