"""Rings that hide behind stand-ins: what a control unit does not believe, it does not show.

A unit that shows its last value, or one made of the other corners, in place of an implausible one hides lost edges
and short breaks: the reading neither falls nor drops out. But it stands still, or agrees with the others, to the last
digit (`stand_in`). Where such runs come at one place of the turn the ring is to blame; where they come now and then,
`bridged` asks.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import partial

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner
from nodrek.core.motion.blocks import quick_median, quick_quantile
from nodrek.core.turns.phase import ring_angle, within_turn
from nodrek.core.turns.search import Scale, find_scale_of_events, rolled_path
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.stand_in import FROM_SPEED, Runs, StandIn, moves, own_and_mates, runs_by_corner

USUAL_RUNS = (1, 2, 3, 4, 6)
"""Samples of a run up to which it may be usual in a sound channel: as many as set this corner best off from its
mates."""
FEW = 5.0
"""Added to both numbers of runs: twice as many of a few says little."""
LEAST_HELD = 12
"""Runs from which a corner is looked at."""
OFTEN = 2.0
"""Times as often as at the worst of the mates, from which a ring is asked whatever else it shows."""
MORE = 1.1
"""The same, below which nothing is odd, and no look is spent."""
REPEATS, AGREEMENT, PROOF = 1.2, 2.0, -25.0
"""Sigmas more runs than at the middle mate from which a corner is looked at, and (ln) chance of the line-up from which
it is proof: the pattern of a sound ring, followed by a unit that limits the slope, came to −16. To agree by accident is
common, to repeat to the last digit hardly."""
TIED_OVER_MATES = 3.0
"""Times the (ln) chance at the best of the mates: slow units repeat in step with the polls, and where a wheel turns in
step with those too, the repeats of all corners line up, with one scale or another."""
LOUDER_RING = 2.0
"""Times the (ln) chance of the loudest mate from which a ring's pattern is louder than theirs."""
FAR_LOUDER = 6.0
"""The same over the line-up of values that stand still, however often they do: what a ring's own pattern makes stand
still came to 8 times and more of it, lost edges that are held to 3.7 at most."""
OF_ORIGINAL = 0.6
"""Times the (ln) chance at a corner that it may be the original of, with what both share."""
COHERENT = 0.15
"""Part of the line-up that all odd runs at one place would make, from which it is them that line up: polls in step with
a slow unit make one corner repeat far oftener than the others, and a weak line-up of that many is no wonder."""
LEAST_FAST = 0.25
"""Share of them in the faster half of the driving: a weak arc is lost, and held, while the wheel is slow only."""
HIDDEN_BELOW = 0.003
"""Amplitude in the ring's pattern from which nothing is hidden: where speed swings, it stands still at the turning
points, twice a turn."""
PLACES, STANDS_OUT = 24, 1.6
"""Places round the turn; times the usual share of stand-ins that the best of them shows: rings that hide came to 2.5
and more, a sound one in a queue to 1.3."""
SMOOTH = 0.5
FAINT, VERY_SMOOTH = 0.001, 0.2
"""Overtones over the first harmonic up to which a pattern is a swing; and up to which one that is smaller than
`HIDDEN_BELOW`, but not than the first number, is one."""
FEWEST_APART = 50
"""Samples from which the scatter of a corner is known."""
ENOUGH_MATES = 3
"""From so many on, somewhat oftener than at the worst of them is odd: of two, each may be the lucky one."""
PULLS_LOG_P, PULLS = -30.0, 0.008
"""(ln) chance and amplitude from which the pattern of another ring pulls: sound rings of few teeth stay below. A
swing pulls however small it is."""
SWINGS_LOG_P = -100.0
"""(ln) chance from which a pattern that is a swing pulls however small it is: behind a smooth filter hundredths of a
per cent carry a wheel through the middle of the others once a turn."""
HELD = "held_values"
"""Name of the evidence that needs no learnt probability: the runs are their own proof."""


@dataclass(frozen=True)
class Held:
    """``count`` odd runs of stand-ins, the middle mate has ``mates``; ``scale`` at which they line up best, with
    what chance by accident; ``is_lost``: it is the odd ones that do, at no mate as well, and not while slow alone."""

    way: StandIn
    count: int
    mates: int
    scale: Scale | None
    is_lost: bool

    @property
    def is_tied(self) -> bool:
        return self.is_lost and _log_p(self.scale) < PROOF


