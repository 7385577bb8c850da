"""From raw confidences to probabilities that can be trusted.

Each file of this package turns evidence into a raw confidence by physics and plain
formulas. How often such a confidence is right, beside what else the log shows, is learnt
from simulated drives. Kinds whose evidence has many faces (rings, noise, breaks, gaps, sizes,
crossed leads) have small boosted trees over the evidence of the corner (`evidence`); silence and
frozen values one logistic regression each (Platt 1999, "Probabilistic outputs for support
vector machines"; from memory) on a handful of features with a meaning. What a ring, a sensor and a lead can have
is learnt as rivals, one of which a corner has at most: the tyre is another's question. All are data
(`nodrek/knowledge/calibration.json`), made by `make train`.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from nodrek.core.model import Array, Corner, Fault, Finding
from nodrek.core.model.learnt import SOUND, Calibration, logistic
from nodrek.core.verdict.breaks import CAME_BACK
from nodrek.core.verdict.clean_between import breaks_between_right_turns, less_likely
from nodrek.core.verdict.crossed import BY_SCALE
from nodrek.core.verdict.dead import AWAKE, SLOW_DRIVE, STANDING
from nodrek.core.verdict.evidence import EVIDENCE, corner_evidence
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.heals import less_likely_lost
from nodrek.core.verdict.held import HELD
from nodrek.core.verdict.log_kind import coarseness, shortness, slowness
from nodrek.core.verdict.noise import RISING
from nodrek.core.verdict.not_turned import NOT_TURNED
from nodrek.core.verdict.odds import logit
from nodrek.core.verdict.one_speed import PASSAGES
from nodrek.core.verdict.ring import SMOOTH_SWING, TOLERATED_SWING, dips_at_one_place
from nodrek.core.verdict.spin import CONFIDENCE_UNKNOWN
from nodrek.core.verdict.whole_edges import loses_several_at_once

FEATURES = (
    "one",
    "raw",  # logit of the raw confidence
    "strong",  # the part of it above 0.9
    "slow",  # decades by which the log is slower than 50 samples a second
    "raw_slow",
    "rival_here",  # strongest other kind at these corners, logit
    "rival_over",  # by how much it is stronger
    "same_elsewhere",  # same kind at other corners
    "loud_elsewhere",  # any kind at other corners
    "short",  # decades by which the driving is shorter than three minutes
    "coarse",  # step of the values, decades over 0.05 km/h
    "proof",  # evidence of the kind itself, see `_proof`
    "proof_slow",
)
SAME_TREES = {Fault.RING_COUNT: Fault.TYRE_SIZE}
"""Both are one odd ratio; its size says which of them it is called."""
ODD_RATIO = (Fault.TYRE_SIZE, Fault.RING_COUNT)
"""Faults that do not come and go, so that a ratio which changes says more than they do."""
SILENCE = (Fault.NO_SIGNAL, Fault.FROZEN)
NOTHING = -4.6
"""Logit of a confidence of 0.01: not mentioned."""
HIGHEST, LOWEST = 0.995, 0.001
LARGEST_IN_DRIVES = 25.0
"""Per cent beyond which no drive that taught has a steady ratio: six teeth of 29 are 21."""
LOST_SAYS = 0.5
"""Share of a low ratio from which the samples that read low explain it."""
SILENT_DEPTH, LONG_S, LONG_SILENCES = -2.0, 0.5, 2
"""ln and seconds from which a dropout is a long silence, and how many of them a lead makes, or a gap: of drives of nine
worlds two are in 52 of 108 with breaks and in 17 of 36 with a gap, one in none of 120 with a noisy encoder, 68 with a
ring out of centre and 108 sound ones."""
RISES_PROVE = 0.5
"""Raw confidence from which readings that are too high again and again prove edges that are none: of 6,056 drives of
eleven worlds 23 corners had more, all of them with such edges, and none of 17,757 sound ones (a lost tooth behind a
limited slope came to more as well, which is why locked rings have no such evidence)."""
UNLIKE_SILENCE = {Fault.ENCODER_NOISE.value: 0.05, Fault.RING_RUNOUT.value: 0.05, SOUND: 0.05}
IN_EVERY_TURN = (Fault.RING_DAMAGE.value, Fault.RING_RUNOUT.value, Fault.ENCODER_NOISE.value, SOUND)
"""Rivals that do not leave most turns right and take others on end."""
AT_ANY_PLACE, AGREES_BY_ACCIDENT = (Fault.ENCODER_NOISE.value, SOUND), 0.05
"""Rivals whose dips know no place of the turn and lack single edges, and how likely they are all the same (own
estimate: none was seen)."""
SEVERAL_BY_ACCIDENT = 0.01
"""How likely they are where readings lack several edges at a time (none of 210 drives with a bad encoder does)."""
AT_ANY_SPEED = (Fault.RING_DAMAGE.value, Fault.INTERMITTENT.value)
"""Rivals that lose as much at any speed."""
UNTOLD_AT, UNTOLD = (4.0, SLOW_DRIVE), (0.55, 0.8)
"""Most that is said of silence which may be a sensor that has not woken yet (`find_dead`), by the highest speed of the
drive, m/s: of ten drives of four worlds that were never faster than 6.4 m/s six had a gap, four a dead corner."""


def calibrated(findings: Sequence[Finding], exam: Examination, calibration: Calibration) -> list[Finding]:
    """The findings with probabilities in place of raw confidences; same order."""
    out = []
    known: dict[Corner, dict[Fault, float]] = {}
    # what is proved without them leaves its rivals at the same corner little (leads are nobody's rival)
    proved = {
        c: f.confidence for f in findings if _proves_itself(f) and f.fault is not Fault.CROSSED for c in f.corners
    }
    weighed = [f if _proves_itself(f) else _weighed(f, findings, exam, calibration) for f in findings]
    silences = [f for f in weighed if f.fault in SILENCE]
    for finding, by_weights in zip(findings, weighed, strict=True):
        kind = SAME_TREES.get(finding.fault, finding.fault)
        if _proves_itself(finding) or _nothing_else_makes(finding, exam):
            out.append(finding)
        elif kind in calibration.grown and (len(finding.corners) == 1 or kind is Fault.CROSSED):
            corner = finding.corners[0]
            if corner not in known:
                row = corner_evidence(exam, corner, findings).tolist()
                silent = max((f.confidence for f in silences if corner in f.corners), default=0.0)
                known[corner] = calibration.probabilities(
                    dict(zip(EVIDENCE, row, strict=True)), silent, _unlike(exam, corner)
                )
            left = 1.0 - proved.get(corner, 0.0) if kind.value in calibration.rivals.sums else 1.0
            out.append(replace(finding, confidence=_within(left * known[corner][kind] * _beyond_tolerance(finding))))
        else:
            out.append(by_weights)
    return _one_of_two(out) if len(exam.compared) == 2 else out


def _one_of_two(findings: list[Finding]) -> list[Finding]:
    """Of two corners that have nobody else to be compared with, only one is the odd one."""
    odd = [f for f in findings if f.fault in ODD_RATIO and len(f.corners) == 1]
    total = sum(f.confidence for f in odd)
    return [replace(f, confidence=f.confidence / total) if f in odd and total > 1.0 else f for f in findings]


def _proves_itself(finding: Finding) -> bool:
    """Whether nothing sound, and no other fault, makes such evidence, whatever trees were taught."""
    if RISING in finding.evidence:
        return finding.confidence >= RISES_PROVE
    return not {HELD, STANDING, PASSAGES, CAME_BACK, BY_SCALE}.isdisjoint(finding.evidence)


def _unlike(exam: Examination, corner: Corner) -> dict[str, float]:
    """By how much less likely some rivals are than trees know, by their names."""
    out = dict(UNLIKE_SILENCE) if _falls_silent(exam, corner) else {}
    breaks = breaks_between_right_turns(exam, corner)
    if breaks:
        out |= {name: less_likely(breaks) * out.get(name, 1.0) for name in IN_EVERY_TURN}
    elif loses_several_at_once(exam, corner):
        out |= {name: SEVERAL_BY_ACCIDENT * out.get(name, 1.0) for name in AT_ANY_PLACE}
    elif dips_at_one_place(exam, corner):
        out |= {name: AGREES_BY_ACCIDENT * out.get(name, 1.0) for name in AT_ANY_PLACE}
    lost = less_likely_lost(exam, corner)
    if lost < 1.0:
        out |= {name: lost * out.get(name, 1.0) for name in AT_ANY_SPEED}
    return out


def _falls_silent(exam: Examination, corner: Corner) -> bool:
    """Whether nothing is read for long at speed, and again: dirt, a ring out of centre and a sound corner read
    something."""
    seen = exam.dropouts.get(corner)
    if seen is None:
        return False
    long = (seen.depth < SILENT_DEPTH) & (seen.seconds > LONG_S) & ~seen.braking
    return int(np.count_nonzero(long)) >= LONG_SILENCES


def _weighed(finding: Finding, findings: Sequence[Finding], exam: Examination, calibration: Calibration) -> Finding:
    """The finding by the regression of its kind; as it is where its kind has none, or it names two corners."""
    weights = calibration.weights.get(finding.fault)
    if weights is None or len(finding.corners) > 1:
        return finding
    weighed = [weights.get(name, 0.0) for name in FEATURES]
    score = float(np.dot(weighed, features(finding, findings, exam)))
    most, other = HIGHEST, finding.evidence.get("or") if finding.fault is Fault.NO_SIGNAL else None
    if other == NOT_TURNED:
        most = CONFIDENCE_UNKNOWN
    elif other == Fault.AIR_GAP:
        most = float(np.interp(np.max(exam.usable.vehicle), UNTOLD_AT, UNTOLD))
    return replace(finding, confidence=min(most, _within(logistic(score))))


def _nothing_else_makes(finding: Finding, exam: Examination) -> bool:
    """Whether a ratio is so far off that only the number of teeth can be wrong: steadily, as edges that are lost from
    sample to sample may take as much (a unit that repeats its last period reads half for most of a turn)."""
    if finding.fault is not Fault.RING_COUNT or abs(finding.evidence["difference_percent"]) <= LARGEST_IN_DRIVES:
        return False
    lost = exam.lost.get(finding.corners[0])
    return lost is None or lost.change > LOST_SAYS * math.log1p(finding.evidence["difference_percent"] / 100.0)


def _beyond_tolerance(finding: Finding) -> float:
    """Less than 1 for a swing that new rings have as well, however sure it is that it is there."""
    if finding.evidence.get("pattern") != SMOOTH_SWING:
        return 1.0
    return float(min(1.0, (finding.evidence["swing_percent"] / (100.0 * TOLERATED_SWING)) ** 2))


def _within(probability: float) -> float:
    return max(LOWEST, min(HIGHEST, probability))


def features(finding: Finding, findings: Sequence[Finding], exam: Examination) -> Array:
    """What the probability of one finding is worked out from; shape (len(FEATURES),)."""
    corners = set(finding.corners)
    raw = _logit(finding.confidence)
    here = [_logit(f.confidence) for f in findings if f.fault is not finding.fault and corners & set(f.corners)]
    same = [_logit(f.confidence) for f in findings if f.fault is finding.fault and not corners & set(f.corners)]
    loud = [_logit(f.confidence) for f in findings if not corners & set(f.corners)]
    channels = [exam.log.channels[c] for c in exam.log.corners]
    rate = float(np.median([c.rate for c in channels]))
    slow = slowness(rate)
    rival = max(here, default=NOTHING)
    proof = _proof(finding)
    return np.array(
        [
            1.0,
            raw,
            max(0.0, raw - 2.2),
            slow,
            raw * slow,
            rival,
            max(0.0, rival - raw),
            max(same, default=NOTHING),
            max(loud, default=NOTHING),
            shortness(exam.usable.moving),
            coarseness(float(np.median([c.quantum for c in channels]))),
            proof,
            proof * slow,
        ]
    )


def _proof(finding: Finding) -> float:
    """One number that says how plain the evidence is, about 0 where it is poor and 1 to 3 where it is plain."""
    said = finding.evidence
    match finding.fault:
        case Fault.NO_SIGNAL:
            return min(3.0, math.log10(1.0 + float(said[AWAKE])))
        case Fault.FROZEN:
            return min(3.0, math.log10(1.0 + float(said["seconds"])))
    return 0.0


def _logit(p: float) -> float:
    return logit(p, 0.01)
