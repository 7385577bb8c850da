"""What a diagnosis says: odds with reasons, checks worth doing, costs, repairs."""

from __future__ import annotations

from dataclasses import dataclass

from nodrek.core.model.case import Cause
from nodrek.core.model.corner import Corner
from nodrek.core.model.knowledge import CheckInfo, RepairInfo


@dataclass(frozen=True)
class Reason:
    """One item of evidence and its worth for a cause, decibels (10 log₁₀ of the likelihood ratio)."""

    text: str
    weight_db: float


@dataclass(frozen=True)
class CauseOdds:
    """``because``: strongest first, for and against."""

    corner: Corner
    cause: Cause
    probability: float
    because: tuple[Reason, ...]


@dataclass(frozen=True)
class NextCheck:
    """``answers``: per outcome its word, its probability, the leading cause after it and that one's odds."""

    info: CheckInfo
    corner: Corner
    gain_bits: float
    score: float
    answers: tuple[tuple[str, float, Cause, float], ...]


@dataclass(frozen=True)
class Policy:
    """Expected cost of one order of work. ``parts`` and ``total`` None where no price was given.

    ``come_back``: chance that a first repair does not cure.
    """

    name: str
    minutes: float
    parts: float | None
    total: float | None
    come_back: float


@dataclass(frozen=True)
class Repair:
    corner: Corner
    cause: Cause
    info: RepairInfo


@dataclass(frozen=True)
class Probe:
    """Measure at the far end of segment ``after``; ``minutes`` to get there; ``pierces`` the insulation.

    ``open_likely``: probability that the reading is open.
    """

    after: int
    minutes: float
    pierces: bool
    open_likely: float


@dataclass(frozen=True)
class LoomSearch:
    """``shares``: probability of the break by segment; ``probe`` None once it is found.

    ``unsealed``: segments whose far end was pierced and is not sealed yet.
    """

    corner: Corner
    names: tuple[str, ...]
    shares: tuple[float, ...]
    likeliest: int
    found: bool
    probe: Probe | None
    expected_minutes: float
    unsealed: tuple[int, ...]


@dataclass(frozen=True)
class Diagnosis:
    """The answer to a case. ``causes`` corner by corner, likeliest first."""

    causes: tuple[CauseOdds, ...]
    next_checks: tuple[NextCheck, ...]
    settled: bool
    policies: tuple[Policy, ...]
    repairs: tuple[Repair, ...]
    warnings: tuple[str, ...]
    looms: tuple[LoomSearch, ...] = ()

    @property
    def corners(self) -> tuple[Corner, ...]:
        """The suspected corners."""
        return tuple(dict.fromkeys(c.corner for c in self.causes))

    def of(self, corner: Corner) -> tuple[CauseOdds, ...]:
        """Causes of one corner, likeliest first."""
        return tuple(c for c in self.causes if c.corner is corner)
