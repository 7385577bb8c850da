"""Closed loop: hidden faults, answered by likelihoods that are not the engine's own.

python -m benchmarks.diagnosis [CASES]

Each case draws a vehicle, its access, a hidden state at one corner (sometimes two), codes and
a log's finding; then the engine names checks and a simulated technician answers until the case
is settled. The answers come from the engine's tables disturbed in each entry (log-normal,
then mixed with another check's lapse) anew for every case, and priors are disturbed too.
The rival does the checks in a fixed order (cheapest first) with the same engine as judge.
"""

from __future__ import annotations

import sys
from dataclasses import dataclass, replace

import numpy as np

from nodrek.core.diagnosis.engine import diagnose
from nodrek.core.diagnosis.next_check import possible
from nodrek.core.model import Array, Corner, Fault, Finding
from nodrek.core.model.case import (
    Access,
    Case,
    CaseVehicle,
    Cause,
    Check,
    CheckKind,
    Code,
    CodeKind,
    CodeState,
    SensorKind,
)
from nodrek.core.model.knowledge import CheckInfo, Knowledge
from nodrek.io.knowledge import trade_knowledge

DISTURBANCE = 0.5
LAPSE = 0.03
MOST = 22
ORDERS = ("next check", "as in the table", "cheapest first")
VALUES = {
    CheckKind.SENSOR_RESISTANCE: {"open": None, "near_mate": 1100.0, "off_mate": 300.0},
    CheckKind.AC_MILLIVOLTS: {"none": 0.0, "low": 75.0, "poor": 180.0, "sound": 420.0},
    CheckKind.FEED_VOLTAGE: {"present": 12.1, "low": 6.0, "missing": 0.1},
    CheckKind.WIRE_CONTINUITY: {"good": 0.3, "doubtful": 8.0, "bad": 3200.0, "open": None},
}
MATES = {CheckKind.SENSOR_RESISTANCE: 1120.0, CheckKind.AC_MILLIVOLTS: 430.0, CheckKind.FEED_VOLTAGE: 12.2}


@dataclass(frozen=True)
class Played:
    settled: bool
    right: bool
    minutes: float
    impossible: int


def disturbed(row: Array, rng: np.random.Generator) -> Array:
    """Another technician's likelihoods: each entry off by a factor, and some answers plain wrong."""
    out = row * np.exp(rng.normal(0.0, DISTURBANCE, row.size))
    return np.asarray((1.0 - LAPSE) * out / out.sum() + LAPSE / row.size)


def draw_case(rng: np.random.Generator, knowledge: Knowledge) -> tuple[Case, int]:
    passive = bool(rng.random() < 0.4)
    weights = disturbed(knowledge.usual, rng)
    hidden = int(rng.choice(weights.size, p=weights))
    state = knowledge.states[hidden]
    kinds = list(knowledge.codes)
    column = disturbed(np.array([knowledge.codes[k][hidden] for k in kinds]), rng)
    codes: tuple[Code, ...] = ()
    if rng.random() < 0.85:
        kind = kinds[int(rng.choice(len(kinds), p=column))]
        codes = (Code(kind, Corner.FL, CodeState.CURRENT if rng.random() < 0.7 else CodeState.STORED),)
    if rng.random() < 0.25 and state.cause is not Cause.NO_FAULT:
        codes = (*codes, Code(CodeKind.COMPARISON, Corner.FR))
    findings: tuple[Finding, ...] = ()
    if rng.random() < 0.6 or not codes:
        faults = list(knowledge.findings)
        row = np.array([knowledge.findings[f][hidden] for f in faults])
        if rng.random() < row.sum():
            fault = faults[int(rng.choice(len(faults), p=disturbed(row / row.sum(), rng)))]
            findings = (Finding(Fault(fault), (Corner.FL,), float(rng.uniform(0.6, 0.99)), ""),)
    flag = lambda p: bool(rng.random() < p)  # noqa: E731
    access = Access(flag(0.6), flag(0.6), flag(0.5), flag(0.6), flag(0.7))
    vehicle = CaseVehicle(sensor=SensorKind.PASSIVE if passive else SensorKind.ACTIVE)
    return Case(vehicle=vehicle, codes=codes, findings=findings, access=access), hidden


