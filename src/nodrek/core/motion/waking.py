"""From which speed on a corner reads, and below which it falls silent.

A gap that is too large, or a coil sensor that is weak, lets a corner wake up later than its
mates on every pull-away and fall asleep earlier on every stop. Each change between silence
and reading says at which speed it happened, by what the mates read just then; a gap gives
always the same speed, a broken wire any.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner, WheelChannel
from nodrek.core.motion.reference import median_of
from nodrek.core.motion.usable import Usable

SILENT_SHARE = 0.03
"""Part of the mates' speed under which a corner is silent."""
LEAST_SPEED = 0.25
"""m/s: slower, nobody can tell standing from moving."""
CHATTER_S = 0.6
"""Changes closer together than this are one: a signal flickers where it just wakes."""
WHOLE_SHARE = 0.6
"""Part of the mates' speed from which a corner reads nearly all its teeth."""
HALF_AWAKE_S = 1.2
"""Longest time between first teeth and all of them that is one waking: teeth differ by a few per cent."""
NEAR = 0.25
"""Relative distance from the wake-up speed within which silence is still explained by it."""
FASTEST_WAKE = 25.0
"""m/s: what is silent above has no gap but no signal."""


@dataclass(frozen=True, eq=False)
class Waking:
    """One corner's silences.

    ``rises``, ``falls``: mates' speed (m/s) at each change to reading and to silence;
    ``silent_above``, ``awake_below``: seconds that no single wake-up speed explains;
    ``silent_below``: seconds of silence that it does explain, at speeds where the mates read.
    """

    rises: Array
    falls: Array
    silent_below: float
    silent_above: float
    awake_below: float

    @property
    def wake(self) -> float:
        """Median speed of waking, m/s; of falling asleep where no pull-away was logged; NaN for neither."""
        changes = self.rises if self.rises.size else self.falls
        return float(np.median(changes)) if changes.size else float("nan")

    @property
    def sleep(self) -> float:
        """Median speed of falling asleep, m/s, NaN where no stop was logged."""
        return float(np.median(self.falls)) if self.falls.size else float("nan")

    @property
    def scatter(self) -> float:
        """Robust relative spread of all changes round their middle; 1 for none."""
        changes = np.concatenate([self.rises, self.falls])
        if not changes.size:
            return 1.0
        return float(np.median(np.abs(changes / np.median(changes) - 1.0)))


def find_waking(channels: Mapping[Corner, WheelChannel], usable: Usable) -> dict[Corner, Waking]:
    """Silences of each corner against its mates; corners without any change get empty arrays."""
    return {corner: _one(channel, channels, usable) for corner, channel in channels.items()}


def _one(channel: WheelChannel, channels: Mapping[Corner, WheelChannel], usable: Usable) -> Waking:
    times = channel.times
    mates = _mates_speed(channel, channels)
    known = ~np.isnan(channel.speed)
    own = channel.speed
    if not known.all():
        times, mates, own = times[known], mates[known], own[known]
    if times.size < 3:
        return Waking(np.empty(0), np.empty(0), 0.0, 0.0, 0.0)
    silent = own <= SILENT_SHARE * np.maximum(mates, LEAST_SPEED)
    change = np.flatnonzero(silent[1:] != silent[:-1])
    # flicker is one change: keep the last waking and the first falling asleep of each burst
    hole = np.diff(times)[change] > CHATTER_S
    rising = silent[change]
    change, rising = change[~hole], rising[~hole]
    keep = np.ones(change.size, dtype=bool)
    for k in range(change.size - 1):
        if times[change[k + 1]] - times[change[k]] < CHATTER_S:
            keep[k if rising[k] else k + 1] = False
    change, rising = change[keep], rising[keep]
    # at the middle of the two samples; before the mates wake, the corner's own first reading tells
    at = 0.5 * (mates[change] + mates[change + 1])
    asleep_too = np.minimum(mates[change], mates[change + 1]) < LEAST_SPEED
    after = np.where(rising, own[np.minimum(change + 1, own.size - 1)], own[change])
    at = np.where(asleep_too, np.minimum(after, np.where(at > 0, 2 * at, after)), at)
    at = 0.5 * (at + _whole_from(times, mates, own, change, rising, at))
    usual = at < FASTEST_WAKE
    rises, falls = at[rising & usual], at[~rising & usual]
    step = np.diff(times, append=times[-1])
    step = np.minimum(step, 4.0 * float(np.median(step)))
    both = np.concatenate([rises, falls])
    if not both.size:
        return Waking(rises, falls, 0.0, 0.0, 0.0)
    wake = float(np.median(rises if rises.size else falls))
    moving = mates > LEAST_SPEED
    low, high = wake * (1.0 - NEAR), wake * (1.0 + NEAR)
    return Waking(
        rises,
        falls,
        silent_below=float(step[silent & moving & (mates < high)].sum()),
        silent_above=float(step[silent & (mates >= high)].sum()),
        awake_below=float(step[~silent & moving & (mates < low)].sum()),
    )


def _whole_from(
    times: Array,
    mates: Array,
    own: Array,
    change: npt.NDArray[np.int64],
    rising: npt.NDArray[np.bool_],
    at: Array,
) -> Array:
    """Mates' speed at which all teeth are read, after each waking and before each falling asleep; shape of `at`.

    The strongest teeth wake first: half-way between them and all of them is where the ring wakes.
    """
    whole = own > WHOLE_SHARE * mates
    out = at.copy()
    for k, (i, up) in enumerate(zip(change, rising, strict=True)):
        step, first = (1, i + 1) if up else (-1, i)
        j = first
        while 0 <= j < times.size and abs(times[j] - times[i]) < HALF_AWAKE_S:
            if whole[j] and 0 <= j + step < times.size and whole[j + step]:
                # read at once: the middle of the two samples stays
                out[k] = mates[j] if j != first else at[k]
                break
            j += step
    return out


def _mates_speed(channel: WheelChannel, channels: Mapping[Corner, WheelChannel]) -> Array:
    """Middle speed of the other corners at this corner's times; the highest of two."""
    others = []
    for corner, other in channels.items():
        if corner is channel.corner:
            continue
        speed = other.speed
        if np.isnan(speed).any():
            good = ~np.isnan(speed)
            if good.sum() < 2:
                continue
            others.append(np.interp(channel.times, other.times[good], speed[good]))
        else:
            others.append(speed if other.times is channel.times else np.interp(channel.times, other.times, speed))
    if not others:
        return np.zeros(channel.times.size)
    if len(others) <= 2:
        highest: Array = np.maximum.reduce(others)
        return highest
    return median_of(others)


def silent_mask(channel: WheelChannel, channels: Mapping[Corner, WheelChannel]) -> npt.NDArray[np.bool_]:
    """Samples at which the corner is silent while its mates read."""
    mates = _mates_speed(channel, channels)
    with np.errstate(invalid="ignore"):
        return (channel.speed <= SILENT_SHARE * mates) & (mates > LEAST_SPEED)
