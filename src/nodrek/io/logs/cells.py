"""What a cell says: a number in one of several spellings, a clock time, nothing, or a word."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

import numpy as np

from nodrek.core.model import Array

if TYPE_CHECKING:
    import polars as pl

_NUMBER = re.compile(r"^[+\u2212-]?(\d+([.,]\d*)?|[.,]\d+)([eE][+-]?\d+)?$")
_HEX, _NO_DECIMAL = r"^[0-9A-Fa-f]{2,8}$", r"[A-DFa-df]"
"""Of a count to the base of 16, and what no decimal number holds (``E`` may stand before an exponent)."""
_GROUPED = re.compile(
    r"^[+-]?\d{1,3}(([ '\u00a0\u202f]\d{3})+|(,\d{3})+(?=\.)|(\.\d{3})+(?=,)|(,\d{3}){2,}|(\.\d{3}){2,})"
    r"([.,]\d+)?$"
)
_CLOCK = re.compile(
    r"^(?P<date>[^:]{0,40}?\d[^:]{0,40}?[ T])?(?P<a>\d{1,3}):(?P<b>\d{2})(?::(?P<c>\d{2}))?(?P<f>[.,:]\d{1,9})?"
    r"\s*(?P<half>[AaPp]\.?[Mm]\.?)?\s*(?P<zone>Z|[+-]\d{2}:?\d{2}|UTC|[A-Z]{3,4})?(?:\s+\d{4})?$"
)
_COMPACT = re.compile(
    r"^(?P<date>\d{8}T)(?P<a>\d{2})(?P<b>\d{2})(?P<c>\d{2})(?P<f>[.,]\d{1,9})?(?P<zone>Z|[+-]\d{4})?$"
)
"""ISO 8601, basic format: ``20260314T101530.25Z``."""
_WITH_UNIT = re.compile(
    r"^(?P<number>[+-]?[\d.,]*\d)\s*(?P<unit>km/?h|kph|kmph|mph|m/s|rpm|rad/s|1/min|s|sec|ms|Hz)$", re.IGNORECASE
)
MISSING = frozenset(
    ("", "-", "--", "---", "----", "n/a", "na", "#n/a", "nan", "null", "none", "nil", "inf", "-inf", "?", "*",
     "invalid", "no data", "nodata", "error", "err", "n.v.", "k.a.", "#value!", "nan.0", "na.", "not available")
)  # fmt: skip


def clean(cell: str) -> str:
    return cell.strip().strip('"').strip()


def is_number(cell: str) -> bool:
    return bool(_NUMBER.match(cell) or _GROUPED.match(cell))


def split_unit(cell: str) -> tuple[str, str] | None:
    """``"45.3 km/h"`` → ``("45.3", "km/h")``; ``None`` for anything else."""
    match = _WITH_UNIT.match(cell)
    return (match["number"], match["unit"]) if match and is_number(match["number"]) else None


def is_clock(cell: str) -> bool:
    return bool(_CLOCK.match(cell) or _COMPACT.match(cell))


def is_missing(cell: str) -> bool:
    return cell.lower() in MISSING


def has_grouping(cell: str) -> bool:
    return bool(_GROUPED.match(cell))


def uses_decimal_comma(cells: list[str], separator: str) -> bool:
    """The decimal sign of a whole table, from the cells that leave no doubt."""
    votes = 0
    doubtful = 0
    for cell in cells:
        comma, point = cell.rfind(","), cell.rfind(".")
        if comma < 0 and point < 0:
            continue
        if comma >= 0 and point >= 0:
            votes += 3 if comma > point else -3
        elif cell.count(",") > 1:
            votes -= 3
        elif cell.count(".") > 1:
            votes += 3
        elif point >= 0:
            votes -= not _may_group(cell, point)
            doubtful -= 1
        else:
            votes += not _may_group(cell, comma)
            doubtful += 1
    # between commas only a quoted cell can hold one, and then grouping is as likely where in doubt
    if votes == 0 and separator != ",":
        votes = doubtful
    return votes > 0


def _may_group(cell: str, at: int) -> bool:
    """Whether the only sign of a number, there, may set three digits apart: ``1.250`` does, ``0.250``, ``1250.500``
    and ``1.25`` do not."""
    whole = cell[:at].lstrip("+-\u2212")
    return len(cell) - at - 1 == 3 and 1 <= len(whole) <= 3 and not whole.startswith("0")


def numbers_of(column: pl.Series, decimal_comma: bool, with_units: bool = False) -> Array:
    """A column of text as numbers; what is none is NaN. `with_units`: a unit may follow each."""
    import polars as pl

    # every usual way of grouping digits goes: spaces of three kinds, apostrophe, and the
    # sign that is not the decimal one
    text = column.str.strip_chars(' "\t\u00a0\r')
    if with_units:
        text = text.str.replace(r"(?:\s+1/min|\s*[A-Za-z][A-Za-z/]*)$", "")
    text = text.str.replace_all(r"[ '\u00a0\u202f]", "").str.replace("\u2212", "-")
    if decimal_comma:
        text = text.str.replace_all(".", "", literal=True).str.replace(",", ".", literal=True)
    else:
        text = text.str.replace_all(",", "", literal=True)
    values = text.cast(pl.Float64, strict=False).to_numpy(writable=True)
    values[np.isinf(values)] = np.nan
    if np.isnan(values).any():
        counts = _hexadecimal(text)
        return values if counts is None else counts
    return values


def _hexadecimal(text: pl.Series) -> Array | None:
    """Counts written to the base of 16, all of one width: read as decimals, one in four would pass for a number."""
    import polars as pl

    cells = text.filter(text.is_not_null() & (text != "") & ~text.str.to_lowercase().is_in(list(MISSING)))
    if not cells.str.contains(_NO_DECIMAL).any() or not cells.str.contains(_HEX).all():
        return None
    if cells.str.len_chars().n_unique() > 1:
        return None
    return text.str.to_integer(base=16, strict=False).cast(pl.Float64).to_numpy(writable=True)


def clock_seconds(texts: list[str | None]) -> Array:
    """Clock times and date-times as seconds of the day; NaN for what is neither.

    ``12:34:56.7``, ``34:56.7`` (minutes and seconds), ``2026-05-03T12:34:56,7+02:00``,
    ``5/3/2026 1:02:03 PM``, also with ``:`` before the fraction.
    """
    out = np.full(len(texts), np.nan)
    for k, text in enumerate(texts):
        cell = clean(text) if text else ""
        match = _COMPACT.match(cell) or _CLOCK.match(cell)
        if not match:
            continue
        a, b = int(match["a"]), int(match["b"])
        fraction = float("0." + match["f"][1:]) if match["f"] else 0.0
        if match["c"] is not None:
            hours, minutes, seconds = a, b, int(match["c"])
        elif match["f"] and match["f"][0] in ".,":
            hours, minutes, seconds = 0, a, b
        elif match["date"]:
            hours, minutes, seconds = a, b, 0
        else:
            hours, minutes, seconds = 0, a, b
        if match.re is _CLOCK and match["half"]:
            hours = hours % 12 + (12 if match["half"][0] in "pP" else 0)
        out[k] = 3600.0 * hours + 60.0 * minutes + seconds + fraction
    return out
