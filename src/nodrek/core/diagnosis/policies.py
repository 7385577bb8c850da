"""What it costs to prove first, and what to fit a sensor first: by playing both many times.

A hidden state is drawn from the present odds, the best checks are done and answered as the
same odds say, until the corner is settled; then the repair of the leading cause is made.
A wrong repair comes back: its part is lost and the rest is proven afterwards.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from nodrek.core.diagnosis.evidence import answer_odds
from nodrek.core.diagnosis.next_check import LEAST_BITS_A_MINUTE, SETTLED_FROM, possible
from nodrek.core.diagnosis.odds import CornerOdds
from nodrek.core.model import Array, Corner
from nodrek.core.model.case import Case, Cause, CheckKind, SensorKind
from nodrek.core.model.diagnosis import Policy
from nodrek.core.model.knowledge import CheckInfo, Knowledge

PLAYS = 80
MOST_CHECKS = 12
SEED = 20
DRAWS_AT_ONCE = 1_000
TINY = 1e-15
NEW_SENSOR_BAD = 0.05
"""Share of new sensors that are bad themselves (common practice, no published source)."""
COMES_BACK_MINUTES = 30.0
"""Taking the vehicle in again, listening again (common practice, no published source)."""


@dataclass(frozen=True)
class _Table:
    """Checks that can be done at one corner, side by side.

    ``odds`` (states, answers of all checks); ``first`` the first answer of each check.
    """

    knowledge: Knowledge
    infos: tuple[CheckInfo, ...]
    odds: Array
    first: npt.NDArray[np.intp]
    minutes: Array

    @cached_property
    def _ladders(self) -> dict[tuple[int, int], Sequence[float]]:
        return {}

    def answer(self, state: int, check: int, rng: _Draws) -> int:
        """An answer of `check` drawn as `state` gives it."""
        key = (state, check)
        if key not in self._ladders:
            first = int(self.first[check])
            self._ladders[key] = _ladder(self.odds[state, first : first + len(self.infos[check].outcomes)])
        return _drawn(self._ladders[key], rng)


def policies(
    case: Case, odds: Mapping[Corner, CornerOdds], knowledge: Knowledge, own_order: tuple[CheckKind, ...] = ()
) -> list[Policy]:
    """Costs summed over the suspected corners: proof first, sensor first, and the technician's own order."""
    if not odds:
        return []
    plans: dict[str, Callable[[_Play], None]] = {
        "proof first": lambda play: play.prove(),
        "sensor first": lambda play: play.sensor_first(),
    }
    if own_order:
        plans["own order"] = lambda play: play.own_order(own_order)
    tables = {c: _table(case, c, odds, knowledge) for c in odds}
    roots = {c: _Node(here.states, tuple(range(len(tables[c].infos))), tables[c]) for c, here in odds.items()}
    out = []
    for name, plan in plans.items():
        minutes = parts = come_back = 0.0
        for root in roots.values():
            rng = _Draws(SEED)
            for _ in range(PLAYS):
                play = _Play(root, case.prices, rng, len(roots))
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
        knowledge,
        infos,
        np.concatenate(columns, axis=1) if columns else np.empty((len(knowledge.states), 0)),
        np.cumsum([0, *widths])[:-1].astype(np.intp),
        np.array([i.minutes + i.risk for i in infos]),
    )


