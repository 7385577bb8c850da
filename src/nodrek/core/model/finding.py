"""What an analysis says: findings, per-corner numbers, one verdict."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from nodrek.core.model.corner import Corner


class Fault(StrEnum):
    """Faults that a log can tell; the words are those of the published contract."""

    RING_DAMAGE = "ring_damage"
    RING_RUNOUT = "ring_runout"
    RING_COUNT = "ring_count"
    ENCODER_NOISE = "encoder_noise"
    AIR_GAP = "air_gap"
    INTERMITTENT = "intermittent"
    NO_SIGNAL = "no_signal"
    FROZEN = "frozen"
    TYRE_SIZE = "tyre_size"
    CROSSED = "crossed"


class Scene(StrEnum):
    """What kind of log it is: a drive, or wheels turned one after another on stands."""

    DRIVE = "drive"
    SPIN = "spin"


class Verdict(StrEnum):
    HEALTHY = "healthy"
    FAULTY = "faulty"
    NOT_ENOUGH_DATA = "not_enough_data"


@dataclass(frozen=True)
class Finding:
    """One fault at one or more corners, with a probability and what speaks for it."""

    fault: Fault
    corners: tuple[Corner, ...]
    confidence: float
    summary: str
    evidence: Mapping[str, Any] = field(default_factory=dict)
    extra: Mapping[str, Any] = field(default_factory=dict)
    """Of a case file: keys that this version does not know."""


@dataclass(frozen=True)
class Arc:
    """A stretch of the ring that reads low; in turns from an arbitrary zero of the ring."""

    centre_turn: float
    width_turn: float
    teeth: int | None


@dataclass(frozen=True)
class TurnResult:
    """How the corner's deviations line up with its own wheel angle."""

    locked: bool = False
    strength: float = 0.0
    p_value: float = 1.0
    arcs: tuple[Arc, ...] = ()


@dataclass(frozen=True)
class CornerResult:
    """Numbers of one corner. Ratios are NaN where the corner gave none."""

    ratio: float
    ratio_low: float
    ratio_high: float
    dropouts: int
    wake_up: float
    """Lowest speed at which the corner reads, m/s; NaN where no pull-away was logged."""
    turn: TurnResult
    could_see: Mapping[Fault, float]


@dataclass(frozen=True)
class SpinResult:
    """One wheel of a spin scene. ``order`` counts from 1, ``None`` where it never came alive."""

    spun: bool
    alive: bool
    peak: float
    """Highest speed read, m/s; NaN for none."""
    order: int | None


@dataclass(frozen=True)
class Analysis:
    """The whole answer of one log, without its arrays. ``spins`` only in a spin scene."""

    verdict: Verdict
    findings: tuple[Finding, ...]
    corners: Mapping[Corner, CornerResult]
    warnings: tuple[str, ...]
    scene: Scene = Scene.DRIVE
    spins: Mapping[Corner, SpinResult] = field(default_factory=dict)
    unexplained: Corner | None = None
    """A corner that is hardly sound though no finding is likelier than not: far off for seconds, or with one of several
    faults. The last warning says which."""

    @property
    def is_unnamed(self) -> bool:
        """Whether a corner that is hardly sound is all there is to say, so that the last warning is the answer."""
        return self.unexplained is not None and self.verdict is not Verdict.FAULTY

    @property
    def is_unsettled(self) -> bool:
        """Whether the corner that is hardly sound has findings to choose from."""
        return any(self.unexplained in f.corners for f in self.findings)
