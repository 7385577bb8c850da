"""Options that need reading: `--map FL=NAME`."""

from __future__ import annotations

from nodrek.core.model import Corner
from nodrek.errors import BadRequest


def parse_mapping(items: list[str]) -> dict[Corner, str]:
    """``["FL=Wheel speed 1"]`` → ``{Corner.FL: "Wheel speed 1"}``; raises `BadRequest`."""
    out: dict[Corner, str] = {}
    for item in items:
        corner, found, name = item.partition("=")
        corner = corner.strip().upper()
        if not found or not name.strip() or corner not in tuple(Corner):
            raise BadRequest(f'--map {item}: write it as CORNER=NAME with FL, FR, RL or RR, for example FL="Speed 1".')
        if Corner(corner) in out:
            raise BadRequest(f"--map names {corner} twice: name each corner once.")
        out[Corner(corner)] = name
    return out
