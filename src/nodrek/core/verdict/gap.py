"""Gap too large, signal too weak (`air_gap`): a corner that reads only above a speed of its own."""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np

from nodrek.core.model import Corner, Fault, Finding
from nodrek.core.motion.waking import Waking, wakes_of
from nodrek.core.verdict.asleep import Asleep, asleep_behind
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.held import HELD
from nodrek.core.verdict.odds import passes, ratio_odds
from nodrek.core.verdict.one_speed import PASSAGES, PROVES, Passages, dips_at_one_speed

WORTH_SAYING = 0.9
"""m/s by which a corner wakes later than its mates before it is worth a word: sound coil
sensors of one vehicle differ by less (common practice, no published source)."""
EVEN_CHANGES = 1.6
SECONDS_PER_CHANGE = 1.5
EVEN_SCATTER = 0.22
EVEN_UNEXPLAINED = 0.35
HIDDEN_PROVES = 0.95
"""Probability of a gap where a corner is made of the others below one speed, and above it is not."""


def gap_confidence(exam: Examination, corner: Corner) -> float:
    """Probability of a gap that is too large, before it is calibrated."""
    own = exam.waking[corner]
    late = lateness(exam, corner)
    changes = own.rises.size + own.falls.size
    if not changes or not math.isfinite(late):
        return 0.0
    size = late_enough(late, exam.log.channels[corner].rate, changes)
    same = 1.0 / (1.0 + (own.scatter / EVEN_SCATTER) ** 3)
    return 0.99 * size * seen_enough(changes, own.silent_below) * same * _explained(own)


def late_enough(late: float, rate: float, changes: int) -> float:
    """Probability that a corner seen to wake `late` m/s after its mates, at so many `changes`, is no sound one."""
    blur = math.hypot(0.25, 0.6 / max(rate, 0.1) / math.sqrt(changes))
    return passes(late, WORTH_SAYING, blur)


def seen_enough(changes: int, silent_s: float) -> float:
    """Doubt about few changes: one alone may be anything; seconds of silence while the mates read are not."""
    return ratio_odds(changes + silent_s / SECONDS_PER_CHANGE, EVEN_CHANGES, 2.0)


def lateness(exam: Examination, corner: Corner) -> float:
    """m/s by which the corner wakes later than the middle of its mates; NaN where it never sleeps."""
    own = exam.waking[corner].wake
    if not math.isfinite(own):
        return math.nan
    known = wakes_of(w for c, w in exam.waking.items() if c is not corner and c in exam.compared)
    return own - (float(np.median(known)) if known else 0.0)


def find_gaps(exam: Examination, damaged: Mapping[Corner, float]) -> list[Finding]:
    """Corners that wake up late and fall asleep early.

    `damaged`: how surely the ring of a corner is; what its dips agree with by accident proves no stand-in.
    """
    found = []
    for corner in exam.log.corners:
        hidden = asleep_behind(exam, corner)
        if hidden is not None:
            found.append(_hidden_gap(corner, hidden, HIDDEN_PROVES * (1.0 - damaged.get(corner, 0.0))))
            continue
        passages = dips_at_one_speed(exam, corner)
        if passages is not None:
            found.append(_passed(corner, passages, PROVES * (1.0 - damaged.get(corner, 0.0))))
            continue
        confidence = gap_confidence(exam, corner)
        late = lateness(exam, corner)
        if not math.isfinite(late):
            continue
        own = exam.waking[corner]
        mates = own.wake - late
        found.append(
            Finding(
                Fault.AIR_GAP,
                (corner,),
                confidence,
                f"The {corner.words} corner reads only above {own.wake * 3.6:.0f} km/h, the others from "
                f"{mates * 3.6:.0f} km/h on: the gap is too large or the signal too weak.",
                {
                    "wake_up_kmh": round(own.wake * 3.6, 2),
                    "falls_asleep_kmh": None if math.isnan(own.sleep) else round(own.sleep * 3.6, 2),
                    "mates_wake_up_kmh": round(mates * 3.6, 2),
                    "pull_aways": int(own.rises.size),
                    "stops": int(own.falls.size),
                },
            )
        )
    return found


def _hidden_gap(corner: Corner, hidden: Asleep, confidence: float) -> Finding:
    """A late wake-up that the control unit does not show."""
    return Finding(
        Fault.AIR_GAP,
        (corner,),
        confidence,
        f"The {corner.words} corner reads by itself only above {hidden.wake * 3.6:.0f} km/h: below, the control unit "
        f"shows {hidden.way}. The gap is too large or the signal too weak.",
        {HELD: hidden.samples, "wake_up_kmh": round(hidden.wake * 3.6, 2)},
    )


def _passed(corner: Corner, passages: Passages, confidence: float) -> Finding:
    """A late wake-up of which the control unit shows the passages only."""
    kmh = passages.wake * 3.6
    return Finding(
        Fault.AIR_GAP,
        (corner,),
        confidence,
        f"The {corner.words} corner reads low {passages.dips} times, always while it passes {kmh:.0f} km/h: below, the "
        "control unit shows something in its place. The gap is too large or the signal too weak.",
        {PASSAGES: passages.dips, "wake_up_kmh": round(kmh, 2)},
    )


def is_hidden(finding: Finding) -> bool:
    """Whether it is a gap below whose wake-up speed the control unit shows something else."""
    return finding.fault is Fault.AIR_GAP and not {HELD, PASSAGES}.isdisjoint(finding.evidence)


def _explained(own: Waking) -> float:
    """How much of what is silent, and of what reads, one wake-up speed explains."""
    odd = own.silent_above + own.awake_below
    share = odd / max(own.silent_below + odd, 1e-9)
    return 1.0 / (1.0 + (share / EVEN_UNEXPLAINED) ** 3)
