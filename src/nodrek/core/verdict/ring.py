"""Rings: teeth or poles lost (`ring_damage`), and a smooth swing once a turn (`ring_runout`).

A lost edge is a short, deep dip: at low speed all harmonics of the turn are about equally
strong, each 2/N for one edge of N. A ring out of centre is a pure first harmonic, and a
small one: half a per cent is a quarter of a millimetre on a ring of 50 mm radius.
"""

from __future__ import annotations

import math

import numpy as np

from nodrek.core.model import Arc, Corner, Fault, Finding, TurnResult
from nodrek.core.turns.fold import RingFold, healing, swing_at_any_speed
from nodrek.core.turns.lost import Losses
from nodrek.core.turns.phase import from_centre, resultant_length
from nodrek.core.turns.search import Weighing, fold_weights
from nodrek.core.verdict.examine import Examination, RingEvidence
from nodrek.core.verdict.held import HELD, Held, held_values
from nodrek.core.verdict.odds import passes, ratio_odds
from nodrek.core.verdict.rows import weak_in_slow_turns
from nodrek.core.verdict.weak_arc import is_waking, weak_arc, weak_arc_confidence

LOCKED_LOG_P = -12.0
"""ln of the false-alarm chance under which the deviations count as tied to the wheel."""
EVEN_DAMAGE = 0.008
"""Amplitude of the strongest low harmonic at which damage is as likely as a rough ring.
One edge of 100 gives 0.02; sound rings stay below 0.003 (common practice: pitch errors of a
few per cent of a pitch)."""
EVEN_RUNOUT = 0.0019
"""Once-a-turn amplitude that is as likely a fault as a sound ring on a sound tyre."""
TOLERATED_SWING = 0.001
"""Of a ring that is out of centre by five hundredths of a millimetre on a radius of 50 mm (common practice, no
published source)."""
EVEN_OVERTONES = 0.33
EVEN_SHORTFALL = 0.006
"""ln ratio by which a ring that lost an edge may read low (one edge of 100 is 0.01)."""
LEAK = 0.3
"""Share of the loudest ring's pattern that may be left in its mates' reference."""
LEAST_DIPS = 8
HELD_PROVES = 0.97
"""Of values that stand still at one place of the turn: nothing but the ring knows the angle."""
HEARD_FROM, UNHEARD_PROVES = 5.5, 0.6
"""m/s: in a drive that is never faster a part of the ring that stands back may be as silent as lost teeth; what is said
of these then (own estimate)."""
HEALED = 0.62
"""Share of the loss at low speed that is gone at higher speed, from which an arc counts as weak."""
DIP_SCORE, DIP_DEPTH = -4.0, -0.02
"""Noise units and ln deviation from which a single sample counts as a dip."""
LARGEST_RUNOUT = 0.028
SMOOTH_SWING = "smooth_swing"
"""Name of the pattern of a ring that is out of centre."""
MOVED = "moved_tooth"
"""As ``pattern`` of the evidence: a tooth is out of its place, and none is lost."""
ONE_PLACE = ((30.0, 0.65), (11.0, 0.88))
"""Nats of dips that begin at one place of the turn, and how well they agree, from which they do so for a reason: the
scale is chosen from some ten thousand, which is worth nine nats. (Of 3,477 corners of 870 drives 156 and 128 with a bad
ring, 1 and 6 others that break or sleep, none of 2,688 sound ones or of 204 with a noisy encoder.)"""
SURE_OF_NUMBER = 0.8
"""Chance of a number of lost edges from which it is said without its chance."""
EVEN_LOG_FACTOR, LOG_FACTOR_SPREAD = 2.5, 1.5
"""ln Bayes factor of "tied to the wheel" at which ring and chance are equally likely: most dips
of a log are no ring's."""
EVEN_STEADINESS, STEADINESS_SPREAD = 0.1, 0.06
"""Part of a swing that slower and faster driving must have in common."""
LEAST_WEAK = 0.02
"""Probability from which a weak arc is told without a ring that could be followed."""
SWINGS_ANYWAY = 0.5
"""Raw probability of a swing that needs no dips of a slow wheel to be told."""
NULL_FACTOR = 1.8
RUNOUT_NULL_FACTOR = 2.3
"""A pattern must be this much stronger than what the log makes of nothing."""


