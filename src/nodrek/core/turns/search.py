"""Search for a scale (turns per metre) at which a corner's deviations line up.

A damaged ring repeats at the same wheel angle whatever the speed, so its deviations are
periodic in *distance rolled*. The log is cut where the phase is lost (standstill, holes)
and where slip would blur it; the whitened powers of all stretches are summed without
their phases (semi-coherent, as in searches for pulsars of unknown drift: Brady &
Creighton 2000, Phys. Rev. D 61, 082001; from memory).
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Any

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array
from nodrek.core.motion.blocks import even_lines, median_last_axis
from nodrek.core.motion.reference import SLOW, CornerMotion
from nodrek.core.turns.carried import DEEP_SCORE, Carried, carried_by_filter, new_part
from nodrek.core.turns.statistic import log_tail
from nodrek.core.turns.stroboscope import FROM_STEP_M, colour, expected_floor, likenesses, log_tail_of_parts

BIN_M = 0.05
"""Distance bin: a fortieth of a turn."""
LONGEST_M = 800.0
LEAST_LOOKS = 4
"""Samples in a stretch under which nothing can repeat."""
SHORTEST_M, SHORTEST_CRAWL_M = 50.0, 15.0
"""Shortest stretch, and that of a drive that only crawls: halts lie closer there."""
FREQUENCIES = (1 / 3.6, 1 / 1.55)
"""Turns per metre searched: circumference 1.55 m (small car) to 3.6 m (heavy vehicle)."""
HARMONICS = (1, 2, 4, 8)
DELAYS = (0.0, 0.06)
"""Seconds by which a control unit's value may describe an earlier moment."""
PROMISING_LOG_P = -1.0
"""A delay sharpens what is there; where nothing stands out it is not tried."""
CLIP = (-8.0, 4.0)
LEAST_DIPS = 8
ONE_DIP_M = 0.8
"""Deep samples closer than that are one dip."""
AROUND_M, AROUND_SAMPLES = 20.0, 15
"""To each side: ten turns, and samples enough for a share."""
MOST_SAMPLES = 20_000
"""Enough for the search: half an hour at ten samples a second, a thousand turns at a hundred."""


@dataclass(frozen=True, eq=False)
class Stretch:
    """Samples [start, stop) over which the wheel angle can be followed without a break."""

    start: int
    stop: int
    metres: float


def inside_stretches(stretches: Sequence[Stretch], count: int) -> npt.NDArray[np.bool_]:
    """Which of `count` samples lie in one of the `stretches`."""
    inside = np.zeros(count, dtype=bool)
    for stretch in stretches:
        inside[stretch.start : stretch.stop] = True
    return inside


@dataclass(frozen=True)
class Weighing:
    """What of each sample is laid on the turn.

    ``carried``: what a filter carries from sample to sample, and is taken out.
    ``dips_only``: where deep dips begin, and nothing else. A unit that shows single periods meets a lost tooth in
    few turns; thousands of samples of noise between them would drown those few.
    """

    carried: Carried = Carried()
    dips_only: bool = False


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
    log_least: float = -math.inf
    """ln of the chance of one look that is not passed, because samples cannot tell some harmonics from others."""
    weighing: Weighing = Weighing()
    """What of the samples was laid on the turn."""

    @property
    def log_p(self) -> float:
        """Natural log of the chance that noise does as well anywhere in the search."""
        alone = max(log_tail(self.half_sum, self.shape), self.log_least)
        return min(0.0, alone + math.log(self.trials), self.log_bound)

    @property
    def p_value(self) -> float:
        return math.exp(max(self.log_p, -700.0))


def find_stretches(motion: CornerMotion) -> list[Stretch]:
    """Cut at standstill, at holes and at `LONGEST_M`; drop what is shorter than `SHORTEST_M`, or `SHORTEST_CRAWL_M`."""
    shortest = SHORTEST_CRAWL_M if motion.only_crawls else SHORTEST_M
    moving = (motion.vehicle > 1.0) & (motion.expected > 0.5)
    step = np.diff(motion.times, append=motion.times[-1])
    hole = step > max(1.0, 4.0 * float(np.median(step)))
    piece = np.cumsum(~moving | np.concatenate([[False], hole[:-1]]))
    # further cuts of even length inside a long piece
    out = []
    change = np.concatenate([[0], np.flatnonzero(np.diff(piece)) + 1, [piece.size]])
    for lo, hi in pairwise(change):
        metres = float(motion.path[hi - 1] - motion.path[lo])
        if metres < shortest:
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


