"""Tables of text in all their dialects → `RawLog`.

Three layouts: wide (one time column, one column a channel), wide with a clock for each
channel, and long (time, channel, value). Numbers are read by polars in one go.
"""

from __future__ import annotations

import re
from dataclasses import replace
from itertools import islice
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, RawChannel, RawLog
from nodrek.core.units import speed_factor
from nodrek.errors import UnreadableFile
from nodrek.io.logs.cells import (
    clean,
    clock_seconds,
    is_missing,
    is_number,
    numbers_of,
    split_unit,
    uses_decimal_comma,
)
from nodrek.io.logs.layout import is_turned, laid_out, shape_of
from nodrek.io.logs.plain import read_plain
from nodrek.io.logs.sections import read_sections, sections_of
from nodrek.io.logs.shape import Shape, decode_head
from nodrek.io.logs.source import LogFile, Request
from nodrek.io.logs.stated import stated_interval, stated_speed_unit, times_by_rate
from nodrek.io.logs.wide import LEAST_ROWS, assemble, has_clock

if TYPE_CHECKING:
    import polars as pl

MOST_CHANNELS_LONG = 2000
CHUNK = 1 << 20
ALL, ALL_SIGNED = 0.99, 3
"""Share of a column's cells that are taken for all of them; columns in which each number has a comma, from which it is
the decimal one."""
MOST_SIGNED = 400
"""Numbers with a point or comma that are looked at for its meaning, of a column."""
_BETWEEN_GROUPS = (b" ", b"'", b"\xa0", b"\x80\xaf")
_GROUP = re.compile(rb"\d(?: |'|\xa0|\xc2\xa0|\xe2\x80\xaf)\d")
"""Groups of digits with a space of some kind or an apostrophe between, which may come late in a log."""
LOOKED_AT, MANY = 1000, 0.1
"""Lines that are looked at where cells that are no numbers begin, and the share of such cells that is not dirt."""
FILLED = 0.5
"""Share of rows, above which a column of words may name a channel; remarks come now and then."""
EVENLY = 0.5
"""Rows of the rarest pair of words over those of all pairs, from which both words name a channel."""


def detect(head: bytes) -> bool:
    """Text with a table of numbers in it."""
    return is_turned(head) or shape_of(head) is not None


def read(file: LogFile, request: Request) -> RawLog:
    """All columns of numbers against their time column, faithful."""
    file = laid_out(file)
    parts = sections_of(file)
    return read_sections(parts, _read) if len(parts) > 1 else _read(parts[0])


def _read(file: LogFile) -> RawLog:
    shape = shape_of(file.head())
    if shape is None:
        raise UnreadableFile(f"{file.name} holds no table of numbers: export the drive as CSV and open that.")
    columns = _read_columns(file, shape)
    clocks = _clocks(shape, columns)
    if "t" in shape.kinds:
        long = _read_long(file, shape, columns, clocks)
        if long is not None:
            return long
    numbers = [c if isinstance(c, np.ndarray) else None for c in columns]
    names, units = shape.names, shape.units
    notes: tuple[str, ...] = ()
    above = _above(file, shape)
    if not any(speed_factor(unit) is not None for unit in units):
        # not in the names of the table: one of them may be in a unit of its own
        remarks = [line for line in above if 2 * line.count(shape.separator) < len(names)]
        stated = stated_speed_unit("\n".join(remarks))
        units = tuple(unit or stated for unit in units)
    if "c" not in shape.kinds and not has_clock(names, units, numbers):
        seconds = stated_interval("\n".join(above))
        if seconds is not None:
            times = times_by_rate(names, numbers, seconds, len(columns[0]))
            names, units, numbers = (*names, "time"), (*units, "s"), [*numbers, times]
            notes = (f"No column is a time: rows were taken {seconds:g} s apart, as the lines above them say.",)
    raw = assemble(file.name, names, units, numbers, "csv", clocks)
    return replace(raw, warnings=(*notes, *raw.warnings))


def _above(file: LogFile, shape: Shape) -> list[str]:
    """The lines before the first row."""
    decoded = decode_head(file.head())
    assert decoded is not None
    return decoded[0].split("\n", shape.first_row)[: shape.first_row]


def _clocks(shape: Shape, columns: list[Array | pl.Series]) -> dict[int, Array]:
    """Columns of clock times and dates, in seconds of the day."""
    return {
        i: clock_seconds(c.to_list())
        for i, c in enumerate(columns)
        if shape.kinds[i] == "c" and not isinstance(c, np.ndarray)
    }


