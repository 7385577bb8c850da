"""The smallest faults that are worth finding, by which a clean log is said to be worth something."""

from __future__ import annotations

import numpy as np

UP_TO = 3.0
"""Times the smallest size that a fault is still called small."""

SWING = 0.002
"""Relative, once a turn."""
RATIO = 0.005
"""Relative, of a tyre."""
WAKE = 8.0 / 3.6
"""m/s from which on a corner with too wide a gap reads."""
BREAK_S = 0.1
"""Length of a break, one a minute."""


def draw_times(rng: np.random.Generator) -> float:
    """How many times the smallest one a small fault is, even in the logarithm."""
    return float(np.exp(rng.uniform(0.0, np.log(UP_TO))))