def fold_weights(motion: CornerMotion, weighing: Weighing = Weighing()) -> Array:
    """Deviation in noise units, limited so that a pothole weighs no more than a lost tooth.

    Of a filter only what is new in each sample, which is at its place of the turn (`carried`).
    """
    score = np.array(motion.score)
    left_out = np.isnan(score) | (motion.expected < motion.asked_from(SLOW))
    score[left_out] = 0.0
    score = new_part(score, weighing.carried)
    fresh = score / weighing.carried.fresh
    if weighing.dips_only:
        # behind a filter of second order no sample falls by much: its news are deep in their own noise
        deep = ((fresh if weighing.carried.is_second else score) < DEEP_SCORE) & ~left_out
        deep[1:] &= ~(deep[:-1] & (np.diff(motion.path) < ONE_DIP_M))
        return -deep.astype(float)
    fresh = np.clip(fresh, *CLIP)
    fresh[left_out] = 0.0
    return fresh


def ways_of_weighing(motion: CornerMotion) -> dict[Weighing, Array]:
    """All samples; without what a filter drags along, where one does; their dips alone, where there are some."""
    carried = carried_by_filter(motion)
    ways = {Weighing(): fold_weights(motion)}
    if carried != Carried():
        ways[Weighing(carried)] = fold_weights(motion, Weighing(carried))
    dips = Weighing(carried, dips_only=True)
    begins = fold_weights(motion, dips)
    if np.count_nonzero(begins) >= LEAST_DIPS:
        ways[dips] = begins
    return ways


def find_scale(motion: CornerMotion, stretches: list[Stretch]) -> Scale | None:
    """Best scale over frequencies, delays and numbers of harmonics; ``None`` for too little log."""
    if not stretches:
        return None
    return _best_scale(motion, some_stretches(stretches, MOST_SAMPLES), ways_of_weighing(motion))


def find_scale_of_events(motion: CornerMotion, stretches: list[Stretch], events: Array) -> Scale | None:
    """The same for moments that are not dips; `events` is −1 where one is, 0 elsewhere, one for each sample."""
    few = [s for s in stretches if np.count_nonzero(events[s.start : s.stop]) >= 2]
    return _best_scale(motion, few, {Weighing(dips_only=True): events}) if few else None


def _best_scale(motion: CornerMotion, stretches: list[Stretch], ways: Mapping[Weighing, Array]) -> Scale | None:
    size = _transform_size(stretches)
    step = 1.0 / (size * BIN_M)
    fine = np.arange(FREQUENCIES[0], FREQUENCIES[1], step / 3.0)
    looks = len(HARMONICS) * (len(DELAYS) + 2 * len(ways) - 1)
    trials = _independent(stretches) * looks
    best: Scale | None = None
    floors = {way: _floors(motion, weights, stretches, size, way) for way, weights in ways.items()}

    def look(way: Weighing, delay: float, by_mates: bool) -> None:
        nonlocal best
        path = rolled_path(motion, delay, by_mates)
        few = [s for s in stretches if not way.dips_only or np.count_nonzero(ways[way][s.start : s.stop]) >= 2]
        if not few:
            return
        powers: Array = np.add.reduce([_powers(path, ways[way], s, size, way, floors[way].get(s)) for s in few])
        total = np.zeros(fine.size)
        for k in range(1, HARMONICS[-1] + 1):
            total += powers[np.round(k * fine / step).astype(np.int64)]
            if k not in HARMONICS:
                continue
            at = int(np.argmax(total))
            shape = k * len(few)
            found = Scale(float(fine[at]), delay, by_mates, k, float(total[at]), shape, trials, weighing=way)
            if best is None or found.log_p < best.log_p:
                best = found

    for way in ways:
        look(way, way.carried.delay(motion.step_s), False)
        look(way, way.carried.delay(motion.step_s), True)
    if best is not None and best.log_p < PROMISING_LOG_P:
        for delay in DELAYS[1:]:
            look(best.weighing, best.delay + delay, best.by_mates)
        best = _less_alike(motion, stretches, ways[best.weighing], best)
    return best


