"""From a measured size to a confidence, without pretending to more than was measured."""

from __future__ import annotations

import math

WORTH_WEIGHING = 0.004
"""Raw confidence from which a finding is written out, to be calibrated with all others."""


def logit(p: float, least: float, most: float = 0.999) -> float:
    """Log odds of a probability held within `least` and `most`."""
    p = max(least, min(most, p))
    return math.log(p / (1.0 - p))


def passes(value: float, limit: float, sigma: float) -> float:
    """Probability that the true size is above `limit`, for a value known to `sigma`.

    Logistic in place of the normal law: nearly the same in the middle (factor 1.702,
    Camilli 1994; from memory), more doubtful at the ends.
    """
    if not math.isfinite(value):
        return 0.0
    return 1.0 / (1.0 + math.exp(max(-60.0, min(60.0, -1.702 * (value - limit) / max(sigma, 1e-12)))))


def ratio_odds(value: float, even_at: float, steepness: float) -> float:
    """Confidence one half at `even_at`, growing with the logarithm of value over it."""
    if value <= 0.0:
        return 0.0
    return float(1.0 / (1.0 + (even_at / value) ** steepness))
