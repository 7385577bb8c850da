"""Which channel is which corner: `RawLog` + mapping → `WheelLog`.

Names are split into words; a corner is told by its words or its abbreviation, a wheel
speed by what else the name says and by how the values behave. Nothing is chosen that a
person would doubt: where two sets are equally good or a corner is missing, the caller
gets one sentence that asks.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from nodrek.core.model import Array, Corner, RawChannel, RawLog, WheelChannel, WheelLog
from nodrek.core.units import MPH, speed_factor, speed_unit_name
from nodrek.errors import BadRequest, NoWheelSpeeds, UnclearCorners

NO_VALUE_KMH = (655.35, 655.34, 6553.5, 511.9375, 511.97, 409.5, 255.99, 255.0)
"""Values that all-ones raw fields give (common practice: 65535 × 0.01 and the like)."""
FASTEST = 110.0
"""m/s: 400 km/h. What reads more is no speed of a road vehicle."""

_SIDE = {
    "left": "L", "right": "R", "l": "L", "r": "R", "lh": "L", "rh": "R", "lhs": "L", "rhs": "R",
    "links": "L", "rechts": "R", "gauche": "L", "droite": "R", "izquierda": "L", "derecha": "R",
}  # fmt: skip
_END = {
    "front": "F", "rear": "R", "back": "R", "fr": "F", "rr": "R", "frt": "F", "fwd": "F",
    "vorn": "F", "vorne": "F", "hinten": "R", "avant": "F", "arriere": "R", "arrière": "R",
    "delantera": "F", "trasera": "R",
}  # fmt: skip
_SHORT = {
    "fl": Corner.FL, "fr": Corner.FR, "rl": Corner.RL, "rr": Corner.RR,
    "lf": Corner.FL, "rf": Corner.FR, "lr": Corner.RL,
    "vl": Corner.FL, "vr": Corner.FR, "hl": Corner.RL, "hr": Corner.RR,
    "bl": Corner.RL, "br": Corner.RR,
    "avg": Corner.FL, "avd": Corner.FR, "arg": Corner.RL, "ard": Corner.RR,
    "frontleft": Corner.FL, "frontright": Corner.FR, "rearleft": Corner.RL, "rearright": Corner.RR,
    "leftfront": Corner.FL, "rightfront": Corner.FR, "leftrear": Corner.RL, "rightrear": Corner.RR,
}  # fmt: skip
_SPEED_WORDS = frozenset(
    ("speed", "spd", "velocity", "vel", "wheelspeed", "wheelspd", "whlspd", "ws", "wss", "whl", "wheel", "v",
     "geschwindigkeit", "drehzahl", "radgeschwindigkeit", "rad", "raddrehzahl", "vitesse", "roue", "velocidad", "rueda",
     "kmh", "kph", "mph", "abs")
)  # fmt: skip
_OTHER_WORDS = frozenset(
    ("torque", "pressure", "press", "temp", "temperature", "slip", "angle", "height", "accel", "acceleration",
     "force", "load", "travel", "counter", "count", "pulse", "pulses", "ticks", "valid", "status", "state", "flag",
     "quality", "qf", "ref", "reference", "target", "steering", "yaw", "current", "voltage", "direction", "dir",
     "druck", "moment", "schlupf", "pression", "couple")
)  # fmt: skip
"""Words that make a channel something else than a wheel speed, whatever else it says."""
_PART_WORDS = frozenset(
    ("brake", "tyre", "tire", "door", "seat", "window", "lamp", "bremse", "reifen", "pneu", "frein")
)  # fmt: skip
"""Parts that do so unless the name also speaks of speed ("brake control: wheel speed FL")."""


@dataclass(frozen=True)
class Choice:
    """Channels taken for the corners, how sure that is (0..1), and why in words."""

    channels: Mapping[Corner, RawChannel]
    confidence: float
    reason: str


def map_corners(raw: RawLog, wanted: Mapping[Corner, str] | None = None) -> WheelLog:
    """The wheel log of `raw`.

    `wanted` names channels by hand (with or without their unit); the rest is worked out.
    Raises `NoWheelSpeeds`, `UnclearCorners` or `BadRequest` (a wanted name is not there).
    """
    choice = choose_channels(raw, wanted or {})
    start = min(float(c.times_s[0]) for c in choice.channels.values())
    warnings = list(raw.warnings)
    shared: dict[int, Array] = {}
    channels = {}
    for corner in Corner:
        if corner in choice.channels:
            channel, notes = _understand(corner, choice.channels[corner], start, shared)
            channels[corner] = channel
            warnings += [n for n in notes if n not in warnings]
    _same_guess(channels, warnings)
    duration = max(float(c.times[-1]) for c in channels.values())
    return WheelLog(channels, duration, tuple(warnings))


def choose_channels(raw: RawLog, wanted: Mapping[Corner, str]) -> Choice:
    """Which channel is which corner; see `map_corners` for what it raises."""
    by_hand = {corner: _by_name(raw, name) for corner, name in wanted.items()}
    candidates: dict[Corner, list[tuple[float, RawChannel]]] = {}
    for channel in raw.channels:
        if any(channel is chosen for chosen in by_hand.values()) or not _has_numbers(channel):
            continue
        corner = corner_of(channel.name)
        score = _wheel_speed_score(channel)
        if corner is not None and score > 0:
            candidates.setdefault(corner, []).append((score, channel))
    chosen: dict[Corner, RawChannel] = {}
    notes = []
    for corner in Corner:
        if corner in by_hand:
            chosen[corner] = by_hand[corner]
        elif corner in candidates:
            ranked = sorted(candidates[corner], key=lambda c: -c[0])
            if len(ranked) > 1 and ranked[0][0] == ranked[1][0]:
                raise UnclearCorners(
                    f'"{ranked[0][1].name}" and "{ranked[1][1].name}" could both be the {corner.words} wheel speed: '
                    f"say which with --map {corner}=NAME."
                )
            chosen[corner] = ranked[0][1]
            notes.append(f"{corner} from {ranked[0][1].name!r}")
    if len(chosen) < 2:
        raise NoWheelSpeeds(_missing_sentence(raw, chosen))
    return Choice(chosen, 1.0 if by_hand else 0.95, "; ".join(notes))


def corner_of(name: str) -> Corner | None:
    """The corner that a channel's name tells, ``None`` where it tells none or two."""
    words = _words(name)
    found = {_SHORT[w] for w in words if w in _SHORT}
    sides = {_SIDE[w] for w in words if w in _SIDE}
    ends = {_END[w] for w in words if w in _END and w not in ("fr", "rr")}
    if len(sides) == 1 and len(ends) == 1:
        return Corner(ends.pop() + sides.pop())
    if len(found) == 1:
        return found.pop()
    return None


