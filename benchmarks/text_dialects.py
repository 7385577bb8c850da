"""A log written as a text file in one of fifteen dialects, and read back as the program reads it.

The other benchmarks hand their logs over as arrays; what a file does to them (stamps of whole seconds, commas for
points, a line a reading) is asked here as well.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np

from nodrek.core.model import Corner, RawLog
from nodrek.io.logs.read import read_log

GERMAN = dict(zip(Corner, ("VL", "VR", "HL", "HR"), strict=True))
SIDE_FIRST = dict(zip(Corner, ("LF", "RF", "LR", "RR"), strict=True))
START = datetime(2026, 5, 7, 23, 58, 30, tzinfo=UTC)
"""A minute and a half before midnight."""

Stamp = Callable[[float], str]


def through_text(log: RawLog, seed: int) -> RawLog:
    """What is read back of `log`, four channels in the order of the corners."""
    with TemporaryDirectory() as folder:
        path = Path(folder) / "drive.csv"
        path.write_text(written(log, np.random.default_rng([seed, 15])), encoding="utf-8")
        return read_log(path)


def written(log: RawLog, rng: np.random.Generator) -> str:
    """The text: a row a moment where all corners share their stamps, else a line a reading or sparse rows."""
    shared = all(np.array_equal(c.times_s, log.channels[0].times_s) for c in log.channels)
    forms = (*ROWS, *READINGS) if shared else READINGS
    return "\n".join(forms[int(rng.integers(len(forms)))](log, rng)) + "\n"


def _seconds(at: float) -> str:
    return f"{at:.3f}"


def _clock(places: int) -> Stamp:
    def stamp(at: float) -> str:
        told = (START + timedelta(seconds=at)).strftime("%H:%M:%S.%f")
        return told[: 8 + (places + 1 if places else 0)]

    return stamp


def _iso(at: float) -> str:
    return (START + timedelta(seconds=at)).replace(tzinfo=None).isoformat(timespec="milliseconds")


def _row_form(
    first: str, names: dict[Corner, str], stamp: Stamp | None = None, between: str = ",", comma: bool = False,
    above: tuple[str, ...] = (), units: bool = False, other: bool = False, quotes: bool = False,
) -> Callable[[RawLog, np.random.Generator], list[str]]:  # fmt: skip
    """A table of rows: name of the clock, names of the columns (``{unit}`` filled in), and its habits."""

    def form(log: RawLog, rng: np.random.Generator) -> list[str]:
        unit = log.channels[0].unit
        told = stamp or _clock(int(rng.choice((3, 2, 1, 0))))
        quote: Callable[[str], str] = (lambda cell: f'"{cell}"') if quotes else (lambda cell: cell)
        point: Callable[[str], str] = (lambda cell: cell.replace(".", ",")) if comma else (lambda cell: cell)
        head = [first, *(names[c].format(unit=unit) for c in Corner)]
        rows = [*above, between.join(quote(cell) for cell in (*head, *(["Engine speed (rpm)"] if other else [])))]
        if units:
            rows.append(between.join(["", *[unit] * 4]))
        for k, at in enumerate(log.channels[0].times_s.tolist()):
            cells = [told(at), *(point(f"{c.values[k]:.10g}") for c in log.channels)]
            if other:
                cells.append(f"{900 + 40 * log.channels[0].values[k]:.0f}")
            rows.append(between.join(quote(cell) for cell in cells))
        return rows

    return form


def _long_form(line: str, above: str = "", clock: bool = False) -> Callable[[RawLog, np.random.Generator], list[str]]:
    """A line a reading: ``{at}``, ``{corner}``, ``{value}`` and ``{unit}`` filled in."""

    def form(log: RawLog, rng: np.random.Generator) -> list[str]:
        stamp = _clock(3) if clock else _seconds
        readings = sorted(
            (at, n, value)
            for n, c in enumerate(log.channels)
            for at, value in zip(c.times_s.tolist(), c.values.tolist(), strict=True)
        )
        corners, unit = list(Corner), log.channels[0].unit
        told = [line.format(at=stamp(at), corner=corners[n], value=f"{v:.10g}", unit=unit) for at, n, v in readings]
        return [above, *told] if above else told

    return form


def _sparse(log: RawLog, rng: np.random.Generator) -> list[str]:
    """A row a reading, the cells of the other corners empty."""
    rows = ["t [s]," + ",".join(f"wheel speed {c} [{log.channels[0].unit}]" for c in Corner)]
    readings = sorted((at, n, k) for n, c in enumerate(log.channels) for k, at in enumerate(c.times_s.tolist()))
    for at, n, k in readings:
        cells = ["", "", "", ""]
        cells[n] = f"{log.channels[n].values[k]:.10g}"
        rows.append(",".join([_seconds(at), *cells]))
    return rows


def _pairs(log: RawLog, rng: np.random.Generator) -> list[str]:
    """Each corner with a clock of its own, side by side."""
    unit = log.channels[0].unit
    rows = [";".join(cell for c in Corner for cell in ("Time [s]", f"v_{c} [{unit}]"))]
    most = max(c.times_s.size for c in log.channels)
    for k in range(most):
        pairs = [
            (_seconds(c.times_s[k]), f"{c.values[k]:.10g}") if k < c.times_s.size else ("", "") for c in log.channels
        ]
        rows.append(";".join(cell for pair in pairs for cell in pair))
    return rows


def _named(pattern: str, names: dict[Corner, str] | None = None) -> dict[Corner, str]:
    return {c: pattern.replace("{corner}", names[c] if names else c.value) for c in Corner}


ROWS = (
    _row_form("Time (s)", _named("Wheel Speed {corner} ({unit})"), _seconds, other=True),
    _row_form("Zeit [s]", _named("Raddrehzahl {corner} [{unit}]", GERMAN), lambda at: _seconds(at).replace(".", ","),
              between=";", comma=True),
    _row_form("timestamp", _named("whl_spd_{corner}"), _iso, between="\t", units=True),
    _row_form("ms", _named("{corner} ({unit})", SIDE_FIRST), lambda at: f"{1000.0 * at:.0f}", above=("# logger 3",)),
    _row_form("Time", _named("{corner} speed ({unit})"), between=";"),
    _row_form("epoch", _named("{corner} [{unit}]"), lambda at: f"{1778140000.0 + at:.3f}", quotes=True),
    _row_form("Uhrzeit", _named("v_{corner} [{unit}]", GERMAN), _clock(3), between="\t", comma=True),
    _row_form("time_us", _named("WSS.{corner} [{unit}]"), lambda at: f"{1e6 * at:.0f}", between="|"),
    _row_form("t [s]", _named("{corner} [{unit}]"), _seconds, above=("Session;12", "Recorded;2026-05-07"), between=";",
              other=True),
)  # fmt: skip
READINGS = (
    _long_form("{at},WheelSpeed_{corner},{value},{unit}", "time_s,signal,value,unit"),
    _long_form("{at};wheel speed {corner} [{unit}];{value}", "t;name;value"),
    _long_form("{at} wheel_{corner}={value} {unit}", clock=True),
    _long_form("{at}\t{corner}\t{value}\t{unit}", "Time (s)\tChannel\tValue\tUnit"),
    _sparse,
    _pairs,
)
