"""The whole diagnosis of one case: suspects, odds, reasons, next checks, costs, repairs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from nodrek.core.diagnosis.code_text import with_read_codes
from nodrek.core.diagnosis.evidence import (
    Evidence,
    LogWord,
    check_evidence,
    check_outcome,
    clean_log_evidence,
    code_evidence,
    context_evidence,
    finding_evidence,
    unmentioned_evidence,
)
from nodrek.core.diagnosis.loom import search_loom
from nodrek.core.diagnosis.measured import MEASURED, judge_value
from nodrek.core.diagnosis.next_check import SETTLED_FROM, next_checks
from nodrek.core.diagnosis.odds import CornerOdds, corner_odds, weight_db
from nodrek.core.diagnosis.policies import policies
from nodrek.core.model import Corner
from nodrek.core.model.case import Case, Cause, Check, CheckKind, SensorKind
from nodrek.core.model.diagnosis import CauseOdds, Diagnosis, Reason, Repair
from nodrek.core.model.knowledge import Knowledge

SUSPECT_FINDING = 0.2
ABNORMAL = 0.3
"""A check's answer that a healthy corner gives less often than this makes its corner suspected."""
REPAIR_FROM = 0.5
CONTRADICTION = 0.25
LEAST_WEIGHT_DB = 0.6


def diagnose(
    case: Case,
    knowledge: Knowledge,
    logs: Sequence[LogWord] = (),
    own_order: tuple[CheckKind, ...] = (),
    costs: bool = True,
) -> Diagnosis:
    """Odds of every cause at every suspected corner, and what to do next.

    ``logs`` holds what analysed logs say per corner; ``costs`` False leaves the policies out.
    """
    warnings: list[str] = []
    case = _with_corners(with_read_codes(case), logs, warnings)
    case = _without_repeated(case, logs)
    suspects = suspected(case, knowledge, logs)
    if not suspects:
        warnings.append("No corner is suspected yet: read the codes of all modules, or log a drive.")
    if len(suspects) > 1:
        warnings += _one_at_a_time(suspects)
    passive = case.vehicle.sensor is SensorKind.PASSIVE
    context = {c: context_evidence(case, c, len(suspects) > 1, knowledge) for c in suspects}
    evidence = {c: _seen(case, c, passive, knowledge, logs) for c in suspects}
    odds = corner_odds(context, evidence, _same_work(case, suspects), knowledge)
    warnings += _questions(case, knowledge)
    for corner in suspects:
        warnings += _contradictions(odds[corner], evidence[corner], knowledge)
    steps = next_checks(case, odds, knowledge)
    causes = tuple(c for corner in suspects for c in _causes(odds[corner], knowledge))
    settled = bool(suspects) and all(next(iter(odds[c].causes(knowledge).values())) >= SETTLED_FROM for c in suspects)
    warnings += _nothing_left(causes, {s.corner for s in steps})
    return Diagnosis(
        causes=causes,
        next_checks=tuple(steps),
        settled=settled,
        policies=tuple(policies(case, odds, knowledge, own_order)) if costs else (),
        repairs=tuple(_repairs(causes, knowledge)),
        warnings=tuple(dict.fromkeys(warnings)),
        looms=tuple(search_loom(loom, knowledge.loom_kinds) for loom in case.looms if loom.segments),
    )


def suspected(case: Case, knowledge: Knowledge, logs: Sequence[LogWord] = ()) -> list[Corner]:
    """Corners that codes, findings or a check's answer point at; all of them where only a complaint is known."""
    named = {c.corner for c in case.codes if c.corner}
    for finding in (*case.findings, *(f for w in logs for f in w.findings)):
        if finding.confidence >= SUSPECT_FINDING:
            named |= set(finding.corners)
    well = knowledge.healthy / knowledge.healthy.sum()
    passive = case.vehicle.sensor is SensorKind.PASSIVE
    for check in case.checks:
        item = check_evidence(check, passive, knowledge)
        vehicle_wide = knowledge.checks[check.check].vehicle_wide
        if item is not None and not vehicle_wide and float(item.odds @ well) < ABNORMAL:
            named.add(item.corner)
    if not named:
        named = {w.corner for w in case.recent_work if w.corner and (case.symptoms or case.lamps or case.checks)}
    if not named:
        named = {c.corner for c in case.checks if c.corner}
    if not named and (case.symptoms or case.lamps or case.checks):
        named = set(case.vehicle.layout.corners)
    return [c for c in case.vehicle.layout.corners if c in named]


def _with_corners(case: Case, logs: Sequence[LogWord], warnings: list[str]) -> Case:
    """Checks without a corner get the only one that codes and findings name, where there is just one."""
    named = {c.corner for c in case.codes if c.corner} | {x for f in case.findings for x in f.corners}
    named |= {w.corner for w in logs if w.findings}
    only = next(iter(named)) if len(named) == 1 else None
    checks = []
    for check in case.checks:
        if check.corner is not None or check.check is CheckKind.ASK_CONTROL_UNIT:
            checks.append(check)
        elif only is not None:
            warnings.append(f"{check.check.words}: no corner given, taken as the {only.words}.")
            checks.append(replace(check, corner=only))
        else:
            warnings.append(f"{check.check.words}: no corner given and several are possible; left out.")
    return replace(case, checks=tuple(checks))