def find_ring_damage(exam: Examination) -> list[Finding]:
    """Dips at the same place of every turn; the number of lost edges is not asked yet (`losses`)."""
    found = []
    for corner, ring in exam.rings.items():
        if ring.fold is None or ring.scale is None:
            continue
        confidence = damage_confidence(exam, corner)
        # looking behind stand-ins costs as much as a ring: not where the dips themselves prove more
        held = held_values(exam, corner) if confidence < HELD_PROVES else None
        if held is not None and held.is_tied:
            heard = float(np.max(exam.usable.vehicle)) >= HEARD_FROM
            found.append(_hidden_damage(corner, held, HELD_PROVES if heard else UNHEARD_PROVES))
            continue
        # where a unit's window takes in most of a turn no arc stands out, and the trees know such rings as well
        deepest = ring.arcs[0].depth if ring.arcs else max(0.0, -float(np.nanmin(ring.fold.profile, initial=0.0)))
        seen, looked = turns_with_dip(exam, corner)
        found.append(
            Finding(
                Fault.RING_DAMAGE,
                (corner,),
                confidence,
                damage_words(exam, corner, Losses()),
                {
                    "turns_in_line": seen,
                    "turns_that_dip": looked,
                    "teeth_lost": None,
                    "dip_percent": round(100.0 * deepest, 1),
                    "metres_per_turn": round(1.0 / ring.scale.frequency, 3),
                    "log10_chance": round(ring.scale.log_p / math.log(10.0), 1),
                },
            )
        )
    return found


def damage_words(exam: Examination, corner: Corner, lost: Losses) -> str:
    """What is said of a ring that lost edges, with their number as far as it is known."""
    if lost.moved:
        return (
            f"The {corner.words} ring reads too high at the same place of every turn, and low beside it: a tooth or "
            f"pole is out of its place, bent or chipped, and none is lost. "
            f"{_how_often(*turns_with_dip(exam, corner))}"
        )
    return (
        f"The {corner.words} ring reads low at the same place of every turn: "
        f"{_teeth_words(lost)}, or a crack. {_how_often(*turns_with_dip(exam, corner))}"
    )


def _hidden_damage(corner: Corner, held: Held, confidence: float) -> Finding:
    """Lost edges that the control unit does not show, but it does so at one place of the turn."""
    assert held.scale is not None
    return Finding(
        Fault.RING_DAMAGE,
        (corner,),
        confidence,
        f"The {corner.words} ring loses edges at the same place of the turn: {held.count} times the control unit shows "
        f"{held.way} there instead of its own reading.",
        {
            HELD: held.count,
            "held_at_mates": held.mates,
            "teeth_lost": None,
            "metres_per_turn": round(1.0 / held.scale.frequency, 3),
            "log10_chance": round(held.scale.log_p / math.log(10.0), 1),
        },
    )


def find_runout(exam: Examination) -> list[Finding]:
    """A smooth once-a-turn swing, or an arc that is seen only by a fast wheel."""
    found = []
    loudest = {c: float(r.fold.harmonics[:4].max()) for c, r in exam.rings.items() if r.fold is not None}
    for corner, ring in exam.rings.items():
        leak = LEAK * max((size for c, size in loudest.items() if c is not corner), default=0.0)
        lost = damage_confidence(exam, corner)
        slow = weak_arc(exam, corner)
        weak = max(lost_edges(exam, corner) - lost, weak_in_slow_turns(exam, corner))
        smooth = _swings(exam, corner, ring, leak) * (1.0 - lost)
        if (ring.fold is None and weak < LEAST_WEAK) or (smooth < max(weak, SWINGS_ANYWAY) and is_waking(exam, corner)):
            continue
        confidence = 0.98 * max(smooth, weak)
        # where neither is likely by itself, a swing that new rings have as well is none that anyone would be told of
        seen = ring.fold is not None and ring.fold.swing >= TOLERATED_SWING
        swings = smooth >= (weak if seen else max(weak, weak_arc_confidence(slow)))
        evidence: dict[str, object] = {"pattern": SMOOTH_SWING if swings else "weak_arc"}
        if ring.fold is not None and ring.scale is not None:
            evidence["swing_percent"] = round(100.0 * ring.fold.swing, 3)
            evidence["metres_per_turn"] = round(1.0 / ring.scale.frequency, 3)
        if swings and ring.fold is not None:
            swing = ring.fold.swing
            told = (
                f"speed swings by ±{100 * swing:.2f} % once a turn, smoothly: the ring sits out of centre or is lifted."
            )
        else:
            evidence |= {"slow_spells_that_dip": slow.spells, "slow_spells": slow.looked}
            told = (
                "reading falls out on a part of the turn while the wheel is slow and comes back with speed: "
                "the ring stands back from the sensor there, lifted or bent."
            )
        found.append(Finding(Fault.RING_RUNOUT, (corner,), confidence, f"The {corner.words} {told}", evidence))
    return found


