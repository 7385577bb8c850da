"""Which samples of a corner can be compared at all: dead, frozen and invalid stretches.

This comes first, because a corner that reads zero or a constant must not take part in
saying what the others should read.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner, WheelChannel

GRID_STEP = 0.2
"""Seconds between the points on which corners are laid side by side for this first look."""
MOVING = 8.0 / 3.6
"""Below 8 km/h coil sensors are silent (common practice, no published source)."""
LEAST_MOVING_S = 3.0
"""Seconds of that without which a log is no drive, unless all corners read at a walk."""
ONLY_DRIVEN = 14.0
"""m/s: no hand, and no engine at idle, turns a wheel faster on stands."""
WALK, WALK_S, WALK_SHARE = 1.2, 15.0, 0.9
"""m/s and seconds of a walk, and the share of it for which each corner reads: then none of them sleeps."""
FROZEN_AT_LEAST = 4.0
"""Seconds of one unchanged value before "frozen" is considered."""
FROZEN_WHILE = 3.0
"""m/s by which the vehicle's speed must change meanwhile."""
STANDS, LEAST_MATES = 0.3, 2
"""m/s up to which a wheel stands, and how many others must to say that the vehicle does."""
STUCK_AT_LEAST, STUCK_WHILE, STUCK_STEPS = 12.0, 0.8, 4.0
"""Seconds from which smaller changes do: m/s and steps of the value by which two other corners must change."""
LASTING = (0.95, 0.05)
"""Quantiles of what they read meanwhile between which they must change so."""
BULK = (0.2, 0.8)
"""The same of the only other corner that there is."""
STILL_AT_LEAST, STILL_CHANGES = 20.0, 12
"""Seconds of one value, and changes of each other corner between below and above it, that no sound corner sits out."""
STILL_VISITS = 4
"""How often each of them must go to either side: where a cruise lies between two coarse steps, three corners flicker to
the upper one while a quiet one does not, and all pass the lower one as the cruise ends."""
STILL_ALONE = 0.5
"""Times as long as that it keeps to another value from which it is the corner's habit: a quiet one keeps to the middle
of a coarse step."""
WANDERS_CHANGES, WANDERS_STEPS = 50, 6.0
"""The same of the only other corner that there is, and steps of its values that the middle half of them spans."""
SAME_STEPS, SAME_SHARE = 2.5, 0.04
"""Steps of the value, or part of it, by which two corners that keep to one speed may differ."""
END_S, DRIVES = 5.0, 3.0
"""Seconds at the begin or the end of a log in which a corner that reads nothing is not there yet, or no more, and the
speed (m/s) of the vehicle from which it would read (common practice, no published source): that a break is just there
is far rarer."""
DEAD_AT_LEAST = 8.0
"""Seconds of zero at speed before a corner counts as dead rather than interrupted."""
READS_FROM, WIDEST_GAP = 0.1, 8.5
"""Share of its readings below whose speed a corner may be asleep, since falling silent takes its time; m/s above which
no gap is (common practice, no published source: the widest that still wake do so below 30 km/h)."""
LEAST_READING_S, LEAST_GONE_S = 2.0, 4.0
STANDS_IN_S = 1.0
"""Seconds for which a unit may show the others in place of a corner that is silent (common practice)."""


@dataclass(frozen=True, eq=False)
class Usable:
    """Per corner: samples fit for comparison, and the stretches that are not.

    ``vehicle`` is the vehicle's speed (m/s) on ``grid`` (s). ``dead`` and ``frozen``:
    seconds of driving (above `MOVING`, or at a `WALK` where there is no more) spent that way, by corner; ``moving``
    seconds of driving at all; ``stuck_at`` the constant value, m/s, NaN for "no valid value". ``dead_awake``: seconds
    of ``dead`` at speeds at which the corner reads otherwise; all of them where it never reads. ``gone``: start and
    end (s) of each stretch of ``dead`` at such speeds before and after which it reads, shape (stretches, 2).
    ``stuck_standing``: seconds in which it keeps to a value of `FROZEN_WHILE` and more while all others read nothing,
    by corner.
    """

    grid: Array
    vehicle: Array
    masks: Mapping[Corner, npt.NDArray[np.bool_]]
    dead: Mapping[Corner, float]
    dead_since: Mapping[Corner, float]
    dead_awake: Mapping[Corner, float]
    gone: Mapping[Corner, Array]
    frozen: Mapping[Corner, float]
    stuck_at: Mapping[Corner, float]
    stuck_standing: Mapping[Corner, float]
    moving: float
    _seen: dict[int, tuple[Array, Array]] = field(default_factory=dict, repr=False)

    def vehicle_at(self, times: Array) -> Array:
        """The vehicle's speed (m/s) at any times (s); remembered for arrays asked for before."""
        known = self._seen.get(id(times))
        if known is None or known[0] is not times:
            known = (times, np.interp(times, self.grid, self.vehicle))
            self._seen[id(times)] = known
        return known[1]