def _read_columns(file: LogFile, shape: Shape) -> list[Array | pl.Series]:
    """Columns of numbers as arrays; clocks and words as series of text."""
    bare = shape.plain and not _groups_digits(file, shape)
    if bare and shape.encoding == "utf-8":
        columns = read_plain(file, shape.separator, shape.decimal_comma, shape.first_row, len(shape.names))
        if columns is not None:
            return list(columns)
    import polars as pl

    source: object = file.path if file.content is None else file.content
    if shape.encoding not in ("utf-8", "utf-8-sig"):
        source = file.read().decode(shape.encoding, errors="replace").encode("utf-8")
    kind = pl.Float64 if bare else pl.String
    try:
        table = pl.read_csv(
            source,  # type: ignore[arg-type]
            separator=shape.separator,
            has_header=False,
            skip_lines=shape.first_row,
            schema={f"c{i}": kind for i in range(len(shape.names))},
            infer_schema=False,
            truncate_ragged_lines=True,
            ignore_errors=bare,
            decimal_comma=bare and shape.decimal_comma,
            encoding="utf8-lossy",
            low_memory=False,
        )
    except (pl.exceptions.PolarsError, OSError) as error:
        reason = str(error).splitlines()[0][:120]
        raise UnreadableFile(
            f"{file.name} breaks off or changes its shape ({reason}): export the log again."
        ) from error
    if bare and _holds_words(file, shape, table):
        return _read_columns(file, replace(shape, plain=False))
    comma = shape.decimal_comma if bare else _has_decimal_comma(table, shape)
    out: list[Array | pl.Series] = []
    for kind_letter, column in zip(shape.kinds, table.iter_columns(), strict=True):
        if bare:
            # no copy where there is nothing to mend: hours of log are large
            values = column.to_numpy()
            if not np.isfinite(values).all():
                values = np.where(np.isinf(values), np.nan, values)
            out.append(values)
        elif kind_letter == "n":
            out.append(numbers_of(column, comma, shape.units_in_cells))
        else:
            out.append(column)
    return out


def _holds_words(file: LogFile, shape: Shape, table: pl.DataFrame) -> bool:
    """Whether many cells that are neither numbers nor empty begin further down than the head of the file reaches."""
    rows = [int(np.argmax(column.is_null().to_numpy())) for column in table.iter_columns() if column.null_count()]
    if not rows:
        return False
    first = shape.first_row + min(rows)
    with file.open() as stream:
        lines = [line.decode("utf-8", "replace") for line in islice(stream, first, first + LOOKED_AT)]
    cells = [clean(cell) for line in lines for cell in line.split(shape.separator)]
    words = sum(not is_number(cell) and not is_missing(cell) for cell in cells)
    return words > MANY * len(cells)


