"""Whether dips know the wheel angle, for logs that look only a few times a second.

A slow log sees a lost edge in a few of its samples, often, deep and unmistakable; the question
is only whether they fall on one place of the ring. The place is hidden behind a scale (turns
per metre), a delay, and a phase that wanders with slip and rounding and is lost at every
standstill. So: a hidden Markov model of the phase on a grid round the turn; each sample dips
with a high chance inside an arc and with a low chance outside (Rabiner 1989, Proc. IEEE 77,
257; from memory). Its evidence over that of "a dip falls anywhere" is a Bayes factor, and
by Markov's inequality chance gives a factor of B or more with probability 1/B at most, so
−ln B bounds the false-alarm chance without any assumption about the noise.

Samples that do not dip count as well: a log that happens to look at one angle only
(stroboscope) would else seem to find everything there.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array
from nodrek.core.motion.reference import CornerMotion
from nodrek.core.turns.phase import from_centre, within_turn
from nodrek.core.turns.search import FREQUENCIES, Stretch, inside_stretches, rolled_path

Index = npt.NDArray[np.int64]
Belief = npt.NDArray[np.floating[Any]]
"""Chance of each phase; the last axis goes round the turn."""
GRID = 48
"""Phase steps per turn."""
STEP = 0.002
"""Relative step of the scale: within the phase's own wander over a hundred turns."""
DIP_WAYS = ((0.0, False), (0.0, True), (0.05, False), (0.05, True))
"""Delay s, and whether distance is that of the mates."""
DIP_SCORE, DIP_DEPTH = -4.0, -0.02
FROM_SPEED = 3.0
USUAL = (1 / 2.45, 1 / 1.66)
USUAL_SHARE = 0.8
"""Turns per metre of nearly all passenger cars and vans (common practice, no published source)."""
LEAST_DIPS = 5
MOST_DIPS = 140
BULK, LEAST_BULK = 2.5, 0.5
"""Noise units to which deviations are limited where the spread of their bulk is taken, and the least it can be."""
SILENT = -1.95
"""ln deviation beyond which a dip is a break of the signal rather than an edge or two."""
MOST_SHARE = 0.5
MOST_SAMPLES = 2_500
LEAST_STEP_S = 0.05
FILLED = (0.9, 0.45, 0.2)
"""Share of the samples inside the arc that dip: most where values are fresh, few where
they are stale by a good part of a turn."""
STRAY = 0.12
"""Share of dips that lie elsewhere."""
WANDER_PER_TURN = 0.004
WANDER_PER_SPEED = 0.012
"""Turns (1 sigma): per root of a turn from slip, and per m/s of change from an unknown delay."""
WANDER_OF_NOISE = 0.55
"""Share of a corner's noise that is left in the path, which is that of the median of all corners."""
NARROWEST, WIDEST = 0.03, 0.45
PLAIN = 12.0
"""ln factor of one place from which nobody asks whether there are two."""
NEXT_BEST = 6
CLUMPS, CLUMPS_SHARE = (1, 2, 4), 0.1
"""Samples since the last dip within which another may be likelier, and chance of a log in which it is."""
SHARE_OF_TWO, LEAST_OF_TWO = 0.2, 0.015
"""Share of damaged rings that have lost teeth at two places; share of samples that dip on such a ring at least."""


@dataclass(frozen=True)
class _Places:
    """Where arcs are sought: one at place 0, another at one of ``seconds`` (turns further on; 0 for no other),
    ``coarse`` ones to choose scales by. So many ``candidates`` and ``ways`` of measuring distance are looked at."""

    coarse: tuple[float, ...]
    seconds: tuple[float, ...]
    candidates: int
    ways: int


ONE_PLACE = _Places((0.0,), (0.0,), 10, len(DIP_WAYS))
TWO_PLACES = _Places((0.2, 0.3, 0.4, 0.5), (0.15, 0.22, 0.29, 0.36, 0.43, 0.5), 4, 2)


@dataclass(frozen=True)
class Track:
    """``log_factor``: ln of the Bayes factor for "tied to the wheel", the search paid for;
    ``frequency`` turns/m, ``delay`` s and ``by_mates`` of the best scale; ``dips`` looked at; ``next_best``: the
    frequency and ``by_mates`` of scales that are not much worse."""

    log_factor: float
    frequency: float
    delay: float
    by_mates: bool
    dips: int
    next_best: tuple[tuple[float, bool], ...] = ()


