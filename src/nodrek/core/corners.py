"""Which channel is which corner: `RawLog` + mapping → `WheelLog`.

Names are split into words; a corner is told by its words or its abbreviation, a wheel
speed by what else the name says and by how the values behave. Nothing is chosen that a
person would doubt: where two sets are equally good or a corner is missing, the caller
gets one sentence that asks.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from nodrek.core.corner_names import corner_of, corners_by_system, speed_score, stem_of, turns_the_vehicle
from nodrek.core.model import Array, Corner, RawChannel, RawLog, ReferenceSpeed, TurnSignal, WheelLog
from nodrek.core.on_change import with_held_values
from nodrek.core.polled_rows import without_repeats
from nodrek.core.understanding import agree_on_guesses, refuse_odd_rates, refuse_raw_counts, settle_clock, understand
from nodrek.core.units import is_speed_spelling
from nodrek.core.validity import without_invalid
from nodrek.errors import BadRequest, NoWheelSpeeds, UnclearCorners

BEYOND_DOUBT = 5.0
NAMELESS_SCORE = 3.0
"""Score of `speed_score` from which a channel counts as a wheel speed without a corner's name."""
FLAG_VALUES = 3
LEAST_ROWS = 2


@dataclass(frozen=True)
class Choice:
    """Channels taken for the corners, how sure each is (0..1), and what a person should know."""

    channels: Mapping[Corner, RawChannel]
    confidence: Mapping[Corner, float]
    notes: tuple[str, ...] = ()


def map_corners(raw: RawLog, wanted: Mapping[Corner, str] | None = None, reference: str | None = None) -> WheelLog:
    """The wheel log of `raw`.

    `wanted` names channels by hand (with or without their unit); the rest is worked out.
    `reference` names a speed that is independent of the wheels.
    Raises `NoWheelSpeeds`, `UnclearCorners` or `BadRequest` (a wanted name is not there).
    """
    choice = choose_channels(raw, wanted or {})
    warnings = [*raw.warnings, *choice.notes]
    valid, said = without_invalid(raw, choice.channels)
    warnings += said
    taken = _settled(valid, warnings)
    start = min(float(c.times_s.min()) for c in taken.values())
    shared: dict[int, Array] = {}
    channels = {}
    for corner in Corner:
        if corner in taken:
            channel, notes = understand(corner, taken[corner], start, shared)
            channels[corner] = replace(channel, confidence=choice.confidence[corner])
            warnings += [n for n in notes if n not in warnings]
    refuse_raw_counts(channels, taken)
    agree_on_guesses(channels, warnings)
    duration = max(float(c.times[-1]) for c in channels.values())
    independent = _independent(raw, reference, start, warnings) if reference else None
    log = WheelLog(channels, duration, tuple(warnings), independent, _turn_signal(raw, start))
    log = without_repeats(with_held_values(log))
    refuse_odd_rates(log.channels)
    return log


def _turn_signal(raw: RawLog, start: float) -> TurnSignal | None:
    """A yaw rate or steering angle, by its name, if it has both signs."""
    for channel in raw.channels:
        if not turns_the_vehicle(channel.name):
            continue
        known = ~np.isnan(channel.values) & np.isfinite(channel.times_s)
        values, times = channel.values[known], channel.times_s[known] - start
        if values.size >= LEAST_ROWS and values.min() < 0.0 < values.max() and (np.diff(times) >= 0).all():
            return TurnSignal(channel.name, times, values)
    return None


def _independent(raw: RawLog, name: str, start: float, warnings: list[str]) -> ReferenceSpeed:
    channel = _by_name(raw, name)
    settled = _settled({Corner.FL: channel}, warnings)[Corner.FL]
    understood, _ = understand(Corner.FL, settled, start, {})
    refuse_odd_rates({Corner.FL: understood})
    if understood.unit_guessed:
        warnings.append(f'The unit of "{_short(channel.name)}" is not named; {understood.unit} was taken.')
    known = ~understood.invalid
    return ReferenceSpeed(channel.name, understood.times[known], understood.speed[known])


