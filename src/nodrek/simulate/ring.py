"""Tone rings and encoder rings: where on the turn each edge stands, and how strong it is."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from nodrek.core.model import Array


@dataclass(frozen=True)
class WeakArc:
    """A stretch of the ring that stands further from the sensor; turns, strength 0..1.

    ``soft``: weakest in the middle and sound again at its ends, as a ring that rust lifts.
    """

    centre: float
    width: float
    strength: float
    soft: bool = False


@dataclass(frozen=True)
class Ring:
    """A ring of `teeth` teeth or pole pairs.

    ``pitch_error`` is the rms placement error in pitches; ``eccentricity`` the relative
    once-a-turn swing of reported speed (amplitude); ``missing`` tooth numbers from 0;
    ``cracked`` widens one pitch by that many pitches; ``phase`` turns the whole ring.
    ``tooth_share``: part of a pitch that is tooth, where the control unit counts the falling
    edges as well as the rising ones; 0 where it counts one edge a tooth.
    """

    teeth: int = 48
    pitch_error: float = 0.01
    eccentricity: float = 0.0
    missing: frozenset[int] = frozenset()
    cracked: float = 0.0
    weak: tuple[WeakArc, ...] = ()
    phase: float = 0.0
    seed: int = 0
    base_strength: float = 1.0
    tooth_share: float = 0.0

    @property
    def edges_a_tooth(self) -> int:
        return 2 if self.tooth_share else 1

    def edges(self) -> tuple[Array, Array]:
        """Angles (turns, 0..1, rising) and strengths of the edges that are still there."""
        rng = np.random.default_rng(self.seed)
        angle = (np.arange(self.teeth) + self.pitch_error * rng.standard_normal(self.teeth)) / self.teeth
        tooth = np.arange(self.teeth)
        if self.tooth_share:
            falling = (np.arange(self.teeth) + self.tooth_share) / self.teeth
            falling += self.pitch_error * rng.standard_normal(self.teeth) / self.teeth
            angle, tooth = np.column_stack([angle, falling]).ravel(), np.repeat(tooth, 2)
        if self.cracked:
            # a crack opens one pitch; the others close up evenly round the ring
            gap = self.cracked / self.teeth
            angle = angle * (1.0 - gap)
        # speed swing e·cos(2πθ) means angle displacement -e·sin(2πθ)/2π
        angle = angle - self.eccentricity / (2 * np.pi) * np.sin(2 * np.pi * angle)
        angle = np.mod(angle + self.phase, 1.0)
        strength = np.full(angle.size, self.base_strength)
        for arc in self.weak:
            off = np.abs(np.mod(angle - arc.centre + 0.5, 1.0) - 0.5)
            within = off < arc.width / 2
            depth = 0.5 + 0.5 * np.cos(2 * np.pi * off[within] / arc.width) if arc.soft else 1.0
            strength[within] *= 1.0 - (1.0 - arc.strength) * depth
        keep = np.array([i not in self.missing for i in tooth])
        order = np.argsort(angle[keep])
        return angle[keep][order], strength[keep][order]


def edge_times(t: Array, turns: Array, angles: Array) -> tuple[Array, np.ndarray]:
    """When each edge passes the sensor, and which edge it was.

    `t` and `turns` are the wheel's turning (turns may rise and fall: a ring counts the
    same teeth backwards); `angles` the edges in turns, 0..1. Returns rising times (s)
    and indices into `angles`.
    """
    direction = np.sign(np.diff(turns))
    # a pause belongs to the stretch before it
    for start in np.flatnonzero(direction == 0):
        direction[start] = direction[start - 1] if start else 1.0
    breaks = np.flatnonzero(np.diff(direction)) + 1
    bounds = np.concatenate([[0], breaks, [turns.size - 1]])
    times: list[Array] = []
    which: list[np.ndarray] = []
    for lo, hi in pairwise(bounds):
        seg_t, seg = t[lo : hi + 1], turns[lo : hi + 1]
        low, high = min(seg[0], seg[-1]), max(seg[0], seg[-1])
        whole = np.arange(np.floor(low), np.floor(high) + 1)
        position = (whole[:, None] + angles[None, :]).ravel()
        index = np.tile(np.arange(angles.size), whole.size)
        # half open at the side one comes from, so that turning round counts no edge twice
        forwards = seg[-1] >= seg[0]
        inside = (position > low) & (position <= high) if forwards else (position >= low) & (position < high)
        position, index = position[inside], index[inside]
        if not forwards:
            seg_t, seg = seg_t[::-1], seg[::-1]
        # strictly rising abscissa for the inversion: pauses collapse to their last moment
        keep = np.concatenate([np.diff(seg) > 0, [True]])
        when = np.interp(position, seg[keep], seg_t[keep])
        order = np.argsort(when, kind="stable")
        times.append(when[order])
        which.append(index[order])
    return np.concatenate(times), np.concatenate(which)