def held_values(exam: Examination, corner: Corner) -> Held | None:
    """``None`` where the corner's values are stand-ins no oftener than those of its mates."""
    return exam.once(f"held values {corner}", lambda: _held_values(exam, corner))


def _held_values(exam: Examination, corner: Corner) -> Held | None:
    ways = [StandIn.LAST] if is_pulled(exam, corner) else list(StandIn)
    found = [held for way in ways if (held := _held_by(exam, corner, way)) is not None]
    return min(found, key=lambda held: (not held.is_tied, _log_p(held.scale)), default=None)


def stand_ins_over_mates(exam: Examination, corner: Corner) -> tuple[float, float]:
    """ln of how much oftener than the worst of its mates the corner shows stand-ins, of any length and of the longest
    that `USUAL_RUNS` asks for, by the way that sets it off best; 0 and less for no oftener."""
    seen = []
    for way in StandIn:
        own, mates = own_and_mates(exam, corner, way)
        if len(mates) >= 2:
            worst = np.max([longer(runs) for runs in mates.values()], axis=0)
            seen.append(np.log((longer(own) + FEW) / (worst + FEW)))
    best = max(seen, key=lambda over: float(over.max()), default=np.zeros(len(USUAL_RUNS)))
    return float(best[0]), float(best[-1])


def is_pulled(exam: Examination, corner: Corner) -> bool:
    """Whether a mate's ring shows a pattern that would pull what is made of the others about, once a turn as well."""
    return any(
        ring.scale.log_p < PULLS_LOG_P
        and (
            float(ring.fold.harmonics[:4].max()) > PULLS
            or _swings(ring.fold.harmonics[:4])
            or (ring.scale.log_p < SWINGS_LOG_P and _overtones(ring.fold.harmonics[:4]) < SMOOTH)
        )
        for mate, ring in exam.rings.items()
        if mate is not corner and ring.scale is not None and ring.fold is not None
    )


def _held_by(exam: Examination, corner: Corner, way: StandIn) -> Held | None:
    own_runs, mates_runs = own_and_mates(exam, corner, way)
    if len(mates_runs) < 2:
        return None
    others = list(as_often_were_they_as_quiet(exam, corner, way, mates_runs).values())
    own, mates, worst = longer(own_runs), np.median(others, axis=0), np.max(others, axis=0)
    over = REPEATS if way is StandIn.LAST else AGREEMENT
    odd = (own - mates) / np.sqrt(mates + 1.0)
    if way is StandIn.MIDDLE_OF_OTHERS:
        # where all four agree with each other as often, what a corner shares with its mates is no copying
        usual = np.median([longer(r) for c, r in runs_by_corner(exam, way).items() if c is not corner], axis=0)
        odd = np.minimum(odd, (own - usual) / np.sqrt(usual + 1.0))
    worth = (own >= LEAST_HELD) & (own >= MORE * worst) & (odd > over)
    often = worth & (own >= OFTEN * (worst + 1))
    ring = exam.rings[corner].fold
    if len(others) < ENOUGH_MATES or ring is None or float(ring.harmonics.max()) > HIDDEN_BELOW:
        # that it is far oftener at one length says nothing of another
        worth = often
    if not worth.any() or (ring is not None and _swings(ring.harmonics[:4])):
        return None
    lengths = np.flatnonzero(worth)
    if way is not StandIn.LAST:
        # agreement is asked at the length that sets it off best: each look costs as much as one for a ring
        lengths = lengths[np.argsort(-odd[lengths], kind="stable")][:1]
    tries = {USUAL_RUNS[k]: _line_up(exam, corner, own_runs, USUAL_RUNS[k]) for k in lengths}
    best = min(tries, key=lambda usual: _log_p(tries[usual]), default=None)
    if best is None or not (often.any() or _log_p(tries[best]) < PROOF):
        return None
    return _held(exam, corner, way, best, tries[best])


