"""Columns → `RawLog`: which of them are clocks, and which clock each channel goes by."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from nodrek.core.model import Array, RawChannel, RawLog
from nodrek.core.units import time_factor
from nodrek.errors import UnreadableFile
from nodrek.io.logs.clock import seconds_of, unroll
from nodrek.io.logs.clock_parts import parts_of_a_clock, steps_summed
from nodrek.io.logs.stated import is_count_of_rows

_TIME_NAMES = frozenset(
    ("time", "t", "date", "datum", "fecha", "timestamp", "timestamps", "zeit", "zeitstempel", "temps", "tiempo",
     "tempo", "czas", "tijd", "tid", "cas", "čas", "elapsed", "elapsed time", "seconds", "sec", "secs", "offset",
     "relative time", "time stamp", "ts", "abs time", "log time", "logging time", "uhrzeit", "datetime", "date time",
     "date/time", "clock", "epoch", "unix time", "millis", "micros", "nanos", "ms", "us", "ns", "time s", "time ms",
     "hora", "heure", "ora", "godzina",
     "tijdstip", "klockslag", "horodatage", "rel time", "time rel", "recording time", "gps time", "utc time", "utc")
)  # fmt: skip
_TIME_WORDS = frozenset(
    ("time", "t", "zeit", "timestamp", "temps", "tiempo", "tempo", "czas", "tijd", "tid", "ts", "clock", "čas", "cas",
     "times", "timestamps", "uhrzeit")
)  # fmt: skip
_BEFORE_PER_TIME = frozenset(("m", "km", "ft", "mm", "cm", "rad", "rev", "deg", "1", "u", "turns", "per"))
_PARTS_OF_SECOND = {
    **dict.fromkeys(["ms", "msec", "msecs", "millis", "millisecond", "milliseconds", "millisec"], 1e-3),
    **dict.fromkeys(["us", "usec", "usecs", "micros", "microsecond", "microseconds"], 1e-6),
    **dict.fromkeys(["ns", "nsec", "nsecs", "nanos", "nanosec", "nanosecs", "nanosecond", "nanoseconds"], 1e-9),
}
_BETWEEN_WORDS = str.maketrans("_-.,:/", "      ")
_NAMES_OF_UNITS = {"millis": "ms", "ms": "ms", "micros": "us", "us": "us", "nanos": "ns", "ns": "ns"}
LEAST_ROWS = 2


def assemble(
    file_name: str,
    names: Sequence[str],
    units: Sequence[str | None],
    columns: Sequence[Array | None],
    format_name: str,
    clocks: Mapping[int, Array] | None = None,
    abreast: int = 1,
) -> RawLog:
    """One `RawLog` of equally long columns; ``None`` for columns that hold no numbers.

    `clocks`: columns already known as seconds of a clock (from clock times or dates). `abreast`: so many channels take
    the rows in turn.
    Raises `UnreadableFile` where nothing can be a clock.
    """
    ready, columns = parts_of_a_clock(names, columns, dict(clocks or {}))
    ready, columns = _with_fractions(names, units, columns, ready)
    at = _clock_columns(names, units, columns, ready, abreast)
    summed: tuple[str, ...] = ()
    if not at:
        names, units, columns, summed = steps_summed(names, units, columns)
        at = _clock_columns(names, units, columns, ready, abreast)
    if not at and _newest_first(names, units, columns):
        turned = [None if column is None else column[::-1] for column in columns]
        raw = assemble(file_name, names, units, turned, format_name, abreast=abreast)
        return replace(raw, warnings=("The newest row stood first; the rows were turned round.", *raw.warnings))
    if not at:
        raise UnreadableFile(f"{file_name} has no time column: a column named time, rising from row to row, is needed.")
    warnings = list(summed)
    if not ready and not is_clock_name(names[at[0]], units[at[0]]):
        warnings.append(f'No column is named as a time; "{names[at[0]]}" rises steadily and was taken for it.')
    times: dict[int, Array] = {}
    for i in at:
        column = columns[i]
        notes: tuple[str, ...] = ()
        if i in ready:
            seconds = ready[i]
        else:
            assert column is not None
            seconds, notes = seconds_of(column, units[i] or _unit_in_name(names[i]), abreast)
        times[i], more = unroll(seconds)
        warnings += [n for n in (*notes, *more) if n not in warnings]
    if max(int((~np.isnan(t)).sum()) for t in times.values()) < LEAST_ROWS:
        raise UnreadableFile(f"{file_name} has fewer than two rows with a time: record the drive again.")
    channels = [
        RawChannel(names[i], units[i], times[_clock_of(names, i, at)], column)
        for i, column in enumerate(columns)
        if column is not None and i not in at and i not in ready
    ]
    return RawLog(tuple(without_lost_times(channels)), format_name, tuple(warnings))


def _newest_first(names: Sequence[str], units: Sequence[str | None], columns: Sequence[Array | None]) -> bool:
    return has_clock(names, units, [None if column is None else -column for column in columns])


def _with_fractions(
    names: Sequence[str], units: Sequence[str | None], columns: Sequence[Array | None], clocks: dict[int, Array]
) -> tuple[dict[int, Array], Sequence[Array | None]]:
    """Clocks of whole seconds with the parts of a second that stand in a column of their own, and the columns left."""
    parts = {i: part for i, name in enumerate(names) if (part := _part_of_second(name, columns[i])) is not None}
    if len(parts) != 1:
        return clocks, columns
    at, part = parts.popitem()
    whole = clocks or {
        i: seconds_of(column, units[i] or _unit_in_name(names[i]))[0]
        for i, column in enumerate(columns)
        if column is not None and i != at and is_clock_name(names[i], units[i]) and rises(column)
    }
    for first, seconds in whole.items():
        known = seconds[np.isfinite(seconds)]
        fine = unroll(seconds + part)[0]  # the drive may go on past midnight
        if np.array_equal(known, np.round(known)) and rises(fine, strictly=True):
            return {first: fine}, [None if i in (at, first) else c for i, c in enumerate(columns)]
    return clocks, columns


def _part_of_second(name: str, column: Array | None) -> Array | None:
    """Seconds of a column that counts parts of a second and begins again with each."""
    words = _plain_words(name)
    scale = _PARTS_OF_SECOND.get(words[-1]) if words else None
    if column is None or scale is None:
        return None
    known = column[np.isfinite(column)] * scale
    if known.size < LEAST_ROWS or known.min() < 0.0 or known.max() >= 1.0 or not (np.diff(known) < 0.0).any():
        return None
    return np.asarray(column * scale)


def without_lost_times(channels: Sequence[RawChannel]) -> list[RawChannel]:
    """Rows whose time is not known go; channels of one clock keep sharing one array."""
    shared: dict[int, tuple[Array, np.ndarray]] = {}
    out = []
    for channel in channels:
        key = id(channel.times_s)
        if key not in shared:
            known = ~np.isnan(channel.times_s)
            shared[key] = (channel.times_s if known.all() else channel.times_s[known], known)
        times, known = shared[key]
        values = channel.values if times is channel.times_s else channel.values[known]
        out.append(RawChannel(channel.name, channel.unit, times, values))
    return out


def has_clock(names: Sequence[str], units: Sequence[str | None], columns: Sequence[Array | None]) -> bool:
    """Whether a column is a clock by its name, and rises."""
    return any(is_clock_name(n, u) and rises(c) for n, u, c in zip(names, units, columns, strict=True))


def is_clock_name(name: str, unit: str | None) -> bool:
    """Whether a column's name or unit says that it is a clock."""
    words = _plain_words(name)
    if " ".join(words) in _TIME_NAMES or time_factor(unit) is not None:
        return True
    if len(words) > 1 and words[-2] not in _BEFORE_PER_TIME and (time_factor(words[-1]) or math.inf) <= 1.0:
        # "tick_us", "System time, us", but no "speed m/s" or "km/h"
        return True
    return bool(words) and (words[0] in _TIME_WORDS or (words[-1] in _TIME_WORDS and len(words[-1]) > 2))


