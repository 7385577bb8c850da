"""What each corner should read, from what the other corners read.

In steps, each robust against one corner that lies:

1. the left/right difference of a bend, from both axles together, over about half a
   second;
2. the slow rest of each corner (tyre, slip of a driven axle, steering angle), over about
   a second;
3. the mean of the *other* corners, each freed of 1 and 2 and none further from their median
   than a little noise, says what the corner should read now. The suspect has no voice in its
   own reference.

The deviation is the natural logarithm of reading over reference, so that −0.1 is about
ten percent low at any speed. Method: own design; the robustness argument is the
breakdown point of the median, from which the mean starts (Huber, Robust Statistics, 1981; from memory).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner, WheelChannel
from nodrek.core.motion.blocks import median_last_axis, quick_median, slow_part, spread_blocks, to_blocks
from nodrek.core.motion.noise_by_speed import LEAST_NOISE, NoiseBySpeed, noise_by_speed
from nodrek.core.motion.steered import rolls_ahead
from nodrek.core.motion.usable import WALK, Usable

SLOWEST = WALK
"""m/s below which nothing is compared: readings of a crawling wheel are mostly rounding."""
SLOW, LEAST_FAST_M = 2.5, 350.0
"""m/s up to which a wheel turns slowly, and metres beyond it without which a drive only crawls."""
ASLEEP_BELOW = 3.0
"""m/s under which a zero may be a sleeping sensor (8 km/h is common practice; with margin)."""
YAW_SECONDS = 0.5
SLOW_SECONDS = 1.0
LOUD, LONGEST = 1.4, 3.0
"""Times its mates' noise from which the slow rest of the loudest corner is taken over a longer time; as many times as
it is louder, so many at most. What it loses in many readings must not pass for its level, which in a slow log is the
middle of a few, and what slips for seconds must not pass for losses."""
ROUNDING_SHARE = 0.35
"""Standard deviation of the deviation from rounding alone, in steps of the values: 1/√12 of the
corner itself and some two thirds of that of three mates."""
TOGETHER = 2.0
"""Noise units from the middle at which a voice is limited. The fewer, the less a fault that is not known yet pulls its
mates about, and the noisier they are."""
FAR = 2.0
"""Noise units off what its ring explains from which a bad corner has no voice: a fold knows the mean dip, not each."""
SHARED = 1.5
"""Times the middle corner's noise, at most, that a corner is believed to have."""


@dataclass(frozen=True, eq=False)
class Deviations:
    """One corner against the others; arrays share the shape of the channel's samples.

    ``expected`` m/s; ``deviation`` ln(reading/expected), fast part only, NaN where it
    cannot be compared; ``noise`` 1-sigma of the deviation at this speed.
    """

    corner: Corner
    times: Array
    speed: Array
    expected: Array
    deviation: Array
    noise: Array

    @cached_property
    def step_s(self) -> float:
        """Median time from sample to sample; 0 of fewer than two."""
        return quick_median(np.diff(self.times)) if self.times.size > 1 else 0.0

    @cached_property
    def usual_noise(self) -> float:
        """Median of the noise; NaN where none is known."""
        known = self.noise[np.isfinite(self.noise)]
        return quick_median(known) if known.size else float("nan")

    @cached_property
    def only_crawls(self) -> bool:
        """Whether hardly any of the way is rolled at more than a walk: a queue, a car park, a round in the yard."""
        return self.is_hardly_faster_than(SLOW)

    def is_hardly_faster_than(self, speed: float) -> bool:
        """Whether less than `LEAST_FAST_M` is rolled at more than `speed` (m/s)."""
        return float(self.expected[self.expected > speed].sum()) * self.step_s < LEAST_FAST_M

    def asked_from(self, speed: float) -> float:
        """m/s from which readings are asked: `speed`, or a walk where the drive only crawls.

        Where a drive holds enough that is faster, the slow part is left out: sensors sleep, values are coarse and
        steering is at its widest. Of a drive that only crawls it is all there is.
        """
        return SLOWEST if self.only_crawls else speed

    @property
    def score(self) -> Array:
        """Deviation in units of its noise; NaN where not comparable."""
        return self.deviation / self.noise

    def dips(self, score: float, depth: float) -> npt.NDArray[np.bool_]:
        """Samples that lie low by more than `score` noise units and by more than `depth` (ln), both negative."""
        with np.errstate(invalid="ignore"):
            return (self.score < score) & (self.deviation < depth)

    def rises(self, score: float, height: float) -> npt.NDArray[np.bool_]:
        """Samples that lie high by more than `score` noise units and by more than `height` (ln)."""
        with np.errstate(invalid="ignore"):
            return (self.score > score) & (self.deviation > height)


