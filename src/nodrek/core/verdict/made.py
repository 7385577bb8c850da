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
from nodrek.core.verdict.middle import Off, is_copy, least_of_mates, off_the_middle
from nodrek.core.verdict.one_value import keeps_to_one_value
from nodrek.core.verdict.stand_in import (
    StandIn,
    agrees,
    bends,
    last_change,
    moves,
    share_of,
    ways_to_ask,
    would_tell,
)
from nodrek.core.verdict.stopgap import stopgap_s

MADE, ALL_BUT_ALL, MATES_MOST = 0.7, 0.95, 0.25
"""Share of samples that agree from which a corner has no reading of its own (polls at different moments spoil the
rest; a sound one behind a smooth filter came to 0.55), from which hardly any does not, and up to which its mates
may."""
LEAST_OFF = 20.0
"""Samples in which the least of its mates is off the middle of the others, and changes of its own, from which a corner
is asked whether it copies that."""
ONE_SIDED = 0.85
"""`MADE`, where nearly all bends go one way: there a front wheel runs between the rear ones, as far as coarse values
tell."""
ACCIDENT, BEFORE_MOST, LONGER, LEAST_SINCE_S = 0.15, 0.4, 3, 20.0
"""Share that agrees by accident, and the most before a corner began to be made of the others; times as many samples,
and seconds, that it takes from there on."""
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
    lasts = stopgap_s(exam, corner)
    if lasts is not None:
        return Made(f"what it makes of the others for {lasts:.1f} s after each pull-away, then zero")
    if corner not in exam.followed:
        return None
    copied = copied_from_mate(exam, corner)
    if copied is not None and copied.for_good:
        return Made(MATE, copied.since)
    for way in ways_to_ask(exam):
        if way is StandIn.MIDDLE_OF_OTHERS:
            continue
        since = _since(exam, corner, way)
        own = _agreement(exam, corner, way, since)
        # NaN, where a mate was not to be asked, is less than nothing
        told = own.least >= MADE or (math.isnan(own.least) and own.whole >= ONE_SIDED and not since)
        if told and _mates_do_not(exam, corner, way, since, own.least >= ALL_BUT_ALL):
            return Made(way, since)
    if len(exam.followed) == len(Corner):
        since = _since(exam, corner, StandIn.MIDDLE_OF_OTHERS)
        if _copies_the_middle(exam, corner, since):
            return Made(StandIn.MIDDLE_OF_OTHERS, since)
    return Made(MADE_OF) if made_in_bends(exam, corner) else None


def _mates_do_not(exam: Examination, corner: Corner, way: StandIn, since: float, unasked_too: bool) -> bool:
    """Whether no mate is made so as well; where all but all of the corner agrees, one that cannot be asked is no
    hint."""
    shares = [_agreement(exam, c, way, since).whole for c in exam.followed if c is not corner]
    return all(share < MATES_MOST or (unasked_too and math.isnan(share)) for share in shares)


def _since(exam: Examination, corner: Corner, way: StandIn) -> float:
    """Seconds from which the corner may be made of the others, 0 for all the time: where it was not before, and is long
    enough after."""
    asked = np.flatnonzero(moves(exam, corner) & would_tell(exam, corner, way, APART))
    if not asked.size:
        return 0.0
    agreeing = agrees(exam, corner, way)[asked]
    first = last_change(agreeing, MADE, ACCIDENT)
    times = exam.followed[corner].times[asked]
    changes = (
        first >= LEAST_SAMPLES
        and asked.size - first >= LONGER * LEAST_SAMPLES
        and times[-1] - times[first] >= LEAST_SINCE_S
        and np.mean(agreeing[:first]) < BEFORE_MOST
    )
    return float(times[first]) if changes else 0.0


def _copies_the_middle(exam: Examination, corner: Corner, since: float) -> bool:
    """Whether the corner is off the middle of the others far more rarely than any of them is (`middle`)."""
    off = {c: _off_since(exam, c, since) for c in exam.followed}
    own, least = off[corner], least_of_mates(corner, off)
    # a quiet one that keeps to the middle of its step is off nothing, and copies nobody
    changes = int(np.count_nonzero(np.diff(exam.followed[corner].speed)))
    if least is None or changes < LEAST_OFF or own.samples * least.share < LEAST_OFF:
        return False
    return is_copy(own, least)


def _off_since(exam: Examination, corner: Corner, since: float) -> Off:
    def ask() -> Off:
        return off_the_middle(exam, corner, moves(exam, corner) & (exam.followed[corner].times >= since))

    return exam.once(f"off the middle {corner} {since}", ask)


def proves_stuck(exam: Examination, corner: Corner) -> bool:
    """Whether the corner keeps to one value at a speed that no filter keeps, while nothing else turns."""
    return exam.usable.stuck_standing[corner] >= LEAST_STANDING_S


def has_own_readings(exam: Examination, corner: Corner) -> bool:
    """Whether the corner takes part, and what it shows is its own: not always made of the others, nor one value that
    the unit replaces at speed and that shows at halts only."""
    if corner not in exam.followed or keeps_to_one_value(exam, corner) is not None:
        return False
    return made_of_others(exam, corner) is None and not _is_replaced(exam, corner)


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
