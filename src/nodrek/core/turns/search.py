"""Search for a scale (turns per metre) at which a corner's deviations line up.

A damaged ring repeats at the same wheel angle whatever the speed, so its deviations are
periodic in *distance rolled*. The log is cut where the phase is lost (standstill, holes)
and where slip would blur it; the whitened powers of all stretches are summed without
their phases (semi-coherent, as in searches for pulsars of unknown drift: Brady &
Creighton 2000, Phys. Rev. D 61, 082001; from memory).
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array
from nodrek.core.motion.reference import CornerMotion
from nodrek.core.turns.statistic import log_tail

BIN_M = 0.05
"""Distance bin: a fortieth of a turn."""
LONGEST_M = 800.0
LEAST_LOOKS = 4
"""Samples in a stretch under which nothing can repeat."""
SHORTEST_M = 50.0
FREQUENCIES = (1 / 3.6, 1 / 1.55)
"""Turns per metre searched: circumference 1.55 m (small car) to 3.6 m (heavy vehicle)."""
HARMONICS = (1, 2, 4, 8)
DELAYS = (0.0, 0.06)
"""Seconds by which a control unit's value may describe an earlier moment."""
PROMISING_LOG_P = -1.0
"""A delay sharpens what is there; where nothing stands out it is not tried."""
CLIP = (-8.0, 4.0)
FOLD_FROM = 2.5
"""m/s below which the deviations do not take part in the fold."""
MOST_SAMPLES = 20_000
"""Enough for the search: half an hour at ten samples a second, a thousand turns at a hundred."""


@dataclass(frozen=True, eq=False)
class Stretch:
    """Samples [start, stop) over which the wheel angle can be followed without a break."""

    start: int
    stop: int
    metres: float


@dataclass(frozen=True)
class Scale:
    """The best scale of one corner: turns per metre, delay s, harmonics, half sum, trials.

    ``by_mates``: distance as the other corners saw it, else as this one did.
    """

    frequency: float
    delay: float
    by_mates: bool
    harmonics: int
    half_sum: float
    shape: int
    trials: float
    log_bound: float = 0.0
    """ln of a bound on the same chance from elsewhere (following single dips); 0 for none."""

    @property
    def log_p(self) -> float:
        """Natural log of the chance that noise does as well anywhere in the search."""
        return min(0.0, log_tail(self.half_sum, self.shape) + math.log(self.trials), self.log_bound)

    @property
    def p_value(self) -> float:
        return math.exp(max(self.log_p, -700.0))


def find_stretches(motion: CornerMotion) -> list[Stretch]:
    """Cut at standstill, at holes and at `LONGEST_M`; drop what is shorter than `SHORTEST_M`."""
    moving = (motion.vehicle > 1.0) & (motion.expected > 0.5)
    step = np.diff(motion.times, append=motion.times[-1])
    hole = step > max(1.0, 4.0 * float(np.median(step)))
    piece = np.cumsum(~moving | np.concatenate([[False], hole[:-1]]))
    # further cuts of even length inside a long piece
    out = []
    change = np.concatenate([[0], np.flatnonzero(np.diff(piece)) + 1, [piece.size]])
    for lo, hi in pairwise(change):
        metres = float(motion.path[hi - 1] - motion.path[lo])
        if metres < SHORTEST_M:
            continue
        parts = max(1, math.ceil(metres / LONGEST_M))
        marks = motion.path[lo] + metres * np.arange(parts + 1) / parts
        cuts = np.searchsorted(motion.path[lo:hi], marks) + lo
        cuts[-1] = hi
        # a log that is silent for longer than a stretch lasts leaves stretches without a sample
        out += [Stretch(int(a), int(b), metres / parts) for a, b in pairwise(cuts) if b - a >= LEAST_LOOKS]
    return out


def some_stretches(stretches: list[Stretch], most_samples: int) -> list[Stretch]:
    """An even choice of the stretches that holds about `most_samples`, all where they are fewer.

    A ring turns thousands of times in that many samples of a fast log; hours more would
    cost time and say nothing new about *whether* it repeats.
    """
    total = sum(s.stop - s.start for s in stretches)
    if total <= most_samples:
        return stretches
    count = max(4, math.ceil(len(stretches) * most_samples / total))
    chosen = np.unique(np.linspace(0, len(stretches) - 1, count).round().astype(int))
    return [stretches[i] for i in chosen]


