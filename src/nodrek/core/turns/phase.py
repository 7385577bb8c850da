"""Following the ring's phase through a log.

The scale found by the search is one number for the whole log; slip, growth of the tyre
and rounding still turn the ring by tenths of a turn over some hundred turns, and each
standstill loses it altogether. So the log is cut into pieces of some `PIECE_TURNS`; the
phase of each piece against a common template is followed with a Viterbi path that lets
it wander slowly inside a stretch and jump freely between stretches (Viterbi 1967; the
likelihood is that of a known periodic shape in unit noise).
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array
from nodrek.core.turns.search import Stretch, inside_stretches

PIECE_TURNS = 30.0
HARMONICS = 8
GRID = 64
"""Phase steps per turn: a sixty-fourth is finer than one tooth of most rings."""
WANDER = 0.035
"""Turns by which the phase may wander from piece to piece (1 sigma)."""
ROUNDS = 2
_REACH = 8
"""Grid steps looked at to either side: three and a half times `WANDER`."""
_OFFSETS = np.arange(-_REACH, _REACH + 1)
_NEAR = np.mod(np.arange(GRID)[:, None] + _OFFSETS, GRID)
_CHARGE = -0.5 * (_OFFSETS / GRID / WANDER) ** 2


def ring_angle(path: Array, weights: Array, stretches: list[Stretch], frequency: float) -> Array:
    """Continuous ring angle (turns) of each sample, NaN outside the stretches.

    `path` metres, `weights` deviation in noise units (0: not used), both of one shape.
    """
    starts, owner = _pieces(path, stretches, frequency)
    coefficients = _coefficients(path, weights, starts, stretches, frequency)
    shifts = _follow(coefficients, owner)
    out = np.full(path.size, np.nan)
    whole = 0.0
    for number, stretch in enumerate(stretches):
        part = slice(stretch.start, stretch.stop)
        mine = np.flatnonzero(owner == number)
        bounds = np.concatenate([starts[mine], [stretch.stop - 1]])
        centre = 0.5 * (path[bounds[:-1]] + path[bounds[1:]])
        shift = np.interp(path[part], centre, np.unwrap(shifts[mine], period=1.0))
        angle = path[part] * frequency + shift
        # count on from stretch to stretch, keeping the angle within the turn
        angle += np.ceil(whole - angle.min())
        out[part] = angle
        whole = float(angle.max())
    return out


def within_turn(turns: Array) -> Array:
    """The part of a turn, 0 to 1: the remainder of one, in a tenth of its time."""
    return np.asarray(turns - np.floor(turns))


def from_centre(turns: Array, centre: float) -> Array:
    """Where on the ring, −0.5 to 0.5 turns from `centre`."""
    return within_turn(turns - centre + 0.5) - 0.5


def resultant_length(turns: Array, multiple: int = 1) -> float:
    """How well angles (or a `multiple` of them) agree: 0 scattered, 1 all at one place; 0 for fewer than three.

    Source: Mardia & Jupp, Directional Statistics (2000), ch. 2; from memory.
    """
    return float(abs(np.mean(np.exp(2j * np.pi * multiple * turns)))) if turns.size >= 3 else 0.0


def turn_phasor(turns: Array) -> npt.NDArray[np.complex64]:
    """exp(-2πi·turns). Single precision is plenty for eight harmonics, and twice as fast."""
    part = (-2.0 * np.pi * (turns - np.floor(turns))).astype(np.float32)
    out = np.empty(part.size, dtype=np.complex64)
    np.cos(part, out=out.real)
    np.sin(part, out=out.imag)
    return out


def _pieces(
    path: Array, stretches: list[Stretch], frequency: float
) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]:
    """First sample of each piece, and the number of the stretch it belongs to."""
    starts, owner = [], []
    for number, stretch in enumerate(stretches):
        count = max(1, round(stretch.metres * frequency / PIECE_TURNS))
        inside = path[stretch.start : stretch.stop]
        marks = inside[0] + (inside[-1] - inside[0]) * np.arange(count) / count
        first = np.unique(np.searchsorted(inside, marks)) + stretch.start
        starts.append(first)
        owner.append(np.full(first.size, number))
    return np.concatenate(starts), np.concatenate(owner)


def _coefficients(
    path: Array,
    weights: Array,
    starts: npt.NDArray[np.int64],
    stretches: list[Stretch],
    frequency: float,
) -> npt.NDArray[np.complex128]:
    """Σ w·exp(-2πik·angle) of each piece; shape (pieces, HARMONICS)."""
    kept = np.flatnonzero(inside_stretches(stretches, path.size))
    at = np.searchsorted(kept, starts)
    base = turn_phasor(frequency * path[kept])
    term = weights[kept].astype(np.complex64)
    out = np.empty((starts.size, HARMONICS), dtype=complex)
    for k in range(HARMONICS):
        term *= base
        out[:, k] = np.add.reduceat(term, at)
    return out


def _follow(coefficients: npt.NDArray[np.complex128], owner: npt.NDArray[np.int64]) -> Array:
    """Shift (turns) of each piece; shape (pieces,)."""
    k = np.arange(1, HARMONICS + 1)
    grid = np.arange(GRID) / GRID
    turned = np.exp(-2j * np.pi * np.outer(k, grid))
    shifts = np.zeros(owner.size)
    # first a greedy pass, strongest piece first: it needs no template
    template = np.zeros(k.size, dtype=complex)
    for i in np.argsort(-np.sum(np.abs(coefficients) ** 2, axis=1)):
        if template.any():
            agreement = np.real((np.conj(template) * coefficients[i]) @ turned)
            shifts[i] = grid[int(np.argmax(agreement))]
        template = template + coefficients[i] * np.exp(-2j * np.pi * k * shifts[i])
    for _ in range(ROUNDS):
        template = np.sum(coefficients * np.exp(-2j * np.pi * np.outer(shifts, k)), axis=0)
        # amplitude in noise units as a share of the whole: nats of likelihood per piece
        total = np.sum(np.abs(coefficients).max(axis=1))
        shape = template / max(float(total), 1e-12)
        likelihood = 2.0 * np.real((coefficients * np.conj(shape)) @ turned)
        shifts = grid[_viterbi(likelihood, owner)]
    return shifts


def _viterbi(likelihood: Array, owner: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
    """Best path of grid indices; `likelihood` (pieces, GRID) in nats."""
    step = np.arange(GRID)
    count = owner.size
    linked = np.concatenate([[False], owner[1:] == owner[:-1]])
    score = likelihood.copy()
    back = np.zeros(likelihood.shape, dtype=np.int64)
    for i in range(1, count):
        if linked[i]:
            # row p of the windows: phases within reach of p, the wander charged
            reached = score[i - 1][_NEAR] + _CHARGE
            choice = reached.argmax(axis=1)
            back[i] = _NEAR[step, choice]
            score[i] += reached[step, choice]
    path = np.empty(count, dtype=np.int64)
    for i in range(count - 1, -1, -1):
        last = i == count - 1 or not linked[i + 1]
        path[i] = int(np.argmax(score[i])) if last else back[i + 1, path[i + 1]]
    return path
