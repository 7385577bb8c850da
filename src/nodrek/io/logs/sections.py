"""Text with one table below the other, each under lines of its own words: a channel or a raster a section.

Words that only interrupt a table, or end it, are left out here.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from nodrek.core.model import RawChannel, RawLog
from nodrek.errors import UnreadableFile
from nodrek.io.logs.cells import clean, clock_seconds, is_missing
from nodrek.io.logs.shape import COMMENTS, SEPARATORS, name_and_unit
from nodrek.io.logs.source import LogFile

LARGEST = 64 * 1024**2
"""Bytes up to which a log is looked at for sections."""
MOST, LEAST_ROWS = 64, 3
MOST_REMARKS, NAMES_WITHIN, LONGEST_LINE = 2000, 40, 20_000
"""Places where lines of words may interrupt rows; lines within which the names of a table stand; letters of a line."""
WIDEST_INDENT = 24
"""Spaces that names and rows of columns of one width may begin with."""
MOST_WORDS = 0.1
"""Share of the lines that are words: where every row begins with one, they are cells."""
_ROWS_BEGIN = "0123456789+-.,;\t \"'|"
_DATA = np.zeros(256, dtype=bool)
_DATA[list(_ROWS_BEGIN.encode())] = True
_END, _RETURN, _QUOTE, _SPACE = ord("\n"), ord("\r"), ord('"'), ord(" ")


def sections_of(file: LogFile) -> list[LogFile]:
    """The tables of a log, each as a file in memory, without what is said between and below their rows; the file
    itself where nothing is."""
    if file.size > LARGEST:
        return [file]
    content = file.read()
    letters = np.frombuffer(content, dtype=np.uint8)
    starts = np.concatenate([[0], np.flatnonzero(letters[:-1] == _END) + 1])
    first = letters[starts]
    spaced = np.flatnonzero(first == _SPACE)
    for indent in range(1, WIDEST_INDENT + 1):
        spaced = spaced[(first[spaced] == _SPACE) & (starts[spaced] + indent < letters.size)]
        first[spaced] = letters[starts[spaced] + indent]
    quoted = np.flatnonzero((first == _QUOTE) & (starts + 1 < letters.size))
    first[quoted] = letters[starts[quoted] + 1]
    filled = (first != _END) & (first != _RETURN)
    starts, words = starts[filled], np.flatnonzero(~_DATA[first[filled]])
    if not words.size or words.size > MOST_WORDS * starts.size:
        return [file]
    # lines of words with rows before them begin a section, unless too few rows follow
    begins = words[np.diff(words, prepend=-LEAST_ROWS - 1) > LEAST_ROWS]
    last = words[np.append(np.diff(words) > 1, True)]
    if begins.size > MOST_REMARKS:
        return [file]
    head = words[words < np.append(begins[1:], starts.size)[0]]
    run = np.searchsorted(last, begins)
    ends, follows = last[run], np.diff(np.append(last, starts.size))[run] > LEAST_ROWS
    lines = _Lines(content, starts)
    first_row = int(head[-1]) + 1
    if first_row < starts.size and not any(map(str.isdigit, lines[first_row])):
        # units, with nothing above the first of them
        first_row += 1
    if first_row == starts.size or not lines.first_cell(first_row):
        # marks may stand in a column of their own, in front of the clock
        return [file]
    kept = [
        (b, e) for b, e, ok in zip(begins[1:], ends[1:], follows[1:], strict=True) if ok and not lines.interrupts(b, e)
    ]
    if len(kept) >= MOST:
        return [file]
    cuts = [0, *(int(starts[begin]) for begin, _ in kept), len(content)]
    parts = [content[a:b] for a, b in pairwise(cuts)]
    # a header that comes again is no other table
    if len({_title(part) for part in parts}) < len(parts):
        return [file]
    needed = {*head.tolist(), *(k for begin, end in kept for k in range(begin, end + 1))}
    remarks = [k for k in words.tolist() if k not in needed and not is_missing(lines.first_cell(k))]
    return [replace(file, content=part) for part in _without(content, cuts, remarks, starts)]


def _without(content: bytes, cuts: list[int], remarks: list[int], starts: npt.NDArray[np.int64]) -> Iterator[bytes]:
    """The parts of `content` between `cuts`, without the lines whose numbers are `remarks`."""
    for begin, end in pairwise(cuts):
        pieces, at = [], begin
        for start in (int(starts[k]) for k in remarks if begin <= starts[k] < end):
            pieces.append(content[at:start])
            at = content.find(b"\n", start) + 1 or len(content)
        yield b"".join([*pieces, content[at:end]])


@dataclass(frozen=True)
class _Lines:
    """Lines of a text by number, those that are not empty; ``starts``: where each begins."""

    content: bytes
    starts: npt.NDArray[np.int64]

    def __getitem__(self, number: int) -> str:
        start = int(self.starts[number])
        end = self.content.find(b"\n", start)
        line = self.content[start : end if end >= 0 else len(self.content)][:LONGEST_LINE]
        return line.decode("utf-8", errors="replace").strip("\ufeff \r")

    def spaced(self, number: int) -> str:
        """A line whose columns only spaces part, with one sign between them."""
        line = self[number]
        return line if any(s in line for s in SEPARATORS) else "\t".join(line.split())

    def first_cell(self, number: int) -> str:
        line = self[number]
        return clean(min((line.split(separator)[0] for separator in SEPARATORS), key=len))

    def interrupts(self, first: int, last: int) -> bool:
        """Whether lines of words, from `first` to `last`, only interrupt a table: its own names once more, or a remark.

        Where rows are a time and a value, a table of another channel may begin so; then its clock does not go on.
        """
        before, after = self.spaced(first - 1), self.spaced(last + 1)
        # a sign that names keep to as well is no decimal comma
        names = [self.spaced(k) for k in range(first, last + 1)]
        kept = [s for s in SEPARATORS if 0 < before.count(s) in {name.count(s) for name in names}]
        separator = max(kept or SEPARATORS, key=before.count)
        width = before.count(separator)
        if not width or after.count(separator) != width:
            return False
        headers = {name for name in names if name.count(separator) >= width}
        head = {self.spaced(k) for k in range(min(first, NAMES_WITHIN))} if headers or first == last else set()
        if first == last and names[0] in head:
            return True
        then, now = (_seconds(row.split(separator)[0]) for row in (before, after))
        # a page of a report begins with its number, and the same names below
        return (not headers and width > 1) or ((not headers or bool(headers & head)) and now >= then)


def _seconds(cell: str) -> float:
    """Of a number or a clock time; NaN for anything else."""
    cell = clean(cell)
    try:
        return float(cell.replace(",", "."))
    except ValueError:
        return float(clock_seconds([cell])[0])


def read_sections(parts: Sequence[LogFile], read: Callable[[LogFile], RawLog]) -> RawLog:
    """All that the sections hold, in one log; those that are no table are left out, and said.

    Raises `UnreadableFile` where none is one.
    """
    found: list[tuple[LogFile, RawLog]] = []
    left: list[str] = []
    for part in parts:
        try:
            found.append((part, read(part)))
        except UnreadableFile as error:
            left.append(f'The section "{_title(part.read())[:40]}" was left out: it holds no table with a time.')
            refused = error
    if not found:
        raise refused
    names = [channel.name for _, raw in found for channel in raw.channels]
    channels = [
        _named(channel, part) if names.count(channel.name) > 1 else channel
        for part, raw in found
        for channel in raw.channels
    ]
    warnings = dict.fromkeys(warning for _, raw in found for warning in raw.warnings)
    return RawLog(tuple(channels), found[0][1].format, (*warnings, *left))


def _named(channel: RawChannel, part: LogFile) -> RawChannel:
    """``value`` in every section: what stands above the table names it."""
    name, unit = name_and_unit(_title(part.read()))
    return replace(channel, name=f"{name} {channel.name}", unit=channel.unit or unit)


def _title(part: bytes) -> str:
    """What stands in brackets above a table, else the line above its names; without marks."""
    lines = [line.strip(' \t\r"=;,') for line in part[:2000].decode("utf-8", errors="replace").split("\n")]
    above = []
    for line in filter(None, lines):
        if line[0] in _ROWS_BEGIN:
            break
        above.append(line.lstrip("".join(COMMENTS)).strip())
    in_brackets = [line[1:-1] for line in above if line.startswith("[") and line.endswith("]")]
    return (in_brackets or above[:-1] or above or [""])[-1]
