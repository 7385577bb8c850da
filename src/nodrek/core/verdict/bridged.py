"""Breaks that a control unit bridges: its stand-ins last far longer than any mate ever makes them by accident.

The signal was gone for that while. Lost edges of a dirty encoder and of a ring make runs of all lengths, many of them
short (`held`).
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner
from nodrek.core.motion.reference import CornerMotion
from nodrek.core.turns.track import DIP_DEPTH, DIP_SCORE
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.held import LEAST_FAST, is_pulled, longer, middle_speed
from nodrek.core.verdict.stand_in import (
    FROM_SPEED,
    Runs,
    StandIn,
    alike_outside_the_middle,
    beside,
    own_and_mates,
    runs_by_corner,
    spread_of_others,
)

JOLTED = 0.01
"""Share of a mate's samples that dip from which nothing that is made of the others is asked for breaks."""
FAST_ENOUGH = 10.0
"""m/s from which breaks are fast in any driving: weak arcs and wide gaps are heard below."""
BESIDE, OVER_BESIDE = (-5.0, -2.5, 2.5, 5.0), 3.0
"""How far beside what is made of the others (in what counts as agreement) a wheel that passes it is seen as well, and
how many times as many runs as there make it no such wheel. (Eight bridged breaks of seven worlds had none there.)"""
LEAST_BREAKS, LEAST_BREAK, LEAST_BREAK_S = 3, 3, 0.15
"""Runs that make breaks of the signal, samples in each, and seconds that the longest lasts: a unit that waits a tenth
of a second before it believes what is new does so after a lost edge as well."""
OVER_LONGEST, OVER_USUAL = 1.5, 2.0
"""Times the longest run of the mates, and, of standstills, times all but a hundredth of its own, from which a run is
one of them."""
ACCIDENTS, LEAST_GOING_ON = 0.08, 0.03
"""Accidental runs in a log of which three come once in ten thousand logs; least chance that one goes on."""
MANY_SHORT, GOES_ON = 50, 0.5
"""Runs that one more sample may make longer, from which their share says whether agreement is usual; that share."""
FINE_STEP, STEPS_MOVED = 0.01, 1.2
"""Part of the speed up to which a step is fine; steps by which the others must have moved where it is not."""
LONG_RUN, DRIFTS = 8, 0.5
"""Samples of a run from which its drift is told; steps by which its halves are apart."""
ABOUT_S, BY_CHANCE = 2.0, 1e-3
"""Seconds before and behind a run in which the mates are asked how often they stand still; chance of a run that is
still no accident."""
CALM, CALM_S = 1.0, 1.0
"""m/s² up to which driving is calm; seconds over which that is seen, at least."""
BREAKS_FROM_SPEED = 4.5
"""m/s: below, sound channels stand still as well."""
LOW, EQUALLY = -0.08, 0.25
"""ln of the speed from which a value that is kept reads too low, and how alike that is every time, in parts of it."""
TOGETHER_S, LONGEST_BREAK_S = 0.5, 3.0
"""Runs closer than this are one break: a contact chatters. What goes on for longer than that is none."""
COARSE = 0.1
"""Steps (m/s) above which a sound corner beside an odd tyre agrees for seconds with what the others make."""
APART, TELLING = 1.9, 0.4
"""Steps by which the others are to be apart, and in which part of a run that is a break."""


@dataclass(frozen=True, eq=False)
class HeldBreaks:
    """Places of the samples at which stand-ins begin that last as long as only a break explains; the longest, s."""

    way: StandIn
    starts: npt.NDArray[np.int64]
    longest_s: float


def held_breaks(exam: Examination, corner: Corner) -> HeldBreaks | None:
    """Breaks that the control unit bridges; ``None`` where there is no proof of any.

    Lost edges of a dirty encoder and of a ring make runs of all lengths, many of them short; a sleeping sensor makes
    them while the wheel is slow.
    """
    found = exam.once("held breaks", lambda: _all_breaks(exam)).get(corner, [])
    return max(found, key=lambda breaks: breaks.starts.size, default=None)


