"""How many edges the low arcs of a ring have lost.

Three witnesses. The *area* of the dip: whatever a control unit does with a lost edge, the distance
it reports falls short by about one pitch per lost edge and turn, whether the dip is deep and
narrow or flat and wide; by `SHORT` of a pitch where it lets the value sink while it waits for the
edge (∫(1 − 1/x) dx over the silence, and the long period after it), which most do. Where windows
or filters are longer than the dip, edges are missing in the *ratio* as well, and that says how many:
all of them where edges are counted, some three quarters where single periods are filtered. And the
*depth*, where single periods are shown: with k edges gone a period is k + 1 pitches long, and
the reading is 1/(k + 1) of the speed. Averaging makes dips flatter, never deeper, so depth says
"at least".

Area is in turns and edges are in pitches: without the number of teeth the answer leans on what
rings are usual, and is `None` where that settles nothing.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from nodrek.core.model import Array
from nodrek.core.motion.reference import CornerMotion
from nodrek.core.turns.fold import PROFILE_BINS, LowArc, RingFold
from nodrek.core.turns.phase import from_centre

SHORT = 0.82
MARGIN = 0.05
"""Turns on either side of an arc that its flanks may take."""
WIDE = 0.3
"""Turns from which a dip is that of a long window: units that count edges."""
DRAG_S = 0.015
"""Seconds by which averaging drags a dip out behind the arc."""
SLOWEST, SLOW, FASTEST = 1.5, 4.0, 15.0
"""m/s: from where speeds are known well; up to where single periods show; up to where a dip is less than a turn."""
LEAST_SAMPLES, LEAST_TURNS = 60, 5
DEEP = 0.58
"""Least reading of slow turns, over the speed, below which it is a period of at least two pitches."""
SILENT = 0.12
"""Below, the reading is no period of a few pitches but the time-out of a slow wheel."""
GENEROUS = 0.4
"""Part of an edge that noise and the error of the speed may take from the depth."""
AGAINST_DEPTH, BY_DEPTH = -14.0, 4.0
"""Nats against fewer edges than the depth says; by how much likelier it makes just as many (own estimates)."""
MOST = 12
AREA_SPREAD, AREA_FLOOR = 0.09, 0.12
"""1 sigma of the area about `SHORT` pitches an edge: part of it, and pitches (simulated units)."""
HIDDEN = 0.05
"""Share of rings whose dips a check of plausibility keeps back at most speeds: the area is any part of theirs."""
COUNTED = 0.5
"""Share of the dip's area that is missing in the ratio as well, from which the ratio is the better witness."""
LEAST_COUNTED = 0.6
COUNT_SPREAD, COUNT_FLOOR, TYRE_SPREAD = 0.06, 0.1, 0.0013
"""Edges from which a ratio says anything of edges; 1 sigma of that number: part of it, edges, and of the turn."""
FILTERED, FILTERED_SHARE = 0.78, 0.4
"""Part of an edge that is missing in the ratio where single periods are filtered, and how often that is so."""
USUAL_TEETH, TEETH_SPREAD = 50.0, 0.35
"""Middle and spread (ln) of the numbers of teeth in use, 29 to 100 (common practice, no published source)."""
FEWEST, MOST_TEETH = 27, 105
SETTLED = 0.4
"""Share of all chances from which the best number is told."""


def count_lost(
    motion: CornerMotion, ring: RingFold, arcs: Sequence[LowArc], shortfall: float, teeth: int | None
) -> list[int | None]:
    """Best number of lost edges at each of `arcs`, largest area first; ``None`` where nothing settles it.

    `shortfall`: by how much (ln) the corner's ratio is lower than its mates'. The ring is counted as a whole
    and the edges go to the arcs by their areas: noise tears one dip in two, and the second then gets none.
    """
    if not arcs:
        return []
    areas = _dip_areas(motion, ring, arcs)
    counted = arcs[0].width > WIDE or shortfall >= COUNTED * sum(areas)
    # long windows show no single periods
    least = 0 if counted else sum(_by_depth(slow_depth(motion, ring, arc)) for arc in _apart(arcs))
    total = _best_total(sum(areas), shortfall if counted else 0.0, least, teeth)
    return [None] * len(arcs) if total is None else [*_shared_out(total, areas)]


def _by_depth(deepest: float) -> int:
    """Edges that the least reading of slow turns asks for at one arc; 0 where it shows no single periods."""
    # never of NaN; silence is no period at all
    return max(1, math.floor(1.0 / deepest - 1.0 + GENEROUS)) if SILENT <= deepest <= DEEP else 0


def _apart(arcs: Sequence[LowArc]) -> list[LowArc]:
    """The arcs that are no torn pieces of a larger one."""
    kept: list[LowArc] = []
    for arc in arcs:
        centre = np.array(arc.centre)
        if all(abs(float(from_centre(centre, k.centre))) > 0.5 * (arc.width + k.width) + 2 * MARGIN for k in kept):
            kept.append(arc)
    return kept


