"""What it costs to prove first, and what to fit a sensor first: the whole tree of checks and answers, weighed.

From the present odds the best check is done, each of its answers comes as often as the same odds say, and
so on until a branch is settled; then the repair of its leading cause is made. A wrong repair comes back: its
part is lost, and the next cause is tried. Branches rarer than `RARE` end where they are.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from nodrek.core.diagnosis.evidence import answer_odds
from nodrek.core.diagnosis.next_check import LEAST_BITS_A_MINUTE, SETTLED_FROM, possible
from nodrek.core.diagnosis.odds import CornerOdds
from nodrek.core.model import Array, Corner
from nodrek.core.model.case import Case, Cause, CheckKind, SensorKind
from nodrek.core.model.diagnosis import Policy
from nodrek.core.model.knowledge import CheckInfo, Knowledge

MOST_CHECKS = 12
RARE = 0.004
"""Share of all courses of a job below which one is followed no further."""
TINY = 1e-15
NEW_SENSOR_BAD = 0.05
"""Share of new sensors that are bad themselves (common practice, no published source)."""
COMES_BACK_MINUTES = 30.0
"""Taking the vehicle in again, listening again (common practice, no published source)."""


@dataclass(frozen=True, eq=False)
class _Table:
    """Checks that can be done at one corner, side by side, and what repairs cost.

    ``odds`` (states, answers of all checks); ``first`` the first answer of each check; ``worth_minutes`` of a
    check with its risk; ``repair_minutes`` and ``repair_parts`` of each cause.
    """

    knowledge: Knowledge
    infos: tuple[CheckInfo, ...]
    odds: Array
    first: npt.NDArray[np.intp]
    minutes: Array
    worth_minutes: Array
    repair_minutes: Array
    repair_parts: Array

    def answers(self, check: int) -> slice:
        start = int(self.first[check])
        return slice(start, start + len(self.infos[check].outcomes))


@dataclass(frozen=True, eq=False)
class _Branches:
    """Courses that a job may have taken so far, one a row.

    ``truth`` (courses, states): how often the course is taken with each hidden state; ``belief``, the same
    shape: what the technician makes of it; ``done`` (courses, checks).
    """

    truth: Array
    belief: Array
    done: npt.NDArray[np.bool_]

    def part(self, rows: npt.NDArray[Any]) -> _Branches:
        return _Branches(self.truth[rows], self.belief[rows], self.done[rows])

    @property
    def share(self) -> Array:
        return np.asarray(self.truth.sum(axis=1))


@dataclass
class _Cost:
    """Expected minutes and parts, and the chance that a first repair does not cure."""

    minutes: float = 0.0
    parts: float = 0.0
    come_back: float = 0.0


def policies(
    case: Case, odds: Mapping[Corner, CornerOdds], knowledge: Knowledge, own_order: tuple[CheckKind, ...] = ()
) -> list[Policy]:
    """Costs summed over the suspected corners: proof first, sensor first, and the technician's own order."""
    if not odds:
        return []
    plans: dict[str, Callable[[_Branches, _Table, _Cost], None]] = {
        "proof first": _prove,
        "sensor first": _sensor_first,
    }
    if own_order:
        plans["own order"] = lambda start, table, cost: _own_order(start, table, cost, own_order)
    tables = {c: _table(case, c, odds, knowledge) for c in odds}
    out = []
    for name, plan in plans.items():
        cost = _Cost()
        for corner, here in odds.items():
            states = here.states[None, :]
            none_done = np.zeros((1, len(tables[corner].infos)), dtype=bool)
            plan(_Branches(states, states, none_done), tables[corner], cost)
        priced = bool(case.prices)
        total = cost.parts + cost.minutes / 60.0 * case.prices["hour"] if "hour" in case.prices else None
        out.append(Policy(name, cost.minutes, cost.parts if priced else None, total, min(1.0, cost.come_back)))
    return out


def _table(case: Case, corner: Corner, odds: Mapping[Corner, CornerOdds], knowledge: Knowledge) -> _Table:
    passive = case.vehicle.sensor is SensorKind.PASSIVE
    infos = tuple(i for i in knowledge.checks.values() if possible(i, corner, case, odds, knowledge) > 0.0)
    widths = [len(i.outcomes) for i in infos]
    columns = [answer_odds(i, passive, knowledge) for i in infos]
    causes = [knowledge.causes[c] for c in knowledge.cause_of]
    # one repair serves all corners that share the fault
    shares = np.array([1.0 / len(odds) if c.shared else 1.0 for c in causes])
    return _Table(
        knowledge,
        infos,
        np.concatenate(columns, axis=1) if columns else np.empty((len(knowledge.states), 0)),
        np.cumsum([0, *widths])[:-1].astype(np.intp),
        np.array([i.minutes for i in infos]),
        np.array([i.minutes + i.risk for i in infos]),
        shares * np.array([c.minutes for c in causes]),
        shares * np.array([case.prices.get(c.part, 0.0) for c in causes]),
    )


def _prove(start: _Branches, table: _Table, cost: _Cost) -> None:
    """Best check by best check until settled, then the repair."""
    left = start
    for _ in range(MOST_CHECKS):
        best = _best_checks(left, table)
        _repair_until_cured(left.part(best < 0), table, cost)
        left = _answered(left, best, table, cost)
        if not left.truth.size:
            return
    _repair_until_cured(left, table, cost)


