"""Laying every turn over the others: the ring profile, its low arcs, the once-a-turn swing."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array
from nodrek.core.motion.blocks import quick_median, quick_quantile
from nodrek.core.motion.reference import CornerMotion
from nodrek.core.turns.carried import Carried, without_filter
from nodrek.core.turns.phase import from_centre, ring_angle, turn_phasor, within_turn
from nodrek.core.turns.search import Scale, Stretch, Weighing, fold_weights, rolled_path, some_stretches

PROFILE_BINS = 72
"""Five degrees each: finer than any ring's pitch of interest, coarse enough to fill."""
TEMPLATE_HARMONICS = 8
LEAST_HITS = 6
NULL_SAMPLES = 10_000
CALM_Q80 = 2.0
"""Deviations count for the smooth swing up to this many times their own 80 % point: a swing stays
whole (its 80 % point is nearly its peak), a dip weighs no more than the swing."""
SLOWER = 0.6
"""Part of the samples, by speed, that the profile is made of."""
HIDDEN, SURE_SLOW = 2.5, 6.0
"""Times the strongest low harmonic, and times its error, that the slowest turns must show to stand for the ring."""
LEAST_SLOW, LEAST_SLOW_S = 150, 9.0
"""Samples that they are made of, and seconds, at least."""
SLOWEST_SHARE = 0.3
"""Part of the samples, by speed, that `slow_harmonics` looks at."""
SPEED_BANDS = 8
ALIKE, OPPOSITE = 0.6, 0.03
"""Areas of two dips that may be one, smaller over larger; how far from half a turn apart."""
NOWHERE = 0.7236
"""Factor of the true scale at which no harmonic up to the eighth meets another."""


@dataclass(frozen=True, eq=False)
class RingFold:
    """One corner folded on its own turns.

    ``turns``: continuous ring angle of each sample (turns; NaN outside the stretches);
    ``profile``, ``error``: mean deviation per bin of the turn and its standard error,
    shape (PROFILE_BINS,), NaN where no sample fell; ``hits``: samples per bin;
    ``harmonics``: amplitudes of the first eight harmonics of the deviation, and the
    error ``sigma`` of each; ``null``: the strongest that the same log gives at a scale
    where nothing repeats. ``swing`` is the first harmonic of the deviations without their dips,
    ``swing_null`` the same elsewhere. Profile and harmonics come from the slower half of the log, or from its slowest
    turns where they alone show the ring; the harmonics without what a filter has ``carried`` from sample to sample.
    """

    turns: Array
    profile: Array
    error: Array
    hits: Array
    harmonics: Array
    sigma: float
    null: float
    swing: float = 0.0
    swing_null: float = 0.0
    carried: Carried = Carried()

    @property
    def seen(self) -> float:
        """Share of the turn that any sample of the drive looked at; the profile may be of fewer turns."""
        angle = within_turn(self.turns[~np.isnan(self.turns)])
        return np.unique((angle * PROFILE_BINS).astype(np.int64)).size / PROFILE_BINS


def at_its_place(motion: CornerMotion, carried: Carried) -> Array:
    """The deviation as it is laid on the turn: what a filter of second order shows lies turns behind the place that it
    comes from, so of such it is what is new."""
    return without_filter(motion.deviation, carried) if carried.is_second else motion.deviation


def fold(motion: CornerMotion, stretches: list[Stretch], scale: Scale) -> RingFold:
    """Fold at `scale`, each piece of the log turned so that it agrees with the others.

    Turning pieces until they agree makes a pattern out of pure noise as well. How large
    a one, the same log says itself when folded at a scale where nothing can repeat.
    """
    weights = fold_weights(motion, scale.weighing)
    path = rolled_path(motion, scale.delay, scale.by_mates)
    turns = ring_angle(path, weights, stretches, scale.frequency)
    few = some_stretches(stretches, NULL_SAMPLES)
    elsewhere = ring_angle(path, weights, few, scale.frequency * NOWHERE)
    carried = scale.weighing.carried
    told = (weights if scale.weighing == Weighing() else fold_weights(motion)) != 0.0
    # the slower half shows the ring sharper: a control unit's averaging covers less of it
    part: tuple[float, float] = SLOWER, LEAST_HITS * PROFILE_BINS
    seen = _profile(motion, turns, told, carried, *part)
    pulling_away = 0.0, max(LEAST_SLOW, LEAST_SLOW_S / max(motion.step_s, 1e-3))
    slow = _profile(motion, turns, told, carried, *pulling_away)
    if _is_hidden_at_speed(seen, slow):
        seen, part = slow, pulling_away
    nothing = _profile(motion, elsewhere, told, carried, *part)
    null = float(nothing.harmonics[:4].max())
    return replace(seen, null=null, swing_null=nothing.swing, carried=carried)


