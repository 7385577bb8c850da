"""A measured value → the outcome of its check, and the question whether its unit is right.

Limits are common practice, no published source: 100 mV least and 300 mV sound for a coil
turned by hand; tenths of an ohm for a good wire, kilo-ohms for a bad one; feed near the
battery's voltage; coils of one axle alike.
"""

from __future__ import annotations

from dataclasses import dataclass

from nodrek.core.model.case import Check, CheckKind

LEAST_MV, SOUND_MV, NOTHING_MV = 100.0, 300.0, 8.0
FAR_BELOW_MATE = 0.5
GOOD_OHM, DOUBTFUL_OHM = 1.5, 30.0
OPEN_OHM = 1e5
FEED_V, NO_FEED_V = 8.5, 2.0
FEED_SHARE, NO_FEED_SHARE = 0.85, 0.3
ALIKE_LOW, ALIKE_HIGH = 0.7, 1.45
COIL_OHM = (150.0, 8000.0)

SANE = {
    CheckKind.SENSOR_RESISTANCE: (30.0, 2e7),
    CheckKind.AC_MILLIVOLTS: (2.0, 20_000.0),
    CheckKind.FEED_VOLTAGE: (0.0, 40.0),
    CheckKind.WIRE_CONTINUITY: (0.0, 2e7),
}
"""What a meter shows in the unit of the check; outside of it the unit is asked about. 0 is sane everywhere."""
MEASURED = frozenset(SANE)


@dataclass(frozen=True)
class Judgement:
    """``outcome`` None: no judgement is possible. ``question``: one sentence where the unit looks wrong."""

    outcome: str | None
    words: str
    question: str = ""


def judge_value(check: Check, unit: str) -> Judgement:
    """What a measured check says. One that looks wrong by a thousand is asked about, and used once confirmed."""
    if check.result == "open":
        outcome = {CheckKind.AC_MILLIVOLTS: "none", CheckKind.FEED_VOLTAGE: "missing"}.get(check.check, "open")
        return Judgement(outcome, "open")
    if check.value is None:
        return Judgement(None, "no value entered")
    told = f"{check.value:g} {unit}" + (f", mate {check.mate_value:g} {unit}" if check.mate_value is not None else "")
    question = "" if check.confirmed else _unit_question(check, unit)
    if question:
        return Judgement(None, told, question)
    return Judgement(_OUTCOME[check.check](check.value, check.mate_value), told)


def _unit_question(check: Check, unit: str) -> str:
    value, mate = check.value, check.mate_value
    if value is None:
        return ""
    low, high = SANE[check.check]
    for factor, words in ((1000.0, "a thousand times too small"), (0.001, "a thousand times too large")):
        by_mate = (
            mate is not None
            and mate > 0
            and value > 0
            and check.check in (CheckKind.SENSOR_RESISTANCE, CheckKind.FEED_VOLTAGE)
            and ALIKE_LOW <= value * factor / mate <= ALIKE_HIGH
        )
        outside = (0.0 < value < low) if factor > 1.0 else value > high
        if by_mate or (outside and low <= value * factor <= high):
            return f"{value:g} {unit} looks {words}: check the meter's range and enter {value * factor:g} if that is it"
    if value > high:
        return f"{value:g} {unit} is more than such a meter shows: check the value"
    return ""


def _resistance(value: float, mate: float | None) -> str:
    if value >= OPEN_OHM:
        return "open"
    if mate is not None and 0.0 < mate < OPEN_OHM:
        return "near_mate" if ALIKE_LOW <= value / mate <= ALIKE_HIGH else "off_mate"
    return "near_mate" if COIL_OHM[0] <= value <= COIL_OHM[1] else "off_mate"


def _millivolts(value: float, mate: float | None) -> str:
    if value < NOTHING_MV:
        return "none"
    if value < LEAST_MV:
        return "low"
    if value < SOUND_MV or (mate is not None and value < FAR_BELOW_MATE * mate):
        # both low alike and turned slowly: the mate is the yardstick
        alike = mate is not None and mate < SOUND_MV and value > 0.8 * mate
        return "sound" if alike else "poor"
    return "sound"


def _feed(value: float, mate: float | None) -> str:
    high = FEED_SHARE * mate if mate is not None and mate > FEED_V / 2 else FEED_V
    low = NO_FEED_SHARE * mate if mate is not None and mate > FEED_V / 2 else NO_FEED_V
    return "present" if value >= high else "missing" if value <= low else "low"


def _continuity(value: float, mate: float | None) -> str:
    del mate
    if value >= OPEN_OHM:
        return "open"
    return "good" if value <= GOOD_OHM else "doubtful" if value <= DOUBTFUL_OHM else "bad"


_OUTCOME = {
    CheckKind.SENSOR_RESISTANCE: _resistance,
    CheckKind.AC_MILLIVOLTS: _millivolts,
    CheckKind.FEED_VOLTAGE: _feed,
    CheckKind.WIRE_CONTINUITY: _continuity,
}
