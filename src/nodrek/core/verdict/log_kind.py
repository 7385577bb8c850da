"""What a log is like, as numbers that probabilities lean on: slow, short, coarse."""

from __future__ import annotations

import math

FASTEST_HZ = 50.0


def slowness(rate: float) -> float:
    """Decades by which a log is slower than `FASTEST_HZ` samples a second, 0 to 1.5."""
    return min(1.5, max(0.0, math.log10(FASTEST_HZ / max(rate, 0.5))))


def shortness(moving: float) -> float:
    """Decades by which the driving (s) is shorter than three minutes, -1 to 1.5."""
    return max(-1.0, min(1.5, math.log10(3.0 / max(moving / 60.0, 0.05))))


def coarseness(quantum: float) -> float:
    """Decades of the step of the values (m/s) over 0.05 km/h, -1 to 1.5."""
    return max(-1.0, min(1.5, math.log10(max(quantum * 3.6, 0.005) / 0.05)))