def _is_hidden_at_speed(seen: RingFold, slow: RingFold) -> bool:
    """Whether a control unit leaves so little of the ring at the speeds driven that the slowest turns alone show it."""
    return float(slow.harmonics[:4].max()) > max(HIDDEN * float(seen.harmonics[:4].max()), SURE_SLOW * slow.sigma)


def _profile(
    motion: CornerMotion, turns: Array, told: npt.NDArray[np.bool_], carried: Carried, share: float, least: float
) -> RingFold:
    """Of a `share` of the samples that are `told`, the slowest ones, or of `least` where that is more."""
    used = np.flatnonzero(told & ~np.isnan(turns))
    speeds = motion.expected[used]
    if speeds.size:
        used = used[speeds <= quick_quantile(speeds, min(1.0, max(share, least / speeds.size)))]
    # a sample counts by how well it knows: counted edges are coarse when slow
    trust = 1.0 / motion.noise[used] ** 2
    undone = np.clip(without_filter(motion.deviation, carried)[used], -1.0, 0.5)
    deviation = np.clip(at_its_place(motion, carried)[used], -1.0, 0.5)
    angle = within_turn(turns[used])
    index = np.minimum((angle * PROFILE_BINS).astype(np.int64), PROFILE_BINS - 1)
    hits = np.bincount(index, minlength=PROFILE_BINS).astype(float)
    mass = np.bincount(index, weights=trust, minlength=PROFILE_BINS)
    total = np.bincount(index, weights=trust * deviation, minlength=PROFILE_BINS)
    square = np.bincount(index, weights=trust * deviation**2, minlength=PROFILE_BINS)
    with np.errstate(invalid="ignore", divide="ignore"):
        profile = np.where(hits > 0, total / mass, np.nan)
        spread = np.maximum(square / mass - profile**2, 0.0)
        error = np.where(hits > 1, np.sqrt(spread / np.maximum(hits - 1, 1)), np.nan)
    amplitudes, sigma = _harmonics(angle, undone, trust)
    swing = float(_harmonics(angle, _calm(deviation), trust, count=1)[0][0])
    return RingFold(turns, profile, error, hits, amplitudes, sigma, 0.0, swing)


def _calm(deviation: Array) -> Array:
    """The deviations without their dips, see `CALM_Q80`."""
    limit = CALM_Q80 * quick_quantile(np.abs(deviation), 0.8) if deviation.size else 0.0
    return np.clip(deviation, -limit, limit)


def _harmonics(angle: Array, deviation: Array, trust: Array, count: int = TEMPLATE_HARMONICS) -> tuple[Array, float]:
    """Amplitudes of the first harmonics of the deviation and the error of each."""
    if angle.size < 4 * TEMPLATE_HARMONICS:
        return np.zeros(count), np.inf
    base = turn_phasor(angle)
    trust = trust / trust.sum()
    centred = (deviation - np.sum(trust * deviation)) * trust
    term = centred.astype(np.complex64)
    out = np.empty(count)
    for j in range(count):
        term *= base
        out[j] = 2.0 * abs(np.sum(term, dtype=np.complex128))
    return out, float(np.sqrt(2.0 * np.sum(centred**2)))


def slow_harmonics(motion: CornerMotion, ring: RingFold) -> tuple[Array, float]:
    """Amplitudes of the first four harmonics in the slowest turns alone, and the error of each.

    Averaging leaves them most of the overtones that tell a pulse from a swing.
    """
    used = np.flatnonzero(~np.isnan(ring.turns) & ~np.isnan(motion.deviation))
    if used.size:
        used = used[motion.expected[used] <= quick_quantile(motion.expected[used], SLOWEST_SHARE)]
    trust = 1.0 / motion.noise[used] ** 2
    deviation = without_filter(motion.deviation, ring.carried)
    return _harmonics(within_turn(ring.turns[used]), np.clip(deviation[used], -1.0, 0.5), trust, count=4)


