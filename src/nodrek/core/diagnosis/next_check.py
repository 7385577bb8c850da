"""Which check is worth most now: expected information per minute and risk.

The information is that of the check's answer about the cause at its corner (mutual
information; Shannon 1948, from memory). Access, the kind of sensor and what was done
already strike out what cannot be done; while nothing has settled circuit against signal
the cheap stationary clear goes before anything that needs tools.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from nodrek.core.diagnosis.evidence import answer_odds
from nodrek.core.diagnosis.odds import CornerOdds
from nodrek.core.model import Array, Corner
from nodrek.core.model.case import Case, Cause, Check, CheckKind, CodeKind, SensorKind
from nodrek.core.model.diagnosis import NextCheck
from nodrek.core.model.knowledge import CheckInfo, Knowledge

SETTLED_FROM = 0.9
LEAST_BITS = 0.02
LEAST_BITS_A_MINUTE = 0.0015
"""Less than this and the time is better spent on the likeliest repair."""
LEAST_CIRCUIT = 0.04
CIRCUIT_CHECKS = frozenset(
    {
        CheckKind.WIRE_CONTINUITY,
        CheckKind.SENSOR_RESISTANCE,
        CheckKind.FEED_VOLTAGE,
        CheckKind.BORROW_SENSOR,
        CheckKind.PLUG_IN_NEW_SENSOR,
        CheckKind.UNPLUG_SENSOR,
    }
)
"""Checks after which a stationary clear says little more about the circuit."""
UNKNOWN_ACCESS = 0.75
"""Worth of a check that may turn out not to be possible."""
MATE_SUSPECTED = 0.3
CLEAR_FLOOR = 10.0


def next_checks(case: Case, odds: Mapping[Corner, CornerOdds], knowledge: Knowledge) -> list[NextCheck]:
    """Checks that are possible and tell something, best first; none at corners that are settled."""
    passive = case.vehicle.sensor is SensorKind.PASSIVE
    out = []
    for corner, here in odds.items():
        shares = here.causes(knowledge)
        if next(iter(shares.values())) >= SETTLED_FROM:
            continue
        for info in knowledge.checks.values():
            worth = possible(info, corner, case, odds, knowledge)
            if worth <= 0.0:
                continue
            found = _gain(info, here, passive, knowledge)
            if found.gain_bits * worth < LEAST_BITS:
                continue
            score = worth * found.gain_bits / (info.minutes + info.risk)
            if score < LEAST_BITS_A_MINUTE:
                continue
            if info.kind is CheckKind.CLEAR_AND_WAIT and circuit_unsettled(case, corner, here, knowledge):
                score += CLEAR_FLOOR
            out.append(NextCheck(info, corner, found.gain_bits, score, found.answers))
    return _once_per_vehicle(sorted(out, key=lambda n: -n.score))


def _once_per_vehicle(checks: list[NextCheck]) -> list[NextCheck]:
    """A check of the whole vehicle is named once, at the corner where it tells most."""
    seen: set[CheckKind] = set()
    out = []
    for item in checks:
        if item.info.vehicle_wide and item.info.kind in seen:
            continue
        seen.add(item.info.kind)
        out.append(item)
    return out


def circuit_unsettled(case: Case, corner: Corner, here: CornerOdds, knowledge: Knowledge) -> bool:
    """Whether it is still open if the loop itself is bad, and there is something to clear."""
    told = any(c.corner in (corner, None) for c in case.codes) or bool(case.lamps or case.symptoms)
    if not told or any(c.corner is corner and c.check in CIRCUIT_CHECKS for c in case.checks):
        return False
    bad_loop = np.array([s.loop != "sound" for s in knowledge.states])
    return float(here.states @ bad_loop) > LEAST_CIRCUIT


def possible(
    info: CheckInfo, corner: Corner, case: Case, odds: Mapping[Corner, CornerOdds], knowledge: Knowledge
) -> float:
    """1 where the check can be done, 0 where not or done already, less where that is not known."""
    if done(info, corner, case.checks):
        return 0.0
    worth = 1.0
    for need in info.needs:
        worth *= _need(need, corner, case, odds, knowledge)
    return worth


def done(info: CheckInfo, corner: Corner, checks: tuple[Check, ...]) -> bool:
    """Whether its answer is there already; a check noted without one is still to be done."""
    return any(
        c.check is info.kind and (info.vehicle_wide or c.corner is corner) and (c.result, c.value) != (None, None)
        for c in checks
    )


def _need(need: str, corner: Corner, case: Case, odds: Mapping[Corner, CornerOdds], knowledge: Knowledge) -> float:
    if need in ("active", "passive"):
        kind = case.vehicle.sensor
        return 0.6 if kind is SensorKind.UNKNOWN else float(kind.value == need)
    if need == "sound_mate":
        mate = odds.get(corner.mate)
        if mate is None:
            return 1.0
        return float(1.0 - float(mate.states @ knowledge.healthy) < MATE_SUSPECTED)
    if need == "circuit_code":
        return float(any(c.corner is corner and c.kind is CodeKind.CIRCUIT for c in case.codes) or _back(case, corner))
    known = getattr(case.access, need)
    return UNKNOWN_ACCESS if known is None else float(known)


def _back(case: Case, corner: Corner) -> bool:
    back = (CheckKind.CLEAR_AND_WAIT, corner, "returns_at_once")
    return any((c.check, c.corner, c.result) == back for c in case.checks)


@dataclass(frozen=True)
class _Gain:
    gain_bits: float
    answers: tuple[tuple[str, float, Cause, float], ...]


def _gain(info: CheckInfo, here: CornerOdds, passive: bool, knowledge: Knowledge) -> _Gain:
    joint = (knowledge.membership * here.states) @ answer_odds(info, passive, knowledge)
    by_answer = joint.sum(axis=0)
    answers = []
    for j, outcome in enumerate(info.outcomes):
        after = joint[:, j] / by_answer[j]
        best = int(np.argmax(after))
        answers.append((outcome, float(by_answer[j]), knowledge.cause_of[best], float(after[best])))
    return _Gain(information_bits(joint), tuple(answers))


def information_bits(joint: Array) -> float:
    """Mutual information of rows and columns of a joint distribution, bits."""
    rows, columns = joint.sum(axis=1, keepdims=True), joint.sum(axis=0, keepdims=True)
    some = joint > 0
    return float(np.sum(joint[some] * np.log2(joint[some] / (rows @ columns)[some])))
