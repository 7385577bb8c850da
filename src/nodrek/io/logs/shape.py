"""How a text table is written: encoding, separator, decimal sign, header, first row."""

from __future__ import annotations

import csv
import re
from dataclasses import dataclass

from nodrek.core.units import is_no_unit, is_speed_spelling, time_factor
from nodrek.io.logs.cells import clean, has_grouping, is_clock, is_missing, is_number, split_unit, uses_decimal_comma

SEPARATORS = ("\t", ";", ",", "|")
MOST_COLUMNS = 4000
FIRST_LOOK = 150
LONG_LOOK = 4000
SAMPLE_LINES, LATER_LINES = 60, 120
HEADER_LINES, MOST_LISTED = 8, 60
_LISTED = re.compile(r"^\W*(?:[^\W\d]{1,12}\.?\s*)?#?(?P<number>\d{1,4})\s*[:=.)-]\s*(?P<name>[^\W\d].{0,120})$")
RUN_ON, LEAST_ALIKE = 12, 0.6
"""Rows that are compared with the first one, and the share of them that is like it."""
COMMENTS = ("#", "//", "%", "*", "!")
KINDS = frozenset(
    ("float", "double", "real", "single", "int", "uint", "integer", "number", "numeric", "string", "text", "bool",
     "boolean", "datetime", "date", "time", "decimal", "long", "short", "byte", "unsigned", "signed")
)  # fmt: skip
SUMMARIES = frozenset(
    ("min", "min.", "minimum", "max", "max.", "maximum", "mean", "average", "avg", "avg.", "mittel", "mittelwert",
     "median", "std", "sum", "summe", "moyenne", "media", "promedio", "gemiddelde", "średnia")
)  # fmt: skip
"""What begins a row that sums a column up, above its values."""
_CYRILLIC, _ACCENTED = re.compile(rb"[\xc0-\xff]{3}"), re.compile(rb"[A-Za-z][\xc0-\xff]")
"""Three bytes of one word that would all be accented in a Latin code page, and what Latin words have instead."""
_TORN = re.compile(r"^\d+(\s+[+-]?\d+)+$")
_IN_NAME = re.compile(r"^(?P<name>.*?)\s*[\[({]\s*(?P<unit>[^\[\](){}]{1,24})\s*[\])}]\s*$")


@dataclass(frozen=True)
class Shape:
    """``first_row``: line number of the first data row; ``plain``: nothing but bare numbers;
    ``units_in_cells``: numbers are followed by their units.

    ``kinds`` has one letter a column: n numbers, c clock times, t text.
    """

    encoding: str
    separator: str
    decimal_comma: bool
    names: tuple[str, ...]
    units: tuple[str | None, ...]
    kinds: str
    first_row: int
    plain: bool
    units_in_cells: bool = False


