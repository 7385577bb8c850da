"""What slow samples of a steady wheel make of noise that knows no angle.

Sampled a few times a second, a wheel at a steady speed is seen as under a stroboscope. Two things follow. Noise that
has a colour over time (a filter, the sway of a driver, a rounding that turns over now and then) gathers at the same few
places over distance, once in every frequency that the samples cannot tell from it; and harmonics that look alike to
them count the same noise twice. Both hang on how far the wheel rolls from sample to sample and are worked out from
that. Where the speed varies nothing is left of either.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array

Waves = npt.NDArray[np.complexfloating[Any, Any]]
FROM_STEP_M = 0.2
"""Metres from sample to sample from which samples are too few to see every harmonic."""
LAGS = 3
"""Samples over which noise has a colour. Longer ones would begin to know the line that a ring makes."""
FADES_FROM, MOST_KEPT = 0.1, 0.97
"""Correlation at the last lags from which noise is taken to fade on as it does there, and what it keeps at most."""
LEAST_FLOOR = 0.1
"""Of the mean power, so much is expected everywhere."""
FEWEST = 12
"""Samples under which no colour is asked for."""
HALVINGS = 60


def colour(weights: Array) -> Array:
    """Correlation of what is not 0 with what comes 1 to `LAGS` samples later; all 0 where too little is known."""
    known = weights != 0.0
    count = np.count_nonzero(known)
    if count < FEWEST:
        return np.zeros(LAGS)
    level = np.where(known, weights - weights[known].mean(), 0.0)
    power = float(level @ level) / count
    out = np.zeros(LAGS)
    for lag in range(1, LAGS + 1):
        both = np.count_nonzero(known[lag:] & known[:-lag])
        if both >= FEWEST:
            out[lag - 1] = float(level[lag:] @ level[:-lag]) / both / max(power, 1e-12)
    return out


def expected_floor(
    path: Array, used: npt.NDArray[np.bool_], colours: Array, bin_m: float, size: int, bins: int
) -> npt.NDArray[np.floating[Any]]:
    """Power over its mean that noise of such `colours` has at each of the first `bins` of a transform over distance.

    `path` m, of samples that are `used` or not. With the correlation r of samples a lag apart, the mean power at a
    frequency is 1 + 2·Σ r·⟨cos⟩, the cosine of the turn that it makes of the way rolled in that lag (Wiener and
    Khinchin; from memory).
    """
    count = max(int(np.count_nonzero(used)), 1)
    seen: list[Waves] = []
    for lag in range(1, colours.size + 1):
        # between two bins, as on average the samples are: half a bin is an eighth of a turn of the top harmonic
        places = np.abs((path[lag:] - path[:-lag])[used[lag:] & used[:-lag]]) / bin_m
        low = np.floor(places).astype(np.int64)
        share = places - low
        ways = np.bincount(low % size, 1.0 - share, size) + np.bincount((low + 1) % size, share, size)
        seen.append(np.asarray(np.fft.rfft(ways)[:bins], dtype=np.complex128) / count)
    return np.maximum(_floor(colours, seen), LEAST_FLOOR)


def floor_at(path: Array, weights: Array, frequencies: Array, bin_m: float) -> Array:
    """The same at `frequencies` (turns/m, any shape), of the colour that `weights` have themselves; 1 at least.

    All 1 where samples are closer than `FROM_STEP_M`.
    """
    if path.size < FEWEST or abs(float(path[-1] - path[0])) < FROM_STEP_M * path.size:
        return np.ones(frequencies.shape)
    colours = colour(weights)
    seen: list[Waves] = []
    for lag in range(1, colours.size + 1):
        # a halt, or a hole in the log, is no step
        steps, count = np.unique(np.rint(np.abs(path[lag:] - path[:-lag]) / bin_m), return_counts=True)
        turned = np.exp(-2j * np.pi * bin_m * np.outer(frequencies.ravel(), steps))
        seen.append(np.asarray(turned @ count / path.size, dtype=np.complex128))
    return np.maximum(_floor(colours, seen), 1.0).reshape(frequencies.shape)


def _floor(colours: Array, turned: Sequence[Waves]) -> Array:
    """The floor from what a frequency makes of the way rolled in each lag (mean of e^−iφ), fading on beyond the last
    one where noise does: one lag after another turns it on as the first one does."""
    out: Array = 1.0 + 2.0 * sum(alike * seen.real for alike, seen in zip(colours.tolist(), turned, strict=True))
    before, last = colours[-2:].tolist()
    if min(before, last) > FADES_FROM:
        on = min(last / before, MOST_KEPT) * turned[0]
        out += 2.0 * last * (turned[-1] * on / (1.0 - on)).real
    return out


def likenesses(turns: Array, harmonics: int) -> Array:
    """How harmonics 1 to `harmonics` of noise at so many `turns` hang together: what each independent part of their
    powers has of the sum, shape (2 * harmonics,). All 1/2 where none is like another."""
    angle = 2.0 * np.pi * np.arange(1, harmonics + 1)[:, None] * turns
    waves = np.concatenate([np.cos(angle), np.sin(angle)])
    waves -= waves.mean(axis=1, keepdims=True)
    return np.maximum(np.linalg.eigvalsh(waves @ waves.T / max(turns.size, 1)), 0.0)


def log_tail_of_parts(half_sum: float, parts: Array) -> float:
    """Natural log of the chance that Σ parts·χ²₁ passes `half_sum` (saddle point; Lugannani & Rice 1980, Adv. Appl.
    Prob. 12, 475; from memory, first term). 0 up to the mean; as `log_tail` where all parts are 1/2."""
    parts = parts[parts > 1e-9]
    if not parts.size or half_sum <= float(parts.sum()):
        return 0.0
    largest = float(np.amax(parts))
    low, high = 0.0, 0.5 / largest
    for _ in range(HALVINGS):
        at = 0.5 * (low + high)
        low, high = (at, high) if float(np.sum(parts / (1.0 - 2.0 * at * parts))) < half_sum else (low, at)
    left = 1.0 - 2.0 * low * parts
    bend = float(np.sum(2.0 * (parts / left) ** 2))
    return min(0.0, -0.5 * float(np.log(left).sum()) - low * half_sum - math.log(low * math.sqrt(2.0 * math.pi * bend)))
