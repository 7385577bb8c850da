"""Options that need reading: `--map FL=NAME`, `--map REF=NAME`."""

from __future__ import annotations

from dataclasses import dataclass, field

from nodrek.core.model import Corner
from nodrek.core.model.case import CheckKind
from nodrek.errors import BadRequest

REFERENCE = "REF"


@dataclass
class Named:
    """Columns that a person named: those of corners, and that of an independent speed."""

    corners: dict[Corner, str] = field(default_factory=dict)
    reference: str | None = None


def parse_mapping(items: list[str]) -> Named:
    """``["FL=Wheel speed 1", "REF=Satellite"]`` → `Named`; raises `BadRequest`."""
    out = Named()
    for item in items:
        corner, found, name = item.partition("=")
        corner = corner.strip().upper()
        if not found or not name.strip() or corner not in (*Corner, REFERENCE):
            raise BadRequest(
                f"--map {item}: write it as CORNER=NAME with FL, FR, RL or RR (or REF for an independent speed), "
                'for example FL="Speed 1".'
            )
        if (out.reference is not None) if corner == REFERENCE else (Corner(corner) in out.corners):
            raise BadRequest(f"--map names {corner} twice: name each one once.")
        if corner == REFERENCE:
            out.reference = name
        else:
            out.corners[Corner(corner)] = name
    return out


def parse_order(items: list[str]) -> tuple[CheckKind, ...]:
    """Names of checks in the technician's own order; raises `BadRequest`."""
    for item in items:
        if item not in tuple(CheckKind):
            raise BadRequest(f"--order {item}: no such check; use one of {', '.join(CheckKind)}.")
    return tuple(CheckKind(item) for item in items)
