"""Tables of text: comma, semicolon, tab or bar between cells, point or comma in numbers.

The shape of the table (separator, decimal sign, where the header ends) is worked out from
the first lines; the numbers themselves are read by polars in one go.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from nodrek.core.model import Array, RawChannel, RawLog
from nodrek.core.units import speed_factor, time_factor
from nodrek.errors import UnreadableFile
from nodrek.io.logs.guard import read_head
from nodrek.io.logs.plain import read_plain

if TYPE_CHECKING:
    import polars as pl

SEPARATORS = ("\t", ";", ",", "|")
MOST_COLUMNS = 4000
SAMPLE_LINES = 60
FIRST_LOOK = 150
_NUMBER = re.compile(r"^[+-]?(\d+([.,]\d*)?|[.,]\d+)([eE][+-]?\d+)?$")
_IN_NAME = re.compile(r"^(?P<name>.*?)\s*[\[(]\s*(?P<unit>[^\[\]()]{1,24})\s*[\])]\s*$")
_TIME_NAMES = frozenset(
    ("time", "t", "timestamp", "timestamps", "zeit", "zeitstempel", "temps", "tiempo", "tempo", "czas", "tijd",
     "tid", "cas", "čas", "elapsed", "elapsed time", "seconds", "sec", "secs", "offset", "relative time",
     "time stamp", "t_s", "abs time", "log time", "logging time")
)  # fmt: skip


@dataclass(frozen=True)
class Shape:
    """How a text table is written; ``first_row`` is the line number of the first numbers.

    ``plain``: cells need no trimming or unquoting, so numbers can be read directly.
    """

    encoding: str
    separator: str
    decimal_comma: bool
    names: tuple[str, ...]
    units: tuple[str | None, ...]
    first_row: int
    plain: bool


def detect(head: bytes) -> bool:
    """Text with a table of numbers in it."""
    text = _decode_head(head)
    return text is not None and _find_shape(text[0], text[1]) is not None


def read(path: Path) -> RawLog:
    """All columns of numbers against the time column, faithful."""
    decoded = _decode_head(read_head(path))
    shape = _find_shape(*decoded) if decoded else None
    if shape is None:
        raise UnreadableFile(f"{path.name} holds no table of numbers: export the drive as CSV and open that.")
    columns = _read_columns(path, shape)
    at = _time_column(shape, columns)
    if at is None:
        raise UnreadableFile(f"{path.name} has no time column: a column named time, rising from row to row, is needed.")
    times, warnings = _seconds(columns[at], shape.units[at])
    good = ~np.isnan(times)
    if good.sum() < 2:
        raise UnreadableFile(f"{path.name} has fewer than two rows with a time: record the drive again.")
    times = times[good]
    channels = tuple(
        RawChannel(name, unit, times, values[good])
        for i, (name, unit, values) in enumerate(zip(shape.names, shape.units, columns, strict=True))
        if i != at
    )
    return RawLog(channels, "csv", warnings)


def _decode_head(head: bytes) -> tuple[str, str] | None:
    """Text and encoding of the first bytes; ``None`` for anything that is not text."""
    if head.startswith((b"\xff\xfe", b"\xfe\xff")):
        return head[: len(head) // 2 * 2].decode("utf-16", errors="replace"), "utf-16"
    if b"\x00" in head:
        return None
    if head.startswith(b"\xef\xbb\xbf"):
        return head[3:].decode("utf-8", errors="replace"), "utf-8-sig"
    try:
        return head.decode("utf-8"), "utf-8"
    except UnicodeDecodeError as error:
        # a cut in the middle of the last character is no sign of another encoding
        if error.start > len(head) - 4:
            return head[: error.start].decode("utf-8"), "utf-8"
    control = sum(head.count(bytes([code])) for code in (*range(9), *range(14, 32), 127))
    if control > len(head) // 500:
        return None
    return head.decode("cp1252", errors="replace"), "cp1252"


def _find_shape(text: str, encoding: str) -> Shape | None:
    lines = text.split("\n")
    if len(text) >= 1000 and lines:
        lines = lines[:-1]  # the last line of the head may be cut
    # the table nearly always starts soon; only a long preamble costs a longer look
    return _shape_of(lines[:FIRST_LOOK], encoding) or _shape_of(lines[:4000], encoding)


def _shape_of(lines: list[str], encoding: str) -> Shape | None:
    best: Shape | None = None
    best_score = 0
    for separator in SEPARATORS:
        rows = [_cells(line, separator) for line in lines]
        found = _first_numbers(rows, separator)
        if found is None:
            continue
        first, width = found
        sample = [r for r in rows[first : first + SAMPLE_LINES] if len(r) >= width - 1]
        score = len(sample) * min(width, 50)
        if score <= best_score or width > MOST_COLUMNS:
            continue
        comma = separator != "," and _uses_decimal_comma(sample)
        names, units = _header(rows, first, width)
        plain = not any(mark in line for line in lines[first:] for mark in ('"', " ", "\xa0"))
        best, best_score = Shape(encoding, separator, comma, names, units, first, plain), score
    return best


def _cells(line: str, separator: str) -> list[str]:
    return [cell.strip().strip('"').strip() for cell in line.rstrip("\r").split(separator)]


def _is_number(cell: str) -> bool:
    return bool(_NUMBER.match(cell))


def _first_numbers(rows: list[list[str]], separator: str) -> tuple[int, int] | None:
    """First line of three in a row that look like data, and their number of cells."""
    for i in range(len(rows) - 1):
        width = len(rows[i])
        if width < 2:
            continue
        following = rows[i : i + 3]
        if all(len(r) == width and _looks_like_data(r) for r in following):
            return i, width
    return None


def _looks_like_data(row: list[str]) -> bool:
    filled = [cell for cell in row if cell]
    numbers = sum(_is_number(cell) for cell in filled)
    return numbers >= 1 and numbers >= 0.5 * len(filled) and _is_number(row[0] or "0")


def _uses_decimal_comma(rows: list[list[str]]) -> bool:
    commas = sum("," in cell for row in rows for cell in row if _is_number(cell))
    points = sum("." in cell for row in rows for cell in row if _is_number(cell))
    return commas > points


def _header(rows: list[list[str]], first: int, width: int) -> tuple[tuple[str, ...], tuple[str | None, ...]]:
    """Names and units above the first numbers: one line, or names and a line of units."""
    above = [r for r in rows[max(0, first - 4) : first] if len(r) == width and any(r)]
    units: list[str | None] = [None] * width
    if above and len(above) > 1 and _is_unit_row(above[-1]):
        units = [_unit_text(cell) for cell in above[-1]]
        above = above[:-1]
    names = above[-1] if above else [f"column {i + 1}" for i in range(width)]
    plain = []
    for i, name in enumerate(names):
        match = _IN_NAME.match(name)
        if match and units[i] is None:
            plain.append(match["name"] or name)
            units[i] = match["unit"].strip()
        else:
            plain.append(name or f"column {i + 1}")
    return tuple(plain), tuple(units)


def _is_unit_row(row: list[str]) -> bool:
    filled = [cell for cell in row if cell]
    known = sum(speed_factor(cell) is not None or time_factor(cell.strip("[]()")) is not None for cell in filled)
    return bool(filled) and known >= max(1, len(filled) // 3) and not any(_is_number(c) for c in filled)


def _unit_text(cell: str) -> str | None:
    return cell.strip().strip("[]()").strip() or None


def _read_columns(path: Path, shape: Shape) -> list[Array]:
    """All columns as numbers; cells that hold none are NaN."""
    if shape.plain and shape.encoding == "utf-8":
        columns = read_plain(path, shape.separator, shape.decimal_comma, shape.first_row, len(shape.names))
        if columns is not None:
            return columns
    import polars as pl

    source: Path | bytes = path
    if shape.encoding not in ("utf-8", "utf-8-sig"):
        source = path.read_bytes().decode(shape.encoding, errors="replace").encode("utf-8")
    kind = pl.Float64 if shape.plain else pl.String
    try:
        table = pl.read_csv(
            source,
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
            f"{path.name} breaks off or changes its shape ({reason}): export the log again."
        ) from error
    out = []
    for column in table.iter_columns():
        values = (column if shape.plain else _numbers(column, shape.decimal_comma)).to_numpy(writable=True)
        values[np.isinf(values)] = np.nan
        out.append(values)
    return out


def _numbers(column: pl.Series, decimal_comma: bool) -> pl.Series:
    """A column of text as numbers, its padding and quotes taken off."""
    import polars as pl

    text = column.str.strip_chars(' "')
    if decimal_comma:
        text = text.str.replace(",", ".", literal=True)
    return text.cast(pl.Float64, strict=False)


def _time_column(shape: Shape, columns: list[Array]) -> int | None:
    """By name first, then by behaviour: the first column that rises from row to row."""
    named = [
        i for i, name in enumerate(shape.names)
        if _plain(name) in _TIME_NAMES or time_factor(shape.units[i]) is not None
    ]  # fmt: skip
    order: list[int] = [*named, *range(len(columns))]
    for i in order:
        known = columns[i][~np.isnan(columns[i])]
        if known.size < 2:
            continue
        steps = np.diff(known)
        if np.mean(steps >= 0) > 0.98 and known[-1] > known[0] and (i in named or np.mean(steps > 0) > 0.9):
            return i
    return None


def _plain(name: str) -> str:
    return " ".join(name.strip().lower().replace("_", " ").split())


def _seconds(values: Array, unit: str | None) -> tuple[Array, tuple[str, ...]]:
    """Seconds, and what had to be assumed: without a unit the size of the steps tells it."""
    factor = time_factor(unit)
    if factor is not None:
        return values * factor, ()
    known = values[~np.isnan(values)]
    steps = np.diff(known)
    step = float(np.median(steps[steps > 0])) if (steps > 0).any() else 1.0
    if step < 3.0:
        return values, ()
    factor, word = (1e-3, "milliseconds") if step < 3000.0 else (1e-6, "microseconds")
    return values * factor, (f"The time column has no unit; steps of {step:g} were taken as {word}.",)
