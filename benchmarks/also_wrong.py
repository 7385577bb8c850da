"""What else may be wrong with the same vehicle: a second fault, put into a log that is already there.

The worlds draw one fault a drive, and their dead or standing corners are so from one moment to the end or all the time.
Workshops meet more: a lead that parts on the way, a corner that comes alive late, an odd tyre beside a bad ring, a log
that ends early for one corner. Such things change what is *shown*, whatever vehicle, road and control unit made it, so
they can be put into any log without its physics.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from benchmarks import smallest
from nodrek.core.model import Array, Corner, Fault, RawChannel, RawLog

LEAST_DRIVING_S = 12.0
"""Seconds above walking pace that a corner must be dead or stand still for, and read beside them."""
WALKING_KMH, LEAST_CHANGE_KMH = 10.0, 11.1
"""And by how much the vehicle's speed changes while a value stands still."""
KMH_PER = {"km/h": 1.0, "mph": 1.609344, "m/s": 3.6}
FINEST_ROUNDED = 0.12
"""Steps (in the log's unit) up to which a scaled value is rounded again; coarser ones come from counted edges, which a
rounding would not let differ."""
NO_VALUE_KMH = (655.35, 409.5, 255.0)


class Also(NamedTuple):
    """``log`` with more in it; ``fault`` at ``corners``, ``None`` where only readings are missing."""

    log: RawLog
    fault: Fault | None
    corners: tuple[Corner, ...]


def add(log: RawLog, corners: tuple[Corner, ...], kind: str, at: Corner, rng: np.random.Generator) -> Also | None:
    """Put a fault of one of `KINDS` to the corner `at` of a log whose channels are those of `corners` in this order.

    ``None`` where the log has no room for it.
    """
    place = corners.index(at)
    if kind == "odd tyre":
        return Also(_scaled(log, (place,), _odd_ratio(rng)), Fault.TYRE_SIZE, (at,))
    if kind == "odd axle":
        both = tuple(k for k, corner in enumerate(corners) if corner.is_front is at.is_front)
        return Also(_scaled(log, both, _odd_ratio(rng)), Fault.TYRE_SIZE, tuple(corners[k] for k in both))
    if kind == "not there":
        left = tuple(c for k, c in enumerate(log.channels) if k != place)
        return Also(replace(log, channels=left), None, ()) if len(left) > 1 else None
    changed = SPELLS[kind](log.channels[place], _vehicle_kmh(log, place), rng)
    if changed is None:
        return None
    channels = (*log.channels[:place], changed, *log.channels[place + 1 :])
    fault = FAULTS[kind]
    return Also(replace(log, channels=channels), fault, (at,) if fault else ())


def _odd_ratio(rng: np.random.Generator) -> float:
    return float(np.exp(rng.choice((-1.0, 1.0)) * rng.uniform(smallest.RATIO, 8.0 * smallest.RATIO)))


def _scaled(log: RawLog, places: tuple[int, ...], factor: float) -> RawLog:
    channels = list(log.channels)
    for k in places:
        values = channels[k].values * factor
        step = float(np.diff(np.unique(channels[k].values)).min(initial=np.inf))
        if step <= FINEST_ROUNDED:
            values = np.round(values / step) * step
        channels[k] = replace(channels[k], values=np.round(values, 5))
    return replace(log, channels=tuple(channels))


def _vehicle_kmh(log: RawLog, but: int) -> Array:
    """The middle of the other corners, at the times of channel `but`."""
    here = log.channels[but].times_s
    others = [np.interp(here, c.times_s, c.values) for k, c in enumerate(log.channels) if k != but]
    return np.asarray(np.median(others, axis=0) * KMH_PER.get(log.channels[but].unit or "km/h", 1.0))


def _driving(times: Array, vehicle: Array) -> Array:
    """Seconds above walking pace up to each sample."""
    seconds = np.clip(np.diff(times, prepend=times[0]), 0.0, 1.0)
    return np.asarray(np.cumsum(seconds * (vehicle > WALKING_KMH)))


def _moment(channel: RawChannel, vehicle: Array, rng: np.random.Generator) -> int | None:
    """A sample with enough driving before it and after it."""
    driven = _driving(channel.times_s, vehicle)
    if driven[-1] < 3.0 * LEAST_DRIVING_S:
        return None
    return int(np.searchsorted(driven, rng.uniform(LEAST_DRIVING_S, driven[-1] - LEAST_DRIVING_S)))


