"""The words of the screens: what a technician says, no statistics on the first level."""

from __future__ import annotations

from collections.abc import Sequence

from nodrek.core.model import Corner, CornerResult, Fault, Finding, Verdict
from nodrek.core.model.case import Cause
from nodrek.core.verdict.judge import WORTH_TRUSTING
from nodrek.core.verdict.ring import MOVED, SURE_OF_NUMBER

HEADLINES = {
    Fault.RING_DAMAGE: "{where}: the ring has lost {teeth}",
    Fault.RING_RUNOUT: "{where}: the ring runs out of true",
    Fault.RING_COUNT: "{where}: the ring has the wrong number of teeth",
    Fault.ENCODER_NOISE: "{where}: the encoder reads ragged",
    Fault.AIR_GAP: "{where}: the sensor stands too far off",
    Fault.INTERMITTENT: "{where}: the signal breaks now and then",
    Fault.NO_SIGNAL: "{where}: no signal",
    Fault.FROZEN: "{where}: the reading is stuck",
    Fault.TYRE_SIZE: "{where}: the tyre does not match",
    Fault.CROSSED: "{where}: leads exchanged",
}
SHORT = {
    Fault.RING_DAMAGE: "lost tooth",
    Fault.RING_RUNOUT: "run-out",
    Fault.RING_COUNT: "tooth count",
    Fault.ENCODER_NOISE: "ragged",
    Fault.AIR_GAP: "wide gap",
    Fault.INTERMITTENT: "breaks",
    Fault.NO_SIGNAL: "no signal",
    Fault.FROZEN: "stuck",
    Fault.TYRE_SIZE: "tyre size",
    Fault.CROSSED: "exchanged",
}


SHORT_CAUSE = {
    Cause.SENSOR_FAILED: "sensor",
    Cause.SENSOR_WRONG_PART: "wrong sensor",
    Cause.SENSOR_LOOSE: "loose sensor",
    Cause.GAP_TOO_LARGE: "gap",
    Cause.RING_DAMAGED: "ring damage",
    Cause.RING_LIFTED: "ring lifted",
    Cause.RING_MISSING: "ring missing",
    Cause.RING_WRONG_COUNT: "tooth count",
    Cause.RING_CONTAMINATED: "dirty encoder",
    Cause.BEARING_PLAY: "bearing play",
    Cause.WIRE_OPEN: "broken wire",
    Cause.WIRE_INTERMITTENT: "shaky wire",
    Cause.CONNECTOR_CORRODED: "connector",
    Cause.LEADS_CROSSED: "crossed leads",
    Cause.CONTROL_UNIT: "control unit",
    Cause.TYRE_MISMATCH: "tyre",
    Cause.NO_FAULT: "no fault here",
}
"""Few enough letters for the plan."""


def where_words(finding: Finding) -> str:
    """ "Rear left", or "Front axle"."""
    corners = finding.corners
    if len(corners) == 2 and corners[0].mate is corners[1]:
        return "Front axle" if corners[0].is_front else "Rear axle"
    return " and ".join(c.words for c in corners).capitalize()


def headline(finding: Finding) -> str:
    lost = finding.evidence.get("teeth_lost", 1)
    one = "a tooth" if is_sure_of_number(finding) else "a tooth or more"
    teeth = "teeth" if lost is None else one if lost == 1 else f"about {lost} teeth"
    if finding.evidence.get("pattern") == "weak_arc":
        return f"{where_words(finding)}: the ring is weak on one side"
    if is_tooth_moved(finding):
        return f"{where_words(finding)}: a tooth of the ring is out of its place"
    return HEADLINES[finding.fault].format(where=where_words(finding), teeth=teeth)


def short(finding: Finding) -> str:
    """Few enough letters for the plan."""
    return "moved tooth" if is_tooth_moved(finding) else SHORT[finding.fault]


EVERY_WHEEL = "Every wheel comes alive"
UNEXPLAINED = "Something is off that no known fault explains"

