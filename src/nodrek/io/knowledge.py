"""Data that people of the trade edit, or that training makes, read from the package.

Each table is checked while it is read: a row that does not sum to 1, a name that nothing
else knows or a number without its reason stops the program with the place in the file.
"""

from __future__ import annotations

import json
import tomllib
from collections.abc import Mapping, Sequence
from functools import lru_cache
from importlib import resources
from typing import Any

import numpy as np

from nodrek.core.model import Array, Fault
from nodrek.core.model.case import Cause, CheckKind, CodeKind
from nodrek.core.model.knowledge import CauseInfo, CheckInfo, ContextRule, Knowledge, LoomKind, RepairInfo, State
from nodrek.core.model.learnt import Calibration, Rivals, boosted_from

FOLDER = "nodrek.knowledge"
ROUNDING = 0.011


class BrokenKnowledge(Exception):
    """A data file that ships with the program is wrong: a defect of the program, not of its user."""


@lru_cache(maxsize=1)
def shipped_calibration() -> Calibration:
    """What `make train` learnt; empty where it never ran."""
    file = resources.files(FOLDER).joinpath("calibration.json")
    if not file.is_file():
        return Calibration({})
    data = json.loads(file.read_text(encoding="utf-8"))
    return Calibration(
        _weights(data["weights"]),
        {Fault(kind): boosted_from(trees) for kind, trees in data.get("trees", {}).items()},
        _rivals(data.get("rivals", {})),
        _weights(data.get("sight", {})),
        _rivals(data.get("lost", {})),
    )


def _rivals(data: Mapping[str, Mapping[str, Any]]) -> Rivals:
    return Rivals({str(name): boosted_from(trees) for name, trees in data.items()})


def _weights(data: Mapping[str, Mapping[str, float]]) -> dict[Fault, dict[str, float]]:
    return {Fault(kind): {str(k): float(w) for k, w in weights.items()} for kind, weights in data.items()}


@lru_cache(maxsize=1)
def trade_knowledge() -> Knowledge:
    """Causes, checks, repairs and cautions; raises `BrokenKnowledge` with the place that is wrong."""
    causes = _table("causes.toml")
    context = {rule["when"]: _context(rule) for rule in causes.pop("context")}
    states = tuple(_state(name, row) for name, entry in causes.items() for row in entry["states"])
    known = {label for s in states for label in s.labels}
    for rule in context.values():
        _expect_known("causes.toml", rule.when, rule.factor, known)
    cautions = {name: str(text) for name, text in _table("cautions.toml").items()}
    evidence = _table("evidence.toml")
    loom = _table("loom.toml")
    for wire in loom["wires"]:
        _expect_known("loom.toml", wire["name"], [kind for _, kind in wire["segments"]], set(loom["kinds"]))
    return Knowledge(
        states=states,
        causes={Cause(name): _cause(entry) for name, entry in causes.items()},
        context=context,
        checks={
            CheckKind(name): _check(name, entry, states, cautions) for name, entry in _table("checks.toml").items()
        },
        repairs={
            Cause(name): tuple(_repair(name, row, cautions) for row in rows)
            for name, rows in _table("repairs.toml").items()
        },
        cautions=cautions,
        codes=_columns("codes", evidence["codes"], "kinds", CodeKind, states),
        knock_on=dict(zip(map(CodeKind, evidence["codes"]["kinds"]), evidence["codes"]["knock_on"]["p"], strict=True)),
        named_beside_bad=evidence["codes"]["named_beside_bad"],
        named_when_alone=evidence["codes"]["named_when_alone"],
        stored=evidence["codes"]["stored"],
        old_km=evidence["codes"]["old_km"],
        findings=_columns("findings", evidence["findings"], "faults", Fault, states),
        triggers={name: row["factor"] for name, row in evidence["triggers"].items()},
        loom_kinds={
            name: LoomKind(row["words"], float(row["weight"]), float(row["minutes"]))
            for name, row in loom["kinds"].items()
        },
        wires={w["name"]: tuple((str(n), str(k)) for n, k in w["segments"]) for w in loom["wires"]},
        lapse=evidence["careless"]["lapse"],
    )