@dataclass(frozen=True, eq=False)
class Looks:
    """Samples in order: metres by each way of measuring them, speed, whether it dips, whether the
    phase was lost before, its wander since the sample before (turns squared); deviation over its ``noise``, which is
    relative; their places in the log; whether some between them are left out (a fast log).

    ``noise`` is what a normal law takes for the bulk of the samples. `CornerMotion.noise`, by which dips are told,
    looks at the tails: readings that are counted or rounded have none, and it is up to twice as much."""

    paths: dict[tuple[float, bool], Array]
    speed: Array
    dip: npt.NDArray[np.bool_]
    lost: npt.NDArray[np.bool_]
    wander: Array
    score: Array
    noise: Array
    used: npt.NDArray[np.int64]
    is_thinned: bool


def follow_dips(motion: CornerMotion, stretches: list[Stretch]) -> Track | None:
    """Evidence that the dips are tied to the wheel; ``None`` where there are too few, or too many to be dips."""
    looks = looks_of(motion, stretches, DIP_WAYS)
    if looks is None:
        return None
    dips = np.flatnonzero(looks.dip)
    share = dips.size / looks.dip.size
    if not dips.size >= LEAST_DIPS or share > MOST_SHARE:
        return None
    frequencies = np.exp(np.arange(math.log(FREQUENCIES[0]), math.log(FREQUENCIES[1]), STEP))
    clumping = log_clumping(looks.dip, looks.lost)
    one = _best_of(looks, frequencies, dips, share, ONE_PLACE)
    one = replace(one, log_factor=one.log_factor - clumping)
    if one.log_factor >= PLAIN or dips.size < 2 * LEAST_DIPS or share < LEAST_OF_TWO:
        return one
    two = _best_of(looks, frequencies, dips, share, TWO_PLACES)
    two = replace(two, log_factor=two.log_factor - clumping)
    total = np.logaddexp(math.log(1.0 - SHARE_OF_TWO) + one.log_factor, math.log(SHARE_OF_TWO) + two.log_factor)
    return replace(two if two.log_factor > one.log_factor else one, log_factor=float(total))


def _best_of(
    looks: Looks,
    frequencies: Array,
    dips: npt.NDArray[np.int64],
    share: float,
    places: _Places,
) -> Track:
    """The best scale for arcs at these places."""
    ways = list(looks.paths)[: places.ways]
    scores = np.vstack([[_quick(looks, way, frequencies, dips, share, s) for way in ways] for s in places.coarse])
    best_of_way = scores.reshape(len(places.coarse), len(ways), -1).max(axis=0)
    best = np.argsort(-best_of_way, axis=None)[: places.candidates]
    way_of, at = np.unravel_index(best, best_of_way.shape)
    factors = _whole(looks, [ways[w] for w in way_of], frequencies[at], share, places.seconds)
    chosen = int(np.argmax(factors.max(axis=0)))
    delay, by_mates = ways[int(way_of[chosen])]
    order = np.argsort(-factors.max(axis=0))[1:NEXT_BEST]
    others = tuple((float(frequencies[at[k]]), ways[int(way_of[k])][1]) for k in order)
    # the mean over everything looked at: what was not looked at closely counts as nothing
    looked = factors.shape[0] * len(ways)
    factors = factors + np.log(scale_prior(frequencies))[at]
    total = float(np.logaddexp.reduce(factors, axis=None)) - math.log(looked)
    return Track(total, float(frequencies[at[chosen]]), delay, by_mates, int(dips.size), others)


def log_clumping(dip: npt.NDArray[np.bool_], lost: npt.NDArray[np.bool_]) -> float:
    """ln of how much better dips that come in clumps over time explain `dip` than dips that fall anywhere, 0 or more
    but for a little; `lost`: nothing is known of the samples before.

    A value that rounding turns over, a wheel that slips for a second, a lead that is broken for one dip again and again
    within a few samples, and where the speed is steady that is at like angles. Chances of a dip soon after one and long
    after one, each anything (Jeffreys' prior), over one chance.
    """
    share = float(dip.mean())
    before: Index = np.cumsum(dip) - dip
    starts = np.maximum.accumulate(np.where(lost, np.arange(dip.size), 0))
    even = _log_likelihood(int(np.count_nonzero(dip)), dip.size, share)
    better = []
    for reach in CLUMPS:
        since = np.maximum(np.arange(dip.size) - reach, starts)
        soon = before - before[since] > 0
        better.append(
            sum(_log_evidence(int(np.count_nonzero(dip & part)), int(np.count_nonzero(part))) for part in (soon, ~soon))
            - even
        )
    return float(
        np.logaddexp.reduce([math.log1p(-CLUMPS_SHARE), *(math.log(CLUMPS_SHARE / len(CLUMPS)) + np.array(better))])
    )


def _log_likelihood(dips: int, looks: int, chance: float) -> float:
    return sum(n * math.log(p) for n, p in ((dips, chance), (looks - dips, 1.0 - chance)) if n)