WORTH_OF_SPIN = (
    "Wheels were turned one after another, and each of them reads. Lost teeth, gaps and tyres show in a drive only."
)


def sureness(confidence: float) -> str:
    """Certainty in words and per cent; never 100."""
    percent = min(99, round(100 * confidence))
    if confidence >= 0.95:
        word = "As good as sure"
    elif confidence >= 0.8:
        word = "Very likely"
    elif confidence >= 0.5:
        word = "Likely"
    else:
        word = "Possible"
    return f"{word}: {percent} %"


def clean_headline(verdict: Verdict) -> str:
    if verdict is Verdict.HEALTHY:
        return "Nothing found at any corner"
    return "Nothing found, but this log is not enough to call it sound"


def unsettled_headline(corner: Corner) -> str:
    """Of a corner that has one of several faults."""
    return f"{corner.words.capitalize()}: something is wrong, and this log does not settle what"


def stood_headline(corners: Sequence[Corner]) -> str:
    """Of corners that read zero and may not have been turned."""
    *first, last = [c.words for c in corners]
    if not first:
        return f"{last.capitalize()} reads zero: dead, or never turned"
    return f"{', '.join(first).capitalize()} and {last} read zero: dead, or never turned"


def worth_of_clean(corners: dict[str, CornerResult]) -> str:
    """What a clean result is worth, by its weakest corner."""
    weakest = min(corners, key=lambda c: corners[c].could_see[Fault.RING_DAMAGE])
    tooth = corners[weakest].could_see[Fault.RING_DAMAGE]
    tyre = min(c.could_see[Fault.TYRE_SIZE] for c in corners.values())
    return (
        f"A single lost tooth would have shown in this log with {percent(tooth)} (weakest corner: {weakest}), "
        f"half a per cent of tyre difference with {percent(tyre)}."
    )


def percent(value: float) -> str:
    """Whole per cent, never claiming 100 or 0."""
    return f"{min(99, max(1, round(100 * value)))} %"


def advice_for_more(corners: dict[str, CornerResult]) -> str:
    """What drive would settle it."""
    tooth = min(c.could_see[Fault.RING_DAMAGE] for c in corners.values())
    alone = [c for c in map(Corner, corners) if c.mate.value not in corners]
    if alone and tooth >= WORTH_TRUSTING:
        missing = " and ".join(c.mate.words for c in alone)
        return f"Log the {missing} as well: without its mate a wheel's axle may be worn, or its tyre be odd."
    if tooth < WORTH_TRUSTING:
        return "Log five minutes of steady driving between 20 and 60 km/h, at the fastest rate the logger has."
    return "Log two minutes of straight driving at a steady 50 km/h or more."


def signed(percent_value: float) -> str:
    """Per cent with sign and two digits, and no minus zero."""
    return f"{round(percent_value, 2) + 0.0:+.2f}"


def minutes_words(seconds: float) -> str:
    """ "3:20 min"."""
    whole = round(seconds)
    if whole >= 3600:
        return f"{whole // 3600}:{whole % 3600 // 60:02d} h"
    return f"{whole // 60}:{whole % 60:02d} min"


def is_sure_of_number(finding: Finding) -> bool:
    """Whether the number of lost teeth, where it is told, is as good as certain."""
    return float(finding.evidence.get("teeth_lost_chance", 1.0)) >= SURE_OF_NUMBER


def is_tooth_moved(finding: Finding) -> bool:
    """Whether no tooth is lost, but one is bent or chipped."""
    return finding.evidence.get("pattern") == MOVED


def lost_words(counts: Sequence[int | None], sure: bool) -> str:
    """How many teeth are gone, for the middle of the ring; unknown where one arc's count is."""
    known = [k for k in counts if k is not None]
    if len(known) < len(counts):
        return "? teeth"
    words = "1 tooth" if sum(known) == 1 else f"{sum(known)} teeth"
    return words if sure else f"{words}?"