def _table(name: str) -> dict[str, Any]:
    try:
        return tomllib.loads(resources.files(FOLDER).joinpath(name).read_text(encoding="utf-8"))
    except tomllib.TOMLDecodeError as error:
        raise BrokenKnowledge(f"{name}: {error}") from error


def _state(cause: str, row: Mapping[str, Any]) -> State:
    return State(Cause(cause), row["name"], float(row["usual"]), row["loop"], row["reads"], row["why"])


def _cause(entry: Mapping[str, Any]) -> CauseInfo:
    return CauseInfo(entry["words"], entry["part"], float(entry["minutes"]), bool(entry.get("shared", False)))


def _context(rule: Mapping[str, Any]) -> ContextRule:
    return ContextRule(rule["when"], rule["words"], dict(rule["factor"]), rule["why"])


def _repair(name: str, row: Mapping[str, Any], cautions: Mapping[str, str]) -> RepairInfo:
    _expect_known("repairs.toml", name, row["cautions"], set(cautions))
    return RepairInfo(row["option"], bool(row["lasting"]), tuple(row["cautions"]))


def _check(name: str, entry: Mapping[str, Any], states: Sequence[State], cautions: Mapping[str, str]) -> CheckInfo:
    where = f"checks.toml [{name}]"
    outcomes = tuple(entry["outcomes"])
    _expect_known(where, "caution", entry["caution"], set(cautions))
    if len(entry["means"]) != len(outcomes):
        raise BrokenKnowledge(f"{where}: as many meanings as outcomes are needed")
    general = entry["odds"]
    return CheckInfo(
        kind=CheckKind(name),
        words=entry["words"],
        minutes=float(entry["minutes"]),
        risk=float(entry.get("risk", 0.0)),
        tool=entry["tool"],
        unit=entry.get("unit", ""),
        outcomes=outcomes,
        means=tuple(entry["means"]),
        usual=entry.get("usual", ""),
        how=tuple(entry["how"]),
        cautions=tuple(entry["caution"]),
        undo=entry["undo"],
        needs=tuple(entry.get("needs", ())),
        stationary=bool(entry.get("stationary", False)),
        vehicle_wide=bool(entry.get("vehicle_wide", False)),
        odds=_rows(where, general, len(outcomes), states),
        odds_passive=_rows(where, {**general, **entry.get("passive", {})}, len(outcomes), states),
    )


def _rows(where: str, odds: Mapping[str, Any], width: int, states: Sequence[State]) -> Array:
    """Shape (states, outcomes), from rows named by labels."""
    _expect_known(where, "odds", odds, {label for s in states for label in s.labels})
    for name, row in odds.items():
        if len(row["p"]) != width or not row.get("why") or abs(sum(row["p"]) - 1.0) > ROUNDING:
            raise BrokenKnowledge(f"{where} {name}: {width} shares that make 1, and a reason, are needed")
    table = []
    for state in states:
        label = next((x for x in state.labels if x in odds), None)
        if label is None:
            raise BrokenKnowledge(f"{where}: no row fits {state.labels[0]}")
        table.append(odds[label]["p"])
    out = np.array(table, dtype=float)
    return np.asarray(out / out.sum(axis=1, keepdims=True))


def _columns(
    name: str, entry: Mapping[str, Any], key: str, kind: type[Any], states: Sequence[State]
) -> dict[Any, Array]:
    """Per kind of code or finding, its share by state; rows need not make 1 (a healthy corner finds little)."""
    table = []
    rows = {**entry["odds"], **entry["except"]}
    _expect_known("evidence.toml", name, rows, {label for s in states for label in s.labels})
    for state in states:
        label = next((x for x in state.labels if x in rows), "")
        if not label or len(rows[label]["p"]) != len(entry[key]) or sum(rows[label]["p"]) > 1.0 + ROUNDING:
            raise BrokenKnowledge(f"evidence.toml [{name}]: no proper row fits {state.labels[0]}")
        table.append(rows[label]["p"])
    columns = np.array(table, dtype=float).T
    return {kind(word): column for word, column in zip(entry[key], columns, strict=True)}


def _expect_known(file: str, place: str, names: Any, known: set[str]) -> None:
    for name in names:
        if name not in known:
            raise BrokenKnowledge(f"{file}, {place}: {name} is not known")