def _dead(channel: RawChannel, vehicle: Array, rng: np.random.Generator) -> RawChannel:
    return replace(channel, values=np.zeros(channel.values.size))


def _goes_dead(channel: RawChannel, vehicle: Array, rng: np.random.Generator) -> RawChannel | None:
    return _from(channel, _moment(channel, vehicle, rng), 0.0)


def _comes_alive(channel: RawChannel, vehicle: Array, rng: np.random.Generator) -> RawChannel | None:
    at = _moment(channel, vehicle, rng)
    return None if at is None else replace(channel, values=np.where(np.arange(vehicle.size) < at, 0.0, channel.values))


def _stands(channel: RawChannel, vehicle: Array, rng: np.random.Generator) -> RawChannel | None:
    at = _moment(channel, vehicle, rng)
    if at is None or channel.values[at] <= 0.0 or float(np.ptp(vehicle[at:])) < LEAST_CHANGE_KMH:
        return None
    return _from(channel, at, float(channel.values[at]))


def _from(channel: RawChannel, at: int | None, told: float) -> RawChannel | None:
    """The channel with one value from sample `at` on."""
    return (
        None
        if at is None
        else replace(channel, values=np.where(np.arange(channel.values.size) < at, channel.values, told))
    )


def _stands_at_times(channel: RawChannel, vehicle: Array, rng: np.random.Generator) -> RawChannel | None:
    driven = _driving(channel.times_s, vehicle)
    if driven[-1] < 4.0 * LEAST_DRIVING_S:
        return None
    values, stood = channel.values.copy(), False
    for start in rng.uniform(0.0, 0.8, int(rng.integers(1, 4))) * driven[-1]:
        at = int(np.searchsorted(driven, start))
        stop = int(np.searchsorted(driven, start + rng.uniform(LEAST_DRIVING_S, 3.0 * LEAST_DRIVING_S)))
        if at < stop and values[at] > 0.0 and float(np.ptp(vehicle[at:stop])) >= LEAST_CHANGE_KMH:
            values[at:stop], stood = values[at], True
    return replace(channel, values=values) if stood else None


def _no_value(channel: RawChannel, vehicle: Array, rng: np.random.Generator) -> RawChannel | None:
    at = _moment(channel, vehicle, rng)
    return _from(channel, at, float(rng.choice(NO_VALUE_KMH)) / KMH_PER.get(channel.unit or "km/h", 1.0))


def _not_sampled(channel: RawChannel, vehicle: Array, rng: np.random.Generator) -> RawChannel | None:
    at = _moment(channel, vehicle, rng)
    return None if at is None else replace(channel, times_s=channel.times_s[:at], values=channel.values[:at])


def _breaks(channel: RawChannel, vehicle: Array, rng: np.random.Generator) -> RawChannel | None:
    may = np.flatnonzero(vehicle > WALKING_KMH)
    if may.size < 50:
        return None
    values, times = channel.values.copy(), channel.times_s
    many = max(3, rng.poisson(rng.uniform(2.0, 8.0) * (times[-1] - times[0]) / 60.0))
    for start in times[rng.choice(may, many)]:
        values[(times >= start) & (times < start + 0.1 + rng.exponential(0.25))] = 0.0
    return replace(channel, values=values)


SPELLS: dict[str, Callable[[RawChannel, Array, np.random.Generator], RawChannel | None]] = {
    "dead": _dead, "goes dead": _goes_dead, "comes alive": _comes_alive, "stands": _stands,
    "stands at times": _stands_at_times, "no value": _no_value,
    "not sampled": _not_sampled, "breaks": _breaks,
}  # fmt: skip
FAULTS: dict[str, Fault | None] = {
    "dead": Fault.NO_SIGNAL, "goes dead": Fault.NO_SIGNAL, "comes alive": Fault.NO_SIGNAL, "stands": Fault.FROZEN,
    "stands at times": Fault.FROZEN, "no value": Fault.FROZEN, "breaks": Fault.INTERMITTENT,
    "odd tyre": Fault.TYRE_SIZE, "odd axle": Fault.TYRE_SIZE, "not sampled": None, "not there": None,
}  # fmt: skip
KINDS = tuple(FAULTS)
HIDES = ("dead", "comes alive", "goes dead", "stands", "no value", "not there", "not sampled")
"""Kinds that leave so few readings of their corner that nothing else may be told there."""