def _words(name: str) -> list[str]:
    """Lower-case words of a name: split at punctuation, at camelCase and before digits."""
    spaced = re.sub(r"(?<=[a-z0-9])(?=[A-Z])|(?<=[A-Z])(?=[A-Z][a-z])", " ", name)
    words = [w for w in re.split(r"[^0-9a-zà-ÿ]+", spaced.lower()) if w]
    out = []
    for word in words:
        bare = word.strip("0123456789")
        out.append(bare or word)
        # wheelspeedfl, vfl, spdrr: the corner glued to the end of a known word
        for tail in ("fl", "fr", "rl", "rr"):
            head = bare.removesuffix(tail)
            if head != bare and head in _SPEED_WORDS:
                out += [head, tail]
    return out


def _wheel_speed_score(channel: RawChannel) -> float:
    """How much a channel looks like a wheel speed; 0 for certainly not."""
    words = set(_words(channel.name))
    speaks_of_speed = bool(words & _SPEED_WORDS)
    if words & _OTHER_WORDS or (words & _PART_WORDS and not speaks_of_speed):
        return 0.0
    score = 1.0
    if speaks_of_speed:
        score += 2.0
    if speed_factor(channel.unit) is not None:
        score += 2.0
    elif channel.unit is not None:
        return 0.0
    known = channel.values[~np.isnan(channel.values)]
    # a corner's flag or gear has a handful of values; a speed has many, or is dead
    if score < 3.0 and np.unique(known[:5000]).size <= 3:
        score -= 0.5
    return score


def _by_name(raw: RawLog, name: str) -> RawChannel:
    wanted = name.strip().lower()
    for channel in raw.channels:
        full = f"{channel.name} [{channel.unit}]" if channel.unit else channel.name
        if wanted in (channel.name.lower(), full.lower()):
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
    return (
        f"No wheel speeds were found: none of the columns ({names}) names a corner of the vehicle. "
        "Name them with --map FL=NAME FR=NAME RL=NAME RR=NAME."
    )


