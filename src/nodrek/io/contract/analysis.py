"""The published JSON of an analysis: `nodrek.analysis/1`.

`analysis_json` builds it from what a job returns; plain dictionaries, so that a command
line needs no modelling library. Its twin `schema.py` checks any such document.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

from nodrek.core.model import Analysis, Corner, CornerResult, Finding, Scene, WheelChannel, WheelLog

SCHEMA = "nodrek.analysis/1"


def analysis_json(path: str, sha256: str, format_name: str, log: WheelLog, analysis: Analysis) -> dict[str, Any]:
    """One JSON-ready object; numbers that are not known are ``None``."""
    return {
        "schema": SCHEMA,
        "source": {
            "path": path,
            "sha256": sha256,
            "format": format_name,
            "duration_s": _round(log.duration, 3),
        },
        "scene": analysis.scene.value,
        "channels": {c.value: _channel(log.channels[c]) for c in log.corners},
        "verdict": analysis.verdict.value,
        "findings": [_finding(f) for f in analysis.findings],
        "corners": _corners(analysis),
        "warnings": list(analysis.warnings),
    }


def _corners(analysis: Analysis) -> dict[str, Any]:
    if analysis.scene is Scene.SPIN:
        return {
            c.value: {
                "spun": spin.spun,
                "alive": spin.alive,
                "peak_kmh": _round(spin.peak * 3.6, 2),
                "order": spin.order,
            }
            for c, spin in analysis.spins.items()
        }
    return {c.value: _corner(analysis.corners[c]) for c in Corner if c in analysis.corners}


def _channel(channel: WheelChannel) -> dict[str, Any]:
    return {
        "name": channel.name,
        "samples": channel.samples,
        "rate_hz": _round(channel.rate, 3),
        "unit": channel.unit,
        "unit_guessed": channel.unit_guessed,
        "quantum_kmh": _round(channel.quantum * 3.6, 5),
        "lag_s": _round(channel.lag, 4),
        "confidence": _round(channel.confidence, 3),
    }


def _finding(finding: Finding) -> dict[str, Any]:
    return {
        "fault": finding.fault.value,
        "corners": [c.value for c in finding.corners],
        "confidence": _round(finding.confidence, 4),
        "summary": finding.summary,
        "evidence": {k: plain(v) for k, v in finding.evidence.items()},
    }


def _corner(corner: CornerResult) -> dict[str, Any]:
    return {
        "ratio": _round(corner.ratio, 6),
        "ratio_low": _round(corner.ratio_low, 6),
        "ratio_high": _round(corner.ratio_high, 6),
        "dropouts": corner.dropouts,
        "wake_up_kmh": _round(corner.wake_up * 3.6, 2),
        "turn": {
            "locked": corner.turn.locked,
            "strength": _round(corner.turn.strength, 4),
            "p_value": float(f"{corner.turn.p_value:.3g}"),
            "arcs": [
                {"centre_turn": _round(a.centre_turn, 4), "width_turn": _round(a.width_turn, 4), "teeth": a.teeth}
                for a in corner.turn.arcs
            ],
        },
        "could_see": {fault.value: _round(value, 4) for fault, value in corner.could_see.items()},
    }


def plain(value: Any) -> Any:
    """JSON's own types only: no array scalars, no NaN."""
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    if isinstance(value, (list, tuple)):
        return [plain(v) for v in value]
    if isinstance(value, Mapping):
        return {str(k): plain(v) for k, v in value.items()}
    return value


def _round(value: float, digits: int) -> float | None:
    return round(float(value), digits) if math.isfinite(value) else None