def decode_head(head: bytes) -> tuple[str, str] | None:
    """Text and encoding of the first bytes; ``None`` for anything that is not text."""
    if head.startswith((b"\xff\xfe", b"\xfe\xff")):
        return head[: len(head) // 2 * 2].decode("utf-16", errors="replace"), "utf-16"
    # loggers that reserve their space leave zeros behind the last row
    head = head.rstrip(b"\x00")
    if b"\x00" in head:
        return _unmarked_utf16(head)
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
    page = "cp1251" if len(_CYRILLIC.findall(head)) > len(_ACCENTED.findall(head)) else "cp1252"
    return head.decode(page, errors="replace"), page


def _unmarked_utf16(head: bytes) -> tuple[str, str] | None:
    """UTF-16 without its mark: every other byte of Latin text is zero."""
    even, odd = head[0::2], head[1::2]
    for zeros, others, name in ((odd, even, "utf-16-le"), (even, odd, "utf-16-be")):
        if len(zeros) > 8 and zeros.count(0) > 0.9 * len(zeros) and others.count(0) == 0:
            return head[: len(head) // 2 * 2].decode(name, errors="replace"), name
    return None


def find_shape(text: str, encoding: str) -> Shape | None:
    """The shape of a table in `text`; ``None`` where there is none."""
    lines = text.split("\n")
    if len(text) >= 1000 and lines:
        lines = lines[:-1]  # the last line of the head may be cut
    # the table nearly always starts soon; only a long preamble costs a longer look
    return _shape_of(lines, FIRST_LOOK, encoding) or _shape_of(lines, LONG_LOOK, encoding)


def _shape_of(lines: list[str], look: int, encoding: str) -> Shape | None:
    """Of a table that begins in the first `look` lines."""
    best: Shape | None = None
    best_score = 0.0
    for separator in SEPARATORS:
        rows = [split_cells(line, separator) for line in lines[:look]]
        found = _first_data(rows)
        if found is None:
            continue
        first, width = found
        sample = [r for r in rows[first : first + SAMPLE_LINES] if width - 1 <= len(r) <= width + 1]
        if not all(any(i < len(r) and not is_missing(r[i]) for r in sample) for i in range(width)):
            # nothing is read of a channel until the vehicle moves
            later = lines[first + SAMPLE_LINES :]
            cells_of = (split_cells(line, separator) for line in later[:: len(later) // LATER_LINES + 1])
            sample += [r for r in cells_of if len(r) == width]
        if separator == "," and 2 * sum(any(map(_is_torn, row)) for row in sample) > len(sample):
            continue
        filled = sum(_is_value(c) for r in sample for c in r)
        # a decimal comma cuts numbers in two when comma is tried as separator: prefer fewer, fuller columns
        score = filled * (1.0 if separator != "," else 0.6) if width <= MOST_COLUMNS else 0.0
        if score <= best_score:
            continue
        split = [split_unit(c) for r in sample for c in r]
        cells = [c for r in sample for c in r if is_number(c)] + [s[0] for s in split if s]
        comma = uses_decimal_comma(cells, separator)
        names, units = _header(rows, first, width, separator)
        told = {k % width: s[1] for k, s in enumerate(split) if s} if all(len(r) == width for r in sample) else {}
        units = tuple(u or told.get(k) for k, u in enumerate(units))
        kinds = "".join(_kind([r[i] for r in sample if i < len(r)]) for i in range(width))
        marks = ('"', " ", "\xa0", "'", "\u202f", "\u2212")
        plain = set(kinds) <= {"n"} and not any(m in line for line in lines[first:look] for m in marks)
        plain = plain and not any(has_grouping(c) for c in cells) and not any(split)
        best, best_score = Shape(encoding, separator, comma, names, units, kinds, first, plain, any(split)), score
    return best


def name_and_unit(text: str) -> tuple[str, str | None]:
    """``"Speed FL [km/h]"`` → ``("Speed FL", "km/h")``."""
    match = _IN_NAME.match(text.strip())
    if match and match["name"].strip() and not is_no_unit(match["unit"]):
        return match["name"].strip(), match["unit"].strip()
    return text.strip(), None


def split_cells(line: str, separator: str) -> list[str]:
    """Cells of a line, trimmed and unquoted; separators inside quotes stay."""
    line = line.rstrip("\r")
    if '"' in line:
        try:
            return [clean(c) for c in next(csv.reader([line], delimiter=separator), [])]
        except csv.Error:
            pass
    return [cell.strip() for cell in line.split(separator)]


def _first_data(rows: list[list[str]]) -> tuple[int, int] | None:
    """First line of three in a row that look like data, and their number of cells."""
    told = [i for i, row in enumerate(rows) if any(row)]
    for place, i in enumerate(told[:-1]):
        width = len(rows[i])
        if width < 2 or not _looks_like_data(rows[i]):
            continue
        after = [rows[k] for k in told[place + 1 : place + 1 + RUN_ON]]
        if all(len(r) == width and _looks_like_data(r) for r in after[:2]) and _goes_on(rows[i], after):
            return i, width
    return None


def _goes_on(row: list[str], after: list[list[str]]) -> bool:
    """Whether most rows `after` one are as long and begin with a value where it does: a few rows of facts above the
    names, each with its word in front, are no table."""
    alike = sum(len(r) == len(row) and (is_missing(r[0]) or _is_value(r[0]) == _is_value(row[0])) for r in after)
    return alike >= LEAST_ALIKE * len(after)


def _is_torn(cell: str) -> bool:
    """The decimals of one number and the beginning of the next: columns are set apart by spaces."""
    return bool(_TORN.match(cell)) and not is_number(cell)


def _looks_like_data(row: list[str]) -> bool:
    filled = [c for c in row if not is_missing(c)]
    values = sum(_is_value(c) for c in filled)
    if row[0].startswith(COMMENTS) or _sums_up(row) or not values:
        return False
    # in long form names, codes and units may be more than the time and the value
    return values >= 0.5 * len(filled) or (values >= 2 and _is_value(row[0]))


def _sums_up(row: list[str]) -> bool:
    return row[0].strip(" :").lower() in SUMMARIES and any(map(_is_value, row[1:]))


def _is_value(cell: str) -> bool:
    return is_number(cell) or is_clock(cell) or split_unit(cell) is not None


def _kind(cells: list[str]) -> str:
    filled = [c for c in cells if not is_missing(c)]
    numbers = sum(is_number(c) or split_unit(c) is not None for c in filled)
    clocks = sum(map(is_clock, filled))
    if not filled or numbers >= 0.5 * len(filled):
        return "n"
    return "c" if clocks >= 0.5 * len(filled) else "t"


def _header(
    rows: list[list[str]], first: int, width: int, separator: str
) -> tuple[tuple[str, ...], tuple[str | None, ...]]:
    """Names and units above the first data row: one line, or names and a line of units."""
    listed = _listed_names(rows[max(0, first - MOST_LISTED) : first], width)
    if listed is not None:
        return listed
    # a mark of a comment that stands alone is no name: "% time FL FR"
    lines = [r[1:] if r[0] in COMMENTS else r for r in rows[max(0, first - HEADER_LINES) : first] if not _sums_up(r)]
    above = [_fit(r, width) for r in lines if any(r) and min(abs(len(r) - width), abs(_named_cells(r) - width)) <= 1]
    if len(above) > 1 and _is_row_of_kinds(above[-1]):
        above = above[:-1]
    units: list[str | None] = [None] * width
    # a name may stand in the line above that of the others: "time, front, , rear, " over ", left, right, left, right"
    if len(above) > 1 and _is_unit_row(above[-1], [any(cells) for cells in zip(*above[-3:-1], strict=True)]):
        units = [_unit_text(cell) for cell in above[-1]]
        above = above[:-1]
    names = above[-1] if above else [f"column {i + 1}" for i in range(width)]
    if len(above) > 1 and len({n for n in names if n}) < sum(map(bool, names)):
        # "left, right, left, right" under "front axle, , rear axle, "
        over = ""
        for i, name in enumerate(names):
            over = above[-2][i] or over
            names[i] = f"{over} {name}".strip()
    plain = []
    for i, cell in enumerate(names):
        name = cell
        for mark in COMMENTS:
            name = name.removeprefix(mark) if i == 0 else name
        bare, unit = name_and_unit(name)
        if unit is not None and units[i] is None:
            plain.append(bare)
            units[i] = unit
        else:
            plain.append(name.strip() or f"column {i + 1}")
    return tuple(plain), tuple(units)


def _listed_names(above: list[list[str]], width: int) -> tuple[tuple[str, ...], tuple[str | None, ...]] | None:
    """Names that stand one below the other, each behind the number of its column; ``None`` where there are none."""
    told = [m for row in above if (m := _LISTED.match(" ".join(cell for cell in row if cell)))]
    numbers = [int(m["number"]) for m in told]
    if len(told) < width or numbers[-width:] not in (list(range(width)), list(range(1, width + 1))):
        return None
    pairs = [name_and_unit(m["name"]) for m in told[-width:]]
    return tuple(name for name, _ in pairs), tuple(unit for _, unit in pairs)


def _named_cells(row: list[str]) -> int:
    """Cells up to the last one that is filled: spreadsheets leave empty ones behind the names."""
    return max(i for i, cell in enumerate(row) if cell) + 1


def _fit(row: list[str], width: int) -> list[str]:
    return [*row, *[""] * width][:width]


def _is_unit_row(row: list[str], named: list[bool]) -> bool:
    """Whether a row tells the units of the columns that are `named` above it, which are as many or more."""
    filled = [c for c in row if c]
    if len(filled) > sum(named):
        return False
    known = sum(is_speed_spelling(c) or time_factor(c.strip("[](){}")) is not None for c in filled)
    short = sum(len(c) <= 8 for c in filled)
    return bool(filled) and known >= 1 and short >= 0.8 * len(filled) and not any(is_number(c) for c in filled)


def _is_row_of_kinds(row: list[str]) -> bool:
    """``float, float, int``: how the logger keeps its values."""
    filled = [c.lower().rstrip("0123456789") for c in row if c]
    return bool(filled) and all(c in KINDS for c in filled)


def _unit_text(cell: str) -> str | None:
    return cell.strip().strip("[](){}").strip() or None
