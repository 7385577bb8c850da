"""Tables in JSON, in any of its usual forms, as rows that name their values."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import cast

from nodrek.errors import UnreadableFile

DEEPEST = 4
MOST_BROKEN = 0.05
"""Share of lines that a bad cable may have spoilt."""


def is_json(start: str) -> bool:
    """Whether a text begins as JSON; a stamp in brackets does not."""
    return start.startswith("{") or (start.startswith("[") and start[1:2000].lstrip().startswith(("{", "[")))


def json_rows(whole: str, name: str) -> tuple[list[dict[str, str]], tuple[str, ...]]:
    """Rows of a JSON file in any of its usual forms (an object a line, a list of objects, an object of lists), and
    what was left out of it."""
    try:
        found = json.loads(whole)
    except RecursionError as error:
        raise UnreadableFile(f"{name} is nested far deeper than a log: export the drive as CSV.") from error
    except ValueError:
        return _json_lines(whole, name)
    tables = [rows for rows in _tables_in(found, 0) if rows]
    if not tables:
        raise UnreadableFile(f"{name} is JSON without a table of numbers: export the drive as CSV and open that.")
    return max(tables, key=len), ()


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
            yield [_flat(row) for row in found]
        elif len(found) > 1 and all(isinstance(row, list) and len(row) == len(found[0]) for row in found):
            yield from _named_rows(found)
        return
    if not isinstance(found, dict):
        return
    columns = dict(_lists_in(found, "", depth))
    longest = max((len(cells) for cells in columns.values()), default=0)
    if len(columns) > 1 and longest * len(columns) <= 2 * sum(map(len, columns.values())):
        yield [
            {name: _cell(cells[k]) for name, cells in columns.items() if k < len(cells)} for k in range(longest)
        ]  # fmt: skip
    for inner in found.values():
        yield from _tables_in(inner, depth + 1)


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
