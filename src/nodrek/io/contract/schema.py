"""The twins of `analysis.py` and `diagnosis.py`: models that check any such document.

Adding a key is no breaking change, so unknown keys are let through; a missing or wrong
one is not.
"""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

CornerName = Literal["FL", "FR", "RL", "RR"]
FaultName = Literal[
    "ring_damage",
    "ring_runout",
    "ring_count",
    "encoder_noise",
    "air_gap",
    "intermittent",
    "no_signal",
    "frozen",
    "tyre_size",
    "crossed",
]
Share = Annotated[float, Field(ge=0.0, le=1.0)]


class _Model(BaseModel):
    model_config = ConfigDict(extra="allow", strict=True)


class SourceModel(_Model):
    path: str
    sha256: Annotated[str, Field(pattern="^[0-9a-f]{64}$")]
    format: str
    duration_s: Annotated[float, Field(ge=0.0)]


class ChannelModel(_Model):
    name: str
    samples: Annotated[int, Field(ge=0)]
    rate_hz: Annotated[float, Field(ge=0.0)]
    unit: str
    unit_guessed: bool
    quantum_kmh: Annotated[float, Field(ge=0.0)]
    lag_s: float
    confidence: Share = 1.0


class FindingModel(_Model):
    fault: FaultName
    corners: Annotated[list[CornerName], Field(min_length=1)]
    confidence: Annotated[float, Field(ge=0.2, le=1.0)]
    summary: str
    evidence: dict[str, object]


class ArcModel(_Model):
    centre_turn: Share
    width_turn: Share
    teeth: int | None


class TurnModel(_Model):
    locked: bool
    strength: Share
    p_value: Share
    arcs: list[ArcModel]


class CouldSeeModel(_Model):
    ring_damage: Share
    ring_runout: Share
    air_gap: Share
    intermittent: Share
    tyre_size: Share


class CornerModel(_Model):
    ratio: float | None
    ratio_low: float | None
    ratio_high: float | None
    dropouts: Annotated[int, Field(ge=0)]
    wake_up_kmh: float | None
    turn: TurnModel
    could_see: CouldSeeModel


class SpinModel(_Model):
    spun: bool
    alive: bool
    peak_kmh: float | None
    order: Annotated[int, Field(ge=1)] | None


class AnalysisModel(_Model):
    schema_name: Annotated[Literal["nodrek.analysis/1"], Field(alias="schema")]
    source: SourceModel
    scene: Literal["drive", "spin"]
    channels: dict[CornerName, ChannelModel]
    verdict: Literal["healthy", "faulty", "not_enough_data"]
    findings: list[FindingModel]
    corners: dict[CornerName, CornerModel | SpinModel]
    warnings: list[str]


class ReasonModel(_Model):
    evidence: str
    weight_db: float


class CauseModel(_Model):
    corner: CornerName
    cause: str
    probability: Share
    because: list[ReasonModel]


class NextCheckModel(_Model):
    check: str
    corner: CornerName
    gain_bits: Annotated[float, Field(ge=0.0)]
    minutes: Annotated[float, Field(gt=0.0)]
    why: str
    caution: str


class PolicyModel(_Model):
    name: str
    minutes: Annotated[float, Field(ge=0.0)]
    parts: float | None
    total: float | None


class RepairModel(_Model):
    option: str
    lasting: bool
    cautions: list[str]


class DiagnosisModel(_Model):
    schema_name: Annotated[Literal["nodrek.diagnosis/1"], Field(alias="schema")]
    causes: list[CauseModel]
    next_checks: list[NextCheckModel]
    settled: bool
    policies: list[PolicyModel]
    repair: list[RepairModel]
    warnings: list[str]
