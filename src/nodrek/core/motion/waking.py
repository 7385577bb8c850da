"""From which speed on a corner reads, and below which it falls silent.

A gap that is too large, or a coil sensor that is weak, lets a corner wake up later than its
mates on every pull-away and fall asleep earlier on every stop. Each change between silence
and reading says at which speed it happened, by what the mates read just then; a gap gives
always the same speed, a broken wire any.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner, WheelChannel
from nodrek.core.motion.blocks import quick_median
from nodrek.core.motion.reference import median_of
from nodrek.core.motion.usable import Usable

SILENT_SHARE = 0.03
"""Part of the mates' speed under which a corner is silent."""
LEAST_SPEED = 0.25
"""m/s: slower, nobody can tell standing from moving."""
CHATTER_S = 0.6
"""Changes closer together than this are one: a signal flickers where it just wakes."""
WHOLE_SHARE = 0.6
"""Part of the mates' speed that a corner reads at least once it is awake."""
HALF_AWAKE_S = 1.2
"""Longest time between first teeth and all of them that is one waking: teeth differ by a few per cent."""
FURTHEST_SHARE = 0.3
"""Part of its speed by which the middle of a waking may lie off its first reading."""
NEAR = 0.25
"""Relative distance from the wake-up speed within which silence is still explained by it."""
FROM_SPEED = 1.5
"""m/s: below, the mates wake as well and measure nothing."""
AROUND, BINS, LEAST_SAMPLES = 0.35, 28, 8
"""Part of the wake-up speed to both sides of it whose samples are looked at together, and in how many steps."""
NEARBY, LEAST_DRIVEN = 0.12, 0.6
"""Of the steps so near to the middle, the part that must have been driven."""
MIDDLE_WEIGHT = 2.0 / 3.0
FIRST_TEETH = 1.1
"""Middle over single changes from which these are the first teeth of a ring that wakes bit by bit."""
LOOKS = 5
LEAST_LATE, LATE_SHARE, ALIKE, SILENT_MOST = 2, 0.3, 0.12, 0.35
"""Wakings at one speed, alike to so much of it, that come after others at less than half of it: how many at least,
which share of all, and the share of time below that speed in which the corner is silent."""
SURELY_LATE = 2.0
"""m/s: at less, sound coils wake as they like."""
TIGHTEST = 0.4
"""Relative distance from the middle of its mates that a corner may have in a bend."""
READS_BELOW, READS_BELOW_S = 3.0, 1.0
"""Times its silence, and seconds more, that a corner which sleeps may read below its wake-up speed."""
FASTEST_WAKE = 25.0
"""m/s: what is silent above has no gap but no signal."""


@dataclass(frozen=True, eq=False)
class Waking:
    """One corner's silences.

    ``rises``, ``falls``: mates' speed (m/s) at each change to reading and to silence;
    ``silent_above``, ``awake_below``: seconds that no single wake-up speed explains;
    ``silent_below``: seconds of silence that it does explain, at speeds where the mates read;
    ``middle``: mates' speed at which half is read, over all samples near it (m/s, NaN where too few);
    ``for_good``: where the control unit shows something else first (`_for_good`; m/s, else NaN).
    """

    rises: Array
    falls: Array
    silent_below: float
    silent_above: float
    awake_below: float
    middle: float = float("nan")
    for_good: float = float("nan")

    @property
    def wake(self) -> float:
        """Speed of waking, m/s; NaN where nothing ever changes.

        Single changes tell waking from falling asleep, all samples together are the surer of the two; where
        teeth wake one after another over a wide range of speeds, changes only tell of the first.
        """
        if not np.isnan(self.for_good):
            return self.for_good
        change, middle = self.typical_change, self.middle
        if np.isnan(middle):
            return change
        return middle if middle > FIRST_TEETH * change else (1.0 - MIDDLE_WEIGHT) * change + MIDDLE_WEIGHT * middle

    @property
    def sleeps(self) -> bool:
        """Whether the corner is silent below `wake`; it may read there as well, and only a break was seen."""
        reads_on = self.awake_below > READS_BELOW * self.silent_below + READS_BELOW_S
        return bool(np.isfinite(self.wake)) and not (reads_on and np.isnan(self.for_good))

    @property
    def known_wake(self) -> float:
        """`wake`, m/s; NaN where the corner does not sleep."""
        return self.wake if self.sleeps else float("nan")

    @property
    def typical_change(self) -> float:
        """Median speed of the wakings, m/s; of falling asleep where no pull-away was logged; NaN for neither."""
        return _typical_change(self.rises, self.falls)

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