def as_often_were_they_as_quiet(
    exam: Examination, corner: Corner, way: StandIn, mates: Mapping[Corner, Runs]
) -> dict[Corner, Array]:
    """Runs of more than `USUAL_RUNS` at each of the `mates`, were it no louder than the corner.

    A value that scatters less about what changes slowly is the same after rounding more often, and by as much again for
    each sample more (normal law, steps that are small against it).
    """
    out = {}
    for mate, runs in mates.items():
        own, theirs = (exam.once(f"scatter {c}", partial(_scatter, exam, c)) for c in (corner, mate))
        louder = max(theirs / own, 1.0) if way is StandIn.LAST and own > 0.0 else 1.0
        out[mate] = longer(runs) * louder ** np.array(USUAL_RUNS, dtype=float)
    return out


def _scatter(exam: Examination, corner: Corner) -> float:
    """By how much (m/s) a sample differs from the middle of its neighbours, where none of them stands still for longer
    than it may by accident; 0 where that is not known."""
    speed = exam.followed[corner].speed
    still = runs_by_corner(exam, StandIn.LAST)[corner]
    held = still.where(still.length > USUAL_RUNS[1]).at(speed.size) > 0
    asked = moves(exam, corner)[1:-1] & ~(held[:-2] | held[1:-1] | held[2:])
    if np.count_nonzero(asked) < FEWEST_APART:
        return 0.0
    apart = np.abs(np.diff(speed, 2))[asked]
    return float(np.minimum(apart, 2.0 * quick_quantile(apart, 0.8)).mean())


def _swings(pattern: Array) -> bool:
    """Whether a ring's first harmonics are those of one out of centre: values stand still at its turning points."""
    return _overtones(pattern) < (SMOOTH if pattern[0] > HIDDEN_BELOW else VERY_SMOOTH if pattern[0] > FAINT else 0.0)


def _overtones(pattern: Array) -> float:
    return float(pattern[1:].max()) / max(float(pattern[0]), 1e-9)


def longer(runs: Runs) -> npt.NDArray[np.int64]:
    return np.array([np.count_nonzero(runs.length > usual) for usual in USUAL_RUNS])


def _held(exam: Examination, corner: Corner, way: StandIn, usual: int, scale: Scale | None) -> Held:
    """What the runs of more than `usual` samples say."""
    own_runs, mates_runs = own_and_mates(exam, corner, way)
    starts = {c: r.start[r.length > usual] for c, r in mates_runs.items()}
    mine = own_runs.start[own_runs.length > usual]
    own, mates = mine.size, round(np.median([s.size for s in starts.values()]))
    middle = middle_speed(exam, corner)
    fast = [np.count_nonzero(exam.followed[c].vehicle[s] > middle) for c, s in starts.items()]
    odd_fast = np.count_nonzero(exam.followed[corner].vehicle[mine] > middle) - float(np.median(fast))
    is_lost = odd_fast >= LEAST_FAST * (own - mates)
    is_lost &= -_log_p(scale) >= COHERENT * (own - mates) ** 2 / own
    as_often = as_often_were_they_as_quiet(exam, corner, way, mates_runs)
    is_often = own >= OFTEN * (max(float(n[USUAL_RUNS.index(usual)]) for n in as_often.values()) + 1)
    # at a walk a sample sees an edge or two, and stands still wherever the pitch of a sound ring is even
    is_lost &= not exam.followed[corner].only_crawls
    is_lost = is_lost and not _follows_its_pattern(exam, corner, scale, way, is_often)
    if way is not StandIn.LAST:
        is_lost = is_lost and _stands_out(exam, corner, own_runs, usual, scale)
    # the mates are asked last, each look costs as much as one for a ring; and unless their runs are few at every
    # length, because what the pattern of a sound ring does to a steady slow speed shows at one here, at another there
    lengths = (usual,) if is_often else USUAL_RUNS
    asked = [mates_runs]
    if way is not StandIn.LAST:
        # where repeats line up at a mate, what agrees with it does so as well
        asked.append(own_and_mates(exam, corner, StandIn.LAST)[1])
    is_lost = is_lost and all(
        _log_p(scale) < TIED_OVER_MATES * _log_p(_line_up(exam, c, runs, length))
        for mates_of_way in asked
        for c, runs in mates_of_way.items()
        for length in lengths
    )
    if way is StandIn.MIDDLE_OF_OTHERS:
        # a copy is as like its original as the other way round, and the stronger of two line-ups is the copy's
        every = runs_by_corner(exam, way)
        is_lost = is_lost and all(
            _log_p(scale) < OF_ORIGINAL * _log_p(_line_up(exam, c, every[c], usual)) for c in mates_runs
        )
    is_lost = is_lost and _log_p(scale) < _log_p(_line_up_in_time(exam, corner, own_runs, usual))
    return Held(way, own, mates, scale, bool(is_lost))