def _sensor_first(start: _Branches, table: _Table, cost: _Cost) -> None:
    """A new sensor at once; where it does not cure, the proof comes after."""
    sensor = np.array([s.cause is Cause.SENSOR_FAILED for s in table.knowledge.states])
    cause = table.knowledge.cause_of.index(Cause.SENSOR_FAILED)
    share = float(start.share.sum())
    cost.minutes += share * float(table.repair_minutes[cause])
    cost.parts += share * float(table.repair_parts[cause])
    not_cured = np.where(sensor, 0.0, start.truth)
    cost.minutes += float(not_cured.sum()) * COMES_BACK_MINUTES
    came_back = _Cost()
    # new sensors are bad at times, so what did not cure is not quite ruled out
    belief = np.where(sensor, NEW_SENSOR_BAD * start.belief, start.belief)
    _prove(_Branches(not_cured, belief / belief.sum(), start.done), table, came_back)
    cost.minutes += came_back.minutes
    cost.parts += came_back.parts
    cost.come_back += float(not_cured.sum())


def _own_order(start: _Branches, table: _Table, cost: _Cost, order: Sequence[CheckKind]) -> None:
    """The technician's own order of checks, stopped when settled; then what is best."""
    left = start
    for kind in dict.fromkeys(order):
        check = next((i for i, info in enumerate(table.infos) if info.kind is kind), None)
        if check is None or not left.truth.size:
            continue
        stop = _settled(left, table)
        _repair_until_cured(left.part(stop), table, cost)
        left = _answered(left, np.where(stop, -1, check), table, cost)
    if left.truth.size:
        _prove(left, table, cost)


def _settled(left: _Branches, table: _Table) -> npt.NDArray[np.bool_]:
    return np.asarray((left.belief @ table.knowledge.membership.T).max(axis=1) >= SETTLED_FROM)


def _best_checks(left: _Branches, table: _Table) -> npt.NDArray[np.intp]:
    """The check worth most a minute in each course; −1 where it is settled, rare, or no check is worth its minutes."""
    best = np.full(len(left.truth), -1, dtype=np.intp)
    rows = np.flatnonzero((left.share >= RARE) & ~_settled(left, table))
    if not table.infos or not rows.size:
        return best
    membership, belief = table.knowledge.membership, left.belief[rows]
    joint = (belief[:, None, :] * membership) @ table.odds
    # information of cause and answer: H(cause) + H(answer) − H(both), each check by itself
    both = _x_log_x(joint).sum(axis=1) - _x_log_x(joint.sum(axis=1))
    bits = np.add.reduceat(both, table.first, axis=1) - _x_log_x(belief @ membership.T).sum(axis=1)[:, None]
    worth = np.where(left.done[rows], -np.inf, bits / table.worth_minutes)
    best[rows] = np.where(worth.max(axis=1) >= LEAST_BITS_A_MINUTE, worth.argmax(axis=1), -1)
    return best


def _x_log_x(p: Array) -> Array:
    return np.asarray(p * np.log2(np.maximum(p, TINY)))


def _answered(left: _Branches, checks: npt.NDArray[np.intp], table: _Table, cost: _Cost) -> _Branches:
    """Every answer of the check of each course (−1: the course has ended), its minutes counted."""
    out = []
    for check in sorted(set(checks[checks >= 0].tolist())):
        asked = left.part(checks == check)
        cost.minutes += float(asked.share.sum()) * float(table.minutes[check])
        by_answer = table.odds[:, table.answers(check)].T
        done = asked.done.copy()
        done[:, check] = True
        truth, belief = (x[:, None, :] * by_answer for x in (asked.truth, asked.belief))
        belief = belief / np.maximum(belief.sum(axis=2, keepdims=True), TINY)
        width = len(by_answer)
        out.append(
            _Branches(truth.reshape(-1, truth.shape[2]), belief.reshape(-1, belief.shape[2]), done.repeat(width, 0))
        )
    if not out:
        return left.part(np.zeros(len(left.truth), dtype=bool))
    joined = _Branches(*(np.concatenate([getattr(b, name) for b in out]) for name in ("truth", "belief", "done")))
    return joined.part(joined.share > 0.0)


def _repair_until_cured(ended: _Branches, table: _Table, cost: _Cost) -> None:
    """Repairs of the causes, the likeliest first, until the true one is made."""
    if not ended.truth.size:
        return
    membership = table.knowledge.membership
    order = np.argsort(-(ended.belief @ membership.T), axis=1)
    true = np.take_along_axis(ended.truth @ membership.T, order, axis=1)
    tries = np.arange(order.shape[1])
    minutes = table.repair_minutes[order].cumsum(axis=1) + COMES_BACK_MINUTES * tries
    parts = table.repair_parts[order].cumsum(axis=1)
    # finding no fault repairs nothing that could come back
    real = order != table.knowledge.cause_of.index(Cause.NO_FAULT)
    wrong_before = (real.cumsum(axis=1) - real) > 0
    cost.minutes += float((true * minutes).sum())
    cost.parts += float((true * parts).sum())
    cost.come_back += float((true * wrong_before).sum())