def _best_total(area: float, counted: float, least: int, teeth: int | None) -> int | None:
    """Edges lost on the whole ring, from the `area` of its dips, from what is `counted` too few (0: nothing), and
    from the `least` number that the depth of single periods asks for (0: none are shown)."""
    counts = np.arange(1.0, MOST + 1)
    weights: Array = np.log(_usual(counts)) + np.where(counts < least, AGAINST_DEPTH, 0.0)
    if teeth is not None:
        weights += _law(area, counted, float(teeth), counts)
        return int(counts[np.argmax(weights)])
    numbers = np.arange(float(FEWEST), MOST_TEETH + 1)
    law = np.array([_law(area, counted, number, counts) for number in numbers])
    usual = -0.5 * (np.log(numbers / USUAL_TEETH) / TEETH_SPREAD) ** 2
    chances = np.exp(weights + np.logaddexp.reduce(law + usual[:, None], axis=0))
    # depth that shows single periods at all shows how many pitches they had
    if least:
        chances = chances * np.where(counts == least, BY_DEPTH, 1.0)
    best = int(np.argmax(chances))
    return int(counts[best]) if chances[best] > SETTLED * chances.sum() else None


def _shared_out(total: int, areas: Sequence[float]) -> list[int]:
    """`total` edges among arcs by their areas, in whole edges (largest remainders)."""
    parts = np.maximum(areas, 1e-9)
    shares = total * parts / parts.sum()
    whole = np.floor(shares)
    for i in np.argsort(whole - shares, kind="stable")[: total - int(whole.sum())]:
        whole[i] += 1
    return [int(w) for w in whole]


def _law(area: float, counted: float, teeth: float, counts: Array) -> Array:
    """ln chance density of what is seen for each number of edges, up to a constant."""
    if counted * teeth > LEAST_COUNTED:
        # the tyre's own spread is in a ratio as well
        width = np.hypot(TYRE_SPREAD * teeth, COUNT_FLOOR + COUNT_SPREAD * counts)
        whole, part = (-0.5 * ((counted * teeth - share * counts) / width) ** 2 for share in (1.0, FILTERED))
        mixed = np.logaddexp(whole + math.log(1.0 - FILTERED_SHARE), part + math.log(FILTERED_SHARE))
        return np.asarray(mixed - np.log(width))
    width = AREA_FLOOR + AREA_SPREAD * counts
    edges = area * teeth / SHORT
    told = -0.5 * ((edges - counts) / width) ** 2 - np.log(width) + math.log(1.0 - HIDDEN)
    return np.asarray(np.where(edges < counts, np.logaddexp(told, math.log(HIDDEN) - np.log(counts)), told))


def _usual(counts: Array) -> Array:
    """Chance of each number before looking: one tooth more often than several (common practice)."""
    return np.where(counts == 1, 0.5, 0.5 * 0.6 ** (counts - 2) * 0.4)


def _dip_areas(motion: CornerMotion, ring: RingFold, arcs: Sequence[LowArc]) -> list[float]:
    """Part of a turn (0..1) that goes unreported at each arc: mean of the readings themselves, not of their
    logarithms."""
    used = ~np.isnan(ring.turns) & ~np.isnan(motion.deviation)
    used &= (motion.expected > SLOWEST) & (motion.expected <= FASTEST)
    if used.sum() < LEAST_SAMPLES:
        return [arc.area for arc in arcs]
    relative = np.expm1(np.clip(motion.deviation[used], -6.0, 0.7))
    turns, drag = ring.turns[used], DRAG_S * float(np.median(motion.expected[used]))
    return [_dip_area(turns, relative, arc, drag) for arc in arcs]


def _dip_area(turns: Array, relative: Array, arc: LowArc, drag: float) -> float:
    """The same of one arc, of `relative` readings at `turns`; averaging drags a dip out by `drag` turns at most."""
    index = np.minimum(((from_centre(turns, arc.centre) + 0.5) * PROFILE_BINS).astype(np.int64), PROFILE_BINS - 1)
    count = np.bincount(index, minlength=PROFILE_BINS)
    with np.errstate(invalid="ignore"):
        profile = np.bincount(index, weights=relative, minlength=PROFILE_BINS) / count
    place = (np.arange(PROFILE_BINS) + 0.5) / PROFILE_BINS - 0.5
    half = arc.width / 2.0 + MARGIN
    inside = (place > -half) & (place < half + drag)
    outside = profile[~inside & (count > 0)]
    if not outside.size:
        return arc.area
    return max(0.0, float(np.nansum(np.median(outside) - profile[inside])) / PROFILE_BINS)


def slow_depth(motion: CornerMotion, ring: RingFold, arc: LowArc) -> float:
    """Median over slow turns of the least reading at `arc`, over the speed; NaN for too few turns."""
    with np.errstate(invalid="ignore"):
        used = (motion.expected > SLOWEST) & (motion.expected <= SLOW) & ~np.isnan(motion.deviation)
        used &= np.abs(from_centre(ring.turns, arc.centre)) < arc.width / 2.0 + MARGIN
    if not used.any():
        return float("nan")
    number = np.floor(ring.turns[used] - arc.centre + 0.5).astype(np.int64)
    # phases are followed back and forth, so turns need not come in order
    order = np.argsort(number, kind="stable")
    starts = np.unique(number[order], return_index=True)[1]
    least = np.minimum.reduceat(motion.deviation[used][order], starts)
    return float(np.exp(np.median(least))) if least.size >= LEAST_TURNS else float("nan")