@dataclass(frozen=True)
class Overtones:
    """Second to fourth harmonic over the first, their size, and how sure they are: power over that of noise."""

    share: float
    size: float
    sure: float


def overtones_by_speed(motion: CornerMotion, ring: RingFold) -> Overtones:
    """Overtones of the turn from bands of speed, without their phases.

    What a control unit averages over widens a dip and moves it along the turn, by more the faster the wheel: laid
    over one another, the overtones of slow and fast turns take each other away, and a dip passes for a swing.
    """
    deviation = without_filter(motion.deviation, ring.carried)
    used = np.flatnonzero(~np.isnan(ring.turns) & ~np.isnan(deviation) & ~np.isnan(motion.noise))
    cuts = [part[0] for part in np.array_split(np.arange(used.size), SPEED_BANDS) if part.size]
    bands = np.split(used[np.argpartition(motion.expected[used], cuts)], cuts[1:]) if cuts else []
    power, noise, bands_known = np.zeros(4), 0.0, 0
    for band in bands:
        values = np.clip(deviation[band], -1.0, 0.5)
        amplitudes, sigma = _harmonics(within_turn(ring.turns[band]), values, 1.0 / motion.noise[band] ** 2, count=4)
        if not 0.0 < sigma < math.inf:
            continue
        bands_known += 1
        # each band by how well it knows
        power += amplitudes**2 / sigma**2
        noise += 1.0 / sigma**2
    if not bands_known:
        return Overtones(0.0, 0.0, 0.0)
    by_chance = 3.0 * bands_known
    over = max(0.0, float(power[1:].sum()) - by_chance)
    first = max(float(power[0]) - bands_known, 1.0)
    return Overtones(math.sqrt(over / first), math.sqrt(over / noise), float(power[1:].sum()) / by_chance)


def swing_at_any_speed(motion: CornerMotion, ring: RingFold) -> float:
    """How much of the once-a-turn swing slower and faster driving share: 1 all of it, 0 or less nothing.

    A ring out of centre swings at the same place at any speed, if less where averaging is long; what a
    short log makes of its noise does so at one speed.
    """
    used = np.flatnonzero(~np.isnan(ring.turns) & ~np.isnan(motion.deviation))
    if used.size < 4 * TEMPLATE_HARMONICS:
        return 0.0
    wave = _calm(motion.deviation[used]) * turn_phasor(ring.turns[used])
    slow = motion.expected[used] <= quick_median(motion.expected[used])
    if slow.all():
        return 1.0
    halves = np.array([wave[slow].mean(), wave[~slow].mean()])
    whole = halves.mean()
    shared = np.real(halves * np.conj(whole)) / max(abs(whole) ** 2, 1e-18)
    return float(shared.min())


def explained_deviation(ring: RingFold) -> Array:
    """The deviation that the profile gives each sample; zero outside the stretches.

    With straight lines between the bins' centres, round the turn. Of a filter of second order nothing is explained:
    its profile is of what is new.
    """
    if ring.carried.is_second:
        return np.zeros(ring.turns.size)
    filled = np.where(np.isnan(ring.profile), 0.0, ring.profile)
    wrapped = np.concatenate([filled[-1:], filled, filled[:1]])
    out = np.zeros(ring.turns.size)
    known = ~np.isnan(ring.turns)
    # bins from the centre of the last one of the turn before
    place = within_turn(ring.turns[known]) * PROFILE_BINS + 0.5
    below = place.astype(np.int64)
    out[known] = wrapped[below] + np.diff(wrapped, append=0.0)[below] * (place - below)
    return out


def low_part(ring: RingFold) -> tuple[Array, float]:
    """Profile less its upper level, NaN as zero, and the noise of one bin."""
    known = ~np.isnan(ring.profile)
    if not known.any():
        return np.zeros(PROFILE_BINS), 0.0
    level = float(np.quantile(ring.profile[known], 0.7))
    errors = ring.error[~np.isnan(ring.error)]
    noise = float(np.median(errors)) if errors.size else 0.0
    return np.where(known, ring.profile - level, 0.0), noise


