"""Tables laid out for eyes or for old machines, brought to one cell beside the other.

Lines that end with a carriage return alone, and columns set apart by spaces, become lines
and tabs; everything else is left as it is.
"""

from __future__ import annotations

import re
from dataclasses import replace
from itertools import zip_longest

from nodrek.io.logs.cells import clean, is_clock, is_missing, is_number
from nodrek.io.logs.shape import SEPARATORS, Shape, decode_head, find_shape, name_and_unit
from nodrek.io.logs.source import LogFile
from nodrek.io.logs.wide import is_clock_name

LARGEST = 64 * 1024**2
"""Bytes rewritten at most: nobody sets hours of log in columns."""
CUT_WITHIN, LEAST_CUT = 8192, 2
STAMPED_ROWS, STAMPED_SHARE, WHOLE_SHARE = 40, 0.7, 0.9
"""Lines that are looked at for stamps, the share of them that has one, and the share of quoted lines that are rows."""
_CUT = re.compile(r"^\s*[+-]?\d+(,[+-]?\d+)*\s*$")
_WHOLE = re.compile(r"^[+-]?\d+$")
_STAMP = re.compile(r"^[ \t]*(?:[\[(]|T\+)(?P<stamp>[+-]?\d[\d:.T+-]{0,40})[\])]?(?=[ \t]*[,;\t|])", re.MULTILINE)
RARE_SEPARATORS, RARE_SHARE = ("^", "~", "#", "&"), 2.0
"""Signs that separate cells where each line has more than so many of them."""
_CELL_ENDS, _TAG = re.compile(r"</t[dh]>\s*(?=<t[dh])", re.IGNORECASE), re.compile(r"<[^<>\n]{0,200}>")
_ROW_ENDS = re.compile(r"</tr>\s*", re.IGNORECASE)
_WHOLE_ROW = re.compile(r"^\"([^\"\n]+)\"[ \r]*$", re.MULTILINE)
LEAST_ABREAST, MOST_TURNED, LONG_ROW, FIRST_ROWS = 40, 400, 100, 20
"""Cells that rows have at least where each is a channel, rows then at most, letters of a row at least, and lines
within which the first one stands."""
NAMES_WITHIN, LONGEST_NAME = 4096, 300
_SPACES = re.compile(r"[ \t]+")
_DECIMAL_COMMA, _OTHER_COMMA = re.compile(r"(?<!\d)\d+,\d"), re.compile(r"\D,\S|,[^\s\d]|\d,\d+,\d|\"")
"""A comma inside a number; one that separates without a space, groups digits or may stand in a quotation."""
_BEFORE_QUOTE = re.compile(r"(?<=[,;|])[ \t]+(?=\")")


def shape_of(head: bytes) -> Shape | None:
    """The shape of the table that `head` begins, as `laid_out` would leave it."""
    decoded = decode_head(head)
    if decoded is None:
        return None
    text, encoding = decoded
    text = _mended(_turned(text) if is_turned(text) else text)
    return find_shape(text, encoding) or find_shape(_with_tabs(text), encoding)


def laid_out(file: LogFile) -> LogFile:
    """The file itself, or one in memory whose lines and cells are set as `Shape` expects, in UTF-8."""
    head = file.head()
    decoded = decode_head(head)
    if decoded is None or file.size > LARGEST:
        return file
    text, encoding = decoded[0], _encoding_of(file) if head.isascii() else decoded[1]
    if is_turned(text):
        return replace(file, content=_turned(file.read().decode(encoding, errors="replace")).encode(errors="replace"))
    lines = _mended(text)
    spaced = find_shape(lines, encoding) is None
    if lines is text and not spaced and encoding.startswith("utf-8"):
        return file
    whole = _mended(file.read().decode(encoding, errors="replace"))
    whole = _with_tabs(whole) if spaced else whole
    return replace(file, content=whole.removeprefix("\ufeff").encode(errors="replace"))


def _encoding_of(file: LogFile) -> str:
    """Of a file that begins in plain letters: an accent may come late, as the name of a corner in long form."""
    decoded = decode_head(file.read())
    return "utf-8" if decoded is None else decoded[1]