def _all_breaks(exam: Examination) -> dict[Corner, list[HeldBreaks]]:
    out: dict[Corner, list[HeldBreaks]] = {}
    for way in StandIn:
        asked = [c for c in exam.followed if way is StandIn.LAST or not (is_pulled(exam, c) or _is_jolted(exam, c))]
        here = {c: breaks for c in asked if (breaks := _breaks_by(exam, c, way)) is not None}
        # one corner at a time is put right by the others
        if way is StandIn.LAST or len(here) == 1:
            for corner, breaks in here.items():
                out.setdefault(corner, []).append(breaks)
    return out


def _breaks_by(exam: Examination, corner: Corner, way: StandIn) -> HeldBreaks | None:
    own, mates = own_and_mates(exam, corner, way)
    own, mates = _faster(exam, corner, own), {c: _faster(exam, c, r) for c, r in mates.items()}
    if len(mates) < 2 or (way is not StandIn.LAST and exam.log.channels[corner].quantum > COARSE):
        return None
    own = own.where(_should_have_moved(exam, corner, own) if way is StandIn.LAST else _tells(exam, corner, own))
    if not own.length.size or (way is not StandIn.LAST and _agrees_anyway(own)):
        return None
    longest = max(int(r.length.max(initial=0)) for r in mates.values())
    # a contact that is open often enough makes long agreement usual, but hardly anything stands still for long
    by_way = OVER_USUAL * float(np.quantile(own.length, 0.99)) if way is StandIn.LAST else _accident(exam, own, mates)
    least = max(LEAST_BREAK, math.ceil(OVER_LONGEST * longest), math.ceil(by_way))
    if way is StandIn.LAST:
        # at an even speed on a smooth road hundredths of km/h stand still as well
        own = own.where(own.length >= _half(least))
        own = own.where(_stand_still_just_then(exam, corner, own) < BY_CHANCE)
    starts, seconds, middling = _clusters(exam, corner, own, least)
    if starts.size < LEAST_BREAKS or seconds.max() < LEAST_BREAK_S:
        return None
    if way is StandIn.LAST and _are_equally_low(exam, corner, starts):
        return None
    fast_from = min(middle_speed(exam, corner), FAST_ENOUGH)
    fast = np.count_nonzero(exam.followed[corner].vehicle[starts] > fast_from)
    if fast < LEAST_FAST * starts.size:
        return None
    if way is not StandIn.LAST and not _any_calm(exam, exam.followed[corner].times[starts], seconds):
        return None
    if way is StandIn.MIDDLE_OF_OTHERS and starts.size <= _more_than(_by_likeness(exam, corner, least)):
        return None
    if way is not StandIn.LAST and starts.size <= OVER_BESIDE * _by_passing(exam, corner, way, least):
        return None
    theirs = {c: _faster(exam, c, r) for c, r in runs_by_corner(exam, way).items() if c is not corner}
    by_chance = float(np.median([_clusters(exam, c, r, least)[2] for c, r in theirs.items()]))
    if starts.size <= middling - _more_than(by_chance):
        return None
    return HeldBreaks(way, starts, float(seconds.max()))


def _are_equally_low(exam: Examination, corner: Corner, starts: npt.NDArray[np.int64]) -> bool:
    """Whether what is kept reads too low by the same share every time: a unit that does not believe how its reading
    jumps back shows the same lost edges for a while; one that bridges a break keeps what it read before."""
    motion = exam.followed[corner]
    with np.errstate(divide="ignore", invalid="ignore"):
        low = np.log(motion.speed[starts] / motion.vehicle[starts])
    usual = float(np.median(low))
    return usual < LOW and bool(np.all(np.abs(low - usual) < -EQUALLY * usual))