def wakes_of(waking: Iterable[Waking]) -> list[float]:
    """Wake-up speeds (m/s) of those corners that sleep."""
    return [own.wake for own in waking if own.sleeps]


def _one(channel: WheelChannel, channels: Mapping[Corner, WheelChannel], usable: Usable) -> Waking:
    times = channel.times
    others = _others(channel, channels)
    mates = middle = _middle_of(list(others.values()), channel.times.size)
    known = ~np.isnan(channel.speed)
    own = channel.speed
    if not known.all():
        times, mates, own = times[known], mates[known], own[known]
    if times.size < 3:
        return Waking(np.empty(0), np.empty(0), 0.0, 0.0, 0.0)
    silent = own <= SILENT_SHARE * np.maximum(mates, LEAST_SPEED)
    change = np.flatnonzero(silent[1:] != silent[:-1])
    hole = np.diff(times)[change] > CHATTER_S
    change = change[~hole]
    change = change[_of_bursts(times[change], silent[change])]
    rising = silent[change]
    rises, falls = _speeds(times, mates, own, change, rising)
    if _typical_change(rises, falls) > FROM_SPEED:
        # only now bends are worth the work
        mates = _own_by_mates(channel.corner, others, middle)[known]
        rises, falls = _speeds(times, mates, own, change, rising)
    step = np.diff(times, append=times[-1])
    step = np.minimum(step, 4.0 * quick_median(step))
    both = np.concatenate([rises, falls])
    if not both.size:
        return Waking(rises, falls, 0.0, 0.0, 0.0)
    moving = mates > LEAST_SPEED
    for_good = _for_good(rises, mates[moving], silent[moving])
    wake = _typical_change(rises, falls) if np.isnan(for_good) else for_good
    low, high = wake * (1.0 - NEAR), wake * (1.0 + NEAR)
    return Waking(
        rises,
        falls,
        middle=_settled_half(mates, own, wake) if wake > FROM_SPEED else float("nan"),
        for_good=for_good,
        silent_below=float(step[silent & moving & (mates < high)].sum()),
        silent_above=float(step[silent & (mates >= high)].sum()),
        awake_below=float(step[~silent & moving & (mates < low)].sum()),
    )


def _of_bursts(times: Array, rising: npt.NDArray[np.bool_]) -> npt.NDArray[np.int64]:
    """Which changes (s, to reading or to silence) stand for all those that flicker beside them: of a corner that wakes
    the last one, of one that falls asleep or breaks the first; none of one that is silent before and after."""
    bursts = np.split(np.arange(times.size), np.flatnonzero(np.diff(times) >= CHATTER_S) + 1)
    out = []
    for burst in bursts if times.size else ():
        begins_silent, ends_silent = bool(rising[burst[0]]), not rising[burst[-1]]
        if not (begins_silent and ends_silent):
            out.append(int(burst[-1] if begins_silent else burst[0]))
    return np.array(out, dtype=np.int64)


def _speeds(
    times: Array, mates: Array, own: Array, change: npt.NDArray[np.int64], rising: npt.NDArray[np.bool_]
) -> tuple[Array, Array]:
    """Mates' speeds (m/s) at the changes to reading, and at those to silence."""
    # at the middle of the two samples; before the mates wake, the corner's own first reading tells
    at = 0.5 * (mates[change] + mates[change + 1])
    asleep_too = np.minimum(mates[change], mates[change + 1]) < LEAST_SPEED
    after = np.where(rising, own[np.minimum(change + 1, own.size - 1)], own[change])
    first_reading = np.minimum(after, np.where(at > 0, 2 * at, after))
    at = np.where(asleep_too, first_reading, _middle_of_waking(times, mates, own, change, at))
    usual = at < FASTEST_WAKE
    return at[rising & usual], at[~rising & usual]