def answer(info: CheckInfo, corner: Corner, state: int, passive: bool, rng: np.random.Generator) -> Check:
    table = info.odds_passive if passive else info.odds
    word = info.outcomes[int(rng.choice(len(info.outcomes), p=disturbed(table[state], rng)))]
    if info.kind in VALUES:
        value = VALUES[info.kind][word]
        return Check(info.kind, corner, "open" if value is None else None, value, MATES.get(info.kind))
    return Check(info.kind, corner, word)


def play(seed: int, knowledge: Knowledge, how: str) -> Played | None:
    rng = np.random.default_rng([seed, 3])
    case, hidden = draw_case(rng, knowledge)
    well = next(i for i, s in enumerate(knowledge.states) if s.cause is Cause.NO_FAULT)
    passive = case.vehicle.sensor is SensorKind.PASSIVE
    order = list(knowledge.checks.values())
    if how == "cheapest first":
        order.sort(key=lambda i: i.minutes)
    minutes, impossible = 0.0, 0
    result = diagnose(case, knowledge, costs=False)
    if not result.corners:
        return None
    for _ in range(MOST):
        if result.settled or (how == ORDERS[0] and not result.next_checks):
            break
        if how != ORDERS[0]:
            open_corners = [c for c in result.corners if result.of(c)[0].probability < 0.9]
            open_now = [(i, c) for i in order for c in open_corners if possible_here(i, c, case, knowledge)]
            if not open_now:
                break
            info, corner = open_now[0]
        else:
            info, corner = result.next_checks[0].info, result.next_checks[0].corner
        if not possible_here(info, corner, case, knowledge):
            impossible += 1
        minutes += info.minutes
        check = answer(info, corner, hidden if corner is Corner.FL else well, passive, rng)
        case = replace(case, checks=(*case.checks, check))
        result = diagnose(case, knowledge, costs=False)
    truth = {c: knowledge.states[hidden].cause if c is Corner.FL else Cause.NO_FAULT for c in result.corners}
    right = all(result.of(c)[0].cause is truth[c] for c in result.corners)
    return Played(result.settled, right, minutes, impossible)


def possible_here(info: CheckInfo, corner: Corner, case: Case, knowledge: Knowledge) -> bool:
    """Access and kind of sensor only, worked out apart from the engine for the common needs."""
    if any(c.check is info.kind and c.corner is corner for c in case.checks):
        return False
    passive = case.vehicle.sensor is SensorKind.PASSIVE
    for need in info.needs:
        if need in ("active", "passive"):
            if (need == "passive") is not passive:
                return False
        elif need in vars(case.access) and getattr(case.access, need) is False:
            return False
    return "circuit_code" not in info.needs or possible(info, corner, case, {}, knowledge) > 0.0


def main(cases: int) -> None:
    knowledge = trade_knowledge()
    print(f"{cases} hidden faults, seeds from 70,000 on; answers by disturbed likelihoods")
    minutes = {}
    for how in ORDERS:
        done = [p for seed in range(70_000, 70_000 + cases) if (p := play(seed, knowledge, how))]
        settled = [p for p in done if p.settled]
        minutes[how] = float(np.mean([p.minutes for p in done]))
        print(
            f"{how:18s} settled {100 * len(settled) / len(done):5.1f} %, "
            f"of these right {100 * np.mean([p.right for p in settled]):5.1f} %, wrong of all "
            f"{100 * sum(not p.right for p in settled) / len(done):4.1f} %, {minutes[how]:5.1f} min, "
            f"impossible checks {sum(p.impossible for p in done)}"
        )
    for how in ORDERS[1:]:
        print(f"minutes against {how}: {minutes[ORDERS[0]] / minutes[how]:.2f}")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 300)
