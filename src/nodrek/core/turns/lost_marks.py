"""What the low arcs of a ring look like, in the numbers from which the count of lost edges is learnt.

How deep a lost edge shows, and over how much of the turn, is a habit of the control unit: with single periods k edges
leave 1/(k + 1) of the speed at any speed; a window of time loses k edges of those that fit into it, so that the dip
is the shallower the faster the wheel; a unit that counts loses k whole steps of its value. None of that needs the
number of teeth; where it is known, what goes unreported is told in pitches as well (`marks_in_pitches`). Samples pass
by the deepest place of most dips, so each turn is asked for its lowest reading, too. One law cannot hold for all units
(their habits add up), so the marks are weighed by small trees (`nodrek.core.model.learnt.Calibration.lost`), grown by
`make train` from rings of which the number is known.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array
from nodrek.core.motion.reference import CornerMotion
from nodrek.core.turns.fold import LowArc, RingFold
from nodrek.core.turns.phase import from_centre, within_turn

BANDS = ((1.5, 3.5), (3.5, 6.5), (6.5, 11.0), (11.0, 18.0))
"""m/s, from and up to: the dips of one speed at a time."""
OF_A_BAND = ("deepest", "deep", "middle", "steps", "profile")
LOWEST, FEWEST_TURNS = (0.05, 0.2, 0.4, 0.6), 8
"""Quantiles, over turns, of the lowest reading of a turn, and of how many turns they are told at least."""
OF_TURNS = tuple(f"lowest_{round(100 * quantile)}" for quantile in LOWEST)
ALL_BANDS = "all"
PITCHES, NEAR = (2, 3, 4, 5), 0.12
"""A single period of so many pitches is told by its reading, and how near, as part of that."""
PERIODS = tuple(f"periods_of_{pitches}" for pitches in PITCHES)
OF_THE_RING = ("area", "shortfall", "short_of_area", "width", "arcs", "second", "rate", "memory", "slow_depth", "least")
IN_PITCHES = ("pitches_by_area", "pitches_by_ratio", "pitches_wide")
BY_LAW = ("law_1", "law_2", "law_3", "law_4")
"""Chances of so many edges by the law alone, which knows how area, ratio and depth go together."""
MARKS = (
    *OF_THE_RING,
    *(f"{name}_{band}" for band in range(len(BANDS)) for name in (*OF_A_BAND, *OF_TURNS)),
    *(f"{name}_{ALL_BANDS}" for name in OF_TURNS), *PERIODS, *IN_PITCHES, *BY_LAW,
)  # fmt: skip
UNKNOWN_DEPTH, UNKNOWN_SIZE, UNKNOWN_PITCHES = 2.0, -1.0, -1.0
"""What stands for a reading at an arc, for the size of a profile, and for pitches, that nothing is known of."""
LEAST_INSIDE, LEAST_OUTSIDE = 15, 30
"""Samples of a band at the arcs, and beside them."""
DEPTHS = (0.02, 0.1, 0.5)
"""Quantiles of the readings at the largest arc that are told."""
PLACES, LEAST_HITS = 36, 8
"""Places of the turn that a profile has, each softened over its neighbours; samples in three of them."""
LEAST_AREA = 1e-4
DIGITS = 5
MARGIN = 0.05
"""Turns on either side of an arc that its flanks may take."""


def lost_marks(
    motion: CornerMotion,
    ring: RingFold,
    arcs: Sequence[LowArc],
    areas: Sequence[float],
    shortfall: float,
    slow_depth: float,
    least: int,
    quantum: float,
) -> dict[str, float]:
    """By name of `MARKS`, but for those `IN_PITCHES` and `BY_LAW`; none is NaN.

    `arcs`: those apart from each other, largest first, at least one; `areas`: part of a turn that goes unreported at
    each low arc; `shortfall`: by how much (ln) the corner's ratio is lower than its mates'; `slow_depth`: least
    reading of slow turns over the speed, NaN where not known, and the `least` number of edges that it asks for;
    `quantum`: step of the log's values, m/s.
    """
    area, first = sum(areas), arcs[0]
    steps = np.diff(motion.times)
    out = {
        "area": float(np.log(max(area, LEAST_AREA))),
        "shortfall": float(np.log(max(shortfall, LEAST_AREA))),
        "short_of_area": shortfall / max(area, 1e-3),
        "width": first.width,
        "arcs": float(len(arcs)),
        "second": arcs[1].area / max(first.area, 1e-9) if len(arcs) > 1 else 0.0,
        "rate": float(-np.log(max(np.median(steps), 1e-4))) if steps.size else 0.0,
        "memory": ring.carried.lasting,
        "slow_depth": UNKNOWN_DEPTH if np.isnan(slow_depth) else slow_depth,
        "least": float(least),
    }
    known = ~np.isnan(ring.turns) & ~np.isnan(motion.deviation)
    relative = np.expm1(np.clip(motion.deviation, -6.0, 0.7))
    at_first = _at(ring.turns, first)
    outside = ~np.any([_at(ring.turns, arc) for arc in arcs], axis=0)
    for number, (low, high) in enumerate(BANDS):
        here = known & (motion.expected > low) & (motion.expected <= high)
        told = [UNKNOWN_DEPTH] * len(DEPTHS) + [UNKNOWN_SIZE] * 2
        inside = here & at_first
        if np.count_nonzero(inside) >= LEAST_INSIDE and np.count_nonzero(here & outside) >= LEAST_OUTSIDE:
            told[: len(DEPTHS)] = np.quantile(relative[inside], DEPTHS).tolist()
            size = _deepest_of_profile(ring.turns[here], relative[here])
            below = _deepest_of_profile(ring.turns[here], (relative * motion.expected)[here])
            told[len(DEPTHS) :] = (below / max(quantum, 1e-3) if below >= 0.0 else UNKNOWN_SIZE, size)
        out |= {f"{name}_{number}": value for name, value in zip(OF_A_BAND, told, strict=True)}
        out |= _lowest(lowest_of_turns(ring.turns, relative, first.centre, inside), str(number))
    every = known & at_first & (motion.expected > BANDS[0][0]) & (motion.expected <= BANDS[-1][1])
    lowest = lowest_of_turns(ring.turns, relative, first.centre, every)
    out |= _lowest(lowest, ALL_BANDS) | _single_periods(lowest)
    # limits of trees must not fall between two readings that differ by nothing
    return {name: round(float(value), DIGITS) for name, value in out.items()}


def marks_in_pitches(marks: Mapping[str, float], teeth: int | None) -> dict[str, float]:
    """The `marks` with those `IN_PITCHES` of a ring of so many teeth; what its way falls short by, by the dips and by
    the ratio, and the largest arc's width."""
    turns = (np.exp(marks["area"]), np.exp(marks["shortfall"]), marks["width"])
    told = (UNKNOWN_PITCHES if teeth is None else round(float(teeth * part), DIGITS) for part in turns)
    return {**marks, **dict(zip(IN_PITCHES, told, strict=True))}