def _for_good(rises: Array, mates: Array, silent: npt.NDArray[np.bool_]) -> float:
    """Mates' speed (m/s) of the later of two wakings on each pull-away; NaN where there are no two.

    A unit that does not believe a silent corner shows the others' speed in its place for a while, gives up, and shows
    the corner's own once it reads. `mates`, `silent`: of all samples in which the vehicle moves. Breaks at two like
    speeds are no waking: below it most of the time would be read.
    """
    if rises.size < 2 * LEAST_LATE:
        return float("nan")
    highest = float(rises.max())
    late = rises > (1.0 - ALIKE) * highest
    below = mates < (1.0 - ALIKE) * highest
    others = rises[~late]
    count = int(np.count_nonzero(late))
    if highest < SURELY_LATE or count < max(LEAST_LATE, LATE_SHARE * rises.size):
        return float("nan")
    if not others.size or float(others.max()) > 0.5 * highest:
        return float("nan")
    sleeps = int(np.count_nonzero(silent & below)) > SILENT_MOST * int(np.count_nonzero(below))
    return float(np.median(rises[late])) if sleeps else float("nan")


def _typical_change(rises: Array, falls: Array) -> float:
    changes = rises if rises.size else falls
    return quick_median(changes) if changes.size else float("nan")


def _middle(speed: Array, share: Array) -> float:
    """Middle of a rise of `share` from none to all along `speed`, whatever its shape: ``low + ∫ (1 − share) dv``."""
    return float(speed[0] + np.sum((1.0 - 0.5 * (share[1:] + share[:-1])) * np.diff(speed)))