def find_usable(channels: Mapping[Corner, WheelChannel], duration: float) -> Usable:
    """First look over all corners; see `Usable`."""
    grid = np.arange(0.0, duration + GRID_STEP, GRID_STEP)
    held = {c: _hold(ch, grid) for c, ch in channels.items()}
    runs = {c: _constant_runs(ch) for c, ch in channels.items()}
    frozen_grid = {}
    for corner in channels:
        others = [held[c] for c in channels if c is not corner]
        steps = [ch.quantum for c, ch in channels.items() if c is not corner]
        frozen_grid[corner] = _frozen_mask(runs[corner], grid, held[corner], others, channels[corner].quantum, steps)
    speeds = np.vstack([np.where(frozen_grid[c], np.nan, held[c]) for c in channels])
    vehicle = _vehicle_speed(speeds)
    moving = vehicle > _moving_from(list(held.values()), vehicle)
    # all but one: for a corner that reads something these are the others
    others_stand = np.sum([h <= STANDS for h in held.values()], axis=0) == max(len(held) - 1, LEAST_MATES)
    masks, dead, since, awake, gone, frozen, stuck, stuck_standing = {}, {}, {}, {}, {}, {}, {}, {}
    for corner, channel in channels.items():
        zero = (held[corner] <= 0.02 * vehicle) & moving
        long_dead = _long_stretches(zero, moving, DEAD_AT_LEAST)
        # a stop in between is no driving
        dead[corner] = float((long_dead & moving).sum() * GRID_STEP)
        since[corner] = float(grid[np.argmax(long_dead)]) if long_dead.any() else np.nan
        reads = _for_a_while(moving & ~zero & ~frozen_grid[corner] & ~np.isnan(held[corner]))
        silent, from_speed = long_dead & moving, _awake_from(reads, vehicle)
        awake[corner] = float(np.count_nonzero(silent & (vehicle > min(from_speed, WIDEST_GAP))) * GRID_STEP)
        gone[corner] = _in_between(long_dead, silent & (vehicle > from_speed), reads, grid)
        stuck_here = frozen_grid[corner]
        frozen[corner] = float((stuck_here & moving).sum() * GRID_STEP)
        alone = stuck_here & others_stand & (held[corner] > FROZEN_WHILE)
        stuck_standing[corner] = float(alone.sum() * GRID_STEP)
        values = held[corner][stuck_here]
        stuck[corner] = float(np.median(values)) if values.size else np.nan
        bad = long_dead | stuck_here
        at = np.clip((channel.times / GRID_STEP).astype(np.int64), 0, grid.size - 1)
        near = bad[at] | bad[np.minimum(at + 1, grid.size - 1)]
        masks[corner] = ~near & ~channel.invalid & ~_silent_at_an_end(channel, grid, vehicle)
    moved_s = float(moving.sum() * GRID_STEP)
    return Usable(grid, vehicle, masks, dead, since, awake, gone, frozen, stuck, stuck_standing, moved_s)


def _silent_at_an_end(channel: WheelChannel, grid: Array, vehicle: Array) -> npt.NDArray[np.bool_]:
    """Samples before the first reading of a log that begins while the vehicle drives, and after the last one of a log
    that ends so: loggers write rows before the first message of each corner is there, and after the last."""
    out = np.zeros(channel.times.size, dtype=bool)
    reads = np.flatnonzero(channel.speed > 0.0)
    if not reads.size:
        return out
    first, last = int(reads[0]), int(reads[-1])
    for silent, at, inwards in ((slice(0, first), 0, 2.0), (slice(last + 1, None), -1, -2.0)):
        times = channel.times[silent]
        if not times.size or times[-1] - times[0] >= END_S:
            continue
        # at the very end not all corners are there, and who pulls away is slow for longer
        out[silent] = np.interp(times[at] + inwards * GRID_STEP, grid, vehicle) > DRIVES
    return out


