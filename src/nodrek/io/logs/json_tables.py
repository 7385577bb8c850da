"""Tables in JSON, in any of its usual forms, as rows that name their values."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from itertools import islice
from typing import cast

from nodrek.errors import UnreadableFile

DEEPEST = 4
MOST_FACTS, LONGEST_FACT = 60, 120
NAMES_OF_COLUMNS = ("columns", "names", "header", "headers", "fields", "signals", "channels")
NAMES_OF_CHANNEL = ("name", "channel", "signal", "label", "id", "title")
NAMES_OF_TIMES = frozenset(("t", "time", "times", "timestamp", "timestamps", "x"))
MOST_BROKEN = 0.05
"""Share of lines that a bad cable may have spoilt."""


def is_json(start: str) -> bool:
    """Whether a text begins as JSON; a stamp in brackets does not."""
    return start.startswith("{") or (start.startswith("[") and start[1:2000].lstrip().startswith(("{", "[")))


def json_rows(whole: str, name: str) -> tuple[list[dict[str, str]], list[str], tuple[str, ...]]:
    """Rows of a JSON file in any of its usual forms (an object a line, a list of objects, an object of lists, a list of
    channels), facts that stand beside them ("rate: 10"), and what was left out of it."""
    try:
        found = json.loads(whole)
    except RecursionError as error:
        raise UnreadableFile(f"{name} is nested far deeper than a log: export the drive as CSV.") from error
    except ValueError:
        rows, notes = _json_lines(whole, name)
        return rows, [], notes
    tables = [rows for rows in _tables_in(found, 0) if rows]
    if not tables:
        raise UnreadableFile(f"{name} is JSON without a table of numbers: export the drive as CSV and open that.")
    return max(tables, key=len), list(islice(_facts_in(found, "", 0), MOST_FACTS)), ()


def _facts_in(found: object, over: str, depth: int) -> Iterator[str]:
    """Single values outside lists, as lines, under the names on the way to them."""
    if not isinstance(found, dict) or depth > DEEPEST:
        return
    for name, inner in found.items():
        if isinstance(inner, dict):
            yield from _facts_in(inner, f"{over}{name} ", depth + 1)
        elif isinstance(inner, (str, int, float)):
            yield f"{over}{name}: {inner}"[:LONGEST_FACT]


def _json_lines(whole: str, name: str) -> tuple[list[dict[str, str]], tuple[str, ...]]:
    rows: list[dict[str, str]] = []
    broken: list[int] = []
    for place, whole_line in enumerate(whole.split("\n"), start=1):
        line = whole_line.strip().removeprefix("[").rstrip(",")
        if line in ("", "]"):
            continue
        try:
            row = json.loads(line)
        except (ValueError, RecursionError):
            broken.append(place)
            continue
        if isinstance(row, dict):
            rows.append(_flat(row))
    if len(broken) > max(1.0, MOST_BROKEN * len(rows)):
        raise UnreadableFile(
            f"{name} holds {len(broken)} lines that are no JSON, the first is line {broken[0]}: export the log again."
        )
    # the last line is cut where a logger was switched off
    if not broken or (len(broken) == 1 and broken[0] > len(rows)):
        return rows, ()
    return rows, (f"Lines that are no JSON were left out: {len(broken)}, the first is line {broken[0]}.",)


def _tables_in(found: object, depth: int) -> Iterator[list[dict[str, str]]]:
    """Each table of a JSON value, as rows."""
    if depth > DEEPEST:
        return
    if isinstance(found, list):
        if found and all(isinstance(row, dict) for row in found):
            columns = _channels_in(found)
            yield _side_by_side(columns) if columns and _are_even(columns) else [_flat(row) for row in found]
        elif len(found) > 1 and all(isinstance(row, list) and len(row) == len(found[0]) for row in found):
            yield from _named_rows(found)
        return
    if not isinstance(found, dict):
        return
    columns = dict(_lists_in(found, "", depth))
    if len(columns) > 1 and _are_even(columns):
        yield _side_by_side(columns)
    names = next((found[key] for key in NAMES_OF_COLUMNS if isinstance(found.get(key), list)), None)
    for inner in found.values():
        if isinstance(names, list) and isinstance(inner, list) and inner is not names:
            # names and rows apart
            yield from _tables_in([names, *inner], depth + 1)
        yield from _tables_in(inner, depth + 1)


def _are_even(columns: Mapping[str, list[object]]) -> bool:
    """Whether columns are about as long, so that rows of them are mostly filled."""
    longest = max(map(len, columns.values()))
    return longest * len(columns) <= 2 * sum(map(len, columns.values()))


def _side_by_side(columns: Mapping[str, list[object]]) -> list[dict[str, str]]:
    """Rows of columns; short ones end early."""
    longest = max(map(len, columns.values()))
    return [{name: _cell(cells[k]) for name, cells in columns.items() if k < len(cells)} for k in range(longest)]


def _channels_in(found: list[dict[str, object]]) -> dict[str, list[object]]:
    """Columns of a list of channels, each with its name, its values and maybe a clock of its own; none for any other
    list."""
    columns: dict[str, list[object]] = {}
    for channel in found:
        name = next((channel[key] for key in NAMES_OF_CHANNEL if isinstance(channel.get(key), str)), None)
        lists = {key: inner for key, inner in channel.items() if isinstance(inner, list) and len(inner) > 1}
        if name is None or not lists:
            return {}
        unit = next((channel[key] for key in ("unit", "units") if isinstance(channel.get(key), str)), None)
        named = f"{name} [{unit}]" if unit else str(name)
        if len(lists) == 1:
            (values,) = lists.values()
            pairs = [pair for pair in values if isinstance(pair, list) and len(pair) == 2]
            if len(pairs) == len(values):
                columns[f"time {name}"], values = [pair[0] for pair in pairs], [pair[1] for pair in pairs]
            columns[named] = values
        else:
            for key, values in lists.items():
                columns[f"{key} {name}" if key.lower() in NAMES_OF_TIMES else named] = values
    return columns


def _named_rows(found: list[list[object]]) -> Iterator[list[dict[str, str]]]:
    """A list of rows under a row of names."""
    names = [str(name) for name in found[0]]
    if all(isinstance(name, str) for name in found[0]):
        yield [dict(zip(names, map(_cell, row), strict=True)) for row in found[1:]]


def _lists_in(found: dict[str, object], over: str, depth: int) -> Iterator[tuple[str, list[object]]]:
    """Lists of plain values, under the names on the way to them."""
    for name, inner in found.items():
        if isinstance(inner, list) and not any(isinstance(cell, (list, dict)) for cell in inner):
            yield f"{over}{name}", inner
        elif isinstance(inner, dict) and depth < DEEPEST:
            yield from _lists_in(cast("dict[str, object]", inner), f"{over}{name} ", depth + 1)


def _flat(row: dict[str, object], over: str = "", depth: int = 0) -> dict[str, str]:
    out: dict[str, str] = {}
    for name, inner in row.items():
        if isinstance(inner, dict) and depth < DEEPEST:
            out |= _flat(cast("dict[str, object]", inner), f"{over}{name} ", depth + 1)
        elif isinstance(inner, list) and depth < DEEPEST:
            out |= _flat({str(k): cell for k, cell in enumerate(inner)}, f"{over}{name} ", depth + 1)
        else:
            out[f"{over}{name}"] = _cell(inner)
    return out


def _cell(value: object) -> str:
    """A value as a cell of a table."""
    if value is None or isinstance(value, (dict, list)):
        return ""
    return str(int(value)) if isinstance(value, bool) else str(value)
