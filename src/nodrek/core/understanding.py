"""One channel understood: times that rise, values in m/s, values that are no speeds set apart."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from nodrek.core.even_clock import even_clock
from nodrek.core.model import Array, Corner, RawChannel, WheelChannel
from nodrek.core.units import MPH, edge_factor, speed_factor, speed_unit_name, turn_factor
from nodrek.errors import UnreadableFile

FASTEST = 110.0
"""m/s: 400 km/h. What reads more is no speed of a road vehicle."""
NO_VALUE_KMH = (655.35, 655.34, 511.9375, 511.97, 409.5, 327.67, 255.99, 255.0)
"""Values that all-ones raw fields give (common practice: 65535 × 0.01 and the like)."""
APART_KMH = 60.0
"""A value that stands this far above all others, and repeats, is a code and no speed."""
JUMP_S = 6 * 3600.0
"""A step of this many seconds within one log is no pause but a clock that was set, or nonsense."""
HOLE_S = 10.0
SLOWEST_HZ, FASTEST_HZ = 1.0 / 120.0, 20_000.0
STRAY_SHARE = 0.01
NOMINAL_CIRCUMFERENCE = 1.95
NOMINAL_TEETH = 48
"""Taken where turns or edges are logged and neither size nor teeth are known."""
TURNING = "rpm"
_GUESSED = {"km/h": 1 / 3.6, "m/s": 1.0, TURNING: NOMINAL_CIRCUMFERENCE / 60.0}
"""m/s per value of the units that are guessed where none is named."""
FASTEST_MS, BRISK_MS = 45.0, 3.0
"""Of values without a unit: up to which their largest may be m/s, and up to which what they change by in a second.
Drivers brake and pull with 1 to 3 m/s², which is 4 to 11 km/h a second (common practice, no published source)."""
TURNS_LIKELIER = 9e4
"""Fastest value times the square of that change, from which it is likelier turns a minute than km/h: drives are 58 km/h
fast and change by 6 km/h a second, with a spread in ln of 0.6 and 0.4 (368 simulated drives); of eight logs without a
unit one is taken to give turns."""
HARDEST = 10.0
"""m/s in a second, more than any tyre grips: raw counts change by more where they are taken for turns."""
OFTEN, LEAST_SECONDS = 0.95, 4
"""Share of seconds in which a drive changes its speed by no more; seconds that tell."""
MOST_ROWS = 0.6
"""Of the rows of a table, up to which those of one channel may be rows of its own."""
MOST_WILD, LEAST_WILD = 0.1, 4
"""Share of a channel's values that may be wild, and how many different ones at least they are."""
MANY_VALUES = 20
"""Different values, most of them no speeds, from which a channel has another unit, and no code for "no value"."""
_UNIT_IN_NAME = re.compile(
    r"(?<![a-z])(km[/ ]?h|kph|kmph|mph|m[/ ]s|mps|rpm|rad[/ ]s|u/min|1/min|min-1|tr/min|obr/min|ot/min)(?![a-z])"
    r"|(?<![a-z0-9])(?<![0-9] )(k?hz)(?![a-z])"
)


@dataclass(frozen=True)
class Scale:
    """m/s per value, the unit as it is shown, whether it was guessed, and whether only ratios count."""

    factor: float
    unit: str
    guessed: bool = False
    relative: bool = False


