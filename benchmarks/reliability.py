"""Of what was stated as p, how much was right."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np

from nodrek.core.model import Array

LIMITS = (0.2, 0.4, 0.6, 0.8, 0.95, 1.01)
"""Bands; what is stated with less than the first is no finding."""


@dataclass(frozen=True)
class Band:
    stated: float
    right: float
    number: int


@dataclass(frozen=True)
class Reliability:
    """``error``: expected calibration error over the bands; ``brier`` score of all findings."""

    bands: tuple[Band, ...]
    error: float
    brier: float


def share(what: str, trials: Sequence[Any]) -> float:
    """Per cent of the trials of which the attribute `what` is true; NaN of none."""
    return 100.0 * float(np.mean([getattr(t, what) for t in trials])) if trials else float("nan")


def reliability(p: Array, right: Array) -> Reliability:
    """Arrays of any one shape: what was stated, and whether it was right (0 or 1)."""
    said = p >= LIMITS[0]
    p, right = p[said], right[said].astype(float)
    parts = [(p >= low) & (p < high) for low, high in pairwise(LIMITS)]
    bands = tuple(Band(float(p[i].mean()), float(right[i].mean()), int(i.sum())) for i in parts if i.any())
    error = sum(b.number * abs(b.stated - b.right) for b in bands) / max(p.size, 1)
    return Reliability(bands, error, float(np.mean((p - right) ** 2)) if p.size else float("nan"))