def _less_alike(motion: CornerMotion, stretches: list[Stretch], weights: Array, best: Scale) -> Scale:
    """The scale with what its chance is at least, because slow samples take some of its harmonics for others."""
    if best.weighing.dips_only or _step_m(motion, stretches) < FROM_STEP_M:
        return best
    turns = rolled_path(motion, best.delay, best.by_mates) * best.frequency
    looked = [turns[s.start : s.stop][weights[s.start : s.stop] != 0.0] for s in stretches]
    parts = [likenesses(of_stretch, best.harmonics) for of_stretch in looked if of_stretch.size]
    return replace(best, log_least=log_tail_of_parts(best.half_sum, np.concatenate(parts))) if parts else best


def _step_m(motion: CornerMotion, stretches: list[Stretch]) -> float:
    """Metres rolled from sample to sample."""
    return sum(s.metres for s in stretches) / max(sum(s.stop - s.start for s in stretches), 1)


def _floors(
    motion: CornerMotion, weights: Array, stretches: list[Stretch], size: int, way: Weighing
) -> dict[Stretch, npt.NDArray[np.floating[Any]]]:
    """What the noise's colour makes of each stretch that slow samples see as under a stroboscope."""
    if way.dips_only or _step_m(motion, stretches) < FROM_STEP_M:
        return {}
    colours = colour(weights)
    out = {}
    for stretch in stretches:
        part = slice(stretch.start, stretch.stop)
        out[stretch] = expected_floor(motion.path[part], weights[part] != 0.0, colours, BIN_M, size, _top_bin(size))
    return out


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


def _powers(
    path: Array, weights: Array, stretch: Stretch, size: int, way: Weighing,
    floor: npt.NDArray[np.floating[Any]] | None,
) -> Array:  # fmt: skip
    """Whitened powers of one stretch; of single dips over what events that know no angle have there."""
    part = slice(stretch.start, stretch.stop)
    w, x = weights[part], path[part]
    if not way.dips_only:
        used = w != 0.0
        w = np.where(used, w - w[used].mean() if used.any() else 0.0, 0.0)
        return whitened(_binned(x, w, size), floor)
    # an event weighs -1, so that the share is added
    share = _usual_share(x, w != 0.0)
    spectrum = np.fft.rfft(_binned(x, w + share, size))[: _top_bin(size)]
    out: Array = (spectrum.real**2 + spectrum.imag**2) / max(float(share @ (1.0 - share)), 1e-9)
    return out


def _usual_share(path: Array, events: npt.NDArray[np.bool_]) -> Array:
    """Share of events among the samples around each, shape (samples,); `path` in metres.

    Where the speed is steady, samples come at a few angles of the wheel only, and so does whatever happens in some
    of them: what lines up is what lines up better than the samples do.
    """
    places = np.arange(path.size)
    low = np.minimum(np.searchsorted(path, path - AROUND_M), places - AROUND_SAMPLES)
    high = np.maximum(np.searchsorted(path, path + AROUND_M), places + AROUND_SAMPLES + 1)
    low, high = np.maximum(low, 0), np.minimum(high, path.size)
    before = np.concatenate([[0], np.cumsum(events)])
    return np.asarray((before[high] - before[low]) / (high - low))


def _binned(path: Array, weights: Array, size: int) -> npt.NDArray[np.float32]:
    """Weights laid on an even grid of distance."""
    index = ((path - path.min()) / BIN_M).astype(np.int64)
    # single precision: the transform takes half the time, and the weights have two digits
    out = np.bincount(np.minimum(index, size - 1), weights=weights, minlength=size)
    return out.astype(np.float32)


def _top_bin(size: int) -> int:
    """Bins of a transform of `size` points up to the top harmonic of the highest frequency."""
    return math.ceil(FREQUENCIES[1] * HARMONICS[-1] * BIN_M * size) + 2


def whitened(series: npt.NDArray[np.floating[Any]], expected: npt.NDArray[np.floating[Any]] | None = None) -> Array:
    """Power spectrum over its local floor: exponential with mean one where there is only noise.

    Only as far as the top harmonic of the highest frequency is needed. `expected`: the shape of that floor, where it
    is known to have one.
    """
    part = np.fft.rfft(series)[: _top_bin(series.size)]
    power = part.real**2 + part.imag**2
    if expected is not None:
        power = power / expected
    width = max(16, power.size // 32)
    count = power.size // width
    # every third point is enough for a median, and neighbours are not independent
    floor = median_last_axis(power[: count * width].reshape(count, width)[:, ::3]) / math.log(2.0)
    out: Array = power / np.maximum(even_lines(floor, 0.5 * width, width, power.size), 1e-12)
    return out