def understand(
    corner: Corner, channel: RawChannel, start: float, shared: dict[int, Array]
) -> tuple[WheelChannel, list[str]]:
    """The channel from `start` (s) on, and what a person should know of it.

    `shared` lets channels of one clock keep sharing one array of times.
    """
    notes: list[str] = []
    known = ~np.isnan(channel.values)
    whole = bool(known.all())
    if id(channel.times_s) not in shared:
        shared[id(channel.times_s)] = _evened(channel.times_s - start, notes)
    times = shared[id(channel.times_s)]
    values = channel.values
    if not whole:
        # where most rows hold a value the rest are missing, and the clock is that of all rows
        has_own_rows = np.count_nonzero(known) < MOST_ROWS * known.size
        times, values = _evened(times[known], notes) if has_own_rows else times[known], values[known]
    if (np.diff(times) <= 0).any():
        times, values = _in_order(times, values, notes)
    scale = scale_of(channel, times, values)
    if scale.relative:
        notes.append(
            f"The wheel speeds are given in {scale.unit}; without tyre size and teeth they are worked out with "
            f"{NOMINAL_CIRCUMFERENCE} m a turn, so that ratios are right and speeds only nearly."
        )
    invalid = no_values(values, scale.factor)
    if invalid.any():
        notes.append(f'{corner} holds {int(invalid.sum())} samples that mean "no valid value".')
    speed = np.where(invalid, np.nan, np.minimum(np.abs(values) * scale.factor, FASTEST))
    steps = np.diff(times)
    typical = float(np.median(steps)) if steps.size else 0.0
    rate = 1.0 / typical if typical > 0.0 else 0.0
    return (
        WheelChannel(
            corner, channel.name, scale.unit, scale.guessed, times, speed, invalid,
            _quantum(values[~invalid]) * scale.factor, rate,
        ),
        notes,
    )  # fmt: skip


def refuse_odd_rates(channels: Mapping[Corner, WheelChannel]) -> None:
    """Raises `UnreadableFile` where rows come more seldom or faster than in any log of a drive."""
    for channel in channels.values():
        if not SLOWEST_HZ <= channel.rate <= FASTEST_HZ:
            typical = 1.0 / channel.rate if channel.rate > 0.0 else 0.0
            raise UnreadableFile(
                f'The times of "{channel.name[:40]}" rise by {typical:g} s from row to row, which no log of a drive '
                "has: check the time column and its unit."
            )


def refuse_raw_counts(channels: Mapping[Corner, WheelChannel], given: Mapping[Corner, RawChannel]) -> None:
    """Raises `UnreadableFile` where most readings of every corner would be faster than any road vehicle."""
    if all(_is_in_another_unit(channel, given[corner].values) for corner, channel in channels.items()):
        first, channel = next(iter(channels.items()))
        raise UnreadableFile(
            f'"{channel.name[:40]}" reads up to {np.nanmax(np.abs(given[first].values)):g}, which is no speed in '
            f"{channel.unit}: export the values as speeds, or name their unit in the header."
        )


def _is_in_another_unit(channel: WheelChannel, values: Array) -> bool:
    return bool(2 * np.count_nonzero(channel.invalid) > channel.invalid.size and np.unique(values).size >= MANY_VALUES)


def settle_clock(times: Array) -> tuple[Array, str | None]:
    """Times without senseless jumps, and what was done; NaN where a stamp makes no sense.

    A few stamps far from all others are errors of the logger and are dropped; a clock that
    was set while logging leaves two large groups, and the second follows the first after a
    short hole.
    """
    finite = np.isfinite(times)
    order = np.argsort(np.where(finite, times, np.inf), kind="stable")[: int(finite.sum())]
    if order.size < 2:
        return np.where(finite, times, np.nan), None
    ordered = times[order]
    jumps = np.flatnonzero(np.diff(ordered) > JUMP_S) + 1
    if not jumps.size and finite.all():
        return times, None
    out = np.full(times.size, np.nan)
    least = max(2.0, STRAY_SHARE * times.size)
    end: float | None = None
    closed = strays = 0
    for group in np.split(np.arange(order.size), jumps):
        if group.size < least:
            strays += group.size
            continue
        shift = 0.0 if end is None else end + HOLE_S - ordered[group[0]]
        out[order[group]] = ordered[group] + shift
        closed += end is not None
        end = float(ordered[group[-1]] + shift)
    said = []
    if strays:
        said.append(f"{strays} rows have a time far from all others and were left out.")
    if closed:
        said.append("The clock jumps by hours while logging; what follows was joined on.")
    return out, " ".join(said) or None


