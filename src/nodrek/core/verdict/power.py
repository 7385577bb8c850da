"""What a clean result is worth: would the smallest fault worth finding have been found here?

The fault is put into this very log: what each sample would show of it, over the noise of that sample, added up as a
filter that knows the fault would add it. Ref.: matched filter (North 1943, from memory); own design.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Corner, Fault
from nodrek.core.motion.blocks import quick_quantile
from nodrek.core.motion.reference import SLOW, CornerMotion
from nodrek.core.motion.usable import GRID_STEP
from nodrek.core.motion.waking import LEAST_SPEED, wakes_of
from nodrek.core.turns.search import fold_weights, inside_stretches
from nodrek.core.verdict.declared import FROM_SPEED as BREAKS_FROM
from nodrek.core.verdict.examine import Examination, RingEvidence
from nodrek.core.verdict.gap import late_enough, seen_enough
from nodrek.core.verdict.made import has_own_readings
from nodrek.core.verdict.odds import passes, ratio_odds
from nodrek.core.verdict.ring import EVEN_RUNOUT, NULL_FACTOR
from nodrek.core.verdict.tyre import could_measure

AVERAGING_S = 0.03
"""Typical time over which a control unit averages."""
INJECTED_TEETH = 60
TYPICAL_CIRCUMFERENCE = 1.95
EVEN_TOOTH = 6.0
"""Noise units to which a lost tooth must add up to be found in half of the logs, see `tooth_size`."""
SMALLEST_SWING = 0.002
SMALLEST_RATIO = 0.005
BREAK_S = 0.1
"""A break of this length, once a minute."""
AIR_GAP_SPEED = 8.0 / 3.6
HYSTERESIS = 0.1
"""Part of that speed to both sides of it that is neither below nor above."""
LEAST_SAMPLES = 50


def could_see(exam: Examination, corner: Corner) -> dict[Fault, float]:
    """Probability by fault that the smallest one worth finding would have been found."""
    if not has_own_readings(exam, corner):
        return dict.fromkeys(_FAULTS, 0.0)
    return {
        Fault.RING_DAMAGE: ratio_odds(tooth_size(exam, corner), EVEN_TOOTH, 1.0),
        Fault.RING_RUNOUT: _swing_power(exam, corner),
        Fault.AIR_GAP: _gap_power(exam, corner),
        Fault.INTERMITTENT: _break_power(exam, corner),
        Fault.TYRE_SIZE: could_measure(exam, corner, SMALLEST_RATIO),
    }


_FAULTS = (
    Fault.RING_DAMAGE, Fault.RING_RUNOUT, Fault.AIR_GAP, Fault.INTERMITTENT, Fault.TYRE_SIZE,
)  # fmt: skip


def tooth_size(exam: Examination, corner: Corner) -> float:
    """Noise units (1 sigma) to which one lost tooth would add up at the corner; 0 where no turn is followed.

    A unit that averages over w turns shows the tooth in a share w of its values, each low by the tooth's share of w.
    Squared and over the noise that sums to 1/w a sample: what is averaged for a fixed time shows more while slow.
    """
    used = _followed(exam, corner)
    motion = exam.followed[corner]
    averaged = motion.expected[used] * AVERAGING_S / TYPICAL_CIRCUMFERENCE
    return math.sqrt(float(np.sum(1.0 / averaged / (INJECTED_TEETH * motion.noise[used]) ** 2)))


def swing_size(exam: Examination, corner: Corner) -> float:
    """Noise units to which the smallest smooth swing would add up at the corner; 0 where no turn is followed."""
    noise = exam.followed[corner].noise[_followed(exam, corner)]
    return SMALLEST_SWING * math.sqrt(0.5 * float(np.sum(1.0 / noise**2)))


def _followed(exam: Examination, corner: Corner) -> npt.NDArray[np.bool_]:
    """Which samples of the corner the search for a pattern of its turn rests on."""
    return exam.once(f"followed {corner}", lambda: _inside(exam.followed[corner], exam.rings[corner]))


def _inside(motion: CornerMotion, ring: RingEvidence) -> npt.NDArray[np.bool_]:
    if ring.scale is None or ring.fold is None:
        return np.zeros(motion.times.size, dtype=bool)
    told = (fold_weights(motion) != 0.0) & np.isfinite(motion.noise)
    return np.asarray(inside_stretches(ring.stretches, motion.times.size) & told)


def _swing_power(exam: Examination, corner: Corner) -> float:
    motion, ring, used = exam.followed[corner], exam.rings[corner], _followed(exam, corner)
    speeds = motion.expected[used]
    if ring.scale is None or ring.fold is None or speeds.size < LEAST_SAMPLES:
        return 0.0
    # the same slower part of the log that the ring profile is made of
    used = used & (motion.expected <= quick_quantile(speeds, 0.6)) & (motion.expected > motion.asked_from(SLOW))
    trust = 1.0 / motion.noise[used] ** 2
    smooth = np.sinc(motion.expected[used] * AVERAGING_S / TYPICAL_CIRCUMFERENCE)
    sigma = ring.fold.sigma if math.isfinite(ring.fold.sigma) else 1.0
    shown = SMALLEST_SWING * float(np.sum(trust * smooth) / max(float(np.sum(trust)), 1e-12))
    return passes(shown, max(EVEN_RUNOUT, NULL_FACTOR * ring.fold.null), max(sigma, 1e-4))


class GapLooks(NamedTuple):
    """What a corner would show that reads only above `AIR_GAP_SPEED`.

    ``mates`` m/s from which the others read; ``changes`` through that speed; ``silent`` s below it while they read.
    """

    mates: float
    changes: int
    silent: float


def gap_looks(exam: Examination, corner: Corner) -> GapLooks:
    """The detector's own measures, with the corner silenced in this log."""
    wakes = wakes_of(w for c, w in exam.waking.items() if c is not corner)
    mates, speed = float(np.median(wakes)) if wakes else 0.0, exam.usable.vehicle
    faster = speed[np.abs(speed - AIR_GAP_SPEED) > HYSTERESIS * AIR_GAP_SPEED] > AIR_GAP_SPEED
    below = (speed > max(mates, LEAST_SPEED)) & (speed < AIR_GAP_SPEED)
    changes = int(np.count_nonzero(faster[1:] != faster[:-1]))
    return GapLooks(mates, changes, GRID_STEP * float(np.count_nonzero(below)))


def _gap_power(exam: Examination, corner: Corner) -> float:
    """A late wake-up shows wherever the mates read and this corner would not: at changes, and below."""
    looks = gap_looks(exam, corner)
    if len(exam.waking) < 2 or not looks.changes:
        return 0.0
    rate = exam.log.channels[corner].rate
    return late_enough(AIR_GAP_SPEED - looks.mates, rate, looks.changes) * seen_enough(looks.changes, looks.silent)


def minutes_that_show_breaks(exam: Examination) -> float:
    """Minutes that are fast enough to tell a break."""
    return GRID_STEP / 60.0 * float(np.count_nonzero(exam.usable.vehicle > BREAKS_FROM))


def _break_power(exam: Examination, corner: Corner) -> float:
    """At least two of the breaks that one a minute gives, where it is fast enough to tell, must fall on samples."""
    rate = exam.log.channels[corner].rate
    expected = minutes_that_show_breaks(exam) * min(1.0, BREAK_S * rate)
    return 1.0 - math.exp(-expected) * (1.0 + 0.5 * expected)
