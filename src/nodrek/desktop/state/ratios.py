"""Presenter of the ratio view."""

from __future__ import annotations

import math
from itertools import pairwise
from statistics import median

from nodrek.core.model import Analysis, Corner
from nodrek.core.verdict.explain import WORN_OUT
from nodrek.core.verdict.judge import FAULTY_FROM
from nodrek.core.verdict.tyre import AXLE_WORTH_SAYING, WORTH_SAYING
from nodrek.desktop.state.screen import RatioRow, RatiosScreen
from nodrek.desktop.state.session import Session
from nodrek.desktop.state.words import percent, signed, where_words
from nodrek.jobs.analyze import Answer

SENTENCE = "How much faster or slower each wheel turns than the middle of all, in per cent. "
BAR = "The bar is where the truth lies 19 times out of 20."
LEFT_OUT = " Readings that miss edges are left out."
STEPS = (0.25, 0.5, 1.0, 2.0, 5.0, 10.0, 20.0, 50.0, 100.0)


def present_ratios(session: Session) -> RatiosScreen | None:
    answer = session.answer
    if answer is None:
        return None
    rows = []
    shown = shown_ratios(answer)
    for corner in answer.log.corners:
        name, chosen = corner.words.capitalize(), corner is session.corner
        if corner in shown:
            low, value, high = shown[corner]
            text = f"{signed(value)} %  ({signed(low)} to {signed(high)})"
            rows.append(RatioRow(corner, name, text, low, value, high, True, chosen))
        else:
            rows.append(RatioRow(corner, name, "not compared", 0.0, 0.0, 0.0, False, chosen))
    known_rows = [r for r in rows if r.known]
    empty = ""
    if not known_rows:
        empty = (
            "No ratio could be measured: some steady, straight driving with two corners reading is needed, best above "
            "20 km/h."
        )
    widest = max((max(abs(r.low), abs(r.high)) for r in known_rows), default=1.0)
    sound, worn, alone = 100.0 * WORTH_SAYING, 100.0 * WORN_OUT, 100.0 * AXLE_WORTH_SAYING
    is_alone = any(c.mate not in shown for c in shown)
    # room for the marks, so that a small difference is seen as small
    span = max(1.25 * alone if is_alone else 1.0, 1.25 * widest)
    step = next((s for s in STEPS if span / s <= 4), STEPS[-1])
    count = math.floor(span / step)
    ticks = tuple((i * step, f"{i * step:+g}" if i else "0") for i in range(-count, count + 1))
    teeth = answer.examination.vehicle.teeth or 48
    explanations = [
        (sound, f"sound sets stay within ±{sound:g} %"), (-sound, ""),
        (100.0 / teeth, f"one tooth more of {teeth}"), (-100.0 / teeth, "one tooth less"),
        (worn, "worn out against new"), (-worn, "new against worn out"),
    ]  # fmt: skip
    if is_alone:
        # only the other axle has a say about such a corner, and its own may be worn
        explanations += [(alone, f"without its mate ±{alone:g} %"), (-alone, "")]
    marks = _apart([m for m in sorted(explanations) if abs(m[0]) < 0.98 * span], span)
    sentence = (_explained(answer.analysis) or SENTENCE) + BAR + (LEFT_OUT if answer.examination.lost else "")
    return RatiosScreen(tuple(rows), span, ticks, marks, sentence, empty)


def _explained(analysis: Analysis) -> str:
    """What the oddest corner may be, likeliest first; "" where none is odd."""
    for finding in analysis.findings:
        explanations = finding.evidence.get("explanations")
        if finding.confidence < FAULTY_FROM or not explanations:
            continue
        ranked = ", ".join(f"{e['what']} ({percent(e['share'])})" for e in explanations)
        return (
            f"{where_words(finding)}: {signed(finding.evidence['difference_percent'])} % against the others. "
            f"What explains it, likeliest first: {ranked}. "
        )
    return ""


def shown_ratios(answer: Answer) -> dict[Corner, tuple[float, float, float]]:
    """Low end, value and high end in per cent, against the middle of all corners.

    The middle and not the mean, so that one odd wheel does not make three sound ones look
    odd too.
    """
    known = {c: r for c, r in answer.analysis.corners.items() if math.isfinite(r.ratio)}
    if not known:
        return {}
    middle = median(r.ratio for r in known.values())
    return {
        c: (100 * (r.ratio_low / middle - 1), 100 * (r.ratio / middle - 1), 100 * (r.ratio_high / middle - 1))
        for c, r in known.items()
    }


def _apart(marks: list[tuple[float, str]], span: float) -> tuple[tuple[float, str], ...]:
    """Drop the words of a mark that would run into the mark before it."""
    out = marks[:1]
    for before, (value, words) in pairwise(marks):
        out.append((value, "" if value - before[0] < 0.12 * span else words))
    return tuple(out)
