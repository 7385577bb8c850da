"""Presenter of the drive view: speeds and deviations, thinned to what is visible."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from nodrek.core.model import Array, Corner, Scene
from nodrek.core.verdict.declared import declared_breaks
from nodrek.desktop.state.screen import DriveScreen, Trace
from nodrek.desktop.state.session import Session
from nodrek.desktop.state.words import minutes_words
from nodrek.jobs.analyze import Answer

COLUMNS = 600
"""Pairs of points per line: two for three pixels across, which no eye misses."""
STOP_BELOW = 0.3


def present_drive(session: Session, speed_factor: float, speed_unit: str) -> DriveScreen | None:
    """`speed_factor`: shown unit per m/s."""
    answer = session.answer
    if answer is None:
        return None
    whole = (0.0, answer.log.duration)
    window = _clamp(session.window or whole, whole)
    order = sorted(answer.log.corners, key=lambda c: c is session.corner)
    speeds, deviations = [], []
    for corner in order:
        prominent = corner is session.corner
        channel = answer.log.channels[corner]
        speeds.append(_trace(corner, channel.times, channel.speed * speed_factor, window, prominent))
        if corner in answer.examination.motions:
            x, y = _deviation_line(answer, corner)
            deviations.append(_trace(corner, x, y, window, prominent))
    limited = session.part is not None
    return DriveScreen(
        speeds=tuple(speeds),
        deviations=tuple(deviations),
        dropouts=tuple((c, _dropout_times(answer, c, window)) for c in answer.log.corners),
        stops=() if answer.analysis.scene is Scene.SPIN else _stops(answer),
        marks=session.marks,
        mark_text="The place you marked passes the sensor here" if session.marks else "",
        window=window,
        whole=whole,
        speed_range=(0.0, 1.05 * max(_fastest(answer) * speed_factor, 1.0)),
        deviation_range=_deviation_range(answer),
        speed_unit=speed_unit,
        part_text=_part_text(session, answer),
        can_limit=session.window is not None and window[1] - window[0] > 10.0 and not limited,
        is_limited=limited,
        came_from_turns=session.came_from_turns,
    )


def _clamp(window: tuple[float, float], whole: tuple[float, float]) -> tuple[float, float]:
    low, high = max(window[0], whole[0]), min(window[1], whole[1])
    return (low, high) if high - low > 0.05 else whole


def _part_text(session: Session, answer: Answer) -> str:
    if session.part is None:
        return f"Whole log, {minutes_words(answer.log.duration)}"
    return f"Only {session.part[0]:.0f} s to {session.part[1]:.0f} s of the log"


@lru_cache(maxsize=16)
def _deviation_line(answer: Answer, corner: Corner) -> tuple[Array, Array]:
    """Deviation in per cent against time, the steady difference included."""
    motion = answer.examination.motions[corner]
    ratio = answer.analysis.corners[corner].ratio
    steady = float(np.log(ratio)) if np.isfinite(ratio) else 0.0
    return motion.times, 100.0 * np.expm1(np.clip(motion.deviation + steady, -3.0, 1.0))


@lru_cache(maxsize=4)
def _deviation_range(answer: Answer) -> tuple[float, float]:
    """A scale on which the deepest usual dip fits and quiet corners look quiet."""
    low, high = -4.0, 4.0
    for corner in answer.examination.motions:
        _, y = _deviation_line(answer, corner)
        known = y[~np.isnan(y)]
        if known.size:
            low = min(low, 1.15 * float(np.quantile(known, 0.001)))
            high = max(high, 1.15 * float(np.quantile(known, 0.999)))
    low, high = max(low, -105.0), min(high, 60.0)
    # room below for the marks of the dropouts
    return low - 0.12 * (high - low), high


def _fastest(answer: Answer) -> float:
    """Top of the speed axis, m/s: that of the vehicle, or of the wheels turned on stands."""
    if answer.analysis.scene is Scene.SPIN:
        return max((s.peak for s in answer.analysis.spins.values() if s.alive), default=0.0)
    return float(np.nanmax(answer.examination.usable.vehicle))


@lru_cache(maxsize=4)
def _stops(answer: Answer) -> tuple[tuple[float, float], ...]:
    usable = answer.examination.usable
    still = np.concatenate([[False], usable.vehicle < STOP_BELOW, [False]])
    edges = np.flatnonzero(np.diff(still.astype(np.int8)))
    last = usable.grid.size - 1
    return tuple(
        (float(usable.grid[a]), float(usable.grid[min(b, last)])) for a, b in zip(edges[::2], edges[1::2], strict=True)
    )


def _dropout_times(answer: Answer, corner: Corner, window: tuple[float, float]) -> list[float]:
    exam, times = answer.examination, np.empty(0)
    if corner in exam.dropouts:
        times = exam.motions[corner].times[exam.dropouts[corner].start]
    declared = declared_breaks(exam, corner)
    if declared is not None:
        times = np.sort(np.concatenate([times, declared.times]))
    lo, hi = np.searchsorted(times, window)
    shown = times[lo:hi]
    step = max(1, shown.size // 300)
    return [float(t) for t in shown[::step]]


def _trace(corner: Corner, times: Array, values: Array, window: tuple[float, float], prominent: bool) -> Trace:
    """Lowest and highest value per column of the visible stretch, in the order they come.

    NaN breaks the line where nothing is known.
    """
    first, last = np.searchsorted(times, window)
    first, last = max(first - 1, 0), min(last + 1, times.size)
    x, y = times[first:last], values[first:last]
    if x.size <= 2 * COLUMNS:
        return Trace(corner, x, y, prominent)
    edges = np.linspace(0, x.size, COLUMNS + 1).astype(np.int64)[:-1]
    unknown = np.isnan(y)
    low = np.minimum.reduceat(np.where(unknown, np.inf, y), edges)
    high = np.maximum.reduceat(np.where(unknown, -np.inf, y), edges)
    empty = ~np.isfinite(low)
    low[empty] = high[empty] = np.nan
    return Trace(corner, np.repeat(x[edges], 2), np.column_stack([high, low]).ravel(), prominent, True)
