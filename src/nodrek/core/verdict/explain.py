"""What explains one odd ratio: a ring with another number of teeth, or its tyre.

Each explanation spreads its prior over the ratios it can make, blurred by what the log does not know and
by what sound tyres differ by; what it leaves at the measured ratio is its share (Bayes' rule). Without the
number of teeth every ring in use may be meant, and then only the size speaks: few tyres on the road are
more than a worn one off, and beyond about 9 % none is. Where the number is known, whole teeth fit or do not.

Priors and widths are common practice, no published source: a tyre is odd far more often than a ring.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from nodrek.core.model import Fault

LARGEST_BY_TYRE = 0.09
"""Beyond about 9 % no tyre explains it; a ring with another number of teeth does."""
NATURAL_SPREAD = 0.001
"""1 sigma of the ln circumference of one sound tyre about its set."""
RINGS_IN_USE = range(29, 101)
MOST_TEETH_OFF = 6
WORN_OUT = 0.03
"""New against worn out."""
SOFT = 0.0015
"""1 sigma: a soft tyre rolls on a radius smaller by 0.1 to 0.3 %."""
SIZE_STEP = 0.025
"""Mean distance of another size that still fits the wheel house."""
PRIOR_RING, PRIOR_SIZE, PRIOR_WEAR, PRIOR_PRESSURE = 0.25, 0.25, 0.40, 0.10
ANOTHER_UNIT = "this corner alone logged in another unit"
UNIT_FACTORS, UNIT_NEAR, PRIOR_UNIT = (1.609344, 3.6, 2.236936), 0.02, 0.5
"""km/h, m/s and mph of one another; ln by which an odd corner may miss such a factor; chance of it then (own estimate:
some ring fits every factor, a column in another unit these alone)."""
WORTH_NAMING = 0.03


@dataclass(frozen=True)
class Explanation:
    """``share``: probability that it is this one, given that the ratio is odd at all; ``teeth``: more (less,
    where negative) than the control unit expects, where their number is known."""

    fault: Fault
    words: str
    share: float
    teeth: int | None = None


def explain(log_ratio: float, sigma: float, teeth: int | None) -> tuple[Explanation, ...]:
    """Likeliest first; shares sum to 1 before the hopeless ones are left out.

    `log_ratio`: ln of reading over what it should be, known to `sigma`; `teeth` that the control unit expects.
    """
    if any(abs(abs(log_ratio) - math.log(factor)) < UNIT_NEAR for factor in UNIT_FACTORS):
        ring = Explanation(Fault.RING_COUNT, "a ring with another number of teeth", 1.0 - PRIOR_UNIT)
        return Explanation(Fault.RING_COUNT, ANOTHER_UNIT, PRIOR_UNIT), ring
    width = math.hypot(sigma, NATURAL_SPREAD)
    faster = log_ratio > 0
    within = abs(math.expm1(log_ratio)) <= LARGEST_BY_TYRE
    found: list[tuple[float, Fault, str, int | None]] = []
    for off in (k for k in range(-MOST_TEETH_OFF, MOST_TEETH_OFF + 1) if k):
        rings = RINGS_IN_USE if teeth is None else (teeth,)
        density = sum(_normal(log_ratio - math.log1p(off / n), width) for n in rings if n + off > 0) / len(rings)
        found.append((PRIOR_RING / (2 * MOST_TEETH_OFF) * density, Fault.RING_COUNT, _teeth_words(off, teeth), off))
    if teeth is None:
        total = sum(weight for weight, *_ in found)
        found = [(total, Fault.RING_COUNT, "a ring with another number of teeth", None)]
    if within:
        size = math.exp(-abs(log_ratio) / SIZE_STEP) / (2.0 * SIZE_STEP)
        found.append((PRIOR_SIZE * size, Fault.TYRE_SIZE, f"a {'smaller' if faster else 'larger'} tyre size", None))
        wear = (_below(abs(log_ratio), width) - _below(abs(log_ratio) - WORN_OUT, width)) / WORN_OUT
        worn = "a tyre more worn than the others" if faster else "a tyre less worn than the others"
        found.append((0.5 * PRIOR_WEAR * wear, Fault.TYRE_SIZE, worn, None))
        soft = 2.0 * _normal(log_ratio, math.hypot(width, SOFT)) if faster else 0.0
        found.append((PRIOR_PRESSURE * soft, Fault.TYRE_SIZE, "a soft tyre", None))
    total = sum(weight for weight, *_ in found)
    if total <= 0.0:
        # further off than any known ring: still a ring, whatever its teeth
        return (Explanation(Fault.RING_COUNT, "a ring with another number of teeth", 1.0),)
    ranked = (Explanation(fault, words, weight / total, off) for weight, fault, words, off in found)
    return tuple(sorted((e for e in ranked if e.share >= WORTH_NAMING), key=lambda e: -e.share))


def ring_share(explanations: tuple[Explanation, ...]) -> float:
    """Of all that is named, the part that is a matter of teeth."""
    total = sum(e.share for e in explanations)
    return sum(e.share for e in explanations if e.fault is Fault.RING_COUNT) / total


def _teeth_words(off: int, teeth: int | None) -> str:
    many = "tooth" if abs(off) == 1 else "teeth"
    return f"a ring with {abs(off)} {many} {'more' if off > 0 else 'less'} than {teeth}"


def _normal(x: float, sigma: float) -> float:
    return math.exp(-0.5 * min((x / sigma) ** 2, 1e3)) / (sigma * math.sqrt(2.0 * math.pi))


def _below(x: float, sigma: float) -> float:
    return 0.5 * (1.0 + math.erf(x / (sigma * math.sqrt(2.0))))