def _settled(chosen: Mapping[Corner, RawChannel], warnings: list[str]) -> dict[Corner, RawChannel]:
    """Channels with clocks that make sense; rows without a time are gone."""
    clocks: dict[int, tuple[Array, Array]] = {}
    out = {}
    for corner, channel in chosen.items():
        key = id(channel.times_s)
        if key not in clocks:
            times, said = settle_clock(channel.times_s)
            if said and said not in warnings:
                warnings.append(said)
            clocks[key] = (times if times is channel.times_s else times[~np.isnan(times)], times)
        times, whole = clocks[key]
        values = channel.values if times is channel.times_s else channel.values[~np.isnan(whole)]
        out[corner] = RawChannel(channel.name, channel.unit, times, values)
        if times.size < LEAST_ROWS or np.sum(~np.isnan(values)) < LEAST_ROWS:
            raise NoWheelSpeeds(f'The column "{_short(channel.name)}" has no two values with a time that makes sense.')
    return out


def with_full_names(raw: RawLog) -> RawLog:
    """``Wheel speed (front left)``: what stands in brackets there is no unit, and part of the name again."""

    def named(channel: RawChannel) -> RawChannel:
        unit = channel.unit
        if unit is None or is_speed_spelling(unit) or corner_of(unit) is None:
            return channel
        return replace(channel, name=f"{channel.name} ({unit})", unit=None)

    return replace(raw, channels=tuple(map(named, raw.channels)))


def choose_channels(raw: RawLog, wanted: Mapping[Corner, str]) -> Choice:
    """Which channel is which corner; see `map_corners` for what it raises."""
    raw = with_full_names(raw)
    by_hand = {corner: _by_name(raw, name) for corner, name in wanted.items()}
    free = [
        c for c in raw.channels
        if _has_numbers(c) and not any(c is chosen for chosen in by_hand.values())
    ]  # fmt: skip
    together = corners_by_system([c.name for c in free])
    sets: dict[str, dict[Corner, list[tuple[float, RawChannel]]]] = {}
    nameless: list[RawChannel] = []
    for channel in free:
        score = _score(channel)
        if score <= 0.0:
            continue
        corner = corner_of(channel.name) or together.get(channel.name)
        if corner is None:
            if score >= NAMELESS_SCORE:
                nameless.append(channel)
            continue
        key = f"{stem_of(channel.name)}|{channel.unit or ''}"
        sets.setdefault(key, {}).setdefault(corner, []).append((score, channel))
    ranked = sorted(
        ({c: max(found, key=lambda f: f[0])[1] for c, found in s.items()} for s in sets.values()),
        key=lambda s: -_quality(s, by_hand),
    )
    chosen: dict[Corner, RawChannel] = dict(by_hand)
    notes = []
    if ranked and len(by_hand) < len(Corner):
        for corner, channel in ranked[0].items():
            chosen.setdefault(corner, channel)
        # corners that the best set lacks may stand under names of their own
        for other in ranked[1:]:
            for corner, channel in other.items():
                if corner not in chosen:
                    chosen[corner] = channel
        left = [s for s in ranked[1:] if len(s) >= 2 and not any(ch is chosen.get(c) for c, ch in s.items())]
        notes = [
            f"Another set of wheel speeds ({_short(next(iter(s.values())).name)} and its mates) was left; "
            "the one taken is finer or faster." for s in left[:3]
        ]  # fmt: skip
    if len(chosen) < 2:
        if len(nameless) + len(chosen) >= 2:
            raise UnclearCorners(_question(nameless))
        raise NoWheelSpeeds(_missing_sentence(raw, chosen))
    confidence = {c: 1.0 if c in by_hand else _confidence(channel, together) for c, channel in chosen.items()}
    return Choice({c: chosen[c] for c in Corner if c in chosen}, confidence, tuple(notes))


def _confidence(channel: RawChannel, together: Mapping[str, Corner]) -> float:
    """By how much name and unit say; letters that only make sense together say less."""
    score = _score(channel)
    sure = 0.99 if score >= BEYOND_DOUBT else 0.95 if score >= NAMELESS_SCORE else 0.75
    return sure * (0.95 if channel.name in together and corner_of(channel.name) is None else 1.0)