def scale_of(channel: RawChannel, times: Array, values: Array) -> Scale:
    """What one of the channel's values is in m/s: by its unit, by its name, by how it moves."""
    in_name = _UNIT_IN_NAME.search(channel.name.lower().replace("_", " "))
    for spelling in (channel.unit, in_name.group(0).replace(" ", "/") if in_name else None):
        speed, turn, edge = speed_factor(spelling), turn_factor(spelling), edge_factor(spelling)
        if spelling is not None and speed is not None:
            return Scale(speed, speed_unit_name(spelling))
        if turn is not None:
            return Scale(turn * NOMINAL_CIRCUMFERENCE, str(spelling).strip("[](){} "), relative=True)
        if edge is not None:
            return Scale(edge * NOMINAL_CIRCUMFERENCE / NOMINAL_TEETH, "Hz", relative=True)
    unit = _guess_unit(times, values)
    return Scale(_GUESSED[unit], unit, guessed=True)


def no_values(values: Array, factor: float) -> npt.NDArray[np.bool_]:
    """Samples that say "no valid value": all ones, error codes, negative sentinels."""
    kmh = values * factor * 3.6
    beyond: npt.NDArray[np.bool_] = np.abs(kmh) > FASTEST * 3.6
    none = ~np.isfinite(kmh)
    out = none if _are_wild(kmh[beyond & ~none], kmh.size) else beyond.copy()
    if kmh.size and float(kmh.max()) > 200.0:
        for sentinel in NO_VALUE_KMH:
            out |= np.abs(kmh - sentinel) < 0.006
    read = kmh[~(out | beyond)]
    if not read.size:
        return out
    top, least = float(read.max()), float(read.min())
    below = read[read < top]
    # one value far above all others, more than once
    if below.size and below.min() < below.max() < top - APART_KMH and read.size - below.size > 1:
        out |= kmh == top
    # reversing is slow and has many values; one and the same negative value is a code
    negative = read[read < 0.0]
    if negative.size and negative.max() == least:
        out |= kmh == least
    elif least < -APART_KMH:
        out |= kmh < -APART_KMH
    return out


def _are_wild(beyond: Array, count: int) -> bool:
    """Whether values beyond any vehicle's speed are what a unit makes of edges that come too early, and no codes: all
    but each of them another one, and not many among `count`."""
    if not 0 < beyond.size < MOST_WILD * count:
        return False
    often = np.unique(beyond, return_counts=True)[1]
    return bool(often.size >= LEAST_WILD and often.max() < 0.5 * beyond.size)


def agree_on_guesses(channels: dict[Corner, WheelChannel], warnings: list[str]) -> None:
    """In place: units guessed for single corners become one, that of the known or of most."""
    guessed = {c: ch for c, ch in channels.items() if ch.unit_guessed}
    if not guessed:
        return
    factors = {**_GUESSED, "mph": MPH}
    # what never moves has no say
    units = [ch.unit for ch in guessed.values() if np.nanmax(ch.speed, initial=0.0) > 0.0] or ["km/h"]
    known = [ch.unit for ch in channels.values() if not ch.unit_guessed and ch.unit in factors]
    unit = known[0] if known else max(sorted(set(units)), key=units.count)
    for corner, channel in guessed.items():
        change = factors[unit] / factors[channel.unit]
        if change != 1.0:
            speed = channel.speed * change
            with np.errstate(invalid="ignore"):
                wild = speed > FASTEST
            channels[corner] = WheelChannel(
                corner, channel.name, unit, True, channel.times, np.where(wild, np.nan, speed),
                channel.invalid | wild, channel.quantum * change, channel.rate, channel.lag, channel.confidence,
            )  # fmt: skip
    nearly = ", so that ratios are right and speeds only nearly" if unit == TURNING else ""
    warnings.append(f"The log names no unit for the wheel speeds; {unit} was taken from how the values move{nearly}.")


