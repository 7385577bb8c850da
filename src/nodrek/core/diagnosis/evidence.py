"""Everything a case holds → likelihoods of the states, one item of evidence each.

An item says, for every state of one corner, how likely it would be seen there. Codes also
say how likely a healthy corner carries them while another corner is bad (a knock-on code).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from nodrek.core.diagnosis.measured import MEASURED, judge_value
from nodrek.core.model import Array, Corner, Fault, Finding
from nodrek.core.model.case import Case, Check, Code, CodeKind, CodeState, Layout, SensorKind, Work
from nodrek.core.model.knowledge import CheckInfo, Knowledge

YOUNG_YEARS, OLD_YEARS = 4.0, 10.0
SHARED_COMPLAINT = 0.6
"""Exponent on what the driver tells where several corners are suspected: only one may feel so."""
SECOND_CODE = 0.3
"""Exponent on a corner's further codes: they mostly follow from the first."""
TELLING = (
    CodeKind.CIRCUIT,
    CodeKind.RANGE,
    CodeKind.NO_SIGNAL,
    CodeKind.RATE,
    CodeKind.COMPARISON,
    CodeKind.COMMUNICATION,
    CodeKind.OTHER,
)
"""Kinds of code, the most telling first."""
SEEN_AS = {
    "at_angle": Fault.RING_DAMAGE,
    "ragged": Fault.RING_DAMAGE,
    "swing": Fault.RING_RUNOUT,
    "late": Fault.AIR_GAP,
    "breaks": Fault.INTERMITTENT,
    "ratio": Fault.TYRE_SIZE,
}
SEEN_AT_ONCE = {"nothing": 0.97, "frozen": 0.95, "swapped": 0.5}
LIKELY_SEEN = 0.7
"""Share of faults that a drive long enough to be logged on purpose shows (common practice)."""
SUREST = 0.99
"""No log is told to be surer of anything."""
BELIEVED = 0.9
"""How far a clean log is believed: the fault may have been asleep that day."""


@dataclass(frozen=True)
class Evidence:
    """``odds``: shape (states,), likelihood of this item; ``beside``: the same while another corner is bad.

    ``check`` names the check it came from, where it did.
    """

    corner: Corner
    text: str
    odds: Array
    beside: Array | None = None
    check: Check | None = None


@dataclass(frozen=True)
class LogWord:
    """What one analysed log says of one corner: findings there, and what it could have shown."""

    corner: Corner
    findings: tuple[Finding, ...]
    could_see: Mapping[Fault, float]


def context_evidence(case: Case, corner: Corner, several: bool, knowledge: Knowledge) -> list[Evidence]:
    """Vehicle, recent work at the corner, and complaint."""
    vehicle = case.vehicle
    names: list[tuple[str, float]] = []
    if vehicle.sensor is not SensorKind.UNKNOWN:
        names.append((vehicle.sensor.value, 1.0))
    if vehicle.layout is not Layout.CAR:
        names.append(("trailer", 1.0))
    if vehicle.road_salt:
        names.append(("salt", 1.0))
    if vehicle.age_years is not None:
        if vehicle.age_years < YOUNG_YEARS:
            names.append(("young", 1.0))
        elif vehicle.age_years >= OLD_YEARS:
            names.append(("old", 1.0))
    for work in case.recent_work:
        if work.corner is corner or work.corner is None:
            names += [(name, 1.0 if work.corner is corner else 0.4) for name in work_names(work)]
    names += [(f"symptom:{s.value}", SHARED_COMPLAINT if several else 1.0) for s in case.symptoms]
    out = []
    for name, weight in dict(names).items():
        rule = knowledge.context.get(name)
        if rule is not None:
            out.append(Evidence(corner, rule.words, knowledge.factors(rule.factor) ** weight))
    return out


def work_names(work: Work) -> list[str]:
    """Names of the rules that a piece of recent work calls for."""
    return [f"work:{work.part.value}", f"work:{work.part.value}:{work.quality.value}"]


