"""Corners that have no reading of their own, whatever the control unit shows in their place, all the time or from some
moment on.

That moment is where agreement and accident are told apart best (likelihood ratio of one change of a chance; Hinkley
1970, Biometrika 57, 1; from memory).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from nodrek.core.model import Corner
from nodrek.core.motion.usable import MOVING, STANDS
from nodrek.core.verdict.axle_copy import MATE, copied_from_mate
from nodrek.core.verdict.bend_answers import MADE_OF, made_in_bends
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.stand_in import (
    StandIn,
    agrees,
    as_good_as_equal,
    bends,
    made_of,
    moves,
    share_of,
    ways_to_ask,
    would_tell,
)

MADE, MATES_MOST = 0.7, 0.25
"""Share of samples that agree from which a corner has no reading of its own (polls at different moments spoil the
rest; a sound one behind a smooth filter came to 0.55), and up to which its mates may."""
COPIES, ORIGINALS, LEAST_UNLIKE = 0.45, 0.2, 20
"""Of a copy of the middle of the others: share that agrees where it is not the same as a mate, part of that which the
mate may agree there, and samples that are unlike. (986 sound corners of 272 drives came to 0.15 at most.)"""
ONE_SIDED = 0.85
"""The first, where nearly all bends go one way: there a front wheel runs between the rear ones, as far as coarse
values tell."""
ACCIDENT, BEFORE_MOST, LONGER, LEAST_SINCE_S = 0.15, 0.4, 3, 20.0
"""Share that agrees by accident, and the most before a corner began to be made of the others; times as many samples,
and seconds, that it takes from there on."""
ALL_READ = 0.5
"""Part of the vehicle's speed that the lowest of the others reads at least."""
LEAST_STANDING_S = 1.5
"""Seconds of one value at halts that prove a corner stuck: units that show the others in place of what is far too low
leave little else."""
LEAST_SAMPLES, APART = 60, 6.0
"""Samples that are asked, and how far the others are apart in them, in what counts as agreement."""


@dataclass(frozen=True)
class Made:
    """``way``: what a corner is made of, in words after "the control unit shows"; ``since``: s, 0 for all the time."""

    way: str
    since: float = 0.0


def made_of_others(exam: Examination, corner: Corner) -> Made | None:
    """How, and since when, a corner that has no reading of its own is made of the others; ``None`` for all that read
    to the end."""
    return exam.once(f"made {corner}", lambda: _made_of_others(exam, corner))


def _made_of_others(exam: Examination, corner: Corner) -> Made | None:
    if corner not in exam.followed:
        return None
    copied = copied_from_mate(exam, corner)
    if copied is not None and copied.for_good:
        return Made(MATE, copied.since)
    ways = [way for way in ways_to_ask(exam) if way is not StandIn.MIDDLE_OF_OTHERS]
    for way in ways:
        since = _since(exam, corner, way)
        own = _agreement(exam, corner, way, since)
        # NaN, where a mate was not to be asked, is less than nothing
        told = own.least >= MADE or (math.isnan(own.least) and own.whole >= ONE_SIDED and not since)
        if told and all(_agreement(exam, c, way, since).whole < MATES_MOST for c in exam.followed if c is not corner):
            return Made(way, since)
    since = _since(exam, corner, StandIn.MIDDLE_OF_OTHERS) if len(exam.followed) == 4 else 0.0
    if _copies_the_middle(exam, corner, since):
        return Made(StandIn.MIDDLE_OF_OTHERS, since)
    return Made(MADE_OF) if made_in_bends(exam, corner) else None


