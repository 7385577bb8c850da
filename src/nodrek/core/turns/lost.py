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

Area is in turns and edges are in pitches: without the number of teeth this law leans on what
rings are usual. What the dips look like (`lost_marks`) says more than the law knows of, and is learnt, with the number
of teeth and without. `None` where nothing settles it.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from nodrek.core.model import Array
from nodrek.core.model.learnt import Rivals
from nodrek.core.motion.reference import CornerMotion
from nodrek.core.turns.fold import PROFILE_BINS, LowArc, RingFold, at_its_place, low_part
from nodrek.core.turns.lost_marks import (
    BY_LAW,
    DIGITS,
    MARGIN,
    lost_marks,
    lowest_of_turns,
    marks_in_pitches,
)
from nodrek.core.turns.phase import from_centre

SHORT = 0.82
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
SETTLED, SETTLED_BY_LAW = 0.35, 0.4
"""Chance from which the best number is told: of what was learnt, and of the law alone."""
LEARNT = ("1", "2", "3", "4", "more")
"""Numbers of lost edges that are learnt, as names of `Rivals`."""
LEAST_CHANCE = 1e-5
RISES, RISE_OVER_DIP, FAR_OVER_DIP, BESIDE, LEFT_OF_AREA = 0.03, 0.6, 5.0, 0.06, 0.3
"""A tooth out of its place: how high (ln) the turn reads at least, and over the depth of the dip beside that and
anywhere; turns between the two; part of the dip's area that may be left with both together."""


@dataclass(frozen=True)
class Losses:
    """Best number of edges lost at each arc (0: a torn piece of its neighbour), and its chance; ``None`` where
    nothing settles it. ``moved``: none is lost, but one is out of its place."""

    at_arcs: tuple[int | None, ...] = ()
    chance: float = 0.0
    moved: bool = False

    @property
    def total(self) -> int | None:
        whole = [number for number in self.at_arcs if number is not None]
        return sum(whole) if whole else None


@dataclass(frozen=True)
class Dips:
    """What the count stands on: part of a turn that goes unreported at each arc, the part that is missing in the
    ratio as well (0: none), edges that single periods ask for at least (0: none are shown), and `lost_marks`."""

    areas: tuple[float, ...]
    counted: float
    least: int
    marks: dict[str, float]


def is_moved(ring: RingFold, arc: LowArc, area: float) -> bool:
    """Whether a tooth there is out of its place, as one that is bent or chipped: one pitch is longer and the next one
    shorter by as much, so that single periods read low and, right beside, high, and no way goes unreported.

    `area`: part of a turn that does, about the arc and its flanks.
    """
    profile, _ = low_part(ring)
    place = (np.arange(PROFILE_BINS) + 0.5) / PROFILE_BINS
    beside = np.abs(from_centre(place, arc.centre)) < 0.5 * arc.width + BESIDE
    near, anywhere = float(profile[beside].max()), float(profile.max())
    spikes = near > RISE_OVER_DIP * arc.depth or anywhere > FAR_OVER_DIP * arc.depth
    return spikes and anywhere > RISES and area < LEFT_OF_AREA * arc.area


def measure_dips(
    motion: CornerMotion, ring: RingFold, arcs: Sequence[LowArc], shortfall: float, quantum: float
) -> Dips:
    """Of one or more `arcs`, largest area first; see `lost_marks` for the other numbers."""
    motion = replace(motion, deviation=at_its_place(motion, ring.carried))
    areas, apart = _dip_areas(motion, ring, arcs), _apart(arcs)
    counted = arcs[0].width > WIDE or shortfall >= COUNTED * sum(areas)
    depths = [slow_depth(motion, ring, arc) for arc in apart]
    # long windows show no single periods
    least = 0 if counted else sum(map(_by_depth, depths))
    marks = lost_marks(motion, ring, apart, areas, shortfall, depths[0], least, quantum)
    return Dips(tuple(areas), shortfall if counted else 0.0, least, marks)


def count_lost(dips: Dips, teeth: int | None, learnt: Rivals) -> Losses:
    """Best number of lost edges at each arc.

    `learnt` may be empty. The ring is counted as a whole and the edges go to the arcs by their areas: noise tears one
    dip in two, and the second then gets none.
    """
    chances = _learnt_chances(dips, teeth, learnt) if learnt.sums else _chances_by_law(dips, teeth)
    best = int(np.argmax(chances))
    if chances[best] <= (SETTLED if learnt.sums else SETTLED_BY_LAW):
        return Losses((None,) * len(dips.areas), float(chances[best]))
    return Losses(tuple(_shared_out(best + 1, dips.areas)), float(chances[best]))


def told_marks(dips: Dips, teeth: int | None) -> dict[str, float]:
    """All of `nodrek.core.turns.lost_marks.MARKS`, of a ring with so many teeth or an unknown number."""
    law = _chances_by_law(dips, teeth)[: len(BY_LAW)].tolist()
    few = (round(chance, DIGITS) for chance in law)
    return {**marks_in_pitches(dips.marks, teeth), **dict(zip(BY_LAW, few, strict=True))}


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


def _chances_by_law(dips: Dips, teeth: int | None) -> Array:
    """Chances of 1 to `MOST` edges lost on the whole ring."""
    counts = np.arange(1.0, MOST + 1)
    area = sum(dips.areas)
    weights: Array = np.log(_usual(counts)) + np.where(counts < dips.least, AGAINST_DEPTH, 0.0)
    if teeth is not None:
        return _as_chances(weights + _law(area, dips.counted, float(teeth), counts))
    numbers = np.arange(float(FEWEST), MOST_TEETH + 1)
    law = np.array([_law(area, dips.counted, number, counts) for number in numbers])
    usual = -0.5 * (np.log(numbers / USUAL_TEETH) / TEETH_SPREAD) ** 2
    weights = weights + np.logaddexp.reduce(law + usual[:, None], axis=0)
    # depth that shows single periods at all shows how many pitches they had
    return _as_chances(weights + np.where((counts == dips.least) & (dips.least > 0), math.log(BY_DEPTH), 0.0))


def _learnt_chances(dips: Dips, teeth: int | None, learnt: Rivals) -> Array:
    """The same from what was learnt; the law shares out what is more."""
    said = learnt.probabilities(told_marks(dips, teeth))
    law = np.maximum(_chances_by_law(dips, teeth), LEAST_CHANCE)
    few = len(LEARNT) - 1
    chances = np.array([said[name] for name in LEARNT[:few]])
    return np.concatenate([chances, said[LEARNT[few]] * law[few:] / law[few:].sum()])


def _as_chances(nats: Array) -> Array:
    parts = np.exp(nats - nats.max())
    return np.asarray(parts / parts.sum())


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
    least = lowest_of_turns(ring.turns, motion.deviation, arc.centre, used)
    return float(np.exp(np.median(least))) if least.size >= LEAST_TURNS else float("nan")