@dataclass(frozen=True, eq=False)
class CornerMotion(Deviations):
    """The same with the way rolled, m.

    ``path`` by the corner's own scale, dips repaired: it follows every slip of this wheel,
    but a dip wider than half a turn passes for slip; ``path_by_mates`` knows no slip of
    this wheel and is not misled by its dips; ``vehicle`` m/s of the body.
    """

    path: Array
    path_by_mates: Array
    vehicle: Array


def compare_corners(
    channels: Mapping[Corner, WheelChannel],
    usable: Usable,
    known: Mapping[Corner, Array] | None = None,
) -> dict[Corner, CornerMotion]:
    """Each corner against the others; two corners or more.

    `known`: by corner, the ln deviation of each sample that is already explained by a fault there (NaN: do not listen
    at all). It is taken out before that corner speaks for the others; its own deviation stays whole. Where one corner
    is `LOUD`, all are compared again with its level taken over a longer time and without its voice in bends.
    """
    found = _compared(channels, usable, known)
    return {c: found[c].rolled(motion) for c, motion in _with_usual_noise(found, channels).items()}


def deviations_of(
    channels: Mapping[Corner, WheelChannel],
    usable: Usable,
    known: Mapping[Corner, Array] | None = None,
) -> dict[Corner, Deviations]:
    """The same without the ways rolled, in two thirds of the time."""
    return _with_usual_noise(_compared(channels, usable, known), channels)


def _compared(
    channels: Mapping[Corner, WheelChannel], usable: Usable, known: Mapping[Corner, Array] | None
) -> dict[Corner, _Compared]:
    same_clock = _share_times(channels)
    logs = {c: _log_speed(ch, usable) for c, ch in channels.items()}
    voices = {c: logs[c] - known[c] if known and c in known else logs[c] for c in logs}
    first = next(iter(channels.values()))

    def compared(louder: Mapping[Corner, float]) -> dict[Corner, _Compared]:
        common = _equalise(voices, first.rate, louder) if same_clock else None

        def one(channel: WheelChannel) -> _Compared:
            table = common or _equalise(_side_by_side(channels, voices, channel.times), channel.rate, louder)
            return _one_corner(channel, logs[channel.corner], table, usable)

        return {corner: one(channel) for corner, channel in channels.items()}

    found = compared({})
    louder = _louder({c: seen.motion for c, seen in found.items()})
    return compared(louder) if louder else found


def voice_of_a_bad_ring(motion: Deviations, explained: Array) -> Array:
    """As `known` of `compare_corners`: what the ring explains of each sample, and silence where far more is left."""
    with np.errstate(invalid="ignore"):
        far = np.abs(motion.deviation - explained) > FAR * motion.noise
    return np.where(far, np.nan, explained)


@dataclass(frozen=True, eq=False)
class _Equalised:
    """By corner, ln: what ``bends`` make of its speed, the ``slow`` rest, and the ``fast`` one."""

    bends: Mapping[Corner, Array]
    slow: Mapping[Corner, Array]
    fast: Mapping[Corner, Array]


def _share_times(channels: Mapping[Corner, WheelChannel]) -> bool:
    first = next(iter(channels.values())).times
    return all(ch.times is first or np.array_equal(ch.times, first) for ch in channels.values())