def _since(exam: Examination, corner: Corner, way: StandIn) -> float:
    """Seconds from which the corner may be made of the others, 0 for all the time: where it was not before, and is long
    enough after."""
    asked = np.flatnonzero(moves(exam, corner) & would_tell(exam, corner, way, APART))
    if not asked.size:
        return 0.0
    agreeing = agrees(exam, corner, way)[asked]
    gains = np.where(agreeing, math.log(MADE / ACCIDENT), math.log((1.0 - MADE) / (1.0 - ACCIDENT)))
    first = int(np.argmax(np.cumsum(gains[::-1])[::-1]))
    times = exam.followed[corner].times[asked]
    changes = (
        first >= LEAST_SAMPLES
        and asked.size - first >= LONGER * LEAST_SAMPLES
        and times[-1] - times[first] >= LEAST_SINCE_S
        and np.mean(agreeing[:first]) < BEFORE_MOST
    )
    return float(times[first]) if changes else 0.0


def _copies_the_middle(exam: Examination, corner: Corner, since: float) -> bool:
    """Whether the corner is the middle of the others wherever it is told from them.

    A copy agrees with its originals, and each of them with it, as the middle of what they all read. But where it is
    not the same as a mate, that mate is not the middle, and only the copy agrees.
    """
    if len(exam.followed) < 4 or len({m.times.size for m in exam.followed.values()}) > 1:
        return False
    own, way = exam.followed[corner], StandIn.MIDDLE_OF_OTHERS
    asked = moves(exam, corner) & would_tell(exam, corner, way, APART) & (own.times >= since)
    # one that reads nothing is far from the others, whoever they are
    asked &= made_of(exam, corner, way)[0][0] > ALL_READ * own.vehicle
    if np.count_nonzero(asked) < LEAST_SAMPLES:
        return False
    for mate, theirs in exam.followed.items():
        if mate is corner:
            continue
        told = asked & (np.abs(own.speed - theirs.speed) > as_good_as_equal(exam, corner))
        share = share_of(agrees(exam, corner, way), told, LEAST_UNLIKE)
        # NaN, where it is never told from a mate, is as good as no
        if not share >= COPIES or share_of(agrees(exam, mate, way), told, LEAST_UNLIKE) > ORIGINALS * share:
            return False
    return True


def proves_stuck(exam: Examination, corner: Corner) -> bool:
    """Whether the corner keeps to one value at a speed that no filter keeps, while nothing else turns."""
    return exam.usable.stuck_standing[corner] >= LEAST_STANDING_S


def has_own_readings(exam: Examination, corner: Corner) -> bool:
    """Whether the corner takes part, and what it shows is its own: not always made of the others, nor one value that
    the unit replaces at speed and that shows at halts only."""
    return corner in exam.followed and made_of_others(exam, corner) is None and not _is_replaced(exam, corner)


def _is_replaced(exam: Examination, corner: Corner) -> bool:
    """Whether a stuck corner reads something else in more than half of the driving after its first such halt."""
    if not proves_stuck(exam, corner):
        return False
    channel, usable = exam.log.channels[corner], exam.usable
    vehicle, keeps = usable.vehicle_at(channel.times), ~usable.masks[corner]
    stuck = np.flatnonzero(keeps & (vehicle <= STANDS) & (channel.speed == usable.stuck_at[corner]))
    after = np.arange(vehicle.size) >= (stuck[0] if stuck.size else vehicle.size)
    drives = after & (vehicle > MOVING)
    return int(np.count_nonzero(drives & ~keeps)) > 0.5 * int(np.count_nonzero(drives))


@dataclass(frozen=True)
class _Agreement:
    """Share of what was asked that agrees, and in bends of that direction in which fewer do; NaN for too few
    (``least``: of either direction)."""

    whole: float
    least: float


def _agreement(exam: Examination, corner: Corner, way: StandIn, since: float) -> _Agreement:
    """Of the moving samples from `since` on in which the others are apart, and what is made of them is like none of
    them: in bends no wheel of its own runs in their middle, or in those to one side only."""
    asked = moves(exam, corner) & would_tell(exam, corner, way, APART) & (exam.followed[corner].times >= since)
    agreeing = agrees(exam, corner, way)
    sides = [share_of(agreeing, asked & bend, LEAST_SAMPLES // 4) for bend in bends(exam, corner)]
    return _Agreement(share_of(agreeing, asked, LEAST_SAMPLES), float(np.min(sides)))