def _swings(exam: Examination, corner: Corner, ring: RingEvidence, leak: float) -> float:
    """Raw probability of a smooth swing over what may `leak` in from other rings."""
    folded, by_size = ring.fold, 0.0
    if folded is None or ring.scale is None:
        return 0.0
    if ring.scale.log_p <= LOCKED_LOG_P:
        by_size = ratio_odds(folded.swing, max(EVEN_RUNOUT, RUNOUT_NULL_FACTOR * folded.swing_null, leak), 8.0)
        by_size *= passes(swing_at_any_speed(exam.followed[corner], folded), EVEN_STEADINESS, STEADINESS_SPREAD)
    if ring.swing is not None:
        seen = passes(ring.swing.log_factor, EVEN_LOG_FACTOR, LOG_FACTOR_SPREAD)
        by_size = max(by_size, seen * ratio_odds(folded.swing, max(EVEN_RUNOUT, leak), 8.0))
    return by_size


def turn_result(exam: Examination, corner: Corner, arcs: tuple[Arc, ...]) -> TurnResult:
    """How the corner's deviations line up with its wheel, for the report, with the `arcs` of a ring called damaged."""
    ring = exam.rings.get(corner)
    if ring is None or ring.scale is None or ring.fold is None:
        return TurnResult()
    locked = ring.scale.log_p < LOCKED_LOG_P
    return TurnResult(locked, _strength(exam, corner, ring.fold), ring.scale.p_value, arcs)


def turns_with_dip(exam: Examination, corner: Corner) -> tuple[int, int]:
    """Of the turns that dip anywhere: how many dip at the deepest arc, and how many there are."""
    ring, motion = exam.rings[corner], exam.followed[corner]
    if ring.fold is None or not ring.arcs:
        return 0, 0
    arc = ring.arcs[0]
    turns = ring.fold.turns
    dips = motion.dips(DIP_SCORE, DIP_DEPTH) & ~np.isnan(turns)
    # turns counted from the far side of the ring, so that the arc is never cut in two
    number = np.floor(turns[dips] - arc.centre + 0.5).astype(np.int64)
    if not number.size:
        return 0, 0
    off = np.abs(from_centre(turns[dips], arc.centre))
    at_place = np.unique(number[off < arc.width / 2 + 0.04])
    return int(at_place.size), int(np.unique(number).size)


def damage_confidence(exam: Examination, corner: Corner) -> float:
    """Raw probability of lost teeth: by the size of what repeats, or by single dips that know the angle."""
    ring = exam.rings.get(corner)
    if ring is None:
        return 0.0
    return lost_edges(exam, corner) * (1.0 - _heals(exam, corner, ring))


def lost_edges(exam: Examination, corner: Corner) -> float:
    """Raw probability that edges are lost at one place of the turn, for ever or only while it is slow."""
    ring = exam.rings.get(corner)
    if ring is None or ring.fold is None or ring.scale is None:
        return 0.0
    by_size = _by_size(exam, corner, ring, ring.fold) if ring.scale.log_p <= LOCKED_LOG_P else 0.0
    factors = [ring.track.log_factor] if ring.track else []
    if ring.shapes is not None and ring.shapes.pulse > ring.shapes.swing:
        factors.append(ring.shapes.pulse)
    by_following = 0.99 * passes(max(factors), EVEN_LOG_FACTOR, LOG_FACTOR_SPREAD) if factors else 0.0
    return max(by_size, by_following)


