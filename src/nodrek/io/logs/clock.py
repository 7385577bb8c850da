"""Times: what a time column means in seconds, and what had to be mended or assumed."""

from __future__ import annotations

import numpy as np

from nodrek.core.model import Array
from nodrek.core.units import time_factor

DAY = 86400.0
SOME = 50_000
_EPOCH = (
    (6.2e17, 6.7e17, 1e-7), (1.25e17, 1.5e17, 1e-7),
    (1e8, 1e10, 1.0), (1e11, 1e13, 1e-3), (1e14, 1e16, 1e-6), (1e17, 1e19, 1e-9),
)  # fmt: skip
"""Ranges of numbers that are steps of 100 ns since the years 1 and 1601, for the years 1965 to 2124 and 1997 to 2076
(in ns since 1970 they would be around 1990 and 1974), or time since 1970 in s, ms, µs and ns, for 1973 to 2286."""
LONGEST_STEP_S = 60.0
"""Between two rows of a log of a drive."""
STEP_OF_DAY = 3e-5
"""Steps below which a clock that begins far from 0 counts parts of a day: two and a half seconds."""
SERIAL_DAYS = (20_000.0, 80_000.0)
"""Days since 1899-12-30, as spreadsheets count, for the years 1954 to 2119."""


def seconds_of(values: Array, unit: str | None, abreast: int = 1) -> tuple[Array, tuple[str, ...]]:
    """Seconds from a column of numbers; the size of values and steps tells a missing unit.

    `abreast`: so many channels take the rows in turn.
    """
    factor = time_factor(unit)
    known = values if not np.isnan(values).any() else values[~np.isnan(values)]
    if known.size < 2:
        return values, ()
    # the size of values and steps is plain from a part of them
    some = known[: 2 * SOME]
    size = float(np.median(np.abs(some)))
    steps = some[abreast:] - some[:-abreast]
    step = float(np.median(steps[steps > 0])) if (steps > 0).any() else 1.0
    if factor is None or factor == 1.0:
        for low, high, epoch in _EPOCH:
            if low <= size <= high and step * epoch <= LONGEST_STEP_S:
                return (values - known[0]) * epoch, ()
    if factor is not None:
        return (values if factor == 1.0 else (values - known[0]) * factor), ()
    is_part = size < 1.0 and step < STEP_OF_DAY and float(np.ptp(known)) < float(known.min())
    if is_part or (SERIAL_DAYS[0] < size < SERIAL_DAYS[1] and step < 1e-3):
        return (values - known[0]) * DAY, ()
    if step < 3.0:
        return values, ()
    factor, word = (1e-3, "milliseconds") if step < 3000.0 else (1e-6, "microseconds")
    return values * factor, (f"The time column has no unit; steps of {step:g} were taken as {word}.",)


def unroll(times: Array) -> tuple[Array, tuple[str, ...]]:
    """Undo a clock that starts again: at midnight, or where a counter was full.

    Only a single large fall to near the beginning of the range is taken for that; small
    falls are rows out of order and are left for later.
    """
    known = np.flatnonzero(~np.isnan(times))
    values = times if known.size == times.size else times[known]
    if known.size < 4 or not (values[1:] < values[:-1]).any():
        return times, ()
    steps = np.diff(values)
    typical = float(np.median(steps[steps > 0])) if (steps > 0).any() else 0.0
    span = float(np.ptp(values))
    # a row that lies far back among others is a stray
    goes_on = np.append(values[2:] < values[:-2], True)
    falls = np.flatnonzero((steps < -0.5 * span) & (steps < -100.0 * typical) & goes_on)
    if not falls.size or falls.size > 50:
        return times, ()
    out = times.copy()
    notes = []
    for at in falls:
        fall = -float(steps[at])
        midnight = 0.9 * DAY < fall <= DAY + 1.0
        period = DAY if midnight else fall + typical
        out[known[at + 1] :] += period
        notes.append("The clock passes midnight." if midnight else "The clock starts again; it was counted on.")
    return out, tuple(dict.fromkeys(notes))
