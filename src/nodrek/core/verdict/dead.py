"""Corners that say nothing (`no_signal`) or the same thing for ever (`frozen`)."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from nodrek.core.model import Corner, Fault, Finding
from nodrek.core.motion.usable import GRID_STEP, MOVING
from nodrek.core.verdict.axle_copy import MATE
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.held import HELD
from nodrek.core.verdict.made import Made, made_of_others, proves_stuck
from nodrek.core.verdict.not_turned import NOT_TURNED, may_stand
from nodrek.core.verdict.odds import ratio_odds
from nodrek.core.verdict.one_value import OneValue, keeps_to_one_value

EVEN_DEAD_S = 6.0
"""Seconds of driving at zero, as fast as the corner reads otherwise, that are as likely a fault as anything else."""
EVEN_FROZEN_S = 3.0
STANDING, STANDING_PROVES = "seconds_while_others_stand", 0.97
"""Name of the evidence of one value, at a speed that no filter keeps, while nothing else turns; the probability of a
corner that is proved frozen by it."""
MADE_PROVES = 0.97
"""Probability that a corner is silent which alone agrees with the others to the last digit all the time."""
SLOW_DRIVE = 7.5
"""m/s: up to here a corner that never reads may have a gap so wide that it has not woken yet; gaps that wake above are
rare (common practice, no published source)."""
DRIVES = "the vehicle drives. The log cannot say which link is dead: sensor, ring, wire or control unit."
ALWAYS = 0.98
"""Share of driving from which a corner reads nothing all the time."""
NEARLY = 0.9995
"""Share of driving below which silence is not said to last all the time."""
AWAKE = "seconds_as_fast_as_it_reads"
"""Name of that evidence."""
ABSURD = 120.0
"""m/s; no road vehicle reads more: all-ones raw values land far above (common practice)."""


def find_dead(exam: Examination) -> list[Finding]:
    """Zero while the vehicle drives, for long: all the time, or faster than the corner reads at other times (slower, it
    may sleep for another reason)."""
    found = []
    silent = [c for c in exam.log.corners if exam.share(exam.usable.dead[c]) > ALWAYS]
    stand = bool(silent) and may_stand(exam, silent)
    for corner in exam.log.corners:
        seconds = exam.usable.dead[corner]
        # what comes back is a break (`find_breaks`)
        if seconds <= 0.0 or exam.usable.gone[corner].size:
            continue
        share = exam.share(seconds)
        since = exam.usable.dead_since[corner]
        awake = exam.usable.dead_awake[corner]
        confidence = 0.99 * ratio_odds(awake, EVEN_DEAD_S, 3.0)
        always = corner in silent
        top = float(np.max(exam.usable.vehicle))
        asleep = always and top < SLOW_DRIVE
        when = f"for {seconds:.0f} s, from {since:.0f} s into the log on"
        if always:
            when = "all the time" if share > NEARLY else "nearly all the time"
        found.append(
            Finding(
                Fault.NO_SIGNAL,
                (corner,),
                confidence,
                f"The {corner.words} corner reads zero {when} while "
                + (_not_turned(exam, silent) if stand and always else DRIVES + _too_slow(top) * asleep),
                {
                    "share_of_driving": round(share, 3),
                    "seconds": round(seconds, 1),
                    AWAKE: round(awake, 1),
                    "since_s": round(since, 1),
                }
                | ({"or": NOT_TURNED} if stand and always else {"or": Fault.AIR_GAP.value} if asleep else {}),
            )
        )
    for corner in exam.log.corners:
        made = made_of_others(exam, corner)
        if made is not None and not exam.usable.frozen[corner]:
            found.append(_made(exam, corner, made))
    return found


def _not_turned(exam: Examination, silent: Sequence[Corner]) -> str:
    turn = [c.words for c in exam.log.corners if c not in silent]
    return (
        f"only {' and '.join(turn)} turn{'s' if len(turn) == 1 else ''}. Either a sensor, ring, wire or control unit "
        "is dead, or nothing turned this wheel, as on rollers or stands: log a drive with bends to tell."
    )


def _too_slow(top: float) -> str:
    return (
        f" Nor whether the gap is so large that the sensor has not woken at {top * 3.6:.0f} km/h, the highest speed "
        f"driven: drive faster than {SLOW_DRIVE * 3.6:.0f} km/h to tell."
    )


def _made(exam: Examination, corner: Corner, made: Made) -> Finding:
    usable = exam.usable
    moves = (usable.vehicle > MOVING) & (usable.grid >= made.since)
    moving = round(float(np.count_nonzero(moves)) * GRID_STEP if made.since else usable.moving, 1)
    when = f"from {made.since:.0f} s into the log on" if made.since else "all the time"
    return Finding(
        Fault.NO_SIGNAL,
        (corner,),
        MADE_PROVES,
        f"The {corner.words} corner has no reading of its own: {when} the control unit shows {made.way}. "
        "The log cannot say which link is dead: sensor, ring, wire or control unit."
        + (" Or one signal stands under both names: look at the columns of the log first." if made.way == MATE else ""),
        {
            HELD: 1,
            "share_of_driving": round(exam.share(moving), 3),
            "seconds": moving,
            AWAKE: moving,
            "since_s": round(made.since, 1),
        },
    )


def find_frozen(exam: Examination) -> list[Finding]:
    """One unchanged or invalid value while the others change."""
    found = []
    for corner in exam.log.corners:
        seconds = exam.usable.frozen[corner]
        proved = seconds > 0.0 and proves_stuck(exam, corner)
        one = None if proved else keeps_to_one_value(exam, corner)
        if one is not None:
            found.append(_kept(corner, one))
            continue
        if seconds <= 0.0:
            continue
        value = exam.usable.stuck_at[corner]
        standing = exam.usable.stuck_standing[corner]
        raw = 0.99 * ratio_odds(seconds, EVEN_FROZEN_S, 3.0)
        found.append(
            Finding(
                Fault.FROZEN,
                (corner,),
                max(raw, STANDING_PROVES) if proved else raw,
                _sentence(corner, value, seconds, standing if proved else 0.0),
                {
                    "share_of_driving": round(exam.share(seconds), 3),
                    "seconds": round(seconds, 1),
                    "value_kmh": None if math.isnan(value) else round(value * 3.6, 2),
                }
                | ({STANDING: round(standing, 1)} if proved else {}),
            )
        )
    return found


def _kept(corner: Corner, one: OneValue) -> Finding:
    kmh = one.value * 3.6
    return Finding(
        Fault.FROZEN,
        (corner,),
        STANDING_PROVES,
        f"The {corner.words} corner stands still at {kmh:.1f} km/h whenever the others are near that, for "
        f"{one.seconds:.0f} s in all; else the control unit shows what it makes of the others.",
        {
            HELD: one.samples,
            "seconds": round(one.seconds, 1),
            "since_s": round(one.since, 1),
            "value_kmh": round(kmh, 2),
        },
    )


def _sentence(corner: Corner, value: float, seconds: float, standing: float) -> str:
    if math.isnan(value) or value > ABSURD:
        what = 'shows the control unit\'s "no valid value"'
        if not math.isnan(value):
            what += f" ({value * 3.6:.2f} km/h)"
    else:
        what = f"stands still at {value * 3.6:.1f} km/h"
    too = f", and for {standing:.0f} s while all others stand," if standing else ""
    return f"The {corner.words} corner {what} for {seconds:.0f} s of driving{too} and follows nothing."
