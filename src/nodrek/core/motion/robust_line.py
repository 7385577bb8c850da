"""Straight lines through blocks of a drive, and how well their mean is known."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array
from nodrek.core.motion.blocks import mad_sigma

ROUNDS = 5
FROM_SIGMAS = 1.5
"""Standard deviations from which a value weighs less (Huber 1964, Ann. Math. Statist. 35, 73; from memory)."""
LEAST_STRETCHES = 3
NO_SCATTER = 1e-6
"""ln: values that somebody worked out, and did not measure, leave nothing at all."""
FEW_STRETCHES = 3.0
"""So few stretches know little of their own scatter: widen by about Student's factor."""


@dataclass(frozen=True, eq=False)
class Line:
    """``solution``: intercept, then one slope a column; ``rest``: what the line leaves of each value, ``weight``: what
    it counts for, ``spread``: robust 1 sigma; ``design`` with its columns brought to the same size by
    ``scale``."""

    solution: Array
    rest: Array
    weight: Array
    spread: float
    design: Array
    scale: Array

    def error_of(self, parts: Sequence[float]) -> float:
        """1 sigma of the sum of so much of each term of the solution, where values err independently of each other."""
        weighed = self.design * np.sqrt(self.weight)[:, None]
        asked = np.array(parts) / self.scale
        return float(self.spread * np.sqrt(asked @ np.linalg.pinv(weighed.T @ weighed) @ asked))

    def shares_in_intercept(self) -> Array:
        """By how much the intercept changes with each value, shape (n,); they add up to 1."""
        root = np.sqrt(self.weight)
        return np.asarray(np.linalg.pinv(root[:, None] * self.design)[0] * root / self.scale[0])


class Intercept(NamedTuple):
    """What a line comes to where its columns are zero, its 1 sigma, and how much each value has a share in it."""

    value: float
    sigma: float
    shares: Array


def robust_line(values: Array, columns: Sequence[Array], least: float = NO_SCATTER) -> Line:
    """Linear model of `values` in the `columns`, shape (n,) each, with Huber weights.

    `least`: 1 sigma that they are never believed to be without. Where most values are equal because they are rounded,
    the few that are not say all that is known.
    """
    design = np.column_stack([np.ones(values.size), *columns])
    scale = np.maximum(np.abs(design).max(axis=0), 1e-9)
    weight = np.ones(values.size)
    for _ in range(ROUNDS):
        root = np.sqrt(weight)[:, None]
        solution = np.linalg.lstsq(root * design / scale, root[:, 0] * values, rcond=None)[0] / scale
        rest = values - design @ solution
        spread = max(mad_sigma(rest), least)
        weight = 1.0 / np.maximum(1.0, np.abs(rest) / (FROM_SIGMAS * spread))
    return Line(solution, rest, weight, spread, design / scale, scale)


def robust_intercept(
    values: Array, columns: Sequence[Array], use: npt.NDArray[np.bool_], per_stretch: int, least: float = NO_SCATTER
) -> Intercept:
    """Intercept of `robust_line` over the values in `use` and its 1 sigma, from stretches of `per_stretch` values."""
    if np.count_nonzero(use) < 4 * (1 + len(columns)):
        middle = float(np.median(values))
        alike = np.full(values.size, 1.0 / max(values.size, 1))
        return Intercept(middle, scatter_of_mean(values - middle, per_stretch), alike)
    line = robust_line(values[use], [column[use] for column in columns], least)
    residual = np.full(values.size, np.nan)
    residual[use] = np.clip(line.rest, -3.0 * line.spread, 3.0 * line.spread)
    # the intercept leans on the columns: widen by how far their mean is from zero
    gram = np.linalg.pinv(line.design.T @ line.design)
    widening = np.sqrt(max(1.0, gram[0, 0] * line.rest.size))
    shares = np.zeros(values.size)
    shares[use] = line.shares_in_intercept()
    return Intercept(float(line.solution[0]), scatter_of_mean(residual, per_stretch) * float(widening), shares)


def scatter_of_mean(values: Array, per_stretch: int) -> float:
    """1 sigma of the mean from the scatter of means of `per_stretch` values; NaN left out."""
    count = values.size // per_stretch
    known = values[~np.isnan(values)]
    if known.size < 2:
        return 0.01
    if count <= LEAST_STRETCHES:
        return float(FEW_STRETCHES * np.std(known) / np.sqrt(max(1, count)) + 1e-4)
    blocks = values[: count * per_stretch].reshape(count, per_stretch)
    size = np.sum(~np.isnan(blocks), axis=1)
    sums = np.nansum(blocks - np.mean(known), axis=1)
    # ratio estimator over stretches of unequal size; Student's law has a spread of (n-1)/(n-3)
    filled = max(LEAST_STRETCHES + 1, int(np.sum(size > 0.25 * per_stretch)))
    widening = np.sqrt(filled / (filled - 3))
    return float(np.sqrt(np.sum(sums**2)) / max(size.sum(), 1) * widening)