def _log_evidence(dips: int, looks: int) -> float:
    """ln of the mean likelihood over all chances, by Jeffreys' prior."""
    half = math.lgamma(0.5)
    return math.lgamma(dips + 0.5) + math.lgamma(looks - dips + 0.5) - math.lgamma(looks + 1.0) - 2.0 * half


def scale_prior(frequencies: Array) -> Array:
    """Chance of each scale before looking; sums to 1."""
    usual = (frequencies >= USUAL[0]) & (frequencies <= USUAL[1])
    share = np.where(usual, USUAL_SHARE / max(usual.sum(), 1), (1.0 - USUAL_SHARE) / max((~usual).sum(), 1))
    return np.asarray(share)


def looks_of(motion: CornerMotion, stretches: list[Stretch], ways: Sequence[tuple[float, bool]]) -> Looks | None:
    """The samples that are looked at one by one, with distance measured in each of `ways`; ``None`` for too few."""
    fit = (
        inside_stretches(stretches, motion.times.size)
        & ~np.isnan(motion.deviation)
        & (motion.expected > motion.asked_from(FROM_SPEED))
    )
    # a lost edge never reads nothing: silence is another fault's, and would pass for many dips in one place
    used = np.flatnonzero(fit & ~(motion.deviation < SILENT))
    if used.size < 4 * LEAST_DIPS:
        return None
    # of a fast log every so many samples: they would only repeat their neighbours
    every = max(1, round(LEAST_STEP_S / max(motion.step_s, 1e-6)))
    used = used[::every][:MOST_SAMPLES]
    dip = motion.dips(DIP_SCORE, DIP_DEPTH)
    # cuts of long stretches lose nothing; standstill and holes lose the phase
    gap = np.diff(motion.times[used], prepend=motion.times[used[0]])
    slow = np.concatenate([[0], np.cumsum(motion.vehicle < 1.0)])
    stood = slow[used] > slow[np.concatenate([used[:1], used[:-1]])]
    lost = stood | (gap > max(1.5, 5.0 * float(np.median(gap))))
    lost[0] = True
    speed = motion.expected[used]
    step = np.diff(speed, prepend=speed[0])
    rolled = np.abs(np.diff(motion.path[used], prepend=motion.path[used[0]]))
    # each reading errs by itself, and the path adds the errors up
    erring = WANDER_OF_NOISE * np.minimum(motion.noise[used], 0.1) * speed * gap / 2.0
    wander = WANDER_PER_TURN**2 * rolled / 2.0 + (WANDER_PER_SPEED * step) ** 2 + erring**2
    paths = {way: rolled_path(motion, *way)[used] for way in ways}
    score = motion.score[used]
    bulk = float(np.sqrt(np.mean(np.clip(score, -BULK, BULK) ** 2)))
    bulk = min(1.0, max(LEAST_BULK, bulk))
    return Looks(paths, speed, dip[used], lost, wander, score / bulk, motion.noise[used] * bulk, used, every > 1)


def _widths(faster: Array, share: float, filled: float) -> Array:
    """Width of an arc (turns) at speeds over the middle one: an averaging window covers more of a fast turn."""
    return np.clip(share / filled * faster, NARROWEST, WIDEST)


def _quick(
    looks: Looks,
    way: tuple[float, bool],
    frequencies: Array,
    dips: npt.NDArray[np.int64],
    share: float,
    second: float,
) -> Array:
    """ln factor of each scale from the places of the dips alone; arcs at place 0 and `second`, the same where 0."""
    if dips.size > MOST_DIPS:
        dips = dips[np.unique(np.linspace(0, dips.size - 1, MOST_DIPS).astype(np.int64))]
    wander = np.cumsum(looks.wander)
    resets = np.cumsum(looks.lost)
    width = np.maximum(_widths(looks.speed / float(np.mean(looks.speed)), share, FILLED[1]), 0.12)
    belief: Belief = np.full((frequencies.size, GRID), 1.0 / GRID, dtype=np.float32)
    score = np.zeros(frequencies.size)
    places = np.arange(GRID)
    before = -1
    for i in dips:
        if before >= 0 and resets[i] > resets[before]:
            belief[:] = 1.0 / GRID
        elif before >= 0:
            belief = spread(belief, float(wander[i] - wander[before]))
        arcs = _arcs(width[i], second)
        chance = ((1.0 - STRAY) / arcs.mean() * arcs + STRAY).astype(np.float32)
        shift = np.floor(within_turn(frequencies * looks.paths[way][i]) * GRID).astype(np.int64)
        belief = belief * np.tile(chance, 2)[places - shift[:, None] + GRID]
        size = belief.sum(axis=1)
        score += np.log(size)
        belief /= size[:, None]
        before = int(i)
    return score


