"""The fold's statistic: value, probability, detection level.

For a series of weights w at ring angles θ (turns) the power at harmonic k is

    P_k = |Σ w·exp(2πi·k·θ)|² / Σ w²

and Z²_n = 2·Σ_{k≤n} P_k (Buccheri et al. 1983, A&A 128, 245; here with weights, which
leaves the law unchanged for independent w of zero mean). Under noise Z²_n follows χ²
with 2n degrees of freedom; summed over m independent stretches, 2nm. Whitened powers
(P over the local noise floor) are exponential with mean one, so half of the sum follows
a gamma law of integer shape, whose tail is a finite sum. SciPy is not needed for it.
"""

from __future__ import annotations

import math

import numpy as np

from nodrek.core.model import Array


def z2_statistic(angles: Array, weights: Array, harmonics: int) -> float:
    """Z²_n of weights at angles (turns); both of shape (n,), weights of zero mean."""
    total = float(np.sum(weights * weights))
    if total == 0.0:
        return 0.0
    power = 0.0
    for k in range(1, harmonics + 1):
        power += abs(np.sum(weights * np.exp(2j * np.pi * k * angles))) ** 2
    return 2.0 * power / total


def log_tail(half_sum: float, shape: int) -> float:
    """Natural log of P(Gamma(shape, 1) > half_sum): the chance of noise doing as much.

    `half_sum` is half a Z² sum, `shape` the number of powers in it. Finite sum, exact;
    in logarithms, so that it does not end at 1e-308.
    """
    if half_sum <= 0.0 or shape <= 0:
        return 0.0
    # Σ_{j<shape} x^j/j! · e^-x, summed from its largest term
    log_x = math.log(half_sum)
    j = np.arange(shape)
    terms = j * log_x - _log_factorials(shape)
    top = float(terms.max())
    return min(0.0, top + math.log(float(np.exp(terms - top).sum())) - half_sum)


def probability(half_sum: float, shape: int, trials: float = 1.0) -> float:
    """Chance that noise reaches `half_sum` in the best of `trials` independent looks."""
    single = log_tail(half_sum, shape)
    if single < -700.0:
        return 0.0
    return -math.expm1(trials * math.log1p(-min(math.exp(single), 1.0 - 1e-16)))


def detection_level(p_value: float, shape: int, trials: float = 1.0) -> float:
    """The half sum that noise passes with chance `p_value` in the best of `trials` looks."""
    wanted = math.log(-math.expm1(math.log1p(-p_value) / trials))
    low, high = 0.0, shape + 10.0 * math.sqrt(shape) - 4.0 * wanted + 10.0
    for _ in range(80):
        middle = 0.5 * (low + high)
        if log_tail(middle, shape) > wanted:
            low = middle
        else:
            high = middle
    return 0.5 * (low + high)


def log_at_most(number: int, of: int, chance: float) -> float:
    """Natural log of the binomial law's P(at most `number` of `of`), each with `chance` between 0 and 1 (not either).

    Exact; in logarithms, as above.
    """
    if number >= of:
        return 0.0
    j, factorials = np.arange(number + 1), _log_factorials(of + 1)
    terms = factorials[of] - factorials[j] - factorials[of - j]
    terms = terms + j * math.log(chance) + (of - j) * math.log1p(-chance)
    top = float(terms.max())
    return min(0.0, top + math.log(float(np.exp(terms - top).sum())))


def _log_factorials(count: int) -> Array:
    """ln j! for j = 0 … count-1."""
    return np.concatenate([[0.0], np.cumsum(np.log(np.arange(1, max(count, 1))))])[:count]
