"""What the lines above a table state: how far apart its rows are, where it has no clock, and the unit of its speeds.

A count of rows is no clock: taken for seconds it makes of ten values a second one, and of a drive another one.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np

from nodrek.core.model import Array
from nodrek.core.units import edge_factor, speed_factor, time_factor

_OFTEN = r"rate|freq|fr[ée]quence|per\ second|\bfs\b"
_APART = r"interval|period|\bdt\b|\bt_?s\b|cycle\ time|sampl\w*\ time"
_WORDS = rf"{_OFTEN}|{_APART}|sampl|abtast|raster|cadence|campion|muestre|cycle|zyklus|scan|resolution|auflösung"
_NUMBER, _UNIT = (
    r"(?P<number>\d+(?:[.,]\d+)?)",
    r"(?P<unit>k?hz|1/s|/s|samples?/s|samples\ per\ second|[mµμun]?s(?:ec\w*)?|min)",
)
_STATED = tuple(
    (re.compile(pattern, re.VERBOSE | re.IGNORECASE | re.MULTILINE), unit)
    for pattern, unit in (
        (rf"(?:{_WORDS})[^\n\d]{{0,40}}?{_NUMBER}\s*[\[;\t]?\s*{_UNIT}\b", None),
        (rf"(?:{_WORDS})[^\n\d\[(]{{0,30}}[\[(]{_UNIT}[\])][^\n\d]{{0,10}}{_NUMBER}(?![\d:/.-])", None),
        (rf"(?:{_WORDS})[a-z]{{0,10}}_{_UNIT}\b[^\n\d]{{0,10}}{_NUMBER}(?![\d:/.-])", None),
        (rf"^[\s\#\"]*{_NUMBER}\s*(?P<unit>k?hz)[\s\"]*$", None),
        (rf"^[^\n\d]*?(?:{_OFTEN})[^\n\d]{{0,20}}{_NUMBER}[\s\";,]*$", "hz"),
        (rf"^[^\n\d]*?(?:{_APART})[^\n\d]{{0,20}}{_NUMBER}[\s\";,]*$", "s"),
    )
)
"""A number and its unit behind it, in brackets before it, alone, and none: then of a rate Hz, of an interval s."""
_SPEED_UNIT = re.compile(r"(?<![\w/])(?:km/h|kph|kmph|mph|m/s)(?![\w/²^*])", re.IGNORECASE)
_COUNTERS = frozenset(
    ("sample", "samples", "index", "idx", "no", "nr", "num", "number", "row", "rows", "line", "count", "counter",
     "point", "points", "record", "records", "packet", "frame", "#", "n", "i", "zeile", "satz", "messpunkt", "ligne",
     "échantillon", "echantillon", "fila", "muestra", "riga", "campione", "wiersz", "próbka", "lp")
)  # fmt: skip
LEAST_S, MOST_S = 1e-4, 10.0
MOST_APART = 1_000
"""Rows that a count may leave out at once."""


def stated_interval(above: str) -> float | None:
    """Seconds between rows as the text above a table says; ``None`` where it says nothing, or two things."""
    for form, unit in _STATED:
        told = ((float(m["number"].replace(",", ".")), unit or m["unit"].lower()) for m in form.finditer(above))
        said = {round(seconds, 9) for number, u in told if (seconds := _interval(number, u)) is not None}
        if said:
            return said.pop() if len(said) == 1 else None
    return None


def _interval(number: float, unit: str) -> float | None:
    """Seconds that a rate or an interval means; ``None`` for those of no log."""
    if number <= 0.0:
        return None
    a_second = edge_factor(unit) or (1.0 if unit.startswith(("1/s", "/s", "sample")) else None)
    seconds = 1.0 / (number * a_second) if a_second else number * (time_factor(unit) or 1.0)
    return seconds if LEAST_S <= seconds <= MOST_S else None


def stated_speed_unit(above: str) -> str | None:
    """The unit of speed that the text above a table names; ``None`` where it names none, or two."""
    said = {unit.lower() for unit in _SPEED_UNIT.findall(above)}
    return said.pop() if len({speed_factor(unit) for unit in said}) == 1 else None


def is_count_of_rows(name: str, column: Array | None) -> bool:
    """Whether a column only counts its rows, by its name and its steps."""
    words = re.split(r"[\s_.\-:]+", name.strip().lower().strip("."))
    if column is None or not any(word in _COUNTERS for word in words):
        return False
    known = column[np.isfinite(column)]
    return bool(known.size > 1 and np.all(known == np.round(known)) and np.median(np.diff(known)) == 1.0)


def times_by_rate(names: Sequence[str], columns: Sequence[Array | None], seconds: float, rows: int) -> Array:
    """Times of the rows, by the column that counts them, or by their order where none does; shape (rows,)."""
    for name, column in zip(names, columns, strict=True):
        if column is not None and is_count_of_rows(name, column):
            steps = np.diff(column)
            if np.all(np.isfinite(column)) and steps.min(initial=1.0) >= 1.0 and steps.max(initial=1.0) <= MOST_APART:
                return np.asarray((column - column[0]) * seconds)
    return np.arange(float(rows)) * seconds
