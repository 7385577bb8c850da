"""Laying every turn over the others: the ring profile, its low arcs, the once-a-turn swing."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from nodrek.core.model import Arc, Array
from nodrek.core.motion.reference import CornerMotion
from nodrek.core.turns.search import Scale, Stretch, fold_weights, rolled_path

PROFILE_BINS = 72
"""Five degrees each: finer than any ring's pitch of interest, coarse enough to fill."""
TEMPLATE_HARMONICS = 8
LEAST_HITS = 6


@dataclass(frozen=True, eq=False)
class RingFold:
    """One corner folded on its own turns.

    ``turns``: continuous ring angle of each sample (turns; NaN outside the stretches);
    ``profile``, ``error``: mean deviation per bin of the turn and its standard error,
    shape (PROFILE_BINS,), NaN where no sample fell; ``hits``: samples per bin;
    ``harmonics``: amplitudes of the first eight harmonics of the deviation, and the
    error ``sigma`` of each. Profile and harmonics come from the slower half of the log.
    """

    turns: Array
    profile: Array
    error: Array
    hits: Array
    harmonics: Array
    sigma: float


def fold(motion: CornerMotion, stretches: list[Stretch], scale: Scale) -> RingFold:
    """Fold at `scale`, each stretch turned so that it agrees with the others."""
    weights = fold_weights(motion)
    path = rolled_path(motion, scale.delay, scale.by_mates)
    turns = np.full(path.size, np.nan)
    starts = _align(path, weights, stretches, scale.frequency)
    whole = 0.0
    for stretch, shift in zip(stretches, starts, strict=True):
        part = slice(stretch.start, stretch.stop)
        angle = path[part] * scale.frequency + shift
        # count on from stretch to stretch, keeping the angle within the turn
        angle += np.ceil(whole - angle[0])
        turns[part] = angle
        whole = float(np.max(angle))
    return _profile(motion, weights, turns)


def _align(path: Array, weights: Array, stretches: list[Stretch], frequency: float) -> Array:
    """Shift (turns) of each stretch that makes it agree with the sum of the others."""
    k = np.arange(1, TEMPLATE_HARMONICS + 1)
    coefficients = np.empty((len(stretches), k.size), dtype=complex)
    for i, stretch in enumerate(stretches):
        part = slice(stretch.start, stretch.stop)
        base = np.exp(-2j * np.pi * frequency * path[part])
        w = weights[part]
        power = np.ones_like(base)
        for j in range(k.size):
            power = power * base
            coefficients[i, j] = np.sum(w * power)
    shifts = np.zeros(len(stretches))
    grid = np.arange(256) / 256
    turn = np.exp(2j * np.pi * np.outer(grid, k))
    order = np.argsort(-np.sum(np.abs(coefficients) ** 2, axis=1))
    for _ in range(2):
        template = np.zeros(k.size, dtype=complex)
        for i in order:
            if template.any():
                agreement = np.real(turn @ (np.conj(coefficients[i]) * template))
                # turning a stretch by +s multiplies its coefficients by exp(-2πiks)
                shifts[i] = -grid[int(np.argmax(agreement))]
            template = template + coefficients[i] * np.exp(-2j * np.pi * k * shifts[i])
    return shifts


def _profile(motion: CornerMotion, weights: Array, turns: Array) -> RingFold:
    used = ~np.isnan(turns) & (weights != 0.0)
    # the slower half shows the ring sharper: a control unit's averaging covers less of it
    speeds = motion.expected[used]
    if speeds.size:
        share = min(1.0, max(0.6, LEAST_HITS * PROFILE_BINS / speeds.size))
        used &= motion.expected <= np.quantile(speeds, share)
    # a sample counts by how well it knows: counted edges are coarse when slow
    trust = 1.0 / motion.noise[used] ** 2
    deviation = np.clip(motion.deviation[used], -1.0, 0.5)
    angle = np.mod(turns[used], 1.0)
    index = np.minimum((angle * PROFILE_BINS).astype(np.int64), PROFILE_BINS - 1)
    hits = np.bincount(index, minlength=PROFILE_BINS).astype(float)
    mass = np.bincount(index, weights=trust, minlength=PROFILE_BINS)
    total = np.bincount(index, weights=trust * deviation, minlength=PROFILE_BINS)
    square = np.bincount(index, weights=trust * deviation**2, minlength=PROFILE_BINS)
    with np.errstate(invalid="ignore", divide="ignore"):
        profile = np.where(hits > 0, total / mass, np.nan)
        spread = np.maximum(square / mass - profile**2, 0.0)
        error = np.where(hits > 1, np.sqrt(spread / np.maximum(hits - 1, 1)), np.nan)
    amplitudes, sigma = _harmonics(angle, deviation, trust)
    return RingFold(turns, profile, error, hits, amplitudes, sigma)


def _harmonics(angle: Array, deviation: Array, trust: Array) -> tuple[Array, float]:
    """Amplitudes of the first harmonics of the deviation and the error of each."""
    k = np.arange(1, TEMPLATE_HARMONICS + 1)
    if angle.size < 4 * k.size:
        return np.zeros(k.size), np.inf
    base = np.exp(-2j * np.pi * angle)
    trust = trust / trust.sum()
    centred = (deviation - np.sum(trust * deviation)) * trust
    power = np.ones_like(base)
    out = np.empty(k.size)
    for j in range(k.size):
        power = power * base
        out[j] = 2.0 * abs(np.sum(centred * power))
    return out, float(np.sqrt(2.0 * np.sum(centred**2)))


def low_part(ring: RingFold) -> tuple[Array, float]:
    """Profile less its upper level, NaN as zero, and the noise of one bin."""
    known = ~np.isnan(ring.profile)
    if not known.any():
        return np.zeros(PROFILE_BINS), 0.0
    level = float(np.quantile(ring.profile[known], 0.7))
    errors = ring.error[~np.isnan(ring.error)]
    return np.where(known, ring.profile - level, 0.0), float(np.median(errors)) if errors.size else 0.0


def find_arcs(ring: RingFold, teeth: int | None) -> tuple[tuple[Arc, float], ...]:
    """Stretches of the turn that read low, largest first, each with its area in turns.

    The area is the part of a turn that the corner fails to report there. Whatever a
    control unit does with a lost edge, the distance it reports falls short by one pitch
    per lost tooth and turn, as long as its averaging is shorter than a turn; so area
    times `teeth` of the intact ring is the number of teeth lost.
    """
    low, error = low_part(ring)
    mask = low < min(0.35 * float(low.min()), -3.0 * error)
    if not mask.any() or mask.all():
        return ()
    start = int(np.flatnonzero(~mask)[0])
    rolled, depth = np.roll(mask, -start), np.roll(-low, -start)
    edges = np.flatnonzero(np.diff(np.concatenate([[False], rolled, [False]]).astype(int)))
    arcs = []
    for lo, hi in zip(edges[::2], edges[1::2], strict=True):
        weight = depth[lo:hi]
        area = float(weight.sum()) / PROFILE_BINS
        centre = float(np.sum((np.arange(lo, hi) + 0.5) * weight) / weight.sum() + start)
        lost = None if teeth is None else max(1, round(area * teeth))
        arcs.append((Arc((centre / PROFILE_BINS) % 1.0, (hi - lo) / PROFILE_BINS, lost), area))
    arcs.sort(key=lambda item: -item[1])
    return tuple(item for item in arcs if item[1] > 0.25 * arcs[0][1])