def _middle_of_waking(times: Array, mates: Array, own: Array, change: npt.NDArray[np.int64], at: Array) -> Array:
    """Mates' speed at which half of the teeth are read, at each change between silence and reading; shape of `at`.

    Teeth differ, and the strongest of a ring wake first: the share of the mates' speed that is read goes from
    none to all over some tenths of the speed. Where a change stands too near to the next, `at` stays.
    """
    out = at.copy()
    for k, i in enumerate(change):
        # half-way to the changes beside it, and no longer than a waking takes
        first = np.searchsorted(times, times[i] - HALF_AWAKE_S)
        last = np.searchsorted(times, times[i + 1] + HALF_AWAKE_S, side="right")
        if k:
            first = max(first, (change[k - 1] + i) // 2 + 1)
        if k + 1 < change.size:
            last = min(last, (i + change[k + 1]) // 2 + 1)
        speed, share = mates[first:last], own[first:last] / np.maximum(mates[first:last], LEAST_SPEED)
        if speed.size < 4 or speed.min() < LEAST_SPEED:
            continue
        if own[i] > own[i + 1]:
            speed, share = speed[::-1], share[::-1]
        # in a bend no corner reads what the middle of its mates does
        awake = float(np.median(share[-max(1, share.size // 4) :]))
        if awake < WHOLE_SHARE:
            continue
        middle = _middle(speed, np.minimum(share / awake, 1.0))
        if abs(middle - at[k]) < FURTHEST_SHARE * at[k]:
            out[k] = middle
    return out


def _settled_half(mates: Array, own: Array, wake: float) -> float:
    """`_half_read` about its own answer, from where the corner is awake at all; NaN where it does not settle."""
    for _ in range(LOOKS):
        if _awake_share(mates, own, wake) >= WHOLE_SHARE:
            break
        wake *= 1.0 + 0.5 * AROUND
    for _ in range(LOOKS):
        middle = _half_read(mates, own, wake)
        if np.isnan(middle) or abs(middle - wake) < 0.02 * wake:
            return middle
        wake = middle
    return float("nan")


def _awake_share(mates: Array, own: Array, wake: float) -> float:
    """What is read of the mates' speed well above `wake`; 1 where nobody drove there."""
    above = (mates > wake * (1.0 + 0.5 * AROUND)) & (mates < wake * (1.0 + AROUND))
    return float(np.median(own[above] / mates[above])) if above.sum() > 3 else 1.0


def _half_read(mates: Array, own: Array, wake: float) -> float:
    """Mates' speed at which half of the teeth are read, from all samples near `wake`; NaN where too few.

    Wakings and fallings asleep together, so that what a filter delays comes out about even; and flicker,
    where a vehicle stays near that speed, counts by its share.
    """
    low, high = (1.0 - AROUND) * wake, (1.0 + AROUND) * wake
    near = (mates > low) & (mates < high)
    speed = mates[near]
    if speed.size < LEAST_SAMPLES:
        return float("nan")
    share = np.minimum(own[near] / speed / max(WHOLE_SHARE, _awake_share(mates, own, wake)), 1.0)
    edges = np.linspace(low, high, BINS + 1)
    place = np.clip(np.searchsorted(edges, speed, side="right") - 1, 0, BINS - 1)
    count = np.bincount(place, minlength=BINS)
    total = np.bincount(place, weights=share, minlength=BINS)
    filled = count > 0
    middles = 0.5 * (edges[1:] + edges[:-1])
    middle = _middle(np.array([low, *middles[filled], high]), np.array([0.0, *(total[filled] / count[filled]), 1.0]))
    # where hardly anything was driven at the very speeds that matter, the line between is a guess
    driven = filled[np.abs(middles - middle) < NEARBY * middle]
    return middle if driven.size and driven.mean() >= LEAST_DRIVEN else float("nan")


def _own_by_mates(corner: Corner, others: Mapping[Corner, Array], middle: Array) -> Array:
    """What this corner turns at (m/s) by what the others read, bends included; of the shape of `middle`, theirs.

    Vehicles pull away into bends, and there the middle of three mates is far from the fourth: the wheel on the other
    side of its axle times what the other axle says of the two sides (exact for a rear one, 2 % low for a front one in
    8 m). Where a mate does not read its part, the middle of them.
    """
    beside, ahead = corner.mate, [c for c in others if c.is_front is not corner.is_front]
    if beside not in others or len(ahead) < 2:
        return middle
    near, far = sorted(ahead, key=lambda c: c.is_left is not corner.is_left)
    reads = np.minimum(np.minimum(others[beside], others[near]), others[far]) > np.maximum(0.5 * middle, LEAST_SPEED)
    own = np.where(reads, others[beside] * others[near] / np.where(reads, others[far], 1.0), middle)
    return np.where(np.abs(own - middle) < TIGHTEST * middle, own, middle)


def _mates_speed(channel: WheelChannel, channels: Mapping[Corner, WheelChannel]) -> Array:
    """Middle speed of the other corners at this corner's times; the highest of two."""
    return _middle_of(list(_others(channel, channels).values()), channel.times.size)


def _others(channel: WheelChannel, channels: Mapping[Corner, WheelChannel]) -> dict[Corner, Array]:
    """Speed of each other corner that reads anything, at this corner's times."""
    others = {}
    for corner, other in channels.items():
        if corner is channel.corner:
            continue
        speed = other.speed
        if np.isnan(speed).any():
            good = ~np.isnan(speed)
            if good.sum() < 2:
                continue
            others[corner] = np.interp(channel.times, other.times[good], speed[good])
        else:
            others[corner] = speed if other.times is channel.times else np.interp(channel.times, other.times, speed)
    return others


def _middle_of(others: list[Array], size: int) -> Array:
    if not others:
        return np.zeros(size)
    if len(others) <= 2:
        highest: Array = np.maximum.reduce(others)
        return highest
    return median_of(others)


def silent_mask(channel: WheelChannel, channels: Mapping[Corner, WheelChannel]) -> npt.NDArray[np.bool_]:
    """Samples at which the corner is silent while its mates read."""
    mates = _mates_speed(channel, channels)
    with np.errstate(invalid="ignore"):
        return (channel.speed <= SILENT_SHARE * mates) & (mates > LEAST_SPEED)
