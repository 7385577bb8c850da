"""Presenter of the wake-up view: where each corner begins and stops to read."""

from __future__ import annotations

import math

import numpy as np

from nodrek.core.model import Corner, Fault
from nodrek.core.verdict.gap import is_hidden
from nodrek.desktop.state.screen import WakingRow, WakingScreen
from nodrek.desktop.state.session import Session
from nodrek.jobs.analyze import Answer

MOST_DOTS = 200
LEAST_TOP_KMH = 12.0
STEPS = (1.0, 2.0, 5.0, 10.0, 20.0)


def present_waking(session: Session, factor: float, unit: str) -> WakingScreen | None:
    """`factor` is the shown unit per m/s."""
    answer = session.answer
    if answer is None:
        return None
    rows = tuple(_row(answer, c, factor, unit, c is session.corner) for c in answer.log.corners)
    speeds = [s for r in rows for s in (*r.begins, *r.stops, *(() if r.middle is None else (r.middle,)))]
    top = max(LEAST_TOP_KMH / 3.6 * factor, 1.15 * max(speeds, default=0.0))
    step = next((s for s in STEPS if top / s <= 8), STEPS[-1])
    ticks = tuple((k * step, f"{k * step:.0f}") for k in range(math.floor(top / step) + 1))
    empty = "" if speeds else "The vehicle neither pulls away nor stops in this log: nothing can be said of waking up."
    return WakingScreen(rows, unit, top, ticks, _sentence(answer), empty)


def _row(answer: Answer, corner: Corner, factor: float, unit: str, chosen: bool) -> WakingRow:
    waking = answer.examination.waking.get(corner)
    if waking is None:
        return WakingRow(corner, corner.words.capitalize(), "not compared", (), (), None, chosen)
    hidden = _hidden_wake(answer, corner)
    if hidden is not None:
        # where the readings begin and stop is the other corners'
        text = f"by itself from {hidden * factor:.1f} {unit} on"
        return WakingRow(corner, corner.words.capitalize(), text, (), (), hidden * factor, chosen)
    begins, stops = _dots(waking.rises, factor), _dots(waking.falls, factor)
    middle = waking.known_wake * factor if waking.sleeps else None
    if middle is not None:
        text = f"reads from {middle:.1f} {unit} on"
    else:
        text = "silent for moments only" if begins or stops else "no pull-away or stop"
    return WakingRow(corner, corner.words.capitalize(), text, begins, stops, middle, chosen)


def _hidden_wake(answer: Answer, corner: Corner) -> float | None:
    """m/s, where the control unit shows something else below."""
    gaps = [f for f in answer.analysis.findings if is_hidden(f) and corner in f.corners]
    return answer.analysis.corners[corner].wake_up if gaps else None


def _dots(speeds: np.ndarray, factor: float) -> tuple[float, ...]:
    """At most `MOST_DOTS`, evenly taken."""
    every = max(1, math.ceil(speeds.size / MOST_DOTS))
    return tuple(float(s) * factor for s in speeds[::every])


def _sentence(answer: Answer) -> str:
    found = [f for f in answer.analysis.findings if f.fault is Fault.AIR_GAP]
    if found:
        return found[0].summary
    return "A corner that begins to read later than its mates, each time at the same speed, has too wide a gap."