def _log_speed(channel: WheelChannel, usable: Usable) -> Array:
    """ln of the reading; NaN where it is unusable or the vehicle crawls."""
    vehicle = usable.vehicle_at(channel.times)
    fit = usable.masks[channel.corner] & (vehicle > SLOWEST)
    # not yet awake on pull-away is no dip: coil sensors sleep up to some 8 km/h
    fit &= (channel.speed > 0.0) | (vehicle > ASLEEP_BELOW)
    # a reading near zero at speed is a deep dip, not minus infinity
    return np.where(fit, np.log(np.maximum(channel.speed, 0.05)), np.nan)


def _side_by_side(
    channels: Mapping[Corner, WheelChannel],
    logs: Mapping[Corner, Array],
    times: Array,
) -> dict[Corner, Array]:
    return {c: np.interp(times, channels[c].times, logs[c], left=np.nan, right=np.nan) for c in channels}


def _louder(motions: Mapping[Corner, Deviations]) -> dict[Corner, float]:
    """The loudest corner, where its deviations are `LOUD` times those of the middle one of its mates and more, and how
    many times. (Only one: it makes its mates loud as well.)"""
    noise = {c: motion.usual_noise for c, motion in motions.items() if np.isfinite(motion.usual_noise)}
    if len(noise) < 3:
        return {}
    mates = {c: max(float(np.median([n for m, n in noise.items() if m is not c])), LEAST_NOISE) for c in noise}
    loudest = max(noise, key=lambda c: noise[c] / mates[c])
    times = noise[loudest] / mates[loudest]
    return {loudest: min(times, LONGEST)} if times > LOUD else {}


def _equalise(table: Mapping[Corner, Array], rate: float, louder: Mapping[Corner, float]) -> _Equalised:
    count = next(iter(table.values())).size
    yaw_size = max(3, round(YAW_SECONDS * rate))
    slow_size = max(5, round(SLOW_SECONDS * rate))
    lefts = [left for left in (Corner.FL, Corner.RL) if left in table and left.mate in table]
    # a loud corner makes bends of its own: the other axle tells them
    lefts = [left for left in lefts if not {left, left.mate} & set(louder)] or lefts
    pairs = [table[left] - table[left.mate] for left in lefts]
    bends = dict.fromkeys(table, np.zeros(count))
    if pairs:
        # axles may differ by a steady amount (one odd tyre): share it out before pooling
        if len(pairs) == 2:
            apart = slow_part(pairs[0] - pairs[1], 5 * slow_size)
            pairs = [pairs[0] - 0.5 * apart, pairs[1] + 0.5 * apart]
        pooled = np.concatenate([to_blocks(p, yaw_size) for p in pairs], axis=1)
        yaw = spread_blocks(median_last_axis(pooled), yaw_size, count)
        bends = {c: rolls_ahead(c, yaw, tuple(table), tuple(lefts)) for c in table}
    level = {c: values - bends[c] for c, values in table.items()}
    common = median_of([values for c, values in level.items() if c not in louder] or list(level.values()))
    slow = {c: slow_part(level[c] - common, round(slow_size * louder.get(c, 1.0))) for c in level}
    return _Equalised(bends, slow, {c: level[c] - slow[c] for c in level})


@dataclass(frozen=True, eq=False)
class _Compared:
    """A corner with the noise that it has by itself, by speed, and what its ways are worked out from: ln of what the
    mates and it read, the ``fast`` rest of it, and how far (``limit``) a reading may lie off their middle."""

    motion: Deviations
    noise: NoiseBySpeed
    vehicle: Array
    mates: list[Array]
    own: Array
    reference: Array
    limit: Array
    slow: Array
    bends: Array

    def rolled(self, motion: Deviations) -> CornerMotion:
        """`motion`, this one or with another noise, with the ways rolled."""
        # the path follows the corner's own turning; mates fill in where it dips
        voices = [*self.mates, self.own]
        everyone = _mean_near(median_of(voices), voices, self.limit)
        own_speed = np.where(np.isnan(everyone), motion.speed, np.exp(everyone + self.slow + self.bends))
        own_speed = np.where(np.isnan(own_speed), self.vehicle, own_speed)
        by_mates = np.where(np.isnan(self.reference), self.vehicle, np.exp(self.reference + self.bends))
        return CornerMotion(
            motion.corner,
            motion.times,
            motion.speed,
            motion.expected,
            motion.deviation,
            motion.noise,
            _rolled(own_speed, motion.times),
            _rolled(by_mates, motion.times),
            self.vehicle,
        )