def _any_calm(exam: Examination, begins: Array, seconds: Array) -> bool:
    """Whether the vehicle neither brakes nor pulls during one of the breaks at least: slip puts wheels in another order
    for as long as it lasts, and one of them in the middle."""
    grid, vehicle = exam.usable.grid, exam.usable.vehicle
    lasts = np.maximum(seconds, CALM_S)
    change = np.interp(begins + lasts, grid, vehicle) - np.interp(begins, grid, vehicle)
    return bool(np.any(np.abs(change) < CALM * lasts))


def _by_likeness(exam: Examination, corner: Corner, least: int) -> float:
    """How many breaks wheels that are merely alike would seem to be: beside an odd one the middle of the others is
    always one of two sound wheels, and how long the corner reads like each of these is seen where it is not."""
    out = 0.0
    for mate in exam.followed:
        if mate is not corner:
            runs, over = alike_outside_the_middle(exam, corner, mate)
            out += over * _clusters(exam, corner, _faster(exam, corner, runs), least)[0].size
    return out


def _by_passing(exam: Examination, corner: Corner, way: StandIn, least: int) -> int:
    """How many breaks there would seem to be were something else shown, a little beside what is made of the others: a
    quiet wheel whose size puts it there goes slowly through one as through the other."""
    out = 0
    for by in BESIDE:
        runs = _faster(exam, corner, beside(exam, corner, way, by))
        out = max(out, _clusters(exam, corner, runs.where(_tells(exam, corner, runs)), least)[0].size)
    return out


def _more_than(expected: float) -> float:
    """What chance hardly exceeds where so many are expected."""
    return expected + 2.0 * math.sqrt(expected)


def _should_have_moved(exam: Examination, corner: Corner, runs: Runs) -> npt.NDArray[np.bool_]:
    """Runs in which the others say that the value should have moved by a step; where steps are fine, those of a longer
    one over which they drift by more than the value it stands at is wide.

    Counted edges and whole km/h stand still in steady driving by themselves, at one corner for longer than at another,
    and so do hundredths behind a smooth filter.
    """
    expected, step = exam.followed[corner].expected, exam.log.channels[corner].quantum
    if not runs.start.size:
        return np.zeros(0, dtype=bool)
    # from the value that is kept to the last one that repeats it
    ends = np.stack([np.maximum(runs.start - 1, 0), np.minimum(runs.start + runs.length - 1, expected.size)], axis=1)
    seen = np.append(expected, expected[-1])
    low, high = (extreme.reduceat(seen, ends.ravel())[::2] for extreme in (np.minimum, np.maximum))
    fine = step < FINE_STEP * expected[runs.start]
    total = np.concatenate([[0.0], np.cumsum(np.nan_to_num(expected))])
    first, middle, last = ends[:, 0], (ends[:, 0] + ends[:, 1]) // 2, ends[:, 1]
    with np.errstate(invalid="ignore", divide="ignore"):
        drift = (total[last] - total[middle]) / (last - middle) - (total[middle] - total[first]) / (middle - first)
    drifts = (runs.length < LONG_RUN) | (np.abs(drift) > DRIFTS * step)
    return np.asarray(np.where(fine, drifts, high - low > STEPS_MOVED * step))


def _stand_still_just_then(exam: Examination, corner: Corner, runs: Runs) -> Array:
    """Chance that a value stands still for as long as each of the `runs`, by how often it does at the mates about it,
    at the one that does most."""
    times, most = exam.followed[corner].times, np.zeros(runs.start.size)
    asked: Array | None = None
    begin, end = times[runs.start], times[np.minimum(runs.start + runs.length - 1, times.size - 1)]
    for mate, motion in exam.followed.items():
        if mate is not corner:
            still = np.concatenate([[0], np.cumsum(np.diff(motion.speed, prepend=np.nan) == 0.0)])
            if motion.times is not asked:
                asked = motion.times
                first, last = np.searchsorted(asked, begin - ABOUT_S), np.searchsorted(asked, end + ABOUT_S)
            most = np.maximum(most, (still[last] - still[first]) / np.maximum(last - first, 1))
    return np.asarray(most ** (runs.length - 1))