def _score(channel: RawChannel) -> float:
    """How much a channel looks like a wheel speed; 0 for certainly not."""
    score = speed_score(channel.name, channel.unit)
    known = channel.values[~np.isnan(channel.values)][:20000]
    # a corner's flag or gear has a handful of values; a speed has many, or is dead
    if 0.0 < score < NAMELESS_SCORE and np.unique(known).size <= FLAG_VALUES:
        score -= 0.5
    return score


def _quality(found: Mapping[Corner, RawChannel], by_hand: Mapping[Corner, RawChannel]) -> float:
    """Order of sets: more corners, then names and units, then finer values, then more samples."""
    corners = len(set(found) | set(by_hand))
    score = float(np.mean([_score(c) for c in found.values()]))
    fineness = float(np.mean([np.unique(c.values[~np.isnan(c.values)][:20000]).size for c in found.values()]))
    samples = float(np.mean([np.sum(~np.isnan(c.values)) for c in found.values()]))
    return 1e6 * corners + 1e4 * score + 1e2 * float(np.log1p(fineness)) + 10.0 * float(np.log1p(samples))


def _question(channels: list[RawChannel]) -> str:
    names = ", ".join(f'"{_short(c.name)}"' for c in channels[:8])
    return (
        f"There are wheel speeds ({names}), but their names do not tell the corners: "
        f'say which is which, for example --map FL="{channels[0].name}".'
    )


def _by_name(raw: RawLog, name: str) -> RawChannel:
    wanted = name.strip().lower()
    for channel in raw.channels:
        full = f"{channel.name} [{channel.unit}]" if channel.unit else channel.name
        # a signal may be named with its message or without
        alone = wanted.rsplit(".", 1)[-1] if "." in wanted and "." not in channel.name else wanted
        if wanted in (channel.name.lower(), full.lower()) or alone == channel.name.lower():
            if not _has_numbers(channel):
                raise BadRequest(f'The column "{channel.name}" holds no numbers: choose another one.')
            return channel
    names = ", ".join(f'"{_short(c.name)}"' for c in raw.channels[:12])
    raise BadRequest(f'The log has no column "{name}". It has: {names}.')


def _short(name: str, most: int = 40) -> str:
    """A name that fits into a sentence: its middle left out where it is long."""
    return name if len(name) <= most else f"{name[: most - 13]}…{name[-12:]}"


def _has_numbers(channel: RawChannel) -> bool:
    return bool(np.sum(~np.isnan(channel.values)) >= 2)


def _missing_sentence(raw: RawLog, chosen: Mapping[Corner, RawChannel]) -> str:
    names = ", ".join(f'"{_short(c.name)}"' for c in raw.channels[:8]) or "none"
    if len(raw.channels) > 8:
        names += f" and {len(raw.channels) - 8} more"
    if chosen:
        corner = next(iter(chosen))
        return (
            f"Only one wheel speed was found ({corner}); at least two corners are needed for a comparison. "
            f"Name the others with --map CORNER=NAME; the columns are {names}."
        )
    odd = next((c for c in raw.channels if c.unit and corner_of(c.name) and not is_speed_spelling(c.unit)), None)
    if odd is not None and speed_score(odd.name, None) > 0.0:
        return (
            f'No wheel speeds were found: "{_short(odd.name)}" is in "{_short(odd.unit or "")}", which is not known as '
            "a unit of speed. Write km/h, m/s, mph or rpm into its header, or name the columns with --map FL=NAME …."
        )
    empty = ", ".join(f'"{_short(c.name)}"' for c in raw.channels if corner_of(c.name) and not _has_numbers(c))
    if empty:
        return f"No wheel speeds were found: there are no numbers in {empty}. Export the drive again, with its values."
    return (
        f"No wheel speeds were found: none of the columns ({names}) names a corner of the vehicle. "
        "Name them with --map FL=NAME FR=NAME RL=NAME RR=NAME."
    )