def _moving_from(held: list[Array], vehicle: Array) -> float:
    """m/s from which this is driving: a walk, where there is hardly any more and all corners read at it."""
    walked = vehicle > WALK
    if np.count_nonzero(vehicle > MOVING) * GRID_STEP >= LEAST_MOVING_S or walked.sum() * GRID_STEP < WALK_S:
        return MOVING
    least = min(float(np.mean(values[walked] > 0.5 * vehicle[walked])) for values in held)
    return WALK if least > WALK_SHARE else MOVING


def _for_a_while(reads: npt.NDArray[np.bool_]) -> npt.NDArray[np.bool_]:
    """Where a corner `reads`, and goes on to for longer than a control unit shows something in place of its silence."""
    before = np.concatenate([[0], np.cumsum(reads)])
    on = 1 + round(STANDS_IN_S / GRID_STEP)
    after = before[np.minimum(np.arange(reads.size) + on, reads.size)]
    return np.asarray(after - before[:-1] == on)


def _awake_from(reads: npt.NDArray[np.bool_], vehicle: Array) -> float:
    """m/s from which on the corner `reads`; a gap too wide is silent below. 0 where it hardly ever does."""
    known = vehicle[reads]
    return float(np.quantile(known, READS_FROM)) if known.size * GRID_STEP >= LEAST_READING_S else 0.0