def _tells(exam: Examination, corner: Corner, runs: Runs) -> npt.NDArray[np.bool_]:
    """Runs in which the others are apart for some of the time: where all four read the same, each of them is what the
    others make."""
    apart = np.concatenate([[0], np.cumsum(spread_of_others(exam, corner) > APART * exam.log.channels[corner].quantum)])
    ends = np.minimum(runs.start + runs.length - 1, apart.size - 1)
    return np.asarray(apart[ends] - apart[runs.start] >= TELLING * (runs.length - 1))


def _agrees_anyway(own: Runs) -> bool:
    """Whether most agreement goes on to the next sample: a sound wheel may be of the very size that keeps it in
    the middle of the others, and behind a smooth filter it stays there for long."""
    return _goes_on(own) > GOES_ON


def _goes_on(own: Runs) -> float:
    """Share of the corner's own short runs that go on for one more sample; 0 of few."""
    once, twice = longer(own)[:2]
    return float(twice / once) if once >= MANY_SHORT else 0.0


def _accident(exam: Examination, own: Runs, mates: Mapping[Corner, Runs]) -> float:
    """Length of run that agreement by accident makes less than `ACCIDENTS` times in the log.

    Chances that it goes on from sample to sample are those of the most agreeing mate, or of the corner's own many short
    runs: a wheel whose size puts it between the others agrees more often than any of them.
    """
    on = max((1.0 - r.length.size / max(1, int((r.length - 1).sum())) for r in mates.values()), default=0.0)
    on = max(on, _goes_on(own))
    samples = max(m.times.size for m in exam.followed.values())
    return 1.0 + math.log(samples / ACCIDENTS) / -math.log(min(max(on, LEAST_GOING_ON), 0.99))


def _clusters(exam: Examination, corner: Corner, runs: Runs, least: int) -> tuple[npt.NDArray[np.int64], Array, int]:
    """Starts of what may be breaks, their seconds; number of clusters of runs that are nothing like it."""
    runs = runs.where(runs.length >= _half(least))
    if not runs.length.size:
        return runs.start, np.zeros(0), 0
    times = exam.followed[corner].times
    begin = times[runs.start]
    end = times[np.minimum(runs.start + runs.length - 2, times.size - 1)]
    first = np.flatnonzero(np.concatenate([[True], begin[1:] - end[:-1] > TOGETHER_S]))
    length = np.maximum.reduceat(runs.length, first)
    lasting = np.maximum.reduceat(end, first) - begin[first]
    breaks = (length >= least) & (lasting < LONGEST_BREAK_S)
    return runs.start[first][breaks], np.maximum.reduceat(end - begin, first)[breaks], int(np.count_nonzero(~breaks))


def _half(least: int) -> int:
    """Samples in a run from which it is something between a break and nothing."""
    return (least + 1) // 2


def _faster(exam: Examination, corner: Corner, runs: Runs) -> Runs:
    return runs.where(exam.followed[corner].vehicle[runs.start] > BREAKS_FROM_SPEED)


def _is_jolted(exam: Examination, corner: Corner) -> bool:
    """Whether a mate loses so many edges that the others run in the middle of what is left."""
    shares = exam.once("share of jolts", lambda: {c: _jolts(m) for c, m in exam.followed.items()})
    return max((share for mate, share in shares.items() if mate is not corner), default=0.0) > JOLTED


def _jolts(motion: CornerMotion) -> float:
    low = motion.dips(DIP_SCORE, DIP_DEPTH) & (motion.vehicle > FROM_SPEED)
    return float(low.sum() / max(np.count_nonzero(motion.vehicle > FROM_SPEED), 1))
