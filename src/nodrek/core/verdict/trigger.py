"""What sets a signal's breaks off: bumps, bends to one side, speed, or nothing that can be told.

For each candidate but bumps the share of breaks that happen beside it is weighed against the share of
all driving that does: the likelihood ratio of two binomial laws. Most bumps are no jolt that stands out behind a
control unit that smooths, so that these are asked by rank: whether the other wheels are more restless about a break
than about any moment of the drive (Mann and Whitney 1947, Annals of Mathematical Statistics 18, 50; from memory).
Common practice names the part: bumps shake connectors and loose sensors, bends pull at a lead, speed shakes both.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner
from nodrek.core.motion.blocks import slow_part
from nodrek.core.verdict.examine import Examination

LEAST_BREAKS = 4
SURE_NATS = 3.0
LEAST_SHARE = 0.6
GONE = -0.7
"""ln deviation below which a mate does not jolt, but breaks as well."""
JOLT_REACH_S = 0.3
"""Seconds round a jolt of another wheel: the axles meet a bump one after the other."""
USUAL = 4_000
"""Moments of driving that breaks are compared with, at least where there are more."""
RESTLESS = 1.0
"""Errors by which the mates are more restless about any break: what a corner loses touches their reference (28 drives
of the simulator with breaks at no bump: 0.7 in the mean, 2.2 at most)."""
LATERAL = 0.6
"""m/s² from which a bend pulls at anything."""
BEND_S = 0.5
FROM_SPEED = 3.0
TRACK = 1.5


class TriggerKind(StrEnum):
    BUMPS = "bumps"
    BENDS = "bends"
    SPEED = "speed"
    NONE = "none"


@dataclass(frozen=True)
class Trigger:
    """``kind`` and, in words, which way (``left``, ``right``, ``fast``, ``slow``; empty where it has none)."""

    kind: TriggerKind
    way: str = ""


NOTHING = Trigger(TriggerKind.NONE)


def find_trigger(exam: Examination, corner: Corner, times: Array) -> Trigger:
    """The trigger that explains the breaks at `times` (s) best; nothing where none does clearly."""
    motion = exam.motions[corner]
    moving = motion.expected > motion.asked_from(FROM_SPEED)
    if times.size < LEAST_BREAKS or not moving.any():
        return NOTHING
    at = np.clip(np.searchsorted(motion.times, times), 0, motion.times.size - 1)
    speed = motion.expected[moving]
    high, low = np.quantile(speed, 0.75), np.quantile(speed, 0.25)
    candidates: list[tuple[Trigger, npt.NDArray[np.bool_]]] = [
        (Trigger(TriggerKind.SPEED, "fast"), motion.expected > high),
        (Trigger(TriggerKind.SPEED, "slow"), motion.expected < low),
    ]
    lateral = _lateral(exam, corner)
    if lateral is not None:
        candidates += [
            (Trigger(TriggerKind.BENDS, "left"), lateral > LATERAL),
            (Trigger(TriggerKind.BENDS, "right"), lateral < -LATERAL),
        ]
    best, most = NOTHING, SURE_NATS
    driving = np.flatnonzero(moving)
    driving = driving[:: max(1, driving.size // USUAL)]
    restless = _restlessness(_jolts(exam, corner, at), _jolts(exam, corner, driving))
    bumps = 0.5 * max(0.0, restless - RESTLESS) ** 2
    if bumps > most:
        best, most = Trigger(TriggerKind.BUMPS), bumps
    for trigger, there in candidates:
        usual = min(0.98, max(0.01, float(there[moving].mean())))
        share = float(there[at].mean())
        nats = _nats(share, usual, times.size)
        if share >= LEAST_SHARE and nats > most:
            best, most = trigger, nats
    return best


def _nats(share: float, usual: float, count: int) -> float:
    """ln likelihood of the share seen over the usual one; 0 where it is no larger."""
    if share <= usual:
        return 0.0
    rest = 0.0 if share >= 1.0 else (1.0 - share) * math.log((1.0 - share) / (1.0 - usual))
    return count * (share * math.log(share / usual) + rest)


def _jolts(exam: Examination, corner: Corner, at: npt.NDArray[np.int64]) -> Array:
    """How far the most restless of the other wheels is off (noise units) about samples `at` of the corner."""
    times, most = exam.motions[corner].times[at], np.zeros(at.size)
    for other, motion in exam.motions.items():
        if other is corner:
            continue
        reach = max(1, round(JOLT_REACH_S * exam.log.channels[other].rate))
        about = np.searchsorted(motion.times, times)[:, None] + np.arange(-reach, reach + 1)
        np.clip(about, 0, motion.times.size - 1, out=about)
        with np.errstate(invalid="ignore"):
            off = np.where(motion.deviation[about] > GONE, np.abs(motion.score[about]), 0.0)
        most = np.maximum(most, np.nan_to_num(off).max(axis=1))
    return most


def _restlessness(jolts: Array, usual: Array) -> float:
    """Errors by which some `jolts` rank higher than `usual` ones."""
    usual = np.sort(usual)
    rank = 0.5 * (np.searchsorted(usual, jolts) + np.searchsorted(usual, jolts, side="right")) / usual.size
    return float((rank.mean() - 0.5) * math.sqrt(12.0 * jolts.size))


def _lateral(exam: Examination, corner: Corner) -> Array | None:
    """Lateral acceleration (m/s², positive in bends to the left) as the other axle feels it."""
    left = next((c for c in (Corner.FL, Corner.RL) if corner not in (c, c.mate)), None)
    if left is None or left not in exam.motions or left.mate not in exam.motions:
        return None
    one, other = exam.motions[left], exam.motions[left.mate]
    times = exam.motions[corner].times
    with np.errstate(invalid="ignore", divide="ignore"):
        right = np.interp(one.times, other.times, other.speed)
        difference = np.where((one.speed > 1.0) & (right > 1.0), np.log(right / one.speed), np.nan)
    known = ~np.isnan(difference)
    if known.sum() < LEAST_BREAKS:
        return None
    difference -= float(np.median(difference[known]))
    rate = exam.log.channels[left].rate
    bend = slow_part(difference, max(3, round(BEND_S * rate)))
    return np.interp(times, one.times, bend) * exam.usable.vehicle_at(times) ** 2 / TRACK