class _Node:
    """What is believed after some answers. Plays that begin alike share their nodes."""

    def __init__(self, belief: Array, left: tuple[int, ...], table: _Table) -> None:
        self.belief, self.left, self.table = belief, left, table
        self._after: dict[tuple[int, int], _Node] = {}
        self._failed: _Node | None = None

    @cached_property
    def ladder(self) -> Sequence[float]:
        """Running sums of the belief, for draws."""
        return _ladder(self.belief)

    @cached_property
    def shares(self) -> Array:
        """Probability of each cause."""
        return np.asarray(self.table.knowledge.membership @ self.belief)

    @cached_property
    def settled(self) -> bool:
        return bool(self.shares.max() >= SETTLED_FROM)

    @cached_property
    def best(self) -> int | None:
        """The check worth most a minute; ``None`` where none is worth its minutes."""
        if not self.left:
            return None
        joint = (self.table.knowledge.membership * self.belief) @ self.table.odds
        product = np.outer(self.shares, joint.sum(axis=0))
        bits = (joint * np.log2(np.maximum(joint, TINY) / np.maximum(product, TINY))).sum(axis=0)
        worth = np.add.reduceat(bits, self.table.first) / self.table.minutes
        check = max(self.left, key=lambda i: float(worth[i]))
        return check if worth[check] >= LEAST_BITS_A_MINUTE else None

    def after(self, check: int, answer: int) -> _Node:
        """What is believed once `check` was answered so."""
        key = (check, answer)
        if key not in self._after:
            belief = self.belief * self.table.odds[:, int(self.table.first[check]) + answer]
            left = tuple(i for i in self.left if i != check)
            self._after[key] = _Node(belief / belief.sum(), left, self.table)
        return self._after[key]

    def without_sensor(self) -> _Node:
        """What is believed once a new sensor did not cure."""
        if self._failed is None:
            sensor = np.array([s.cause is Cause.SENSOR_FAILED for s in self.table.knowledge.states])
            belief = np.where(sensor, NEW_SENSOR_BAD * self.belief, self.belief)
            self._failed = _Node(belief / belief.sum(), self.left, self.table)
        return self._failed


class _Play:
    """One job played to its end with a hidden state."""

    def __init__(self, root: _Node, prices: Mapping[str, float], rng: _Draws, corners: int) -> None:
        self.node, self.prices, self.rng, self.corners = root, prices, rng, corners
        self.hidden = _drawn(root.ladder, rng)
        self.minutes = self.parts = 0.0
        self.wrong = 0

    @property
    def truth(self) -> Cause:
        return self.node.table.knowledge.states[self.hidden].cause

    def prove(self) -> None:
        """Best check by best check until settled, then the repair."""
        for _ in range(MOST_CHECKS):
            if self.node.settled or self.node.best is None:
                break
            self._do(self.node.best)
        self._repair_until_cured()

    def sensor_first(self) -> None:
        """A new sensor at once; where it does not cure, the proof comes after."""
        self._repair(Cause.SENSOR_FAILED)
        if self.truth is not Cause.SENSOR_FAILED:
            self.wrong += 1
            self.minutes += COMES_BACK_MINUTES
            self.node = self.node.without_sensor()
            self.prove()

    def own_order(self, order: tuple[CheckKind, ...]) -> None:
        """The technician's own order of checks, stopped when settled."""
        for kind in order:
            at = next((i for i in self.node.left if self.node.table.infos[i].kind is kind), None)
            if self.node.settled:
                break
            if at is not None:
                self._do(at)
        self.prove()

    def _do(self, check: int) -> None:
        table = self.node.table
        self.minutes += table.infos[check].minutes
        self.node = self.node.after(check, table.answer(self.hidden, check, self.rng))

    def _repair_until_cured(self) -> None:
        for index in np.argsort(-self.node.shares):
            cause = self.node.table.knowledge.cause_of[int(index)]
            self._repair(cause)
            if cause is self.truth:
                return
            if cause is not Cause.NO_FAULT:
                self.wrong += 1
            self.minutes += COMES_BACK_MINUTES

    def _repair(self, cause: Cause) -> None:
        info = self.node.table.knowledge.causes[cause]
        # one repair serves all corners that share the fault
        share = 1.0 / self.corners if info.shared else 1.0
        self.minutes += share * info.minutes
        self.parts += share * self.prices.get(info.part, 0.0)


class _Draws:
    """Even draws of 0..1, fetched many at a time: single ones cost more than what is done with them."""

    def __init__(self, seed: int) -> None:
        self._rng = np.random.default_rng(seed)
        self._left: list[float] = []

    def next(self) -> float:
        if not self._left:
            self._left = self._rng.random(DRAWS_AT_ONCE).tolist()
        return self._left.pop()


def _ladder(shares: Array) -> Sequence[float]:
    return list(map(float, shares.cumsum()))


def _drawn(ladder: Sequence[float], rng: _Draws) -> int:
    """An index drawn by its share of the ladder's last step."""
    return bisect_left(ladder, rng.next() * ladder[-1])
