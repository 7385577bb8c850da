"""Logs that name every value: ``{"t": 0.02, "FL": 34.5}`` a line, whole JSON files, ``t=0.02 FL=34.5`` → `RawLog`.

They are brought to a table of tabs, and the reader of tables takes it from there: clocks, units and the long form
(time, channel, value) are the same thing in any spelling.
"""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import replace

from nodrek.core.model import RawLog
from nodrek.errors import UnreadableFile
from nodrek.io.logs import text
from nodrek.io.logs.cells import is_clock, is_number, split_unit
from nodrek.io.logs.json_tables import is_json, json_rows
from nodrek.io.logs.shape import MOST_COLUMNS, decode_head
from nodrek.io.logs.source import LogFile, Request

LARGEST = 64 * 1024**2
"""Bytes rewritten at most: two hours of four wheels, fifty times a second. Nobody names each value of a long log."""
CELLS_PER_BYTE = 4.0
"""Cells that a byte of log may ask for: rows that each name something new would grow with the square of the file."""
_LEAST_BLOCK_LINES, _BLOCK_SHARE = 12, 0.6
_AROUND_STAMP = " \t\r\n-=#*[]<>|"
_ELEMENT = re.compile(r"<(?P<name>(?!t[dhr]>)[\w.:-]{1,60})>(?P<value>[^<>]{0,200})</(?P=name)>")
_FIRST_LINES, _LEAST_LINES, _LEAST_SHARE = 200, 3, 0.8
_NUMBER, _UNITS = r"[+-]?\d+(?:[.,]\d+)?(?:[eE][+-]?\d+)?", "km/h|kph|kmph|mph|m/s|rpm|rad/s|1/min|Hz"
_PAIR = re.compile(
    rf"""(?<![\w.])(?P<name>[A-Za-z_][^=:;,|"\t]{{0,60}}+)(?:=|:(?!\d\d:\d\d))\s*
    (?P<value>"[^"]*"
      |\d{{1,4}}[-./]\d{{1,2}}[-./]\d{{1,4}}[T ]\d\d:\d\d[^\s;|]*
      |\d{{1,3}}:\d\d(?::\d\d)?(?:[.,]\d+)?
      |{_NUMBER}(?:(?![\w.])|(?=[kmr1Hs]))(?:\s?(?:{_UNITS}|ms|s)(?![\w/]))?
      |[^\s=:;,|]*+(?!=))""",
    re.VERBOSE,
)
_SPACED = re.compile(
    rf"""(?<![\w.])(?P<name>[A-Za-z_][A-Za-z_0-9.-]{{0,40}}+(?:\ [A-Za-z_][A-Za-z_0-9.-]{{0,40}}+){{0,4}}?)[\s,;|]+
    (?P<value>{_NUMBER}(?:(?![\w.:])|(?=[kmr1H]))(?:\s?(?:{_UNITS})(?![\w/]))?)""",
    re.VERBOSE,
)
"""A name and its value with nothing but space, or the sign that separates cells, between."""
_LEAST_NAMES = 3
_BETWEEN_CELLS = ("\t", ";", "|", ",", None)
_ONE = re.compile(rf"^(?:\s*[-*])?\s*{_PAIR.pattern}[\s,;]*$", re.VERBOSE)
_AHEAD = re.compile(r"[\s\])]*(?:[-=]>)?[\s,;|\[(]+|:$")
"""What ends a word in front of the first name."""