def healed_share(exam: Examination, corner: Corner, ring: RingEvidence) -> tuple[float, float] | None:
    """Of what is lost at the first arc at low speed, the share that is gone at higher speed, and its 1 sigma."""
    if ring.fold is None or not ring.arcs:
        return None
    seen = healing(exam.followed[corner], ring.fold, ring.arcs[0])
    if seen is None or seen.slow <= 2.0 * seen.slow_sigma:
        return None
    # a long window smears the dip over the whole turn, and then only the ratio still shows the loss
    left = max(seen.fast, shortfall(exam, corner)) / seen.slow
    return 1.0 - left, math.hypot(seen.fast_sigma, left * seen.slow_sigma) / seen.slow


def _heals(exam: Examination, corner: Corner, ring: RingEvidence) -> float:
    """Probability that what is lost at an arc comes back with speed: a weak arc, no lost tooth."""
    healed = healed_share(exam, corner, ring)
    return 0.0 if healed is None else passes(healed[0], HEALED, math.hypot(healed[1], 0.12))


def _by_size(exam: Examination, corner: Corner, ring: RingEvidence, folded: RingFold) -> float:
    low = folded.harmonics[:4]
    strongest = float(low.max())
    if not ring.arcs or strongest <= 0.0:
        return 0.0
    # units that count edges lose the missing share of the ratio too, and hide the dip more
    counted = ratio_odds(shortfall(exam, corner), EVEN_SHORTFALL, 4.0)
    even = EVEN_DAMAGE * (1.0 - 0.6 * counted)
    size = ratio_odds(strongest, max(even, NULL_FACTOR * folded.null), 5.0)
    # a pulse has overtones as strong as its first harmonic; averaging takes them away
    overtones = float(low[1:].max()) / strongest
    pulse = ratio_odds(overtones, EVEN_OVERTONES, 5.0)
    # as it is read: what a filter is thought to have been given is no measure of a smooth swing, which looks like one
    large = ratio_odds(min(strongest, folded.swing), LARGEST_RUNOUT, 8.0)
    looks_like_pulse = 1.0 - (1.0 - pulse) * (1.0 - counted) * (1.0 - large)
    return 0.995 * size * looks_like_pulse


def shortfall(exam: Examination, corner: Corner) -> float:
    """How much lower (ln, 0 at least) the corner reads than the middle one of the others."""
    others = [r.log_ratio for c, r in exam.ratios.items() if c is not corner]
    if corner not in exam.ratios or not others:
        return 0.0
    return max(0.0, float(np.median(others)) - exam.ratios[corner].log_ratio)


def dips_in_line(exam: Examination, corner: Corner) -> tuple[int, float]:
    """Deep dips, each counted where it begins: how many, and how well they agree on a place of the turn (0 to 1).

    On one place, or on two that stand across: the angle is asked, and twice the angle.
    """
    ring, motion = exam.rings.get(corner), exam.followed.get(corner)
    if ring is None or ring.fold is None or motion is None:
        return 0, 0.0
    begins = fold_weights(motion, Weighing(ring.fold.carried, dips_only=True)) != 0.0
    turns = ring.fold.turns[begins & ~np.isnan(ring.fold.turns)]
    return int(turns.size), max(resultant_length(turns, k) for k in (1, 2))


def dips_at_one_place(exam: Examination, corner: Corner) -> bool:
    """Whether deep dips agree on a place of the turn better than any accident makes them."""
    count, agree = dips_in_line(exam, corner)
    return any(count * agree**2 >= nats and agree >= at_least for nats, at_least in ONE_PLACE)


def _strength(exam: Examination, corner: Corner, folded: RingFold) -> float:
    """How well the angles of all samples that dip agree (0 scattered, 1 all at one place)."""
    motion = exam.followed[corner]
    with np.errstate(invalid="ignore"):
        dips = (motion.score < -4.0) & ~np.isnan(folded.turns)
    return resultant_length(folded.turns[dips])


def _how_often(seen: int, looked: int) -> str:
    if looked >= LEAST_DIPS and 2 * seen >= looked:
        return f"The dips line up with the wheel in {seen} of the {looked} turns that have one."
    return "Single turns are too coarse to show it; all turns laid over each other do."


def _teeth_words(lost: Losses) -> str:
    if lost.total is None:
        return "one or more teeth or poles lost"
    number = "one tooth or pole lost" if lost.total == 1 else f"about {lost.total} teeth or poles lost"
    return number if lost.chance >= SURE_OF_NUMBER else f"{number} ({100.0 * lost.chance:.0f} % sure of the number)"
