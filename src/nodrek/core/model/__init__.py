"""The nouns everything else speaks in: frozen, free of interface and of files."""

from nodrek.core.model.corner import Corner
from nodrek.core.model.finding import (
    Analysis,
    Arc,
    CornerResult,
    Fault,
    Finding,
    Scene,
    SpinResult,
    TurnResult,
    Verdict,
)
from nodrek.core.model.log import Array, RawChannel, RawLog, ReferenceSpeed, TurnSignal, WheelChannel, WheelLog
from nodrek.core.model.vehicle import Driven, Vehicle

__all__ = [
    "Analysis",
    "Arc",
    "Array",
    "Corner",
    "CornerResult",
    "Driven",
    "Fault",
    "Finding",
    "RawChannel",
    "RawLog",
    "ReferenceSpeed",
    "Scene",
    "SpinResult",
    "TurnResult",
    "TurnSignal",
    "Vehicle",
    "Verdict",
    "WheelChannel",
    "WheelLog",
]