def _mended(text: str) -> str:
    """Lines as `Shape` expects them, whatever wrote them; the text itself where nothing is to be mended."""
    text = text.replace("\r", "\n") if "\r" in text and "\n" not in text else text
    text = _without_quotes_round_rows(text) if text.startswith(('"', '\ufeff"')) else text
    text = _with_lone_commas(_BEFORE_QUOTE.sub("", text) if ' "' in text else text)
    return _without_breaks_in_names(_with_whole_numbers(_with_bare_stamps(_without_tags(text))))


def is_turned(head: bytes | str) -> bool:
    """Whether a text holds a channel in each row, its name in front; the first row may be cut."""
    text = head if isinstance(head, str) else (decode_head(head) or ("",))[0]
    return any(_names_in_front(row[:LEAST_ABREAST]) for row in _long_rows(text.split("\n", FIRST_ROWS)[:FIRST_ROWS]))


def _turned(text: str) -> str:
    """A table with a channel in each row as one with a channel in each column; what is no such row is left out."""
    long = ((row, _names_in_front(row[:LEAST_ABREAST])) for row in _long_rows(text.split("\n")))
    rows = [(row, front) for row, front in long if front][:MOST_TURNED]
    # a single long row among short ones is no table, and would fill them all up
    longest = max(len(row) for row, _ in rows)
    rows = [(row, front) for row, front in rows if 2 * len(row) >= longest]
    names = [" ".join([row[0], *(f"[{unit}]" for unit in row[1:front] if unit)]) for row, front in rows]
    cells = zip_longest(*(row[front:] for row, front in rows), fillvalue="")
    return "\n".join(["\t".join(names), *map("\t".join, cells), ""])


def _long_rows(lines: list[str]) -> list[list[str]]:
    """Rows of `LEAST_ABREAST` cells and more."""
    long = [line for line in lines if len(line) > LONG_ROW]
    separator = max(SEPARATORS, key=long[0].count) if long else ","
    rows = ([clean(cell) for cell in line.rstrip("\r").split(separator)] for line in long)
    return [row for row in rows if len(row) >= LEAST_ABREAST]


def _names_in_front(row: list[str]) -> int:
    """How many cells of words, one or two, stand in front of numbers or clock times and nothing else; 0 for other
    rows."""
    front = next((k for k, cell in enumerate(row) if is_number(cell) or is_clock(cell)), 0)
    rest = row[front:]
    is_turned = 1 <= front <= 2 and row[0] and all(is_number(c) or is_clock(c) or is_missing(c) for c in rest)
    return front if is_turned else 0


def _without_breaks_in_names(text: str) -> str:
    """Names that a spreadsheet broke into lines, in one line again; a quotation that does not end soon is none."""
    start, rest = text[:NAMES_WITHIN], text[NAMES_WITHIN:]
    parts = start.split('"')
    quoted = parts[1::2]
    if not any("\n" in part for part in quoted) or max(map(len, quoted)) > LONGEST_NAME or len(parts) % 2 == 0:
        return text
    return '"'.join(" ".join(p.split()) if i % 2 and "\n" in p else p for i, p in enumerate(parts)) + rest


def _with_lone_commas(text: str) -> str:
    """Numbers with a decimal comma between cells that a comma and a space separate: tabs between the cells."""
    sample = [line for line in text[:CUT_WITHIN].split("\n")[-STAMPED_ROWS:-1] if line.strip()]
    cut = [line for line in sample if ", " in line and _DECIMAL_COMMA.search(line)]
    if not sample or len(cut) < STAMPED_SHARE * len(sample) or any(_OTHER_COMMA.search(line) for line in cut):
        return text
    return text.replace(", ", "\t")


def _with_bare_stamps(text: str) -> str:
    """Times in brackets, or after ``T+``, at the start of rows, without these."""
    sample = [line for line in text[:CUT_WITHIN].split("\n")[-STAMPED_ROWS:-1] if line.strip()]
    if not sample or sum(bool(_STAMP.match(line)) for line in sample) < STAMPED_SHARE * len(sample):
        return text
    return _STAMP.sub(r"\g<stamp>", text)