def rises(column: Array | None, strictly: bool = False) -> bool:
    """Whether values rise from row to row, apart from a few."""
    if column is None:
        return False
    known = column if not np.isnan(column).any() else column[~np.isnan(column)]
    if known.size < LEAST_ROWS:
        return False
    steps = known[1:] - known[:-1]
    if strictly:
        return bool(np.mean(steps > 0) > 0.9 and np.mean(steps >= 0) > 0.98 and known[-1] > known[0])
    return bool(np.mean(steps >= 0) > 0.8 and np.mean(steps > 0) > 0.02)


def _plain_words(name: str) -> list[str]:
    return name.strip().lower().translate(_BETWEEN_WORDS).split()


def _clock_columns(
    names: Sequence[str],
    units: Sequence[str | None],
    columns: Sequence[Array | None],
    ready: Mapping[int, Array],
    abreast: int,
) -> list[int]:
    """By name, by kind, by behaviour; several where each channel has one of its own."""
    named = [
        i for i, column in enumerate(columns)
        if column is not None and is_clock_name(names[i], units[i]) and rises(column)
    ]  # fmt: skip
    values = sum(c is not None for c in columns) - len(named)
    if len(named) >= 2 and values >= len(named):
        return named
    if named:
        return named[:1]
    if ready:
        best = [i for i in ready if is_clock_name(names[i], None)] or list(ready)
        return best[:1]
    return [
        i for i, column in enumerate(columns)
        if column is not None and rises(column[::abreast], strictly=True) and not is_count_of_rows(names[i], column)
    ][:1]  # fmt: skip


def _clock_of(names: Sequence[str], column: int, clocks: list[int]) -> int:
    """The clock of a channel: the one that carries its name, else the nearest to its left."""
    if len(clocks) == 1:
        return clocks[0]
    own = set(_plain_words(names[column]))
    for at in clocks:
        rest = set(_plain_words(names[at])) - _TIME_WORDS - {"s", "ms", "us", "for", "of"}
        if rest and rest <= own:
            return at
    left = [at for at in clocks if at < column]
    return left[-1] if left else clocks[0]


def _unit_in_name(name: str) -> str | None:
    """``time_ms`` → ``ms``; ``millis`` → ``ms``."""
    words = _plain_words(name)
    if len(words) == 1 and words[0] in _NAMES_OF_UNITS:
        return _NAMES_OF_UNITS[words[0]]
    return words[-1] if len(words) > 1 and time_factor(words[-1]) is not None else None
