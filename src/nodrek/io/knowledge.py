"""Data that people of the trade edit, or that training makes, read from the package."""

from __future__ import annotations

import json
from functools import lru_cache
from importlib import resources

from nodrek.core.model import Fault

FOLDER = "nodrek.knowledge"


@lru_cache(maxsize=1)
def calibration_weights() -> dict[Fault, tuple[float, ...]]:
    """Weights of each kind of fault, as `make train` left them; empty where it never ran."""
    file = resources.files(FOLDER).joinpath("calibration.json")
    if not file.is_file():
        return {}
    data = json.loads(file.read_text(encoding="utf-8"))
    return {Fault(kind): tuple(weights.values()) for kind, weights in data["weights"].items()}