def fold_weights(motion: CornerMotion) -> Array:
    """Deviation in noise units, limited so that a pothole weighs no more than a lost tooth."""
    score = np.clip(motion.score, *CLIP)
    score[np.isnan(score) | (motion.expected < FOLD_FROM)] = 0.0
    return score


def find_scale(motion: CornerMotion, stretches: list[Stretch]) -> Scale | None:
    """Best scale over frequencies, delays and numbers of harmonics; ``None`` for too little log."""
    if not stretches:
        return None
    stretches = some_stretches(stretches, MOST_SAMPLES)
    weights = fold_weights(motion)
    size = _transform_size(stretches)
    step = 1.0 / (size * BIN_M)
    fine = np.arange(FREQUENCIES[0], FREQUENCIES[1], step / 3.0)
    looks = len(HARMONICS) * (len(DELAYS) + 1)
    trials = _independent(stretches) * looks
    best: Scale | None = None

    def look(delay: float, by_mates: bool) -> None:
        nonlocal best
        path = rolled_path(motion, delay, by_mates)
        powers: Array = np.add.reduce([whitened(_binned(path, weights, s, size)) for s in stretches])
        total = np.zeros(fine.size)
        for k in range(1, HARMONICS[-1] + 1):
            total += powers[np.round(k * fine / step).astype(np.int64)]
            if k not in HARMONICS:
                continue
            at = int(np.argmax(total))
            shape = k * len(stretches)
            found = Scale(float(fine[at]), delay, by_mates, k, float(total[at]), shape, trials)
            if best is None or found.log_p < best.log_p:
                best = found

    look(0.0, False)
    look(0.0, True)
    assert best is not None
    if best.log_p < PROMISING_LOG_P:
        for delay in DELAYS[1:]:
            look(delay, best.by_mates)
    return best


def rolled_path(motion: CornerMotion, delay: float, by_mates: bool) -> Array:
    """Metres rolled at the moment each value describes, `delay` s before its stamp."""
    path = motion.path_by_mates if by_mates else motion.path
    return path - delay * motion.expected


def _transform_size(stretches: list[Stretch]) -> int:
    """Points of the transform over distance: twice the longest stretch, a power of two."""
    return 1 << math.ceil(math.log2(2.0 * max(s.metres for s in stretches) / BIN_M + 16))


def _independent(stretches: list[Stretch]) -> float:
    """Number of independent frequencies: band times the longest stretch, times the top harmonic."""
    band = FREQUENCIES[1] - FREQUENCIES[0]
    return max(1.0, band * max(s.metres for s in stretches) * HARMONICS[-1])


def _binned(path: Array, weights: Array, stretch: Stretch, size: int) -> npt.NDArray[np.float32]:
    """Weights of one stretch laid on an even grid of distance, their mean taken out."""
    part = slice(stretch.start, stretch.stop)
    w, x = weights[part], path[part]
    used = w != 0.0
    w = np.where(used, w - w[used].mean() if used.any() else 0.0, 0.0)
    index = ((x - x.min()) / BIN_M).astype(np.int64)
    # single precision: the transform takes half the time, and the weights have two digits
    out = np.bincount(np.minimum(index, size - 1), weights=w, minlength=size)
    return out.astype(np.float32)


def whitened(series: npt.NDArray[np.floating[Any]]) -> Array:
    """Power spectrum over its local floor: exponential with mean one where there is only noise.

    Only as far as the top harmonic of the highest frequency is needed.
    """
    top = math.ceil(FREQUENCIES[1] * HARMONICS[-1] * BIN_M * series.size) + 2
    part = np.fft.rfft(series)[:top]
    power = part.real**2 + part.imag**2
    width = max(16, power.size // 32)
    count = power.size // width
    # every third point is enough for a median, and neighbours are not independent
    floor = np.median(power[: count * width].reshape(count, width)[:, ::3], axis=1) / math.log(2.0)
    centres = (np.arange(count) + 0.5) * width
    out: Array = power / np.maximum(np.interp(np.arange(power.size), centres, floor), 1e-12)
    return out
