"""Presenter of the ratio view."""

from __future__ import annotations

import math
from itertools import pairwise

from nodrek.core.model import Fault
from nodrek.desktop.state.screen import RatioRow, RatiosScreen
from nodrek.desktop.state.session import Session
from nodrek.desktop.state.words import signed_percent

STEPS = (0.25, 0.5, 1.0, 2.0, 5.0, 10.0)


def present_ratios(session: Session) -> RatiosScreen | None:
    answer = session.answer
    if answer is None:
        return None
    rows = []
    for corner in answer.log.corners:
        result = answer.analysis.corners[corner]
        known = math.isfinite(result.ratio)
        value, low, high = (100.0 * (r - 1.0) for r in (result.ratio, result.ratio_low, result.ratio_high))
        text = "not compared"
        if known:
            interval = f"{signed_percent(result.ratio_low)} to {signed_percent(result.ratio_high)}"
            text = f"{signed_percent(result.ratio)} %  ({interval})"
        rows.append(
            RatioRow(
                corner, corner.words.capitalize(), text, *((low, value, high) if known else (0.0, 0.0, 0.0)),
                known, corner is session.corner,
            )
        )  # fmt: skip
    known_rows = [r for r in rows if r.known]
    empty = ""
    if not known_rows:
        empty = "No ratio could be measured: some straight driving above 20 km/h with two corners reading is needed."
    widest = max((max(abs(r.low), abs(r.high)) for r in known_rows), default=1.0)
    # room for the mark of one tooth, so that a small difference is seen as small
    span = max(1.0, 1.25 * widest)
    step = next((s for s in STEPS if span / s <= 4), STEPS[-1])
    count = math.floor(span / step)
    ticks = tuple((i * step, f"{i * step:+g}" if i else "0") for i in range(-count, count + 1))
    teeth = answer.examination.vehicle.teeth or 48
    explanations = [
        (0.4, "a sound set stays inside"), (-0.4, ""),
        (100.0 / teeth, f"one tooth more of {teeth}"), (-100.0 / teeth, "one tooth less"),
        (3.0, "worn out against new"), (-3.0, "new against worn out"),
    ]  # fmt: skip
    marks = _apart([m for m in sorted(explanations) if abs(m[0]) < 0.98 * span], span)
    return RatiosScreen(tuple(rows), span, ticks, marks, _sentence(session), empty)


def _apart(marks: list[tuple[float, str]], span: float) -> tuple[tuple[float, str], ...]:
    """Drop the words of a mark that would run into the mark before it."""
    out = marks[:1]
    for before, (value, words) in pairwise(marks):
        out.append((value, "" if value - before[0] < 0.12 * span else words))
    return tuple(out)


def _sentence(session: Session) -> str:
    assert session.answer is not None
    for finding in session.answer.analysis.findings:
        if finding.fault in (Fault.TYRE_SIZE, Fault.RING_COUNT) and finding.confidence >= 0.5:
            return finding.summary
    return (
        "Speed of each corner against what the others say, in per cent; the bar is where the truth lies 19 times of 20."
    )