@dataclass(frozen=True)
class LowArc:
    """An arc that reads low. ``area``: the part of a turn that goes unreported there."""

    centre: float
    width: float
    area: float
    depth: float


def find_arcs(ring: RingFold) -> tuple[LowArc, ...]:
    """Stretches of the turn that read low, largest area first."""
    low, error = low_part(ring)
    mask = low < min(0.3 * float(low.min()), -3.0 * error)
    if not mask.any() or mask.all():
        return ()
    # two dips a bin or two apart are one: the sampling of a slow log tears them
    joined = mask | (np.roll(mask, 1) & np.roll(mask, -1)) | (np.roll(mask, 1) & np.roll(mask, -2))
    wide = joined | np.roll(joined, 1) | np.roll(joined, -1)
    relative = np.expm1(low)
    level = float(relative[~wide].mean()) if (~wide).any() else 0.0
    start = int(np.flatnonzero(~joined)[0]) if (~joined).any() else 0
    inside, missing = np.roll(joined, -start), np.roll(level - relative, -start)
    edges = np.flatnonzero(np.diff(np.concatenate([[False], inside, [False]]).astype(int)))
    arcs = []
    for lo, hi in zip(edges[::2], edges[1::2], strict=True):
        weight = np.maximum(missing[lo:hi], 0.0)
        if weight.sum() <= 0:
            continue
        # its flanks belong to the dip: one bin more on each side counts for the area; but a tooth that is moved, not
        # lost, reads as much too high beside it
        flanks = np.maximum(np.take(missing, (lo - 1, hi), mode="wrap"), 0.0)
        area = float(missing[lo:hi].sum() + flanks.sum()) / PROFILE_BINS
        centre = float(np.sum((np.arange(lo, hi) + 0.5) * weight) / weight.sum() + start)
        arcs.append(LowArc((centre / PROFILE_BINS) % 1.0, (hi - lo) / PROFILE_BINS, area, float(weight.max())))
    arcs.sort(key=lambda arc: -arc.area)
    return tuple(arc for arc in arcs if arc.area > 0.25 * arcs[0].area)


def is_two_turns(arcs: tuple[LowArc, ...]) -> bool:
    """Whether the same dip stands twice, half a turn apart: what was taken for one turn is two."""
    if len(arcs) != 2 or arcs[1].area < ALIKE * arcs[0].area:
        return False
    apart = abs(arcs[0].centre - arcs[1].centre)
    return abs(apart - 0.5) < OPPOSITE


@dataclass(frozen=True)
class Healing:
    """Part of a turn that goes unreported at an arc, slow and fast, each with its 1 sigma."""

    slow: float
    slow_sigma: float
    fast: float
    fast_sigma: float


SLOW_UP_TO, FAST_FROM, FAST_UP_TO = 6.0, 7.5, 15.0
"""m/s: below, coils see weak teeth no more; above, they see all but lost ones; still faster,
averaging covers whole turns and hides both."""
LEAST_INSIDE = 12
ARC_MARGIN = 0.03


def healing(motion: CornerMotion, ring: RingFold, arc: LowArc) -> Healing | None:
    """What a low arc costs at low and at higher speed; ``None`` where the log holds too little of either.

    A lost tooth costs the same at any speed, a weak arc nothing once the wheel is fast.
    """
    used = ~np.isnan(ring.turns) & ~np.isnan(motion.deviation)
    off = np.abs(from_centre(ring.turns, arc.centre))
    out = []
    # averaging drags a dip out along the turn, the further the faster
    for low, high, margin in ((0.0, SLOW_UP_TO, ARC_MARGIN), (FAST_FROM, FAST_UP_TO, 4 * ARC_MARGIN)):
        half = min(0.5 * arc.width + margin, 0.42)
        part = used & (motion.expected > low) & (motion.expected <= high)
        inside, outside = part & (off < half), part & (off >= half)
        if inside.sum() < LEAST_INSIDE or outside.sum() < LEAST_INSIDE:
            return None
        values = np.expm1(np.clip(motion.deviation[inside], -3.0, 0.5))
        level = quick_median(np.expm1(motion.deviation[outside]))
        out += [2 * half * (level - float(values.mean())), 2 * half * float(values.std() / np.sqrt(values.size))]
    return Healing(*out)