def code_evidence(case: Case, corner: Corner, knowledge: Knowledge) -> list[Evidence]:
    """The codes of one corner: the most telling counts in full, what other modules add counts less."""
    kinds: dict[CodeKind, Code] = {}
    for code in case.codes:
        kind = code.kind or CodeKind.OTHER
        if code.corner is corner and (kind not in kinds or code.state is CodeState.CURRENT):
            kinds[kind] = code
    rank = sorted(kinds.items(), key=lambda item: (item[1].state is CodeState.STORED, TELLING.index(item[0])))
    out = []
    for place, (kind, code) in enumerate(rank):
        past = code.state is CodeState.STORED or _is_old(code, case, knowledge)
        weight = (1.0 if place == 0 else SECOND_CODE) * (knowledge.stored if past else 1.0)
        # a code whose kind is not known says only that there is one
        known = code.kind is not None
        odds = knowledge.codes[kind] ** weight if known else np.ones(len(knowledge.states))
        knock = knowledge.knock_on[kind] ** weight if known else 1.0
        alone, beside = odds.copy(), odds.copy()
        well = knowledge.healthy > 0
        beside[well] = knock
        if place == 0:
            alone[well] *= knowledge.named_when_alone
            beside[well] *= knowledge.named_beside_bad
        state = f", {code.state.value}" if code.state else ""
        out.append(
            Evidence(
                corner, f"code: {(kind.value if known else 'kind not known').replace('_', ' ')}{state}", alone, beside
            )
        )
    return out


def _is_old(code: Code, case: Case, knowledge: Knowledge) -> bool:
    """Whether the odometer that the code noted says it is not of these days."""
    now = case.vehicle.odometer_km
    return now is not None and code.odometer_km is not None and now - code.odometer_km > knowledge.old_km


def finding_evidence(findings: Sequence[Finding], corner: Corner, knowledge: Knowledge) -> list[Evidence]:
    """Findings of logs, each believed as far as its own calibrated confidence goes."""
    out = []
    for finding in findings:
        if corner not in finding.corners:
            continue
        table = knowledge.findings[finding.fault]
        usual = float(knowledge.usual @ table)
        odds = finding.confidence * table + (1.0 - finding.confidence) * usual
        out.append(
            Evidence(
                corner,
                f"log: {finding.fault.value.replace('_', ' ')}, {100.0 * min(finding.confidence, SUREST):.0f} % sure",
                odds,
            )
        )
        trigger = knowledge.triggers.get(str(finding.evidence.get("trigger")))
        if trigger:
            words = f"log: breaks at {finding.evidence['trigger']}"
            out.append(Evidence(corner, words, knowledge.factors(trigger)))
    return out


def clean_log_evidence(word: LogWord, knowledge: Knowledge) -> list[Evidence]:
    """A log that shows nothing at this corner speaks against what it could have shown."""
    if word.findings or not word.could_see:
        return []
    odds = np.ones(len(knowledge.states))
    for i, state in enumerate(knowledge.states):
        fault = SEEN_AS.get(state.reads)
        seen = word.could_see.get(fault, 0.0) if fault else SEEN_AT_ONCE.get(state.reads, 0.0)
        odds[i] = 1.0 - BELIEVED * min(1.0, max(0.0, seen))
    return [Evidence(word.corner, "log: nothing found here", odds)]


def unmentioned_evidence(corner: Corner, knowledge: Knowledge) -> Evidence:
    """A corner that the findings of a log not at hand leave out: the log compared it with the others."""
    seen = np.array([SEEN_AT_ONCE.get(s.reads, LIKELY_SEEN if s.reads in SEEN_AS else 0.0) for s in knowledge.states])
    return Evidence(corner, "log: nothing found here", 1.0 - BELIEVED * seen)


def check_evidence(check: Check, passive: bool, knowledge: Knowledge) -> Evidence | None:
    """One check done at its corner; None where it holds no answer that can be used."""
    if check.corner is None:
        return None
    info = knowledge.checks[check.check]
    outcome, words = check_outcome(check, info)
    if outcome is None:
        return None
    column = answer_odds(info, passive, knowledge)[:, info.outcomes.index(outcome)]
    return Evidence(check.corner, f"{check.check.value}: {words}", column, check=check)


def check_outcome(check: Check, info: CheckInfo) -> tuple[str | None, str]:
    """The outcome of a check and its words; None where there is none."""
    if check.check in MEASURED:
        judged = judge_value(check, info.unit)
        if judged.outcome in (None, judged.words):
            return judged.outcome, judged.words
        return judged.outcome, f"{judged.words} ({str(judged.outcome).replace('_', ' ')})"
    if check.result is None or check.result not in info.outcomes:
        return None, ""
    return check.result, check.result.replace("_", " ")


def answer_odds(info: CheckInfo, passive: bool, knowledge: Knowledge) -> Array:
    """Shape (states, outcomes): how often each answer comes, lapses of people included."""
    table = info.odds_passive if passive else info.odds
    return np.asarray((1.0 - knowledge.lapse) * table + knowledge.lapse / table.shape[1])
