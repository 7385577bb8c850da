"""Times that no column holds whole: hour, minute and second beside each other, or the time since the row before."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np

from nodrek.core.model import Array
from nodrek.core.units import time_factor

_HOUR = ("hour", "hours", "h", "hh", "hr", "hrs", "stunde", "stunden", "std", "heure", "heures", "hora", "horas", "ora",
         "uur", "godz", "godzina")  # fmt: skip
_MINUTE = ("minute", "minutes", "min", "mins", "mm", "minuten", "minuto", "minutos", "minuti", "minuut", "minuta")
_SECOND = ("second", "seconds", "sec", "secs", "s", "ss", "sek", "sekunde", "sekunden", "seconde", "secondes",
           "segundo", "segundos", "secondo", "secondi", "sekunda")  # fmt: skip
_PLACES = {
    **dict.fromkeys(_HOUR, (3600.0, 24.0)), **dict.fromkeys(_MINUTE, (60.0, 60.0)),
    **dict.fromkeys(_SECOND, (1.0, 61.0)),
}  # fmt: skip
"""Seconds of one, and how many there are, of the parts of a clock."""
_DATE = frozenset(
    ("year", "yyyy", "yy", "jahr", "année", "annee", "año", "anno", "jaar", "rok", "month", "monat", "mois", "mes",
     "mese", "maand", "miesiąc", "day", "dd", "tag", "jour", "día", "dia", "giorno", "dag", "dzień")
)  # fmt: skip
_STEP = re.compile(r"^(?:delta(?: ?t(?:ime)?)?|[dδ∆] ?t(?:ime)?|time (?:step|delta|diff|difference))\b")
_MAYBE_STEP = re.compile(r"^(?:interval|step|sample time|elapsed)\b")
"""Names of columns that hold the time since the row before, and those that do where they have a unit of time."""
LEAST_ROWS, MOSTLY = 3, 0.98
LONGEST_STEP_S = 60.0
SPLIT = re.compile(r"[\s_.\-:/()\[\]]+")


def parts_of_a_clock(
    names: Sequence[str], columns: Sequence[Array | None], ready: dict[int, Array]
) -> tuple[dict[int, Array], Sequence[Array | None]]:
    """Clocks, with one put together of columns of hours, minutes and seconds where there are such, and the columns
    left."""
    if ready:
        return ready, columns
    parts: dict[float, int] = {}
    for i, name in enumerate(names):
        words = [w for w in SPLIT.split(name.strip().lower()) if w]
        place = _PLACES.get(words[-1]) if words and len(words) <= 2 else None
        if place is not None and _counts_to(columns[i], place[1]):
            if place[0] in parts:
                return ready, columns
            parts[place[0]] = i
    if not {60.0, 1.0} <= parts.keys():
        return ready, columns
    told = {unit: column for unit, i in parts.items() if (column := columns[i]) is not None}
    seconds: Array = np.sum([unit * column for unit, column in told.items()], axis=0)
    steps = np.diff(seconds[np.isfinite(seconds)])
    begins_again = bool((np.diff(told[1.0]) < 0.0).any())
    if steps.size < LEAST_ROWS or np.mean(steps >= 0.0) < MOSTLY or not begins_again:
        return ready, columns
    at = min(parts.values())
    dates = {i for i, name in enumerate(names) if name.strip().lower() in _DATE}
    used = dates.union(parts.values())
    return {at: seconds}, [None if i in used else column for i, column in enumerate(columns)]


def _counts_to(column: Array | None, most: float) -> bool:
    """Whether values are whole hours or minutes, or seconds, of a clock."""
    if column is None:
        return False
    known = column[np.isfinite(column)]
    whole = most > 60.0 or bool(np.array_equal(known, np.round(known)))
    return known.size > LEAST_ROWS and whole and known.min() >= 0.0 and known.max() < most


def steps_summed(
    names: Sequence[str], units: Sequence[str | None], columns: Sequence[Array | None]
) -> tuple[Sequence[str], Sequence[str | None], Sequence[Array | None], tuple[str, ...]]:
    """The table with a time in place of a column that tells how long after the one before each row is, and what is to
    be said of that; else as it is."""
    for i, (name, unit, column) in enumerate(zip(names, units, columns, strict=True)):
        plain = name.strip().lower().replace("_", " ")
        factor = time_factor(unit) or time_factor(SPLIT.split(plain)[-1])
        if column is None or not (_STEP.match(plain) or (factor is not None and _MAYBE_STEP.match(plain))):
            continue
        known = column[np.isfinite(column)]
        if known.size < LEAST_ROWS or known.min() < 0.0 or not known[1:].min() > 0.0:
            continue
        usual = float(np.median(known))
        if factor is None:
            # hardly any log has a row every second; whole numbers are milliseconds
            factor = 1e-3 if usual >= 1.0 and np.array_equal(known, np.round(known)) else 1.0
        if not usual * factor < LONGEST_STEP_S:
            continue
        times = np.cumsum(np.nan_to_num(column, nan=usual)) * factor
        return (
            [*names[:i], "time", *names[i + 1 :]],
            [*units[:i], "s", *units[i + 1 :]],
            [*columns[:i], times - times[0], *columns[i + 1 :]],
            (f'No column is a time: "{name}" was summed up, rows being {usual * factor:g} s apart.',),
        )
    return names, units, columns, ()