def _evened(times: Array, notes: list[str]) -> Array:
    """By the clock behind stamps that are coarser than it."""
    if (np.diff(times) < 0.0).any():
        return times
    even = even_clock(times)
    if even is None:
        return times
    apart = float(np.median(np.diff(even)))
    notes.append(f"The time stamps are coarser than the clock behind them; its rows were counted, {apart:.3g} s apart.")
    return even


def _in_order(times: Array, values: Array, notes: list[str]) -> tuple[Array, Array]:
    back = int((np.diff(times) < 0).sum())
    if back:
        notes.append(f"{back} rows were out of order in time and were sorted.")
    order = np.argsort(times, kind="stable")
    times, values = times[order], values[order]
    first = np.concatenate([[True], np.diff(times) > 0])
    repeated = int((~first).sum())
    others = int(np.count_nonzero(values[1:][~first[1:]] != values[:-1][~first[1:]]))
    if repeated > 0.3 * times.size or (repeated > 0.05 * times.size and 2 * others > repeated):
        # a clock coarser than the rows: spread the rows of one stamp evenly to the next
        spread = _spread(times, first)
        if (np.diff(spread) > 0).all():
            notes.append("Several rows share each time stamp; they were spread evenly over the time to the next.")
            return spread, values
    if repeated:
        notes.append(f"{repeated} rows repeat the time of the row before; the first of each was kept.")
    return times[first], values[first]


def _spread(times: Array, first: npt.NDArray[np.bool_]) -> Array:
    start = np.flatnonzero(first)
    count = np.diff(np.concatenate([start, [times.size]]))
    stamps = times[start]
    step = np.diff(stamps, append=2 * stamps[-1] - stamps[-2] if stamps.size > 1 else stamps[-1] + 1.0)
    step = np.minimum(step, 2.0 * np.median(step))
    place = np.arange(times.size) - np.repeat(start, count)
    return np.asarray(np.repeat(stamps, count) + place * np.repeat(step / count, count))


def _guess_unit(times: Array, values: Array) -> str:
    """km/h unless the drive would be impossible in it."""
    known = np.abs(values[np.isfinite(values)])
    if known.size < 10:
        return "km/h"
    top, brisk = float(np.quantile(known, 0.995)), _brisk(times, values)
    # codes for "no value" are few; speeds that no vehicle reaches are many where turns are counted, or edges
    impossible = np.unique(known[known > 3.6 * FASTEST]).size >= MANY_VALUES or top * brisk * brisk > TURNS_LIKELIER
    if impossible and top * _GUESSED[TURNING] < FASTEST and brisk * _GUESSED[TURNING] < HARDEST:
        return TURNING
    return "m/s" if 0.1 < top < FASTEST_MS and brisk < BRISK_MS else "km/h"


def _brisk(times: Array, values: Array) -> float:
    """By how much values change in a second where they change most; 0 where too little is known.

    From second to second: from sample to sample a tooth, a bump and a count change them by far more than any driver.
    """
    known = np.isfinite(values)
    times, values = times[known], np.abs(values[known])
    typical = float(np.median(np.diff(times))) if times.size > 1 else 0.0
    size = max(1, round(1.0 / typical)) if typical > 0.0 else 1
    count = values.size // size
    if count < LEAST_SECONDS:
        return 0.0
    level, start = np.median(values[: count * size].reshape(count, size), axis=1), times[: count * size : size]
    seconds = np.diff(start)
    change = np.abs(np.diff(level))[seconds > 0.0] / seconds[seconds > 0.0]
    return float(np.quantile(change, OFTEN)) if change.size else 0.0


def _quantum(values: Array) -> float:
    """Smallest step of the values (own unit); 0 where they are continuous or constant."""
    known = np.unique(values[np.isfinite(values)][:20000])
    if known.size < 3:
        return 0.0
    steps = np.diff(known)
    steps = steps[steps > 1e-7]
    return float(np.round(np.quantile(steps, 0.02), 6)) if steps.size else 0.0
