"""From what a log should show by calculation to how often it was shown.

`power` puts the smallest fault into the log and works out how far it would stand out. What the finders and the
probabilities after them make of it is learnt from twins of simulated drives (`tools/train_sight.py`): one logistic
regression per kind of fault.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np

from nodrek.core.model import Array, Corner, Fault
from nodrek.core.model.learnt import logistic
from nodrek.core.verdict.evidence import unit_numbers
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.log_kind import slowness
from nodrek.core.verdict.odds import logit
from nodrek.core.verdict.power import gap_looks, minutes_that_show_breaks, swing_size

SIGHT = ("one", "calculated", "slow", "swing", "smooth", "spell", "fast")
"""One; the calculated probability as a logit; how slow the log is (`log_kind`); what a swing adds up to (ln); how like
the next one a deviation is; seconds that a gap would be silent in one go, which patient units bridge (ln); minutes in
which a break would show (ln)."""
ASKED = {
    Fault.RING_DAMAGE: ("one", "calculated", "slow", "fast"),
    Fault.RING_RUNOUT: ("one", "calculated", "swing", "smooth"),
    Fault.AIR_GAP: ("one", "calculated", "spell"),
    Fault.INTERMITTENT: ("one", "slow", "fast"),
    Fault.TYRE_SIZE: ("one", "calculated"),
}
"""What each kind of fault is learnt from: worlds that taught nothing are told worse by more."""
LEAST = logistic(-6.0)
"""Calculated probabilities beyond this, near 0 and 1, say no more: six nats."""
ENOUGH_SAMPLES, FEWER = 75.0, 2.0
"""Samples of driving from which a lost tooth is found as often as longer logs taught, and the power with which fewer
find it less often (clips of 8 s of four worlds at 4 Hz: 0.50 promised, 0.09 found)."""
LEAST_SWING, LEAST_SECONDS, LEAST_MINUTES = 0.1, 0.3, 0.05


def sight_row(exam: Examination, corner: Corner, calculated: float) -> Array:
    """Shape (len(SIGHT),): the calculated probability as a logit, and what the log is like."""
    like = exam.once(f"sight {corner}", lambda: _like(exam, corner))
    return np.array([1.0, logit(calculated, LEAST, 1.0 - LEAST), *like])


def _like(exam: Examination, corner: Corner) -> tuple[float, ...]:
    """The numbers of `SIGHT` that are the same for every kind of fault."""
    looks = gap_looks(exam, corner)
    swing = swing_size(exam, corner) if corner in exam.followed else 0.0
    return (
        slowness(exam.log.channels[corner].rate),
        math.log(max(swing, LEAST_SWING)),
        unit_numbers(exam)[0],
        math.log((looks.silent + LEAST_SECONDS) / max(looks.changes, 1)),
        math.log(minutes_that_show_breaks(exam) + LEAST_MINUTES),
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
            if kind is Fault.RING_DAMAGE:
                samples = exam.usable.moving * exam.log.channels[corner].rate
                out[kind] *= min(1.0, samples / ENOUGH_SAMPLES) ** FEWER
        else:
            out[kind] = p
    return out
