"""The vehicle object of a case file → `Vehicle`."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path

from nodrek.core.model import Driven, Vehicle
from nodrek.errors import BadRequest, UnreadableFile
from nodrek.io.logs.guard import check_file

LARGEST = 1024 * 1024


def read_vehicle(path: Path) -> Vehicle:
    """Read a `vehicle` object; keys that the comparison does not use are left alone.

    Raises `UnreadableFile` or `BadRequest` with the key that is wrong.
    """
    if check_file(path) > LARGEST:
        raise UnreadableFile(f"{path} is too large for a vehicle description: choose the right file.")
    try:
        data = json.loads(path.read_text(encoding="utf-8"))
    except (ValueError, RecursionError) as error:
        raise UnreadableFile(f"{path} is not JSON ({str(error)[:80]}): correct it and try again.") from error
    if isinstance(data, dict) and isinstance(data.get("vehicle"), dict):
        data = data["vehicle"]
    if not isinstance(data, dict):
        raise BadRequest(f"{path}: a vehicle is an object with keys like teeth and track_m, not a list or a value.")
    return vehicle_of(data, f"{path}: ")


def vehicle_of(data: Mapping[str, object], where: str) -> Vehicle:
    """The vehicle of an object; raises `BadRequest` with `where` and the key that is wrong."""
    teeth = _number(where, data, "teeth", 8, 400)
    driven = data.get("driven")
    if driven is not None and driven not in tuple(Driven):
        raise BadRequest(f"{where}driven must be one of {', '.join(Driven)}, not {str(driven)[:40]!r}.")
    return Vehicle(
        label=str(data.get("label", ""))[:200],
        driven=None if driven is None else Driven(str(driven)),
        teeth=None if teeth is None else int(teeth),
        wheelbase_m=_number(where, data, "wheelbase_m", 0.5, 20),
        track_m=_number(where, data, "track_m", 0.5, 4),
    )


def _number(where: str, data: Mapping[str, object], key: str, low: float, high: float) -> float | None:
    value = data.get(key)
    if value is None:
        return None
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not low <= value <= high:
        raise BadRequest(f"{where}{key} must be a number from {low} to {high}, not {str(value)[:40]!r}.")
    return float(value)
