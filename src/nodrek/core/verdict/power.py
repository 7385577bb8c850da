"""What a clean result is worth: would the smallest fault worth finding have been found here?

The fault is put into this very log: one lost edge at an angle of the corner's own turning,
with a control unit of ordinary averaging; the statistic that it would raise is compared
with the level that noise reaches. Ref.: own design, after injection tests in pulsar surveys.
"""

from __future__ import annotations

import math

import numpy as np

from nodrek.core.model import Array, Corner, Fault
from nodrek.core.motion.blocks import quick_quantile
from nodrek.core.motion.reference import SLOW, CornerMotion
from nodrek.core.motion.usable import GRID_STEP
from nodrek.core.motion.waking import LEAST_SPEED
from nodrek.core.turns.phase import turn_phasor, within_turn
from nodrek.core.turns.search import CLIP, HARMONICS, MOST_SAMPLES, fold_weights, some_stretches
from nodrek.core.turns.statistic import log_tail
from nodrek.core.verdict.breaks import FROM_SPEED as BREAKS_FROM
from nodrek.core.verdict.examine import Examination, RingEvidence
from nodrek.core.verdict.gap import late_enough, seen_enough
from nodrek.core.verdict.odds import passes
from nodrek.core.verdict.ring import EVEN_DAMAGE, EVEN_RUNOUT, LOCKED_LOG_P, NULL_FACTOR
from nodrek.core.verdict.stand_in import always_made_of_others
from nodrek.core.verdict.tyre import could_measure

AVERAGING_S = 0.03
"""Typical time over which a control unit averages."""
INJECTED_TEETH = 60
TYPICAL_CIRCUMFERENCE = 1.95
SMALLEST_SWING = 0.002
SMALLEST_RATIO = 0.005
AVERAGINGS_S = (0.006, 0.04)
POWER_SAMPLES = 4_000
PLACES = (0.1, 0.6)
BREAK_S = 0.1
"""A break of this length, once a minute."""
AIR_GAP_SPEED = 8.0 / 3.6
HYSTERESIS = 0.1
"""Part of that speed to both sides of it that is neither below nor above."""


def could_see(exam: Examination, corner: Corner) -> dict[Fault, float]:
    """Probability by fault that the smallest one worth finding would have been found."""
    if corner not in exam.followed or always_made_of_others(exam, corner):
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
    motion, ring = exam.followed[corner], exam.rings[corner]
    if ring.scale is None or ring.fold is None:
        return 0.0, 0.0
    frequency = ring.scale.frequency if ring.scale.log_p < -20.0 else 1.0 / TYPICAL_CIRCUMFERENCE
    inside = np.zeros(motion.times.size, dtype=bool)
    for stretch in ring.stretches:
        inside[stretch.start : stretch.stop] = True
    used = inside & (fold_weights(motion) != 0.0) & (motion.expected > motion.asked_from(SLOW))
    # the same slower part of the log that the ring profile is made of
    speeds = motion.expected[used]
    if speeds.size < 50:
        return 0.0, 0.0
    used &= motion.expected <= quick_quantile(speeds, 0.6)
    turns = within_turn(motion.path[used] * frequency)
    window = motion.expected[used] * AVERAGING_S * frequency
    trust = 1.0 / motion.noise[used] ** 2
    trust /= trust.sum()
    first = []
    for place in PLACES:
        dip = _lost_edge(turns, window, place)
        dip -= np.sum(trust * dip)
        first.append(2.0 * abs(np.sum(trust * dip * np.exp(-2j * np.pi * turns))))
    sigma = ring.fold.sigma if math.isfinite(ring.fold.sigma) else 1.0
    noise = NULL_FACTOR * ring.fold.null
    amplitude = float(np.mean(first))
    spread = math.hypot(sigma, 0.1 * EVEN_DAMAGE)
    damage = passes(amplitude, max(EVEN_DAMAGE, noise), spread) * _would_lock(motion, ring, frequency)
    smooth = float(np.sum(trust * np.sinc(window)))
    swing = passes(SMALLEST_SWING * smooth, max(EVEN_RUNOUT, noise), max(sigma, 1e-4))
    return damage, swing


