"""From what a log should show by calculation to how often it was shown.

`power` puts the smallest fault into the log and asks whether its size would pass the finders'
limits. What the finders and the probabilities after them make of it is learnt from twins of
simulated drives (`tools/train_sight.py`): one logistic regression per kind of fault.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np

from nodrek.core.model import Array, Corner, Fault
from nodrek.core.model.learnt import logistic
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.log_kind import coarseness, shortness, slowness
from nodrek.core.verdict.odds import logit

SIGHT = ("one", "calculated", "slow", "calculated_slow", "short", "coarse", "noisy")
LEAST = logistic(-6.0)
"""Calculated probabilities beyond this, near 0 and 1, say no more: six nats."""


def sight_row(exam: Examination, corner: Corner, calculated: float) -> Array:
    """Shape (len(SIGHT),): the calculated probability as a logit, and what the log is like."""
    channel = exam.log.channels[corner]
    slow = slowness(channel.rate)
    odds = logit(calculated, LEAST, 1.0 - LEAST)
    noise = 0.0
    if corner in exam.motions:
        noise = float(np.nan_to_num(exam.motions[corner].usual_noise))
    return np.array(
        [
            1.0,
            odds,
            slow,
            odds * slow,
            shortness(exam.usable.moving),
            coarseness(channel.quantum),
            max(-1.5, min(1.5, math.log10(max(noise, 3e-4) / 0.003))),
        ]
    )


def promise(weights: Mapping[str, float], row: Sequence[float] | Array) -> float:
    """Probability of being found, for a row of `SIGHT`."""
    return logistic(sum(weights.get(name, 0.0) * float(value) for name, value in zip(SIGHT, row, strict=True)))


def sight(
    exam: Examination, corner: Corner, calculated: Mapping[Fault, float], weights: Mapping[Fault, Mapping[str, float]]
) -> dict[Fault, float]:
    """Probability by kind that the smallest fault would have been found; kinds without weights stay calculated.

    What cannot be seen by calculation stays unseen, whatever was learnt.
    """
    out = {}
    for kind, p in calculated.items():
        if kind in weights and p > 0.0:
            out[kind] = promise(weights[kind], sight_row(exam, corner, p))
        else:
            out[kind] = p
    return out