def _follows_its_pattern(exam: Examination, corner: Corner, scale: Scale | None, way: StandIn, is_often: bool) -> bool:
    """Whether the line-up may come from what a sound ring itself shows, where that lines up better.

    Its values stand still where its pattern turns, somewhat oftener than those of its mates; and one that is louder
    than its mates runs through their middle at the same places of every turn.
    """
    own = _log_p(exam.rings[corner].scale)
    if own >= _log_p(scale):
        return False
    if way is StandIn.LAST:
        return not is_often or own < FAR_LOUDER * _log_p(scale)
    loudest = min((_log_p(ring.scale) for c, ring in exam.rings.items() if c is not corner), default=0.0)
    return own < LOUDER_RING * loudest


def _stands_out(exam: Examination, corner: Corner, runs: Runs, usual: int, scale: Scale | None) -> bool:
    """Whether far more of the samples at one place of the turn are stand-ins than elsewhere.

    Slow wheels in coarse values agree most of the time, and least where the pitch of a sound ring is odd: that lines
    up as well, but a lost edge is hidden in nearly every turn.
    """
    if scale is None:
        return False
    motion = exam.followed[corner]
    long = runs.where(runs.length > usual)
    path = rolled_path(motion, scale.delay, scale.by_mates)
    turns = ring_angle(path, _beginnings(long, path.size), exam.rings[corner].stretches, scale.frequency)
    asked = ~np.isnan(turns) & (motion.vehicle > FROM_SPEED)
    stands = long.at(path.size) > 0
    place = (within_turn(turns[asked]) * PLACES).astype(np.int64) % PLACES
    every, of_these = np.bincount(place, minlength=PLACES), np.bincount(place, stands[asked], minlength=PLACES)
    # a run may begin at the end of one place: two at a time
    share = (of_these + np.roll(of_these, 1)) / np.maximum(every + np.roll(every, 1), 1)
    return bool(share.max() >= STANDS_OUT * of_these.sum() / max(every.sum(), 1))


def middle_speed(exam: Examination, corner: Corner) -> float:
    vehicle = exam.followed[corner].vehicle
    return quick_median(vehicle[vehicle > FROM_SPEED])


def _line_up(exam: Examination, corner: Corner, runs: Runs, usual: int) -> Scale | None:
    """Scale at which the corner's runs of more than `usual` samples line up best."""
    motion = exam.followed[corner]
    events = _beginnings(runs.where(runs.length > usual), motion.times.size)
    return find_scale_of_events(motion, exam.rings[corner].stretches, events)


def _beginnings(runs: Runs, samples: int) -> Array:
    """−1 where a run begins, 0 elsewhere, as `find_scale_of_events` takes them."""
    events: Array = np.zeros(samples)
    events[runs.start] = -1.0
    return events


def _line_up_in_time(exam: Examination, corner: Corner, runs: Runs, usual: int) -> Scale | None:
    """The same over time, as if the wheel had turned evenly all along.

    Polls that beat with a unit's own rhythm repeat its values by the clock: where the speed hardly changes, and a turn
    takes the time of some beats, that lines up with the wheel as well, but with the clock better.
    """
    motion = exam.followed[corner]
    even = middle_speed(exam, corner)
    path = (motion.times - motion.times[0]) * even
    steady = replace(motion, path=path, path_by_mates=path, expected=np.full(path.size, even))
    events = _beginnings(runs.where(runs.length > usual), path.size)
    # as long as they last, or what is slow would not fit on the grid of distance
    stretches = [replace(s, metres=float(path[s.stop - 1] - path[s.start])) for s in exam.rings[corner].stretches]
    return find_scale_of_events(steady, stretches, events)


def _log_p(scale: Scale | None) -> float:
    return 0.0 if scale is None else scale.log_p