def detect(head: bytes) -> bool:
    """A JSON file, a JSON object a line, or lines of names and values, mostly with ``=`` or ``:`` between."""
    decoded = decode_head(head)
    if decoded is None:
        return False
    start = decoded[0].lstrip()
    if is_json(start):
        return True
    lines = [line for line in start.split("\n")[:_FIRST_LINES] if line.strip()]
    # a preamble may come first, and the last line may be cut
    body = lines[len(lines) // 4 : -1] if len(lines) > _LEAST_LINES else lines
    told = sum(len(_pairs_of(line)) >= 2 for line in body)
    enough = max(_LEAST_LINES - 1, _LEAST_SHARE * len(body))
    if told >= enough:
        # dates of words hold colons too: "Wed Mar 04 08:15:00 GMT+01:00 2026"
        return not _names_its_cells(lines[0], body[0])
    return _is_in_blocks(body) or _names_that_come_again(lines) is not None


def read(file: LogFile, request: Request) -> RawLog:
    """All that is named, against what is named as its time.

    Raises `UnreadableFile` where the file breaks off, is larger than `LARGEST`, or holds no table.
    """
    if file.size > LARGEST:
        raise UnreadableFile(
            f"{file.name} names every value and is larger than {LARGEST // 1024**2} MB: export the drive as CSV, or "
            "the part of it that matters."
        )
    decoded = decode_head(file.head())
    assert decoded is not None
    whole = file.read().decode(decoded[1], errors="replace").lstrip("\ufeff \t\r\n")
    in_json = is_json(whole)
    rows, facts, notes = json_rows(whole, file.name) if in_json else (_named_lines(whole.split("\n")), [], ())
    # half a character that somebody escaped is no text
    table = "\n".join([*map(_plain, facts), _table(rows, file)]).encode(errors="replace")
    raw = text.read(replace(file, content=table), request)
    return replace(raw, format="json" if in_json else "text", warnings=(*notes, *raw.warnings))


def _named_lines(lines: list[str]) -> list[dict[str, str]]:
    """Rows of lines that name their values: each of them one, or a block of lines with one name each."""
    head = [line for line in lines[:_FIRST_LINES] if line.strip()]
    body = head[len(head) // 4 :]
    if _is_in_blocks(body):
        return _rows_of_blocks(lines)
    names = _names_that_come_again(head)
    if names is not None:
        rows = [_pairs_of(line, _SPACED) for line in lines]
        return [row for row in rows if set(names) <= row.keys()]
    return list(map(_pairs_of, lines))


def _names_that_come_again(lines: list[str]) -> tuple[str, ...] | None:
    """The names, each before its value with no sign between, that nearly all lines below the first of a file have;
    ``None`` for other lines."""
    first, lines = lines[: len(lines) // 4], lines[len(lines) // 4 :]
    if any(len(_pairs_of(line).keys() - {"time"}) >= 2 for line in lines[:_LEAST_LINES]):
        return None
    told = [tuple(m["name"].strip() for m in _SPACED.finditer(line)) for line in lines]
    if not told:
        return None
    names, often = Counter(told).most_common(1)[0]
    is_named = len(names) >= _LEAST_NAMES and len(set(names)) == len(names)
    if not is_named or often < max(_LEAST_LINES - 1, _LEAST_SHARE * len(lines)):
        return None
    # states in cells of a table ("valid", "OK") stand before values as well, but below a line of names
    return None if _has_a_head(first, lines[told.index(names)]) else names


def _has_a_head(first: list[str], row: str) -> bool:
    """Whether one of the `first` lines names each cell of a `row` from further down."""
    sign = next(sign for sign in _BETWEEN_CELLS if sign is None or len(row.split(sign)) > _LEAST_NAMES)
    heads = (line.split(sign) for line in first)
    return any(len(head) == len(row.split(sign)) and not any(map(_is_stamp, head)) for head in heads)


def _names_its_cells(head: str, row: str) -> bool:
    """Whether `head` has a name without a value for each of the many cells of `row`."""
    sign = max(_BETWEEN_CELLS[:-1], key=row.count)
    names = head.split(sign)
    named = len(names) > _LEAST_NAMES and len(names) == len(row.split(sign))
    return named and not any(map(_is_stamp, names)) and not _pairs_of(head)


def _is_in_blocks(lines: list[str]) -> bool:
    """Whether lines have one name and value each, and few names come again and again."""
    found = [match["name"].strip() for line in lines if (match := _ONE.match(_without_elements(line)))]
    names = set(found)
    return len(found) >= _LEAST_BLOCK_LINES and len(found) >= _BLOCK_SHARE * len(lines) and 3 * len(names) <= len(found)


def _rows_of_blocks(lines: list[str]) -> list[dict[str, str]]:
    """A block ends where a name comes again, or at a line that is nothing but a stamp, which is the next one's time."""
    rows: list[dict[str, str]] = [{}]
    for line in lines:
        pairs, stamp = _pairs_of(line), line.strip(_AROUND_STAMP)
        if is_number(stamp) or is_clock(stamp):
            rows.append({"time": stamp})
        elif pairs.keys() & rows[-1].keys():
            rows.append(pairs)
        else:
            rows[-1] |= pairs
    return rows


def _pairs_of(line: str, form: re.Pattern[str] = _PAIR) -> dict[str, str]:
    """Names and values of one line; a bare number or clock before the first or behind the last of them is the time,
    also with words behind it."""
    line = _without_elements(line)
    matches = list(form.finditer(line))
    found = {m["name"].strip(): m["value"].strip('"') for m in matches}
    if matches:
        words = _AHEAD.split(line[: matches[0].start()].strip(_AROUND_STAMP))
        for stamp in (" ".join(words[:many]) for many in (4, 3, 2, 1)):
            if _is_stamp(stamp):
                return {"time": stamp, **found}
    behind = line[matches[-1].end() :].strip() if matches else ""
    if behind and _is_stamp(behind):
        return {"time": behind, **found}
    return found


def _is_stamp(text: str) -> bool:
    return is_number(text) or is_clock(text) or split_unit(text) is not None


def _without_elements(line: str) -> str:
    """``<FL>34.5</FL>`` → ``FL=34.5``."""
    return _ELEMENT.sub(r" \g<name>=\g<value> ", line) if "</" in line else line


def _plain(cell: str) -> str:
    """Nothing of it may end the cell or the row, or begin a quotation."""
    return " ".join(cell.replace('"', "'").split())


def _table(rows: list[dict[str, str]], file: LogFile) -> str:
    """Rows that name their values as lines of tabs under one line of names."""
    kept = [row for row in rows if len(row) > 1]
    names: dict[str, None] = {}
    for row in kept:
        names.update(dict.fromkeys(row))
    if not kept:
        raise UnreadableFile(f"{file.name} holds no table of numbers: export the drive as CSV and open that.")
    if len(names) > MOST_COLUMNS or len(names) * len(kept) > CELLS_PER_BYTE * file.size:
        raise UnreadableFile(
            f"{file.name} names {len(names)} different values, more than a log of its size should: export it again, "
            "or as CSV."
        )
    head = "\t".join(map(_plain, names))
    return "\n".join([head, *("\t".join(_plain(row.get(name, "")) for name in names) for row in kept), ""])