def _whole(
    looks: Looks, ways: list[tuple[float, bool]], frequencies: Array, share: float, seconds: tuple[float, ...]
) -> Array:
    """ln Bayes factor of each candidate from all samples, dips or not; shape (FILLED × seconds, candidates)."""
    paths = np.vstack([looks.paths[w] for w in ways])
    shifts = np.floor(within_turn(frequencies[:, None] * paths) * GRID).astype(np.int64)
    shapes = [(filled, second) for filled in FILLED for second in seconds]
    tables = _Tables(share, looks.speed, shapes)
    places = np.arange(GRID)
    fresh: Belief = np.full((len(shapes), frequencies.size, GRID), 1.0 / GRID, dtype=np.float32)
    belief = fresh
    score = np.zeros((len(shapes), frequencies.size))
    pending = 0.0
    for i in range(looks.dip.size):
        if looks.lost[i]:
            belief, pending = fresh, 0.0
        pending += looks.wander[i]
        if pending > LEAST_SPREAD:
            belief, pending = spread(belief, pending), 0.0
        turned = places - shifts[:, i, None] + GRID
        belief = belief * tables.ratio(looks.speed[i], bool(looks.dip[i])).take(turned, axis=1)
        size = belief.sum(axis=-1)
        score += np.log(size)
        belief /= size[..., None]
    return score


LEAST_SPREAD = (0.35 / GRID) ** 2
"""Wander below which the belief is not worth spreading yet."""
WIDEST_SPREAD = 0.3**2
SPREAD_STEPS = 12
"""Tables of the wander are kept for twelve steps each time the variance grows by a factor e."""


SPEED_STEPS = 20
"""Tables are kept for steps of a twentieth of the middle speed."""


class _Tables:
    """Likelihood of a look by its place, over that of a dip falling anywhere, for several shapes of the ring at once;
    remembered by speed."""

    def __init__(self, share: float, speed: Array, shapes: Sequence[tuple[float, float]]) -> None:
        """`share` of all samples, taken at `speed`, dips; each shape: what part of the samples inside an arc dips,
        and the place of a second arc as in `_arcs`."""
        self._middle = float(np.mean(speed))
        self._low = STRAY * share
        self._shapes = []
        for filled, second in shapes:
            # of two arcs each holds half of the dips
            arcs = 2.0 if second else 1.0
            width = float(np.mean(_widths(speed / self._middle, share / arcs, filled)))
            high = min(0.97, (share - self._low) / (arcs * width) + self._low)
            self._shapes.append((filled, second, share / arcs, high))
        self._known: dict[tuple[int, bool], Belief] = {}

    def ratio(self, speed: float, dips: bool) -> Belief:
        """Once round the turn and once again; shape (shapes, 2 · GRID)."""
        key = (round(SPEED_STEPS * speed / self._middle), dips)
        if key not in self._known:
            rows = [self._row(key[0] / SPEED_STEPS, *s, dips) for s in self._shapes]
            self._known[key] = np.tile(np.array(rows, dtype=np.float32), 2)
        return self._known[key]

    def _row(self, faster: float, filled: float, second: float, share: float, high: float, dips: bool) -> Array:
        width = float(_widths(np.array(faster), share, filled))
        chance = self._low + (high - self._low) * _arcs(width, second)
        anywhere = float(chance.mean())
        return chance / anywhere if dips else (1.0 - chance) / (1.0 - anywhere)


def _arcs(width: float, second: float) -> Array:
    """1 inside an arc round place 0 and one round place `second` (turns; none where 0), 0 outside, softened over
    one step of the grid."""
    at = np.arange(GRID) / GRID
    off = np.minimum(np.abs(from_centre(at, 0.0)), np.abs(from_centre(at, second)))
    return np.clip((width / 2.0 - off) * GRID + 0.5, 0.0, 1.0)


def spread(belief: Belief, variance: float) -> Belief:
    """Let the phase wander by `variance` (turns squared)."""
    if variance < LEAST_SPREAD:
        return belief
    grid = belief.shape[-1]
    if variance > WIDEST_SPREAD:
        return np.full_like(belief, 1.0 / grid)
    return np.asarray(belief @ _wander_table(round(SPREAD_STEPS * math.log(variance)), grid).astype(belief.dtype))


@lru_cache(maxsize=256)
def _wander_table(step: int, grid: int) -> npt.NDArray[np.float32]:
    """Chance to go from one phase to another: a normal law wound round the turn; shape (grid, grid)."""
    k = np.arange(grid // 2 + 1)
    # the wound normal law by its Fourier series, which holds for a spread below one step as well
    row = np.fft.irfft(np.exp(-2.0 * (np.pi * k) ** 2 * math.exp(step / SPREAD_STEPS)), n=grid)
    row = np.maximum(row, 0.0)
    offset = (np.arange(grid)[None, :] - np.arange(grid)[:, None]) % grid
    return np.asarray((row / row.sum())[offset], dtype=np.float32)