def _lost_edge(turns: Array, window: Array, place: float) -> Array:
    """Relative dip of each value: a lost edge lowers each value whose window holds it."""
    pitch = 1.0 / INJECTED_TEETH
    width = np.maximum(window, pitch)
    hit = within_turn(turns - place) < width
    return np.asarray(-np.minimum(pitch / width, 0.5) * hit)


def _would_lock(motion: CornerMotion, ring: RingEvidence, frequency: float) -> float:
    """Chance that the search would have noticed the lost edge: its statistic, put into this log."""
    return min(_locks_with(motion, ring, frequency, averaging) for averaging in AVERAGINGS_S)


def _locks_with(motion: CornerMotion, ring: RingEvidence, frequency: float, averaging: float) -> float:
    """The same for one averaging time: a short one catches few dips, a long one makes them shallow."""
    assert ring.scale is not None
    # a part of the log tells what the whole would: the statistic grows with the samples
    searched = some_stretches(ring.stretches, MOST_SAMPLES)
    stretches = some_stretches(searched, POWER_SAMPLES)
    grow = sum(s.stop - s.start for s in searched) / sum(s.stop - s.start for s in stretches)
    weights = fold_weights(motion)
    half_sums = np.zeros(HARMONICS[-1])
    for stretch in stretches:
        part = slice(stretch.start, stretch.stop)
        turns, speed = motion.path[part] * frequency, motion.expected[part]
        dip = _lost_edge(turns, speed * averaging * frequency, PLACES[0])
        used = weights[part] != 0.0
        put = np.where(used, np.clip(weights[part] + dip / motion.noise[part], *CLIP), 0.0)
        put[used] -= put[used].mean() if used.any() else 0.0
        total = float(np.sum(put**2))
        base, term = turn_phasor(turns), put.astype(np.complex64)
        for k in range(HARMONICS[-1]):
            term *= base
            half_sums[k] += abs(np.sum(term, dtype=np.complex128)) ** 2 / max(total, 1e-12)
    sums = np.cumsum(half_sums) * grow
    best = min(log_tail(float(sums[k - 1]), k * len(searched)) for k in HARMONICS)
    log_p = min(0.0, best + math.log(ring.scale.trials))
    return passes(-log_p, -LOCKED_LOG_P, max(3.0, 0.3 * -log_p))


def _gap_power(exam: Examination, corner: Corner) -> float:
    """A late wake-up shows wherever the mates read and this corner would not: at changes through that speed, and below.

    The detector's own measure of both, with the corner silenced in this log.
    """
    wakes = [w.wake for c, w in exam.waking.items() if c is not corner and math.isfinite(w.wake)]
    if len(exam.waking) < 2:
        return 0.0
    rate, mates = exam.log.channels[corner].rate, float(np.median(wakes)) if wakes else 0.0
    speed = exam.usable.vehicle
    faster = speed[np.abs(speed - AIR_GAP_SPEED) > HYSTERESIS * AIR_GAP_SPEED] > AIR_GAP_SPEED
    changes = int(np.count_nonzero(faster[1:] != faster[:-1]))
    if not changes:
        return 0.0
    silent = GRID_STEP * np.count_nonzero((speed > max(mates, LEAST_SPEED)) & (speed < AIR_GAP_SPEED))
    return late_enough(AIR_GAP_SPEED - mates, rate, changes) * seen_enough(changes, silent)


def _break_power(exam: Examination, corner: Corner) -> float:
    """At least two of the breaks that one a minute gives, where it is fast enough to tell, must fall on samples."""
    rate = exam.log.channels[corner].rate
    fast = GRID_STEP * float(np.count_nonzero(exam.usable.vehicle > BREAKS_FROM))
    expected = fast / 60.0 * min(1.0, BREAK_S * rate)
    return 1.0 - math.exp(-expected) * (1.0 + 0.5 * expected)