def _understand(
    corner: Corner, channel: RawChannel, start: float, shared: dict[int, Array]
) -> tuple[WheelChannel, list[str]]:
    """Times from zero and rising, speeds in m/s, values that are no speeds marked."""
    notes = []
    known = ~np.isnan(channel.values)
    whole = bool(known.all())
    times = channel.times_s - start if whole else channel.times_s[known] - start
    values = channel.values if whole else channel.values[known]
    if whole:
        # channels of one clock keep sharing one array
        times = shared.setdefault(id(channel.times_s), times)
    steps = np.diff(times)
    if (steps <= 0).any():
        if (steps < 0).any():
            notes.append(f"{int((steps < 0).sum())} rows were out of order in time and were sorted.")
        order = np.argsort(times, kind="stable")
        times, values = times[order], values[order]
        first = np.concatenate([[True], np.diff(times) > 0])
        if not first.all():
            notes.append(f"{int((~first).sum())} rows repeat the time of the row before; the first of each was kept.")
        times, values = times[first], values[first]
    factor = speed_factor(channel.unit)
    guessed = factor is None
    if factor is None:
        factor = _guess_factor(times, values)
    invalid = _no_values(values, factor)
    speed = np.where(invalid, np.nan, np.abs(values) * factor)
    rate = 1.0 / float(np.median(np.diff(times))) if times.size > 1 else 0.0
    return (
        WheelChannel(
            corner, channel.name, speed_unit_name(factor), guessed, times, speed, invalid,
            _quantum(values) * factor, rate,
        ),
        notes,
    )  # fmt: skip


def _no_values(values: Array, factor: float) -> np.ndarray:
    """Samples that say "no valid value": sentinels, and what no road vehicle can do."""
    kmh = np.abs(values) * factor * 3.6
    out: np.ndarray = kmh > FASTEST * 3.6
    if out.any() or (kmh.size and float(kmh.max()) > 200.0):
        for sentinel in NO_VALUE_KMH:
            out |= np.abs(kmh - sentinel) < 0.006
    # standing still is zero; a constant below it is a sentinel, reversing is short and slow
    out |= (values < 0) & (kmh > 60.0)
    return out


def _guess_factor(times: Array, values: Array) -> float:
    """km/h unless the drive would be impossible in it; see `_same_guess` for the warning."""
    known = np.abs(values[np.isfinite(values)])
    if known.size < 10:
        return 1 / 3.6
    top = float(np.quantile(known, 0.995))
    step = np.diff(times)
    with np.errstate(divide="ignore", invalid="ignore"):
        change = np.abs(np.diff(values)) / step
    brisk = float(np.nanquantile(change[step > 0], 0.95)) if (step > 0).any() else 0.0
    # drivers brake and pull with 2 to 4 m/s²; as km/h per s the figure is 3.6 times larger
    return 1.0 if top < 45.0 and brisk < 3.2 and top > 0.1 else 1 / 3.6


def _same_guess(channels: dict[Corner, WheelChannel], warnings: list[str]) -> None:
    """Units guessed for single corners must agree: the majority decides for all guessed ones."""
    guessed = {c: ch for c, ch in channels.items() if ch.unit_guessed}
    if not guessed:
        return
    units = [ch.unit for ch in guessed.values()]
    known = [ch.unit for ch in channels.values() if not ch.unit_guessed]
    unit = known[0] if known else max(sorted(set(units)), key=units.count)
    factor = {"km/h": 1 / 3.6, "mph": MPH, "m/s": 1.0}[unit]
    for corner, channel in guessed.items():
        if channel.unit != unit:
            old = {"km/h": 1 / 3.6, "mph": MPH, "m/s": 1.0}[channel.unit]
            channels[corner] = WheelChannel(
                corner, channel.name, unit, True, channel.times, channel.speed * factor / old,
                channel.invalid, channel.quantum * factor / old, channel.rate, channel.lag,
            )  # fmt: skip
    warnings.append(f"The log names no unit for the wheel speeds; {unit} was taken from how the values move.")


def _quantum(values: Array) -> float:
    """Smallest step of the values (own unit); 0 where they are continuous or constant."""
    known = np.unique(values[np.isfinite(values)][:20000])
    if known.size < 3:
        return 0.0
    steps = np.diff(known)
    steps = steps[steps > 1e-7]
    return float(np.round(np.quantile(steps, 0.02), 6)) if steps.size else 0.0
