"""Tables of text in all their dialects → `RawLog`.

Three layouts: wide (one time column, one column a channel), wide with a clock for each
channel, and long (time, channel, value). Numbers are read by polars in one go.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from nodrek.core.model import Array, RawChannel, RawLog
from nodrek.core.units import time_factor
from nodrek.errors import UnreadableFile
from nodrek.io.logs.cells import clock_seconds, numbers_of
from nodrek.io.logs.clock import seconds_of, unroll
from nodrek.io.logs.plain import read_plain
from nodrek.io.logs.shape import Shape, decode_head, find_shape
from nodrek.io.logs.source import LogFile

if TYPE_CHECKING:
    import polars as pl

_TIME_NAMES = frozenset(
    ("time", "t", "timestamp", "timestamps", "zeit", "zeitstempel", "temps", "tiempo", "tempo", "czas", "tijd",
     "tid", "cas", "čas", "elapsed", "elapsed time", "seconds", "sec", "secs", "offset", "relative time",
     "time stamp", "ts", "abs time", "log time", "logging time", "uhrzeit", "datetime", "date time", "date/time",
     "clock", "epoch", "unix time", "millis", "ms", "us", "time s", "time ms", "hora", "heure", "ora", "godzina",
     "tijdstip", "klockslag", "horodatage", "rel time", "time rel", "recording time", "gps time", "utc time", "utc")
)  # fmt: skip
_TIME_WORDS = frozenset(
    ("time", "t", "zeit", "timestamp", "temps", "tiempo", "tempo", "czas", "tijd", "tid", "ts", "clock", "čas", "cas")
)
MOST_CHANNELS_LONG = 2000
LEAST_ROWS = 2


def detect(head: bytes) -> bool:
    """Text with a table of numbers in it."""
    decoded = decode_head(head)
    return decoded is not None and find_shape(*decoded) is not None


def read(file: LogFile) -> RawLog:
    """All columns of numbers against their time column, faithful."""
    decoded = decode_head(file.head())
    shape = find_shape(*decoded) if decoded else None
    if shape is None:
        raise UnreadableFile(f"{file.name} holds no table of numbers: export the drive as CSV and open that.")
    columns = _read_columns(file, shape)
    if "t" in shape.kinds:
        long = _read_long(file, shape, columns)
        if long is not None:
            return long
    clocks = _time_columns(shape, columns)
    if not clocks:
        raise UnreadableFile(f"{file.name} has no time column: a column named time, rising from row to row, is needed.")
    warnings: list[str] = []
    times = {}
    for at in clocks:
        seconds, notes = _seconds(shape, columns, at)
        times[at] = seconds
        warnings += [n for n in notes if n not in warnings]
    channels = []
    for i, column in enumerate(columns):
        if i in clocks or shape.kinds[i] != "n" or not isinstance(column, np.ndarray):
            continue
        clock = times[_clock_of(shape, i, clocks)]
        channels.append(RawChannel(shape.names[i], shape.units[i], clock, column))
    known = [~np.isnan(t) for t in times.values()]
    if max(int(k.sum()) for k in known) < LEAST_ROWS:
        raise UnreadableFile(f"{file.name} has fewer than two rows with a time: record the drive again.")
    return RawLog(tuple(_without_lost_times(channels)), "csv", tuple(warnings))


def _without_lost_times(channels: list[RawChannel]) -> list[RawChannel]:
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


def _read_columns(file: LogFile, shape: Shape) -> list[Array | pl.Series]:
    """Columns of numbers as arrays; clocks and words as series of text."""
    if shape.plain and shape.encoding == "utf-8":
        columns = read_plain(file, shape.separator, shape.decimal_comma, shape.first_row, len(shape.names))
        if columns is not None:
            return list(columns)
    import polars as pl

    source: object = file.path if file.content is None else file.content
    if shape.encoding not in ("utf-8", "utf-8-sig"):
        source = file.read().decode(shape.encoding, errors="replace").encode("utf-8")
    kind = pl.Float64 if shape.plain else pl.String
    try:
        table = pl.read_csv(
            source,  # type: ignore[arg-type]
            separator=shape.separator,
            has_header=False,
            skip_lines=shape.first_row,
            schema={f"c{i}": kind for i in range(len(shape.names))},
            infer_schema=False,
            truncate_ragged_lines=True,
            ignore_errors=shape.plain,
            decimal_comma=shape.plain and shape.decimal_comma,
            encoding="utf8-lossy",
            low_memory=False,
        )
    except (pl.exceptions.PolarsError, OSError) as error:
        reason = str(error).splitlines()[0][:120]
        raise UnreadableFile(
            f"{file.name} breaks off or changes its shape ({reason}): export the log again."
        ) from error
    out: list[Array | pl.Series] = []
    for kind_letter, column in zip(shape.kinds, table.iter_columns(), strict=True):
        if shape.plain:
            values = column.to_numpy(writable=True)
            values[np.isinf(values)] = np.nan
            out.append(values)
        elif kind_letter == "n":
            out.append(numbers_of(column, shape.decimal_comma))
        else:
            out.append(column)
    return out


def _seconds(shape: Shape, columns: list[Array | pl.Series], at: int) -> tuple[Array, tuple[str, ...]]:
    column = columns[at]
    if isinstance(column, np.ndarray):
        seconds, notes = seconds_of(column, shape.units[at] or _unit_in_name(shape.names[at]))
    else:
        seconds, notes = clock_seconds(column.to_list()), ()
    unrolled, more = unroll(seconds)
    return unrolled, (*notes, *more)


def _time_columns(shape: Shape, columns: list[Array | pl.Series]) -> list[int]:
    """The time columns: one for all, or one for each channel; by name, by kind, by behaviour."""
    clocks = [i for i, kind in enumerate(shape.kinds) if kind == "c" and _is_clock_name(shape.names[i], True)]
    named = [
        i
        for i, name in enumerate(shape.names)
        if shape.kinds[i] == "n" and _is_clock_name(name, time_factor(shape.units[i]) is not None)
    ]
    rising = [i for i in named if _rises(columns[i])]
    if len(rising) > 1 and _one_a_channel(shape, rising):
        return rising
    if rising:
        return rising[:1]
    if clocks:
        return clocks[:1]
    for i, column in enumerate(columns):
        if shape.kinds[i] == "n" and _rises(column, strictly=True):
            return [i]
    return [i for i, kind in enumerate(shape.kinds) if kind == "c"][:1]


def _is_clock_name(name: str, has_time_unit: bool) -> bool:
    words = _words(name)
    return " ".join(words) in _TIME_NAMES or (has_time_unit and True) or (bool(words) and words[0] in _TIME_WORDS)


def _one_a_channel(shape: Shape, clocks: list[int]) -> bool:
    """Several clocks belong to channels where they stand in turn with them or carry their names."""
    values = [i for i in range(len(shape.names)) if i not in clocks and shape.kinds[i] == "n"]
    return len(values) >= len(clocks) and len(clocks) >= 2


def _clock_of(shape: Shape, column: int, clocks: list[int]) -> int:
    """The clock of a channel: the one that carries its name, else the nearest to its left."""
    if len(clocks) == 1:
        return clocks[0]
    own = set(_words(shape.names[column]))
    for at in clocks:
        rest = set(_words(shape.names[at])) - _TIME_WORDS - {"s", "ms", "us", "for", "of"}
        if rest and rest <= own:
            return at
    left = [at for at in clocks if at < column]
    return left[-1] if left else clocks[0]


def _rises(column: Array | pl.Series, strictly: bool = False) -> bool:
    if not isinstance(column, np.ndarray):
        return False
    known = column[~np.isnan(column)]
    if known.size < LEAST_ROWS:
        return False
    steps = np.diff(known)
    if strictly:
        return bool(np.mean(steps > 0) > 0.9 and np.mean(steps >= 0) > 0.98 and known[-1] > known[0])
    return bool(np.mean(steps >= 0) > 0.9 and np.mean(steps > 0) > 0.02)


def _read_long(file: LogFile, shape: Shape, columns: list[Array | pl.Series]) -> RawLog | None:
    """Long form: one text column names the channel, one column holds the value; else ``None``."""
    texts = [i for i, kind in enumerate(shape.kinds) if kind == "t"]
    clocks = _time_columns(shape, columns)
    numbers = [i for i, kind in enumerate(shape.kinds) if kind == "n" and i not in clocks]
    if not clocks or len(numbers) != 1:
        return None
    value = columns[numbers[0]]
    by_variety = []
    for i in texts:
        column = columns[i]
        if isinstance(column, np.ndarray):
            continue
        distinct = column.n_unique()
        if 1 < distinct <= MOST_CHANNELS_LONG and distinct < 0.5 * len(column):
            by_variety.append((distinct, i))
    if not by_variety or not isinstance(value, np.ndarray):
        return None
    at = max(by_variety)[1]
    names = columns[at]
    assert not isinstance(names, np.ndarray)
    times, notes = _seconds(shape, columns, clocks[0])
    unit_at = next((i for _, i in by_variety if i != at and "unit" in shape.names[i].lower()), None)
    channels = []
    labels = np.array([str(n).strip().strip('"') if n is not None else "" for n in names.to_list()], dtype=object)
    for name in dict.fromkeys(labels.tolist()):
        rows = np.flatnonzero((labels == name) & ~np.isnan(times))
        if not name or rows.size < LEAST_ROWS:
            continue
        unit = shape.units[numbers[0]]
        if unit_at is not None:
            spelled = columns[unit_at]
            unit = unit if isinstance(spelled, np.ndarray) else spelled[int(rows[0])]
        channels.append(RawChannel(name, unit, times[rows], value[rows]))
    return RawLog(tuple(channels), "csv", notes) if channels else None


def _unit_in_name(name: str) -> str | None:
    """``time_ms`` → ``ms``."""
    words = _words(name)
    return words[-1] if len(words) > 1 and time_factor(words[-1]) is not None else None


def _words(name: str) -> list[str]:
    return name.strip().lower().replace("_", " ").replace("-", " ").replace(".", " ").split()
