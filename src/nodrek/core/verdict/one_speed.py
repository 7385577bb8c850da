"""A gap behind stand-ins, told by its passages: the corner reads low only where it passes one speed.

Below its wake-up speed a control unit may show something in place of the silent corner, above it the corner's own
readings are right; what is left to see is a dip where the sensor falls asleep or wakes, before the unit takes over.
Rings, encoders and leads are low at any speed, so that the share of dips in one narrow band of speeds is weighed
against the share of the driving there (binomial law; what the choice among bands is worth is taken off).
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner
from nodrek.core.motion.waking import wakes_of
from nodrek.core.verdict.examine import Examination

Index = npt.NDArray[np.int64]
DIP_SCORE, DEPTHS = -4.0, (-0.05, -0.2)
FROM_SPEED, APART_S = 1.5, 0.5
"""Noise units and ln from which a sample dips (deep ones are also asked by themselves: jolts are shallow); m/s from
which it is asked, and seconds that part two dips."""
COUNTS_LESS = 2.0
"""Steps of the values that a dip must come to: whole counts of a crawling wheel are one too few now and then, and what
its mates count is one too many."""
WIDTHS, LEFT = (1.06, 1.14), 1.1
"""Fastest over slowest dip of one passage or another; times the ends of the band beyond which it is left again: what
dips over and over while the vehicle keeps to one speed is one passage."""
SLOWEST, FASTEST = (2.4, 4.2), 12.5
"""m/s: sound sensors sleep below, for each of the depths (deep dips alone may be a weak arc's, up to 15 km/h); no gap
wakes above (common practice, no published source)."""
LEAST_DIPS, LEAST_SHARE, MOST_DRIVING = 3, 0.65, 0.1
"""Dips in the band, their share of all dips, and the share of the driving there at most (time or way, whichever is
more)."""
LEAST_DRIVING, BANDS, MOST_BANDS = 0.01, 60.0, 20
"""Least that is believed of that share; bands that the one found was chosen from; most that are asked of each width."""
LATER, BELOW, READS = 0.9, 0.85, 0.8
"""m/s by which the band lies above the wake-up speeds of the mates; part of its speed up to which the corner reads half
of the vehicle's at least, and in what share of the samples there: one that is silent shows its gap itself."""
PASSAGES = "dips_at_one_speed"
"""Name of that evidence."""
PROVES_NATS, NOT_ALL_NATS, PROVES = 7.5, 15.0, 0.9
"""ln likelihood ratio from which on it is a gap where all dips are in the band, the same where some are not (a weak arc
dips at several low speeds), and how surely (own estimate)."""


@dataclass(frozen=True)
class Passages:
    """So many times that the corner dips while the vehicle passes ``wake`` m/s, and ``nats`` for it."""

    wake: float
    dips: int
    nats: float


def dips_at_one_speed(exam: Examination, corner: Corner) -> Passages | None:
    """``None`` where nothing proves that all dips of `corner` are passages of one speed."""
    if corner not in exam.followed:
        return None
    of_all = exam.once("dips by speed", lambda: [{c: _dips(exam, c, d) for c in exam.followed} for d in DEPTHS])
    some = [(dips, slowest) for dips, slowest in zip(of_all, SLOWEST, strict=True) if dips[corner].size >= LEAST_DIPS]
    bands = [_band(exam, corner, dips, slowest) for dips, slowest in some]
    found = max((b for b in bands if b is not None), key=lambda b: b.nats, default=None)
    return found if found is not None and _reads_below(exam, corner, found.wake) else None


def _band(exam: Examination, corner: Corner, dips: Mapping[Corner, Index], slowest: float) -> Passages | None:
    """The band that most speaks for a gap, if one from `slowest` m/s on without dips of the mates proves it; `dips`:
    where each begins."""
    mates = np.concatenate([exam.followed[c].expected[at] for c, at in dips.items() if c is not corner])
    expected = exam.followed[corner].expected
    at, own = dips[corner], expected[dips[corner]]
    driven = np.sort(expected[expected > FROM_SPEED])
    way = np.concatenate([[0.0], np.cumsum(driven)]) / max(float(driven.sum()), 1e-9)
    from_speed = max(slowest, LATER + max(wakes_of(w for c, w in exam.waking.items() if c is not corner), default=0.0))
    best: Passages | None = None
    for low, high in _bands_to_ask(own, from_speed):
        here = (own >= low) & (own <= high)
        rest = int(np.count_nonzero(~here))
        left = np.cumsum((expected < low / LEFT) | (expected > high * LEFT))
        inside = np.unique(left[at[here]]).size
        a, b = np.searchsorted(driven, (low, high))
        usual = max(LEAST_DRIVING, float(b - a) / driven.size, float(way[b] - way[a]))
        if inside < max(LEAST_DIPS, LEAST_SHARE * (inside + rest)) or usual > MOST_DRIVING:
            continue
        if np.any((mates >= low) & (mates <= high)):
            continue
        share = (inside + 0.5) / (inside + rest + 1.0)
        nats = inside * math.log(share / usual) + rest * math.log((1.0 - share) / (1.0 - usual))
        nats -= math.log(BANDS) + 0.5 * math.log(inside + rest)
        if nats >= (NOT_ALL_NATS if rest else PROVES_NATS) and (best is None or nats > best.nats):
            best = Passages(float(np.median(own[here])), inside, nats)
    return best


def _bands_to_ask(own: Array, from_speed: float) -> list[tuple[float, float]]:
    """Slowest and fastest speed (m/s) of bands that hold most of the dips at speeds `own`."""
    rising, out = np.sort(own), []
    for width in WIDTHS:
        held = np.searchsorted(rising, rising * width, side="right") - np.arange(rising.size)
        most = (held >= LEAST_SHARE * own.size) & (rising >= from_speed) & (rising * WIDTHS[-1] <= FASTEST)
        lowest = rising[most]
        out += [(low, low * width) for low in lowest[:: -(-lowest.size // MOST_BANDS) or 1].tolist()]
    return out


def _reads_below(exam: Examination, corner: Corner, wake: float) -> bool:
    motion = exam.followed[corner]
    below = (motion.vehicle > FROM_SPEED) & (motion.vehicle < BELOW * wake)
    return bool(below.any() and np.mean(motion.speed[below] > 0.5 * motion.vehicle[below]) >= READS)


def _dips(exam: Examination, corner: Corner, depth: float) -> Index:
    """Samples at which each dip of more than `depth` begins."""
    motion, step = exam.followed[corner], exam.log.channels[corner].quantum
    dips = motion.dips(DIP_SCORE, depth) & (motion.expected - motion.speed > COUNTS_LESS * step)
    low = np.flatnonzero(dips & (motion.expected > FROM_SPEED))
    return np.asarray(low[np.diff(motion.times[low], prepend=-np.inf) > APART_S])
