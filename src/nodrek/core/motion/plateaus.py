"""Rounded speeds that stand: looking longer at one value tells no more of what was rounded away.

Between two steps of its values a wheel may be anywhere, and while it keeps to one speed, and nothing shakes it over the
edge, it reads the same for as long. Such readings are one look, with the error of one rounding (uniform over a step:
Widrow and Kollár, Quantization Noise, 2008; from memory), however many they are; and where it stands at the same value
again later, it is about as far off again.
"""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array

ROUNDING = 1.0 / math.sqrt(12.0)
"""Standard deviation of rounding, in steps of the values."""
SAME = 0.1
"""Steps by which values may differ that are the same."""

Mask = npt.NDArray[np.bool_]


def one_value(rows: Array) -> Array:
    """Of blocks, shape (n, samples), the value that is shown all along; NaN where it changes, or is not known."""
    first = rows[:, 0]
    return np.where((rows == first[:, None]).all(axis=1), first, np.nan)


def stands(speed: Array, quantum: float) -> Mask:
    """Blocks that show what the one before showed; `speed` of one corner: `one_value` by blocks, m/s, shape (n,)."""
    out = np.zeros(speed.size, dtype=bool)
    with np.errstate(invalid="ignore"):
        out[1:] = np.abs(np.diff(speed)) < SAME * quantum
    return out


def rounding_of_sum(speed: Array, shares: Array, quantum: float, long: int) -> float:
    """1 sigma (ln) of a sum over blocks of one corner (`speed` as of `stands`) that rounding leaves beyond that of
    single blocks, which their own scatter shows.

    `shares`: how much of each block is in the sum, 0 for those left out; a line that leans on what is far from its
    blocks has large ones of either sign. `long`: blocks for which a value stands before nothing shakes it; shorter
    runs are roundings of their own each.
    """
    at = np.flatnonzero(shares)
    if quantum <= 0.0 or not at.size:
        return 0.0
    here, part = np.nan_to_num(speed[at]), shares[at]
    begins = np.flatnonzero(np.concatenate([[True], (np.diff(at) > 1) | ~stands(speed[at], quantum)[1:]]))
    lasts = np.diff(np.append(begins, at.size))
    # the same number for runs that share their error
    level = np.rint(here[begins] / quantum).astype(np.int64)
    shared = np.unique(np.where(lasts >= long, -1 - np.abs(level), np.arange(lasts.size)), return_inverse=True)[1]
    together, singly, of_run = (
        np.bincount(shared, weights=np.add.reduceat(of, begins)) for of in (part, part**2, np.ones(at.size))
    )
    mean_speed = np.bincount(shared, weights=lasts * here[begins]) / of_run
    step = ROUNDING * quantum / np.maximum(mean_speed, quantum)
    return float(np.sqrt(max(0.0, float(np.sum((together**2 - singly) * step**2)))))
