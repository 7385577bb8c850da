"""Whether a slow log swings once a turn, smoothly: a ring out of centre.

The phase is followed as in `track`; a wave of the deviations themselves stands in the place of single dips.
"""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array
from nodrek.core.motion.reference import CornerMotion
from nodrek.core.turns.search import BIN_M, FREQUENCIES, Stretch
from nodrek.core.turns.stroboscope import floor_at
from nodrek.core.turns.track import Belief, Looks, Track, looks_of, scale_prior, spread

CLIP = 4.0
"""Noise units; a jolt weighs no more than that."""
LEAST_SWING = 160
"""Samples under which a swing is always found somewhere."""
SWINGS = (0.0014, 0.0035, 0.008, 0.018)
"""Amplitudes of a once-a-turn swing that are tried; long averaging leaves little of a large one."""
SWING_WAYS = ((0.0, False), (0.0, True), (0.06, True))
SWING_GRID = 20
"""Phase steps per turn: plenty for a first harmonic."""
SWING_STEP = 0.004
PIECE_M = 14.0
"""Metres over which the phase is taken to stand still: some seven turns."""


def follow_swing(motion: CornerMotion, stretches: list[Stretch]) -> Track | None:
    """Evidence of a smooth once-a-turn swing, the phase followed from piece to piece; ``None`` for too little log.

    Deviations in units of their noise, limited so that a jolt weighs no more than a few. With
    amplitude a, a piece of samples w at angles θ has the log-likelihood Σ a·w·cos − ½Σ a²cos².
    """
    looks = looks_of(motion, stretches, SWING_WAYS)
    if looks is None or looks.score.size < LEAST_SWING:
        return None
    frequencies = np.exp(np.arange(math.log(FREQUENCIES[0]), math.log(FREQUENCIES[1]), SWING_STEP))
    ways = SWING_WAYS
    starts, lost = _pieces(looks, looks.paths[ways[0]])
    score = np.clip(looks.score, -CLIP, CLIP)
    # what is only noisier than it should be swings at every scale
    scatter = max(1.0, float(np.sqrt(np.mean(score**2))))
    noise = scatter * looks.noise
    weight = (score / scatter / noise).astype(np.float32)
    terms = [weight * _unit_vectors(frequencies[:, None] * looks.paths[w]) for w in ways]
    sums = np.add.reduceat(np.vstack(terms), starts, axis=1).T
    # noise with a colour is louder at some scales, where the speed is steady
    floor = np.tile(floor_at(looks.paths[ways[0]], score, frequencies, BIN_M), len(ways)).astype(np.float32)
    sums /= floor
    largest = np.ascontiguousarray(np.abs(sums))
    # what each piece says, by phase less the most that any phase can gain, so that nothing overflows
    angle = 2.0 * np.pi * (np.arange(SWING_GRID) + 0.5) / SWING_GRID
    by_angle = np.array([np.cos(angle), -np.sin(angle), -np.ones(SWING_GRID)], dtype=np.float32)
    said = np.stack([sums.real, sums.imag, largest], axis=-1)
    energy = np.add.reduceat(0.5 / noise**2, starts)
    wander = np.add.reduceat(looks.wander, starts)
    size = np.array(SWINGS, dtype=np.float32)[:, None, None]
    fresh: Belief = np.full((len(SWINGS), sums.shape[1], SWING_GRID), 1.0 / SWING_GRID, dtype=np.float32)
    belief, gain = fresh, np.empty_like(fresh)
    every = np.ones(SWING_GRID, dtype=np.float32)
    score = np.zeros((len(SWINGS), sums.shape[1]))
    prior = np.log(np.tile(scale_prior(frequencies), len(ways)))
    for k in range(starts.size):
        belief = fresh if lost[k] else spread(belief, float(wander[k]))
        np.multiply(size, said[k] @ by_angle, out=gain)
        np.exp(gain, out=gain)
        np.multiply(gain, belief, out=gain)
        total = np.maximum(gain @ every, 1e-30)
        score += np.log(total) + size[..., 0] * largest[k] - 0.5 * size[..., 0] ** 2 * (np.float32(energy[k]) / floor)
        belief = gain / total[..., None]
    score = score + prior
    chosen = int(np.argmax(score.max(axis=0)))
    delay, by_mates = ways[chosen // frequencies.size]
    factor = float(np.logaddexp.reduce(score, axis=None)) - math.log(len(SWINGS) * len(ways))
    return Track(factor, float(frequencies[chosen % frequencies.size]), delay, by_mates, 0)


def _unit_vectors(turns: Array) -> npt.NDArray[np.complex64]:
    """exp(−2πi·turns) in single precision, which is plenty for an angle within one turn and twice as fast."""
    angle = (turns - np.floor(turns)).astype(np.float32) * np.float32(-2.0 * np.pi)
    out = np.empty(angle.shape, dtype=np.complex64)
    np.cos(angle, out=out.real)
    np.sin(angle, out=out.imag)
    return out


def _pieces(looks: Looks, path: Array) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.bool_]]:
    """First sample of each piece, and whether the phase was lost before it."""
    since = path - path[np.maximum.accumulate(np.where(looks.lost, np.arange(path.size), 0))]
    number = np.floor(since / PIECE_M)
    begins = looks.lost | (np.diff(number, prepend=number[0]) != 0)
    begins[0] = True
    starts = np.flatnonzero(begins)
    return starts, looks.lost[starts]
