"""What it costs to prove first, and what to fit a sensor first: by playing both many times.

A hidden state is drawn from the present odds, the best checks are done and answered as the
same odds say, until the corner is settled; then the repair of the leading cause is made.
A wrong repair comes back: its part is lost and the rest is proven afterwards.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from nodrek.core.diagnosis.evidence import answer_odds
from nodrek.core.diagnosis.next_check import SETTLED_FROM, possible
from nodrek.core.diagnosis.odds import CornerOdds
from nodrek.core.model import Array, Corner
from nodrek.core.model.case import Case, Cause, CheckKind, SensorKind
from nodrek.core.model.diagnosis import Policy
from nodrek.core.model.knowledge import CheckInfo, Knowledge

PLAYS = 150
MOST_CHECKS = 12
SEED = 20
LEAST_WORTH = 2e-4
"""Bits a minute under which nobody goes on measuring."""
TINY = 1e-15
COMES_BACK_MINUTES = 30.0
"""Taking the vehicle in again, listening again (common practice, no published source)."""


@dataclass(frozen=True)
class _Table:
    """Checks that can be done at one corner, side by side.

    ``odds`` (states, answers of all checks); ``first`` the first answer of each check.
    """

    infos: tuple[CheckInfo, ...]
    odds: Array
    first: npt.NDArray[np.intp]
    minutes: Array

    def answers(self, check: int) -> slice:
        return slice(int(self.first[check]), int(self.first[check]) + len(self.infos[check].outcomes))


def policies(
    case: Case, odds: Mapping[Corner, CornerOdds], knowledge: Knowledge, own_order: tuple[CheckKind, ...] = ()
) -> list[Policy]:
    """Costs summed over the suspected corners, cheapest in minutes first as named: proof, sensor, own order."""
    if not odds:
        return []
    plans: list[tuple[str, Callable[[_Play], None]]] = [
        ("proof first", lambda play: play.prove()),
        ("sensor first", lambda play: play.sensor_first()),
    ]
    if own_order:
        plans.append(("own order", lambda play: play.own_order(own_order)))
    out = []
    for name, plan in plans:
        minutes = parts = come_back = 0.0
        for corner, here in odds.items():
            table = _table(case, corner, odds, knowledge)
            rng = np.random.default_rng(SEED)
            for _ in range(PLAYS):
                play = _Play(here.states, table, case.prices, knowledge, rng)
                plan(play)
                minutes += play.minutes / PLAYS
                parts += play.parts / PLAYS
                come_back += (play.wrong > 0) / PLAYS
        priced = bool(case.prices)
        total = parts + minutes / 60.0 * case.prices["hour"] if "hour" in case.prices else None
        out.append(Policy(name, minutes, parts if priced else None, total, min(1.0, come_back)))
    return out


def _table(case: Case, corner: Corner, odds: Mapping[Corner, CornerOdds], knowledge: Knowledge) -> _Table:
    passive = case.vehicle.sensor is SensorKind.PASSIVE
    infos = tuple(i for i in knowledge.checks.values() if possible(i, corner, case, odds, knowledge) > 0.0)
    widths = [len(i.outcomes) for i in infos]
    columns = [answer_odds(i, passive, knowledge) for i in infos]
    return _Table(
        infos,
        np.concatenate(columns, axis=1) if columns else np.empty((len(knowledge.states), 0)),
        np.cumsum([0, *widths])[:-1].astype(np.intp),
        np.array([i.minutes + i.risk for i in infos]),
    )


class _Play:
    """One job played to its end with a hidden state."""

    def __init__(
        self, states: Array, table: _Table, prices: Mapping[str, float], knowledge: Knowledge, rng: np.random.Generator
    ) -> None:
        self.belief = states.copy()
        self.hidden = int(rng.choice(states.size, p=states / states.sum()))
        self.table, self.prices, self.knowledge, self.rng = table, prices, knowledge, rng
        self.left = list(range(len(table.infos)))
        self.minutes = self.parts = 0.0
        self.wrong = 0

    @property
    def truth(self) -> Cause:
        return self.knowledge.states[self.hidden].cause

    def prove(self) -> None:
        """Best check by best check until settled, then the repair."""
        for _ in range(MOST_CHECKS):
            if self._leading()[1] >= SETTLED_FROM or not self.left:
                break
            worth = self._worth()
            best = max(self.left, key=lambda check: worth[check])
            if worth[best] <= LEAST_WORTH:
                break
            self._do(best)
        self._repair_until_cured()

    def sensor_first(self) -> None:
        """A new sensor at once; where it does not cure, the proof comes after."""
        self._repair(Cause.SENSOR_FAILED)
        if self.truth is not Cause.SENSOR_FAILED:
            self.wrong += 1
            self.minutes += COMES_BACK_MINUTES
            sensor = np.array([s.cause is Cause.SENSOR_FAILED for s in self.knowledge.states])
            self.belief = np.where(sensor, 0.05 * self.belief, self.belief)
            self.belief /= self.belief.sum()
            self.prove()

    def own_order(self, order: tuple[CheckKind, ...]) -> None:
        """The technician's own order of checks, stopped when settled."""
        for kind in order:
            at = next((i for i in self.left if self.table.infos[i].kind is kind), None)
            if at is None:
                continue
            if self._leading()[1] >= SETTLED_FROM:
                break
            self._do(at)
        self.prove()

    def _leading(self) -> tuple[Cause, float]:
        shares = self.knowledge.membership @ self.belief
        best = int(np.argmax(shares))
        return self.knowledge.cause_of[best], float(shares[best])

    def _worth(self) -> list[float]:
        """Bits per minute of every check, done ones included."""
        joint = (self.knowledge.membership * self.belief) @ self.table.odds
        rows, columns = self.knowledge.membership @ self.belief, joint.sum(axis=0)
        bits = (joint * np.log2(np.maximum(joint, TINY) / np.maximum(np.outer(rows, columns), TINY))).sum(axis=0)
        return [float(x) for x in np.add.reduceat(bits, self.table.first) / self.table.minutes]

    def _do(self, check: int) -> None:
        table = self.table.odds[:, self.table.answers(check)]
        steps = np.cumsum(table[self.hidden])
        answer = int(np.searchsorted(steps, self.rng.random() * steps[-1]))
        self.belief = self.belief * table[:, answer]
        self.belief /= self.belief.sum()
        self.minutes += self.table.infos[check].minutes
        self.left.remove(check)

    def _repair_until_cured(self) -> None:
        shares = self.knowledge.membership @ self.belief
        for index in np.argsort(-shares):
            cause = self.knowledge.cause_of[int(index)]
            self._repair(cause)
            if cause is self.truth:
                return
            if cause is not Cause.NO_FAULT:
                self.wrong += 1
            self.minutes += COMES_BACK_MINUTES

    def _repair(self, cause: Cause) -> None:
        info = self.knowledge.causes[cause]
        self.minutes += info.minutes
        self.parts += self.prices.get(info.part, 0.0) if info.part else 0.0
