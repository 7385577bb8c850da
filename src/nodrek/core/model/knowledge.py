"""What the engine knows of the trade, as it is handed in from the data files.

A *state* is one way in which a cause shows: a failed sensor may be open, silent or shaky.
Evidence depends on the state only, so two answers that come from one fact (an electrical
code, and the same code back after a clear) are not counted twice: the first has already
moved the odds to the states with an open loop.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from nodrek.core.model.case import Cause, CheckKind, CodeKind
from nodrek.core.model.finding import Fault
from nodrek.core.model.log import Array


@dataclass(frozen=True)
class State:
    """One way a cause shows. ``usual``: share of all complaints about one corner."""

    cause: Cause
    name: str
    usual: float
    loop: str
    reads: str
    why: str

    @property
    def labels(self) -> tuple[str, ...]:
        """Names by which a row of odds can mean this state, the most special first."""
        return (
            f"{self.cause.value}/{self.name}",
            self.cause.value,
            f"{self.loop}/{self.reads}",
            f"reads:{self.reads}",
            self.reads,
            self.loop,
            "default",
        )


@dataclass(frozen=True)
class CauseInfo:
    """``part``: what a repair needs (a key of the prices), empty for none; ``minutes`` of the repair."""

    words: str
    part: str
    minutes: float
    shared: bool = False


@dataclass(frozen=True)
class ContextRule:
    """A fact of the vehicle, the work or the complaint, and its factor on states (by label)."""

    when: str
    words: str
    factor: Mapping[str, float]
    why: str


Odds = Array
"""Shape (states, outcomes); each row sums to 1."""


@dataclass(frozen=True)
class CheckInfo:
    """One check: how it is done, what its answers mean, how often each comes by state."""

    kind: CheckKind
    words: str
    minutes: float
    risk: float
    tool: str
    unit: str
    outcomes: tuple[str, ...]
    means: tuple[str, ...]
    usual: str
    how: tuple[str, ...]
    cautions: tuple[str, ...]
    undo: str
    needs: tuple[str, ...]
    stationary: bool
    vehicle_wide: bool
    odds: Odds
    odds_passive: Odds


@dataclass(frozen=True)
class RepairInfo:
    option: str
    lasting: bool
    cautions: tuple[str, ...]


@dataclass(frozen=True)
class LoomKind:
    """A kind of stretch: relative ``weight`` of breaks, ``minutes`` to probe its far end."""

    words: str
    weight: float
    minutes: float


@dataclass(frozen=True)
class Knowledge:
    """Everything of `nodrek/knowledge`, checked. Arrays over states are in the order of ``states``."""

    states: tuple[State, ...]
    causes: Mapping[Cause, CauseInfo]
    context: Mapping[str, ContextRule]
    checks: Mapping[CheckKind, CheckInfo]
    repairs: Mapping[Cause, tuple[RepairInfo, ...]]
    cautions: Mapping[str, str]
    codes: Mapping[CodeKind, Array]
    knock_on: Mapping[CodeKind, float]
    named_beside_bad: float
    named_when_alone: float
    stored: float
    old_km: float
    findings: Mapping[Fault, Array]
    triggers: Mapping[str, Mapping[str, float]]
    loom_kinds: Mapping[str, LoomKind]
    wires: Mapping[str, tuple[tuple[str, str], ...]]
    """Ready-made wires by name: (name, kind) of each segment from control unit to sensor."""
    lapse: float

    @cached_property
    def usual(self) -> Array:
        """Prior of the states, sums to 1."""
        shares = np.array([s.usual for s in self.states])
        return np.asarray(shares / shares.sum())

    @cached_property
    def cause_of(self) -> tuple[Cause, ...]:
        """The causes, each once, in the order of the data file."""
        return tuple(dict.fromkeys(s.cause for s in self.states))

    @cached_property
    def membership(self) -> Array:
        """Shape (causes, states): 1 where the state belongs to the cause."""
        return np.array([[float(s.cause is c) for s in self.states] for c in self.cause_of])

    @cached_property
    def healthy(self) -> Array:
        """Shape (states,): 1 for the states in which nothing is wrong."""
        return np.array([float(s.cause is Cause.NO_FAULT) for s in self.states])

    @cached_property
    def shared(self) -> Array:
        """Shape (states,): 1 for the states that several corners can have in common."""
        return np.array([float(self.causes[s.cause].shared) for s in self.states])

    def factors(self, factor: Mapping[str, float]) -> Array:
        """Shape (states,): the factor of the most special label of each state, else 1."""
        return np.array([next((factor[x] for x in s.labels if x in factor), 1.0) for s in self.states])