def _in_between(
    dead: npt.NDArray[np.bool_], awake: npt.NDArray[np.bool_], reads: npt.NDArray[np.bool_], grid: Array
) -> Array:
    """Start and end (s) of the stretches of `dead` with `LEAST_GONE_S` at speeds at which the corner is `awake`, that
    it `reads` before and after; shape (stretches, 2)."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], dead, [False]]).astype(np.int8)))
    out = [
        (float(grid[lo]), float(grid[hi - 1]) + GRID_STEP)
        for lo, hi in zip(edges[::2], edges[1::2], strict=True)
        if np.count_nonzero(awake[lo:hi]) * GRID_STEP >= LEAST_GONE_S and reads[:lo].any() and reads[hi:].any()
    ]
    return np.array(out).reshape(-1, 2)


def _hold(channel: WheelChannel, grid: Array) -> Array:
    """The last value before each grid point; NaN where it is invalid or over 2 s old."""
    index = np.searchsorted(channel.times, grid, side="right") - 1
    safe = np.clip(index, 0, None)
    out = channel.speed[safe].copy()
    stale = (index < 0) | (grid - channel.times[safe] > 2.0)
    out[stale] = np.nan
    return np.asarray(out)


def _vehicle_speed(speeds: Array) -> Array:
    """Second highest of the corners: one that races away or reads nothing changes nothing.

    With two corners left the higher one counts, as the usual way to fail is downwards; so it does where the others
    never move while one is faster than any wheel is turned on stands.
    """
    ordered = np.sort(np.where(np.isnan(speeds), -1.0, speeds), axis=0)[::-1]
    present = np.sum(ordered >= 0, axis=0)
    second = ordered[min(1, ordered.shape[0] - 1)]
    if not np.any(second > MOVING) and np.count_nonzero(ordered[0] > ONLY_DRIVEN) * GRID_STEP >= LEAST_MOVING_S:
        second = ordered[0]
    vehicle: Array = np.maximum(np.where(present >= 3, second, ordered[0]), 0.0)
    return vehicle


def _constant_runs(channel: WheelChannel) -> tuple[Array, Array]:
    """Starts and ends (s) of stretches of one unchanged non-zero or invalid value."""
    speed = np.where(channel.invalid, -1.0, channel.speed)
    change = np.flatnonzero(np.diff(speed) != 0) + 1
    first = np.concatenate([[0], change])
    last = np.concatenate([change, [speed.size]]) - 1
    start, end = channel.times[first], channel.times[last]
    enough = np.where(speed[first] < 0, 0.5, FROZEN_AT_LEAST)
    keep = (speed[first] != 0) & (end - start >= enough)
    return start[keep], end[keep]


def _frozen_mask(
    runs: tuple[Array, Array], grid: Array, own: Array, others: list[Array], quantum: float, steps: list[float]
) -> npt.NDArray[np.bool_]:
    """Grid points inside a constant stretch during which some other corner's speed changed, or, where that lasts, two
    others' by several steps of the value, or all others' to both sides of it again and again, or the only other one's
    all the time and by many of its `steps` (m/s, one of each of the `others`).

    Not where another corner keeps to the same value all the time, unless two others do not: in steady driving whole
    kilometres per hour stand for long, and what changes meanwhile is a corner that loses edges. Nor where all others
    keep to it for most of so short a time: a count of edges at a walk does, whatever digits it is written in.
    """
    mask = np.zeros(grid.size, dtype=bool)
    for start, end in zip(*runs, strict=True):
        lo, hi = np.searchsorted(grid, (start, end))
        if hi - lo < 2:
            continue
        known = [other[lo:hi][~np.isnan(other[lo:hi])] for other in others]
        if len(known) == 1 and known[0].size:
            # nobody else says whether it is the other one that breaks
            known = [np.clip(known[0], *np.quantile(known[0], BULK))]
        changes = sorted((float(np.ptp(k)) for k in known if k.size), reverse=True)
        few = end - start >= STILL_AT_LEAST and len(known) == 1 and _wanders(known[0], steps[0])
        if end - start >= STUCK_AT_LEAST and len(changes) >= 2:
            # a cruise control keeps its speed for long, and a jolt changes a wheel's for a moment
            lasting = sorted(float(np.subtract(*np.quantile(k, LASTING))) for k in known if k.size)
            few = lasting[-2] > max(STUCK_WHILE, STUCK_STEPS * quantum)
            still = end - start >= STILL_AT_LEAST and all(_passes(k, own[lo]) for k in known)
            few |= still and _longest_elsewhere(runs, grid, own, own[lo]) < STILL_ALONE * (end - start)
        one = bool(changes) and changes[0] > FROZEN_WHILE
        if one and not few:
            apart = [float(np.max(np.abs(k - own[lo]))) for k in known if k.size]
            usual = [float(np.abs(np.median(k) - own[lo])) for k in known if k.size]
            # nothing is near a value that is none
            near = max(SAME_STEPS * quantum, SAME_SHARE * own[lo])
            one = not (min(apart) <= near or (end - start < STUCK_AT_LEAST and max(usual) <= near))
        mask[lo:hi] |= few or one
    return mask


def _longest_elsewhere(runs: tuple[Array, Array], grid: Array, own: Array, value: float) -> float:
    """Seconds of the longest of the `runs` at another value than that."""
    starts, ends = runs
    held = own[np.minimum(np.searchsorted(grid, starts), own.size - 1)]
    return float(np.max((ends - starts)[held != value], initial=0.0))


def _passes(other: Array, value: float) -> bool:
    """Whether another corner changes all the time and reads less than `value` as well as more, more than once: steps
    so coarse that all keep to one of them most of the time still part every corner from it, now and then."""
    changes = np.count_nonzero(np.diff(other))
    visits = min(np.count_nonzero(np.diff(side.astype(np.int8)) > 0) for side in (other < value, other > value))
    return bool(changes >= STILL_CHANGES and visits >= STILL_VISITS)


def _wanders(other: Array, step: float) -> bool:
    """Whether the middle half of what the only other corner reads spans so many steps, and it changes all the time:
    no sound wheel beside it keeps to one value for as long."""
    if np.count_nonzero(np.diff(other)) < WANDERS_CHANGES:
        return False
    return float(np.subtract(*np.quantile(other, (0.75, 0.25)))) > WANDERS_STEPS * step


def _long_stretches(
    zero: npt.NDArray[np.bool_], moving: npt.NDArray[np.bool_], seconds: float
) -> npt.NDArray[np.bool_]:
    """Zeros at speed that add up to `seconds` without one good reading in between."""
    state = np.where(zero, 1, np.where(moving, -1, 0))
    known = np.flatnonzero(state)
    out = np.zeros(zero.size, dtype=bool)
    if not known.size:
        return out
    values = state[known]
    change = np.flatnonzero(np.diff(values)) + 1
    for group in np.split(np.arange(known.size), change):
        if values[group[0]] == 1 and group.size * GRID_STEP >= seconds:
            out[known[group[0]] : known[group[-1]] + 1] = True
    return out
