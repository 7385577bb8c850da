"""A corner that shows the other wheel of its axle: a stand-in of the control unit, or one signal that is logged twice.

In a bend the wheels of an axle turn at speeds of their own, and how far these are apart the other axle says. Two that
are equal to the last digit there are one; straight ahead they agree anyway. Which of the two is shown in place of the
other tells the middle of the axle, which then runs as fast as its outer or as its inner wheel: against the other axle
too slow in bends to one side and too fast in bends to the other.

The speed below which a sensor sleeps behind its mate is where the two are told apart best (likelihood ratio of one
change of a chance; Hinkley 1970, Biometrika 57, 1; from memory).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner
from nodrek.core.motion.plateaus import SAME
from nodrek.core.motion.reference import CornerMotion
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.stand_in import STEPS_OFF, last_change, speed_at

MATE = "the other wheel of its axle"
"""As words after "the control unit shows"."""
FROM_SPEED = 0.8
"""m/s: slower, all corners read the same few values."""
BEND_S, LEAST_WIDTH = 0.6, 5
"""Seconds and samples over which the other axle is asked how tight a bend is, since noise makes none."""
STEPS_APART, PART_APART = 4.0, 0.012
"""Steps, and part of the speed, by which the wheels of the other axle differ where those of this one must as well (more
than tyres do)."""
LEAST_SAMPLES, LEAST_S, LEAST_BENDS, LEAST_ONE_WAY = 24, 8.0, 4, 6
"""What is asked at least: samples, seconds, and bends; and samples of those to either side."""
ALWAYS, MOSTLY, ACCIDENT, MATES_MOST = 0.9, 0.8, 0.08, 0.3
"""Share of equal readings in bends that is all the time (the ends of bends spoil the rest), that of a sensor that
sleeps, and that by accident; share at the other axle from which the log cannot tell."""
WAKES, LEAST_NATS, AWAKE_MOST, WELL_ABOVE = (2.2, 11.0), 35.0, 0.3, 1.2
"""m/s between which a sleeping sensor wakes; ln of the likelihood ratio that proves it; share of equal readings above
that speed; times that speed, where it is awake for certain."""
THROUGHOUT, ACROSS_MOST, LEAST_READ = 0.985, 0.7, 300
"""Share of all readings that are equal from which they are one signal without being asked for bends, where of the axle
across no more are than the second; readings that takes. (Of 784 sound axles of 392 drives 0.54 were at most.)"""
BEFORE_S, AFTER_S = 5.0, 20.0
"""Seconds at least before and after the moment from which an axle is one signal."""
LEAST_LEANS, LEANS_SIGMAS, LEANS_S = 0.25, 4.0, 5.0
"""The middle of such an axle goes with one side by half of what the wheels across differ by (closed form): the part
that is asked at least, how many of its errors that must be, and seconds of the blocks which tell these."""

Mask = npt.NDArray[np.bool_]


@dataclass(frozen=True, eq=False)
class AxleCopy:
    """That a corner shows its mate, from ``since`` on (s, 0: all the time) or below ``wake`` (m/s, else NaN);
    ``samples`` that say so."""

    wake: float
    samples: int
    since: float = 0.0

    @property
    def for_good(self) -> bool:
        return math.isnan(self.wake)


def copied_from_mate(exam: Examination, corner: Corner) -> AxleCopy | None:
    """``None`` where nothing proves that the corner shows its mate."""
    return exam.once("axle copies", lambda: _all_copies(exam)).get(corner)


@dataclass(frozen=True, eq=False)
class _Axle:
    """Both wheels at the times of the left one: where they read (``reads``), are ``equal``, and are ``asked`` (masks),
    ``bend`` (left − right of the other axle, m/s) and ``middle`` (of this axle over that of the other, m/s).

    Bends go both ways. What makes the wheels of one axle differ to one side only is a wheel that spins, or a ring that
    loses edges."""

    left: Corner
    times: Array
    speed: Array
    reads: Mask
    equal: Mask
    asked: Mask
    bend: Array
    middle: Array

    @property
    def share(self) -> float:
        """Part of what is asked that is equal; 0 where nothing is, as of the axle across from one that is equal."""
        return int(np.count_nonzero(self.asked & self.equal)) / max(int(np.count_nonzero(self.asked)), 1)


def _all_copies(exam: Examination) -> dict[Corner, AxleCopy]:
    if len(exam.followed) < 4 or min(motion.times.size for motion in exam.followed.values()) < LEAST_SAMPLES:
        return {}
    axles = [_axle(exam, left) for left in (Corner.FL, Corner.RL)]
    out = {}
    for axle, other in (axles, axles[::-1]):
        found = _is_one(axle, other) or _sleeps(axle, other)
        if found is not None:
            out[_copier(axle)] = found
            continue
        since = _since(axle, other)
        if _is_one_throughout(axle, other, since) and (leans := _leans(axle, since)):
            copier = axle.left.mate if leans > 0.0 else axle.left
            out[copier] = AxleCopy(math.nan, int(np.count_nonzero(axle.equal)), since)
    return out if len(out) == 1 else {}


def _axle(exam: Examination, left: Corner) -> _Axle:
    motion, far = exam.followed[left], Corner.RL if left is Corner.FL else Corner.FL
    times = motion.times
    own, (mate, steps) = motion.speed, _of_the_row(exam, motion, left.mate)
    # an odd tyre, or a ring that loses edges, is no bend
    steady = {c: math.exp(exam.ratios[c].log_ratio) if c in exam.ratios else 1.0 for c in (far, far.mate)}
    one, two = (speed_at(exam, c, times) / steady[c] for c in (far, far.mate))
    quantum = max(exam.log.channels[c].quantum for c in exam.followed)
    width = min(max(LEAST_WIDTH, round(BEND_S / max(motion.step_s, 1e-3))), times.size)
    bend = np.convolve(np.nan_to_num(one - two), np.ones(width) / width, mode="same")
    speed, now = motion.vehicle, one - two
    with np.errstate(invalid="ignore"):
        least = np.maximum(STEPS_APART * quantum, PART_APART * speed)
        reads = (speed > FROM_SPEED) & (own > 0.0) & (mate > 0.0)
        asked = reads & (np.abs(bend) > least) & (np.abs(now) > least) & (bend * now > 0.0)
        equal = np.abs(own - mate) <= steps * quantum + 1e-6
    return _Axle(left, times, speed, reads, equal, asked, bend, 0.5 * (own + mate - one - two))


def _of_the_row(exam: Examination, motion: CornerMotion, corner: Corner) -> tuple[Array, float]:
    """What `corner` shows in the rows of `motion`, whatever is known of the moments they were read at, or at its
    times where they come in rows of their own; and the steps by which the same value may differ there."""
    mate = exam.followed[corner]
    same = mate.times.size == motion.times.size
    if same and float(np.abs(mate.times - motion.times).max(initial=0.0)) <= max(motion.step_s, 1e-3):
        return mate.speed, SAME
    return speed_at(exam, corner, motion.times), STEPS_OFF


def _is_enough(axle: _Axle) -> bool:
    times = axle.times[axle.asked]
    if times.size < LEAST_SAMPLES or not _both_ways(axle, axle.asked, ALWAYS):
        return False
    step = float(np.median(np.diff(axle.times)))
    return times.size * step >= LEAST_S and 1 + int(np.count_nonzero(np.diff(times) > 1.0)) >= LEAST_BENDS


def _both_ways(axle: _Axle, chosen: Mask, share: float) -> bool:
    """Whether in bends to either side there is so large a `share` of equal readings among the `chosen`."""
    for way in (axle.bend > 0.0, axle.bend < 0.0):
        count = np.count_nonzero(chosen & way)
        if count < LEAST_ONE_WAY or np.count_nonzero(chosen & way & axle.equal) < share * count:
            return False
    return True


def _is_one(axle: _Axle, other: _Axle) -> AxleCopy | None:
    if not _is_enough(axle) or axle.share < ALWAYS or other.share > MATES_MOST or not _agrees(axle, axle.reads):
        return None
    return AxleCopy(math.nan, int(np.count_nonzero(axle.asked & axle.equal)))


def _since(axle: _Axle, other: _Axle) -> float:
    """Seconds from which the axle may be one signal, 0 for all the time; see `made_of_others`."""
    reads = np.flatnonzero(axle.reads)
    if not reads.size or not other.reads.any():
        return 0.0
    equal, times = axle.equal[reads], axle.times[reads]
    chance = min(max(float(np.mean(other.equal[other.reads])), ACCIDENT), ACROSS_MOST)
    first = last_change(equal, THROUGHOUT, chance)
    before, after = times[first] - times[0], times[-1] - times[first]
    changes = before >= BEFORE_S and after >= AFTER_S and np.mean(equal[:first]) <= ACROSS_MOST
    return float(times[first]) if changes else 0.0


def _is_one_throughout(axle: _Axle, other: _Axle, since: float) -> bool:
    """Whether hardly any reading differs from then on, however few bends would make them, where those across do."""
    own, across = (part.equal[part.reads & (part.times >= since)] for part in (axle, other))
    return min(own.size, across.size) >= LEAST_READ and own.mean() >= THROUGHOUT and across.mean() <= ACROSS_MOST


def _leans(axle: _Axle, since: float) -> float:
    """Which way the middle of the axle goes with what the wheels across differ by: positive with the left wheel; 0
    where nothing tells. Least squares beside a part of the speed (tyres), errors by leaving out a block at a time."""
    known = np.isfinite(axle.middle) & np.isfinite(axle.bend)
    used = np.flatnonzero(axle.reads & axle.equal & known & (axle.times >= since))
    speed, bend, middle = axle.speed[used], axle.bend[used], axle.middle[used]
    block = np.floor((axle.times[used] - axle.times[0]) / LEANS_S)
    starts = np.flatnonzero(np.diff(block, prepend=-1.0))
    parts = np.array([speed * speed, speed * bend, bend * bend, speed * middle, bend * middle])
    if starts.size < LEAST_BENDS:
        return 0.0
    of_blocks = np.add.reduceat(parts, starts, axis=1)
    whole = of_blocks.sum(axis=1)
    slope = float(_slope(whole))
    without = _slope(whole[:, None] - of_blocks)
    sigma = math.sqrt((starts.size - 1) / starts.size * float(np.sum((without - without.mean()) ** 2)))
    return slope if abs(slope) > max(LEAST_LEANS, LEANS_SIGMAS * sigma) else 0.0


def _slope(sums: Array) -> Array:
    """Of the second quantity, from the sums of squares and products of both with each other and with the answer."""
    vv, vb, bb, vm, bm = sums
    return np.asarray((vv * bm - vb * vm) / np.maximum(vv * bb - vb * vb, 1e-12))


def _agrees(axle: _Axle, chosen: Mask) -> bool:
    """Whether the wheels are equal straight ahead as well, where sound ones on a quiet road are most of the time."""
    return bool(np.mean(axle.equal[chosen]) >= ALWAYS)


def _sleeps(axle: _Axle, other: _Axle) -> AxleCopy | None:
    asked = np.flatnonzero(axle.asked)
    order = asked[np.argsort(axle.speed[asked], kind="stable")]
    speed, equal = axle.speed[order], axle.equal[order]
    gain = np.cumsum(np.where(equal, math.log(ALWAYS / ACCIDENT), math.log((1.0 - ALWAYS) / (1.0 - ACCIDENT))))
    possible = np.flatnonzero((speed > WAKES[0]) & (speed < WAKES[1]))
    if not possible.size or other.share > MATES_MOST:
        return None
    best = int(possible[np.argmax(gain[possible])])
    wake = float(speed[best])
    above = equal[speed > WELL_ABOVE * wake]
    # fewer looks than samples: neighbours are alike
    looks = 1 + np.count_nonzero(np.diff(axle.times[np.sort(order[: best + 1])]) > 1.0)
    if gain[best] < LEAST_NATS or looks < LEAST_BENDS or above.size < LEAST_SAMPLES // 2 or above.mean() > AWAKE_MOST:
        return None
    slow = axle.speed <= wake
    if not _both_ways(axle, axle.asked & slow, MOSTLY) or not _agrees(axle, axle.reads & slow):
        return None
    return AxleCopy(wake, int(np.count_nonzero(equal[: best + 1])))


def _copier(axle: _Axle) -> Corner:
    """The wheel that is not itself: the axle runs with the other one, to the inside or the outside of every bend."""
    seen = axle.asked & axle.equal
    with_left = float(np.nansum(axle.middle[seen] * axle.bend[seen])) > 0.0
    return axle.left.mate if with_left else axle.left