def _has_decimal_comma(table: pl.DataFrame, shape: Shape) -> bool:
    """The decimal sign by the numbers of the whole log: a vehicle that stands at first reads ``0`` in all its rows."""
    told: list[str] = []
    whole = 0
    for kind_letter, column in zip(shape.kinds, table.iter_columns(), strict=True):
        if kind_letter == "n":
            signed = column.filter(column.str.contains("[.,]"))
            whole += len(signed) > ALL * len(column)
            told += signed.gather_every(max(1, len(signed) // MOST_SIGNED)).to_list()
    cells = [clean(cell) for cell in told]
    numbers = [c for cell in cells for c in (cell, *(split_unit(cell) or ())[:1]) if is_number(c)]
    if whole >= ALL_SIGNED and not any("." in number for number in numbers):
        # groups of three would be missing in smaller numbers
        return any("," in number for number in numbers)
    return uses_decimal_comma(numbers, shape.separator) if numbers else shape.decimal_comma


def _groups_digits(file: LogFile, shape: Shape) -> bool:
    """Whether the sign that is not the decimal one stands anywhere, or digits in groups: numbers grow into ``1.000``
    late in a log, and the first of a standing vehicle have no decimals. Between commas such cells stand in quotes."""
    sign = b"." if shape.decimal_comma else b","
    if shape.separator.encode() == sign:
        sign = b'"'
    with file.open() as stream:
        for _ in range(shape.first_row):
            stream.readline()
        chunks = iter(lambda: stream.read(CHUNK), b"")
        return any(sign in c or (any(m in c for m in _BETWEEN_GROUPS) and bool(_GROUP.search(c))) for c in chunks)


def _read_long(
    file: LogFile, shape: Shape, columns: list[Array | pl.Series], clocks: dict[int, Array]
) -> RawLog | None:
    """Long form: text columns name the channel (its code, its words or both), one holds the value; else ``None``."""
    unit_at = next((i for i, name in enumerate(shape.names) if "unit" in name.lower()), None)
    naming = [c for i, c in enumerate(columns) if i != unit_at and shape.kinds[i] == "t" and _names_channels(c)]
    wide = [c if isinstance(c, np.ndarray) else None for c in columns]
    numbers = [c for c in wide if c is not None]
    if not naming or not numbers:
        return None
    labels = _labels([c for c in naming if not isinstance(c, np.ndarray)])
    # lines without a channel or a number are no rows of the table: remarks below it, blank lines
    told = np.any([~np.isnan(c) for c in (*numbers, *clocks.values())], axis=0)
    named = np.flatnonzero((labels != "") & told)
    labels = labels[named]
    # read as wide with one value channel first: that finds the clock
    channels: list[RawChannel] = []
    warnings: dict[str, None] = {}
    for rows in _rows_of_a_clock(labels):
        here, abreast = named[rows], np.unique(labels[rows]).size
        part, own_clocks = [None if c is None else c[here] for c in wide], {i: c[here] for i, c in clocks.items()}
        raw = assemble(file.name, shape.names, shape.units, part, "csv", own_clocks, abreast)
        if any(c.times_s.size != rows.size for c in raw.channels):
            return None
        values = [c for c in raw.channels if len(raw.channels) == 1 or not _only_numbers_rows(c.values, labels[rows])]
        if len(values) != 1:
            return None
        warnings |= dict.fromkeys(raw.warnings)
        value = values[0]
        units = None if unit_at is None else columns[unit_at]
        for name in dict.fromkeys(labels[rows].tolist()):
            own = np.flatnonzero(labels[rows] == name)
            if own.size < LEAST_ROWS:
                continue
            said = None if units is None or isinstance(units, np.ndarray) else units[int(here[own[0]])]
            unit = value.unit if units is None or isinstance(units, np.ndarray) else clean(said or "") or None
            channels.append(RawChannel(name, unit, value.times_s[own], value.values[own]))
    return RawLog(tuple(channels), "csv", tuple(warnings)) if channels else None


def _only_numbers_rows(values: Array, labels: npt.NDArray[np.str_]) -> bool:
    """Whether a column counts the rows, or says in figures what channel each of them is of."""
    if values.size > 1 and values[1] != values[0] and bool((np.diff(values) == values[1] - values[0]).all()):
        return True
    names, of_name = np.unique(labels, return_inverse=True)
    told = np.full(names.size, np.nan)
    told[of_name] = values
    return bool(np.array_equal(told[of_name], values, equal_nan=True))


def _rows_of_a_clock(labels: npt.NDArray[np.str_]) -> list[npt.NDArray[np.int64]]:
    """Rows by channel where one channel stands below the other, with the clock from its beginning; else all."""
    rows = np.arange(labels.size)
    begins = np.flatnonzero(labels[1:] != labels[:-1]) + 1
    parts = np.split(rows, begins)
    grouped = len(parts) == np.unique(labels).size and min(map(len, parts)) >= EVENLY * labels.size / len(parts)
    return parts if grouped else [rows]


def _labels(columns: list[pl.Series]) -> npt.NDArray[np.str_]:
    """The channel that each row names. What only repeats the most telling column in other words is put to it, and what
    splits its channels evenly (axle and side); a state that changes now and then names none."""
    told, *others = sorted(
        (np.asarray([clean(cell or "") for cell in c.to_list()]) for c in columns), key=lambda c: -np.unique(c).size
    )
    for other in others:
        both = np.char.strip(np.char.add(np.char.add(told, " "), other))
        rows = np.unique(both[both != ""], return_counts=True)[1]
        if rows.size == np.unique(told[told != ""]).size or rows.min() > EVENLY * rows.mean():
            told = both
    return told


def _names_channels(column: Array | pl.Series) -> bool:
    """Whether the words of a column come again and again, in most rows, and are more than one."""
    if isinstance(column, np.ndarray):
        return False
    words = column.drop_nulls().str.strip_chars(' "\t\r')
    words = words.filter(words != "")
    distinct = words.n_unique()
    return 1 < distinct <= MOST_CHANNELS_LONG and distinct < 0.5 * len(column) and len(words) > FILLED * len(column)