def _without_repeated(case: Case, logs: Sequence[LogWord]) -> Case:
    """Findings noted in the case that a log at hand says again are one fact, not two."""
    said = {(f.fault, f.corners) for word in logs for f in word.findings}
    return replace(case, findings=tuple(f for f in case.findings if (f.fault, f.corners) not in said))


def _seen(case: Case, corner: Corner, passive: bool, knowledge: Knowledge, logs: Sequence[LogWord]) -> list[Evidence]:
    out = code_evidence(case, corner, knowledge)
    out += finding_evidence(case.findings, corner, knowledge)
    if case.findings and not logs and not any(corner in f.corners for f in case.findings):
        out.append(unmentioned_evidence(corner, knowledge))
    for word in logs:
        if word.corner is corner:
            out += finding_evidence(word.findings, corner, knowledge) + clean_log_evidence(word, knowledge)
    for check in _last_of_each(case.checks):
        here = replace(check, corner=corner) if check.check is CheckKind.ASK_CONTROL_UNIT else check
        item = check_evidence(here, passive, knowledge)
        if item is not None and item.corner is corner:
            out.append(item)
    return out


def _last_of_each(checks: Sequence[Check]) -> list[Check]:
    """A check done again replaces the earlier one of its kind at its corner."""
    return list({(c.check, c.corner): c for c in checks}.values())


def _same_work(case: Case, suspects: Sequence[Corner]) -> bool:
    done = [{w.part for w in case.recent_work if w.corner is c} for c in suspects]
    return len(done) > 1 and bool(set.intersection(*done))


def _one_at_a_time(suspects: Sequence[Corner]) -> list[str]:
    pair = " and ".join(c.words for c in suspects)
    return [f"Suspected: {pair}. Fit or prove one first, look at its reading, then decide on the next."]


def _causes(here: CornerOdds, knowledge: Knowledge) -> list[CauseOdds]:
    out = []
    for cause, probability in here.causes(knowledge).items():
        reasons = [Reason(e.text, weight_db(e, cause, here, knowledge)) for e in here.evidence]
        told = sorted((r for r in reasons if abs(r.weight_db) >= LEAST_WEIGHT_DB), key=lambda r: -abs(r.weight_db))
        out.append(CauseOdds(here.corner, cause, probability, tuple(told)))
    return out


def _nothing_left(causes: Sequence[CauseOdds], checked: set[Corner]) -> list[str]:
    """A corner that is not settled and has no check worth its minutes: say what is left to do."""
    out = []
    for corner in dict.fromkeys(c.corner for c in causes):
        first, second = [c for c in causes if c.corner is corner][:2]
        if first.probability < SETTLED_FROM and corner not in checked:
            out.append(
                f"{corner.words}: no check left is worth its minutes to tell {first.cause.value.replace('_', ' ')} "
                f"from {second.cause.value.replace('_', ' ')}: make the cheaper repair of the two and prove it."
            )
    return out


def _repairs(causes: Sequence[CauseOdds], knowledge: Knowledge) -> list[Repair]:
    return [
        Repair(c.corner, c.cause, repair)
        for c in causes
        if c.probability >= REPAIR_FROM
        for repair in knowledge.repairs.get(c.cause, ())
    ]


def _questions(case: Case, knowledge: Knowledge) -> list[str]:
    """Values whose unit looks wrong, and answers that are missing."""
    out = []
    for i, check in enumerate(case.checks):
        info = knowledge.checks[check.check]
        if check.check in MEASURED:
            asked = judge_value(check, info.unit).question
            if asked:
                out.append(f"checks[{i}].value: {asked}; it is not counted until then.")
                continue
        if check_outcome(check, info)[0] is None:
            out.append(f"checks[{i}]: {check.check.words} has no answer yet; it is not counted.")
    for i, check in enumerate(case.checks):
        for other in case.checks[:i]:
            same = (other.check, other.corner) == (check.check, check.corner)
            info = knowledge.checks[check.check]
            if same and check_outcome(other, info)[0] != check_outcome(check, info)[0]:
                out.append(f"{check.check.words} was done twice with two answers: the later one counts; do it again.")
    return out


def _contradictions(here: CornerOdds, evidence: Sequence[Evidence], knowledge: Knowledge) -> list[str]:
    """Pairs of checks that hardly ever go together: one of them should be repeated."""
    checks = [e for e in evidence if e.check is not None]
    worst, pair = CONTRADICTION, None
    for i, one in enumerate(checks):
        for other in checks[:i]:
            both = float(here.prior @ (one.odds * other.odds))
            apart = float(here.prior @ one.odds) * float(here.prior @ other.odds)
            opposed = _points_at(one, here, knowledge) is not _points_at(other, here, knowledge)
            if opposed and both / apart < worst:
                worst, pair = both / apart, (other, one)
    if pair is None:
        return []
    said = [f"{e.text} says {knowledge.causes[_points_at(e, here, knowledge)].words}" for e in pair]
    return [f"{here.corner.words}: {said[0]}, but {said[1]}: repeat one of them before anything is fitted."]


def _points_at(item: Evidence, here: CornerOdds, knowledge: Knowledge) -> Cause:
    return knowledge.cause_of[int(np.argmax(knowledge.membership @ (here.prior * item.odds)))]