def _one_corner(channel: WheelChannel, own_log: Array, shared: _Equalised, usable: Usable) -> _Compared:
    corner = channel.corner
    bends, slow = shared.bends[corner], shared.slow[corner]
    mates = [values for c, values in shared.fast.items() if c is not corner]
    own = own_log - slow - bends
    vehicle = usable.vehicle_at(channel.times)
    middle = median_of(mates)
    limit = TOGETHER * noise_by_speed(own - middle, vehicle).at(vehicle)
    reference = _mean_near(middle, mates, limit)
    expected_log = reference + slow + bends
    deviation = own_log - expected_log
    expected = np.where(np.isnan(expected_log), vehicle, np.exp(expected_log))
    noise = noise_by_speed(deviation, expected)
    motion = Deviations(corner, channel.times, channel.speed, expected, deviation, noise.at(expected))
    return _Compared(motion, noise, vehicle, mates, own, reference, limit, slow, bends)


def _mean_near(middle: Array, columns: list[Array], limit: Array) -> Array:
    """Mean of `columns`, none further from their `middle` than `limit`.

    The median alone throws away a third of what three readings say (more where they are rounded). One step from it
    towards the mean, each voice limited, keeps its robustness (Huber, Robust Statistics, 1981; from memory).
    """
    if len(columns) < 3:
        return middle
    low, high = middle - limit, middle + limit
    total = np.zeros(middle.size)
    for values in columns:
        total += np.minimum(np.maximum(values, low), high)
    mean = total / len(columns)
    return np.where(np.isnan(mean), middle, mean)


def _rolled(speed: Array, times: Array) -> Array:
    """Metres since the first sample. A hole is bridged here; later steps cut there."""
    steps = 0.5 * (speed[1:] + speed[:-1]) * np.diff(times)
    return np.concatenate([[0.0], np.cumsum(steps)])


def median_of(columns: list[Array]) -> Array:
    """Median across up to four equally long arrays, NaN left out, without sorting rows."""
    if len(columns) == 1:
        return columns[0]
    if len(columns) == 3:
        a, b, c = columns
        middle: Array = np.maximum(np.minimum(a, b), np.minimum(np.maximum(a, b), c))
    elif len(columns) == 4:
        a, b, c, d = columns
        low, high = np.minimum(a, b), np.maximum(a, b)
        low2, high2 = np.minimum(c, d), np.maximum(c, d)
        middle = 0.5 * (np.maximum(low, low2) + np.minimum(high, high2))
    else:
        return median_last_axis(np.column_stack(columns))
    # minimum and maximum hand a NaN on, so only such rows need the careful way
    odd = np.flatnonzero(np.isnan(middle))
    if odd.size:
        middle[odd] = median_last_axis(np.column_stack([x[odd] for x in columns]))
    return middle


def _with_usual_noise(
    found: Mapping[Corner, _Compared], channels: Mapping[Corner, WheelChannel]
) -> dict[Corner, Deviations]:
    """Each corner with a noise that is no more than `SHARED` times its mates' and no less than its rounding.

    A corner full of dips looks noisy; its mates tell how noisy a sound one is at that speed, speed by speed, since a
    weak arc and a wide gap dip while slow only. Values of whole km/h deviate by nothing most of the time and by a whole
    step the rest: no quiet log.
    """
    usual = None
    if len(found) >= 3:
        speeds = np.unique(np.concatenate([seen.noise.speed for seen in found.values()]))
        usual = NoiseBySpeed(
            speeds, median_last_axis(np.column_stack([seen.noise.at(speeds) for seen in found.values()]))
        )
    out = {}
    for corner, seen in found.items():
        noise, expected, quantum = seen.motion.noise, seen.motion.expected, channels[corner].quantum
        if usual is not None:
            noise = np.minimum(noise, SHARED * usual.at(expected))
        if quantum > 0.0:
            noise = np.maximum(noise, ROUNDING_SHARE * quantum / np.maximum(expected, SLOWEST))
        out[corner] = replace(seen.motion, noise=noise)
    return out