def _with_whole_numbers(text: str) -> str:
    """Numbers that were cut in two, put together: a decimal comma between cells that a comma separates as well.

    It is told by rows that all have as many cells, and digits alone in each number: twice as many as there are names,
    or one fewer. Then decimals, which are as many in all rows, must leave no choice which of the columns has none (a
    count of milliseconds, a clock); else the table stays as it is.
    """
    lines = text[:CUT_WITHIN].split("\n")
    names = next((k for k, line in enumerate(lines) if line.count(",") >= LEAST_CUT), None)
    if names is None or _CUT.match(lines[names]):
        return text
    named = lines[names].count(",") + 1
    wanted = lines[names + 1].count(",") + 1 if names + 1 < len(lines) else 0
    if wanted not in (2 * named, 2 * named - 1):
        return text
    every = text.split("\n")
    rows = [[cell.strip() for cell in line.split(",")] for line in every[names + 1 :] if line.strip()]
    if len(rows[-1]) != wanted:
        # the last line may be cut
        rows = rows[:-1]
    if not rows or any(len(row) != wanted for row in rows):
        return text
    uncut = _uncut_column(rows, lines[names].split(",")) if wanted < 2 * named else named
    if uncut is None or (uncut == named and not all(_WHOLE.match(cell) for row in rows for cell in row)):
        return text
    return "\n".join([*every[: names + 1], *(",".join(_joined(row, uncut)) for row in rows), ""])


def _uncut_column(rows: list[list[str]], names: list[str]) -> int | None:
    """The only one of the columns that can be the one without decimals; the clock, if several can."""
    named = len(names)
    columns = list(zip(*rows, strict=True))
    decimals = [all(map(str.isdigit, column)) and len({*map(len, column)}) == 1 for column in columns]
    wholes = [all(_WHOLE.match(cell) for cell in column) for column in columns]
    able = []
    for uncut in range(named):
        # two cells each before and behind it
        pairs = [2 * k + (-1 if k > uncut else 0) for k in range(named) if k != uncut]
        if all(wholes[at] and decimals[at + 1] for at in pairs):
            able.append(uncut)
    clocks = [k for k in able if is_clock_name(*name_and_unit(names[k]))]
    return able[0] if len(able) == 1 else clocks[0] if len(clocks) == 1 else None


def _joined(row: list[str], uncut: int) -> list[str]:
    """Cells put together in twos, but for that of the column that is not cut."""
    at = 2 * uncut
    before, alone, behind = row[:at], row[at : at + 1], row[at + 1 :]
    return [*map(".".join, _in_twos(before)), *alone, *map(".".join, _in_twos(behind))]


def _in_twos(cells: list[str]) -> list[list[str]]:
    return [cells[k : k + 2] for k in range(0, len(cells), 2)]


def _with_tabs(text: str) -> str:
    """Cells set apart by a sign that hardly anybody uses, or else by spaces."""
    for sign in RARE_SEPARATORS:
        if text[:CUT_WITHIN].count(sign) > RARE_SHARE * text[:CUT_WITHIN].count("\n"):
            return text.replace(sign, "\t")
    return "\n".join(_SPACES.sub("\t", line.strip()) for line in text.split("\n"))


def _without_tags(text: str) -> str:
    """The cells of a web page's table, set apart by tabs."""
    if "<td" not in text[:CUT_WITHIN].lower():
        return text
    return _TAG.sub("", _ROW_ENDS.sub("\n", _CELL_ENDS.sub("\t", text)))


def _without_quotes_round_rows(text: str) -> str:
    """Rows that were each taken for one cell on their way through a spreadsheet."""
    sample = [line for line in text[:CUT_WITHIN].split("\n")[:-1] if line.strip()]
    quoted = [line for line in sample if _WHOLE_ROW.match(line) and any(s in line for s in SEPARATORS)]
    return _WHOLE_ROW.sub(r"\1", text) if sample and len(quoted) > WHOLE_SHARE * len(sample) else text