def lowest_of_turns(turns: Array, readings: Array, centre: float, used: npt.NDArray[np.bool_]) -> Array:
    """The lowest of the `used` readings of each turn that has one; a turn goes from opposite `centre` to there."""
    number = np.floor(turns[used] - centre + 0.5).astype(np.int64)
    # phases are followed back and forth, so turns need not come in order
    order = np.argsort(number, kind="stable")
    starts = np.unique(number[order], return_index=True)[1]
    return np.asarray(np.minimum.reduceat(readings[used][order], starts)) if starts.size else np.zeros(0)


def _lowest(of_turns: Array, band: str) -> dict[str, float]:
    """What a dip looks like in most turns, and in few: samples pass by the deepest place of many."""
    known = of_turns.size >= FEWEST_TURNS
    told = np.quantile(of_turns, LOWEST).tolist() if known else [UNKNOWN_DEPTH] * len(LOWEST)
    return {f"{name}_{band}": value for name, value in zip(OF_TURNS, told, strict=True)}


def _single_periods(of_turns: Array) -> dict[str, float]:
    """Share of turns in which the lowest reading is that of a period of so many pitches."""
    if of_turns.size < FEWEST_TURNS:
        return dict.fromkeys(PERIODS, UNKNOWN_SIZE)
    near = (float(np.mean(np.abs(pitches * (1.0 + of_turns) - 1.0) < NEAR)) for pitches in PITCHES)
    return dict(zip(PERIODS, near, strict=True))


def _at(turns: Array, arc: LowArc) -> npt.NDArray[np.bool_]:
    with np.errstate(invalid="ignore"):
        return np.asarray(np.abs(from_centre(turns, arc.centre)) < 0.5 * arc.width + MARGIN)


def _deepest_of_profile(turns: Array, values: Array) -> float:
    """Mean of `values` round the turn, its usual level less its lowest place; `UNKNOWN_SIZE` for a patchy turn."""
    place = np.minimum((within_turn(turns) * PLACES).astype(np.int64), PLACES - 1)
    hits = _softened(np.bincount(place, minlength=PLACES).astype(float))
    total = _softened(np.bincount(place, weights=values, minlength=PLACES).astype(float))
    profile = (total / np.maximum(hits, 1.0))[hits >= LEAST_HITS]
    if profile.size <= PLACES // 2:
        return UNKNOWN_SIZE
    usual = float(np.median(np.sort(profile)[-(profile.size // 2) :]))
    return usual - float(profile.min())


def _softened(round_the_turn: Array) -> Array:
    return np.asarray(round_the_turn + np.roll(round_the_turn, 1) + np.roll(round_the_turn, -1))
