"""Steady ratios: one odd tyre, or an axle that differs from the other."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from nodrek.core.model import Array, Corner, Fault, Finding
from nodrek.core.motion.ratios import CALM, RatioEstimate, centred
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.explain import ANOTHER_UNIT, LARGEST_BY_TYRE, NATURAL_SPREAD, explain, ring_share
from nodrek.core.verdict.odds import WORTH_WEIGHING, passes

WORTH_SAYING = 0.0040
"""Relative difference of one tyre that sound sets stay under (common practice: equal tyres,
equal pressure differ by up to some 0.3 %)."""
AXLE_WORTH_SAYING = 0.013
"""Axles differ honestly: wear alone makes up to 3 % between new and worn out."""
AXLE_FROM, AXLE_SECONDS, AXLE_STEADY_S = 7.0, 20.0, 12.0
"""m/s, seconds above it and steady seconds among them from which axles are compared: where all driving is manoeuvring,
front wheels run on larger circles than rear ones nearly all the time, by more than tyres differ."""
ALL_WORTH_SAYING, ALL_SPREAD = 0.022, 0.002
"""All four against an independent speed: control units expect a nominal circumference, and
sound sets of permitted sizes, new and worn, differ from it by up to some 2 % (common practice)."""
SPREAD = 0.0005
AXLE_SHARE = 0.6
"""Chance that a difference is wear of an axle, before looking; the rest belongs to the four corners."""
LARGEST_BY_WEAR, BEYOND_WEAR = 0.035, 0.1
"""New against worn out is some 3 % (common practice); how much rarer axles that differ by more are."""
SURE_SIGMAS, AXLE_SURE_SIGMAS = 2.5, 3.0
"""Errors of a ratio that a difference must be larger by; sound axles differ by more of their own."""
LARGEST_BY_DAMAGE = 0.036
"""One edge lost of 29, the coarsest ring in use."""
LOSSY_FROM, LEAST_LEFT, WORTH_LOSING = 0.5, 3, 0.003
"""Confidence from which a corner loses edges; how many others can say which is odd; loss in its ratio from which it is
left out, more than sound tyres differ by."""
SMEARED = 2.5
"""The loss may be so many times the area of its dip, where a long window smears that over the turn."""


@dataclass(frozen=True)
class _Pattern:
    corners: tuple[Corner, ...]
    size: float
    sigma: float
    share: float
    """Chance that it is this set of corners, given that it is one of those looked at."""


@dataclass(frozen=True)
class Contrasts:
    """ln ratios of four corners as differences between axles and between sides.

    One odd corner shows a third of its own ratio in each, and in the diagonal; wear of an axle shows in
    ``axle`` alone.
    """

    axle: float
    side: float


def find_tyre(exam: Examination, damage: Mapping[Corner, float], noise: Mapping[Corner, float]) -> list[Finding]:
    """`damage`: confidence by corner that edges are lost there (ring, encoder, wire).

    A lost edge lowers the ratio by its share of the ring, a crack that squeezes the other
    teeth together may raise it; a ratio within that is no second fault. `noise`: the same for
    corners that lose edges all the time: no ratio means anything there. The others are compared without the
    corner that loses edges most surely and reads low for it.
    """
    lossy = lossy_corner(exam.ratios, {c: max(damage.get(c, 0.0), noise.get(c, 0.0)) for c in exam.ratios})
    found = []
    for pattern in likely_patterns(exam.ratios):
        if lossy is None or pattern.corners == (lossy,):
            found += _finding(exam, pattern, damage, noise)
    if lossy is not None:
        damage, quiet = ({c: p for c, p in of.items() if c is not lossy} for of in (damage, noise))
        for pattern in likely_patterns(_without(exam.ratios, lossy), by_three=True):
            found += _finding(exam, pattern, damage, quiet)
    return found


def lossy_corner(ratios: Mapping[Corner, RatioEstimate], losing: Mapping[Corner, float]) -> Corner | None:
    """The corner that loses edges most surely, by the confidence that it does, where its ratio shows that.

    ``None`` where no corner is likely to, where too few are left to say which of them is odd, and where its ratio is
    not below those of two others (one may be odd itself): many units lose edges without losing any distance.
    """
    worst = max(losing, key=lambda c: losing[c], default=None)
    if worst is None or losing[worst] < LOSSY_FROM or len(ratios) <= LEAST_LEFT:
        return None
    limit = ratios[worst].log_ratio + max(WORTH_LOSING, SURE_SIGMAS * ratios[worst].sigma)
    return worst if sum(r.log_ratio > limit for r in ratios.values()) >= 2 else None


def may_lower_ratio(exam: Examination, finding: Finding) -> bool:
    """Whether what is found may be what makes the ratio of its corner low: breaks where they take more from it than
    sound tyres differ by, which is seen; lost edges always, since units smear them."""
    if finding.fault is not Fault.INTERMITTENT:
        return True
    lost = exam.lost.get(finding.corners[0])
    return lost is not None and -lost.change >= WORTH_LOSING


def _without(ratios: Mapping[Corner, RatioEstimate], left_out: Corner) -> dict[Corner, RatioEstimate]:
    """The other corners' ratios, among themselves."""
    return centred({c: r for c, r in ratios.items() if c is not left_out})


def ratios_beside(
    ratios: Mapping[Corner, RatioEstimate], lossy: Corner | None, corner: Corner
) -> Mapping[Corner, RatioEstimate]:
    """What is known of an odd `corner` where the ratio of `lossy` says nothing: its axle's mate speaks for it, or
    nobody, where that is the corner itself."""
    if lossy is None:
        return ratios
    if lossy.mate is corner or lossy.mate not in ratios:
        return _without(ratios, lossy)
    return centred({**ratios, lossy: ratios[lossy.mate]})


def _axles_compare(exam: Examination) -> bool:
    """Whether the drive is long enough at speed, some of it steady, to tell axles from bends and slip."""
    blocks = exam.blocks
    if blocks is None:
        return False
    fast = blocks.speed > AXLE_FROM
    steady = fast & (np.abs(blocks.acceleration) < CALM)
    fast_s, steady_s = (blocks.block_s * np.count_nonzero(which) for which in (fast, steady))
    return bool(fast_s >= AXLE_SECONDS and steady_s >= AXLE_STEADY_S)


def _finding(
    exam: Examination, pattern: _Pattern, damage: Mapping[Corner, float], noise: Mapping[Corner, float]
) -> list[Finding]:
    axle = len(pattern.corners) == 2
    if axle and not _axles_compare(exam):
        return []
    limit = AXLE_WORTH_SAYING if axle or _may_be_its_axle(exam, pattern.corners[0]) else WORTH_SAYING
    confidence = 0.98 * passes(abs(pattern.size), limit, math.hypot(pattern.sigma, SPREAD))
    confidence *= _is_measured(pattern.size, pattern.sigma, AXLE_SURE_SIGMAS if axle else SURE_SIGMAS) * pattern.share
    if abs(pattern.size) < LARGEST_BY_DAMAGE or 0.0 < -pattern.size < _lost_share(exam, pattern.corners):
        confidence *= 1.0 - max((damage.get(c, 0.0) for c in pattern.corners), default=0.0)
    confidence *= 1.0 - max((p for c, p in noise.items() if c in exam.ratios), default=0.0)
    if confidence < WORTH_WEIGHING:
        return []
    return [_axle_finding(pattern, confidence) if axle else _corner_finding(exam, pattern, confidence)]


def _may_be_its_axle(exam: Examination, corner: Corner) -> bool:
    """Whether only the other axle has a say about this corner: its own may be worn as a whole."""
    return corner.mate not in exam.ratios


def _corner_finding(exam: Examination, pattern: _Pattern, confidence: float) -> Finding:
    change = 100.0 * math.expm1(pattern.size)
    explanations = explain(pattern.size, pattern.sigma, exam.vehicle.teeth)
    by_ring = ring_share(explanations)
    told = f"The {pattern.corners[0].words} wheel turns {abs(change):.2f} % {_faster(change)} than the others say"
    smaller = "smaller or more worn" if change > 0 else "larger or less worn"
    evidence = _interval(pattern) | {
        "explanations": [
            {"fault": e.fault.value, "what": e.words, "share": round(e.share, 2)} for e in explanations
        ]
    }  # fmt: skip
    if abs(change) > 100.0 * LARGEST_BY_TYRE:
        why = "too much for a tyre, so the ring has another number of teeth than the control unit expects."
        if any(e.words == ANOTHER_UNIT for e in explanations):
            why += " Or this corner alone is logged in another unit: look at its column first."
        return Finding(Fault.RING_COUNT, pattern.corners, confidence, f"{told}: {why}", evidence)
    if by_ring > 0.5:
        why = f"the ring has another number of teeth than the control unit expects, or the tyre is {smaller}."
        evidence |= {"or": Fault.TYRE_SIZE.value}
        return Finding(Fault.RING_COUNT, pattern.corners, confidence, f"{told}, steadily: {why}", evidence)
    why = f"the tyre is {smaller}."
    if by_ring > 0.0:
        why = f"the tyre is {smaller}, or the ring has another number of teeth."
        evidence |= {"or": Fault.RING_COUNT.value}
    return Finding(Fault.TYRE_SIZE, pattern.corners, confidence, f"{told}, steadily: {why}", evidence)


def _axle_finding(pattern: _Pattern, confidence: float) -> Finding:
    """One axle against the other: which of them is the odd one, ratios cannot say. Wear is the usual reason,
    and a worn tyre turns faster, so the faster axle is named and the other one put beside it."""
    front, rear = pattern.corners, tuple(c for c in Corner if not c.is_front)
    named, other = (front, rear) if pattern.size > 0 else (rear, front)
    who, mates = ("front", "rear") if named == front else ("rear", "front")
    swapped = pattern if named == front else _Pattern(named, -pattern.size, pattern.sigma, pattern.share)
    change = 100.0 * math.expm1(swapped.size)
    return Finding(
        Fault.TYRE_SIZE, named, confidence,
        f"The {who} wheels turn {change:.2f} % faster than the {mates} ones say, steadily: "
        f"the {who} tyres are smaller or more worn, or the {mates} ones larger.",
        {**_interval(swapped), "or": [c.value for c in other]},
    )  # fmt: skip


def _interval(pattern: _Pattern) -> dict[str, object]:
    change = 100.0 * math.expm1(pattern.size)
    return {
        "difference_percent": round(change, 3),
        "difference_low_percent": round(change - 196.0 * pattern.sigma, 3),
        "difference_high_percent": round(change + 196.0 * pattern.sigma, 3),
    }


def _faster(change: float) -> str:
    return "faster" if change > 0 else "slower"


def find_all_four(exam: Examination) -> list[Finding]:
    """All tyres of one odd size: only an independent speed can tell."""
    overall = exam.overall
    if overall is None:
        return []
    confidence = 0.98 * passes(abs(overall.log_ratio), ALL_WORTH_SAYING, math.hypot(overall.sigma, ALL_SPREAD))
    confidence *= _is_measured(overall.log_ratio, overall.sigma)
    if confidence < WORTH_WEIGHING:
        return []
    change = 100.0 * math.expm1(overall.log_ratio)
    low, high = overall.interval
    faster, size = ("more", "smaller or more worn") if change > 0 else ("less", "larger")
    return [
        Finding(
            Fault.TYRE_SIZE, exam.log.corners, confidence,
            f"All corners together read {abs(change):.1f} % {faster} than the independent speed: "
            f"all tyres are {size} than the control unit expects.",
            {
                "difference_percent": round(change, 3),
                "difference_low_percent": round(100.0 * (low - 1.0), 3),
                "difference_high_percent": round(100.0 * (high - 1.0), 3),
                "against": "reference",
            },
        )
    ]  # fmt: skip


def _lost_share(exam: Examination, corners: tuple[Corner, ...]) -> float:
    """Largest part of a turn that low arcs at these corners may take from the ratio."""
    rings = [exam.rings[c] for c in corners if c in exam.rings]
    return SMEARED * max((sum(a.area for a in r.arcs) for r in rings), default=0.0)


def could_measure(exam: Examination, corner: Corner, size: float) -> float:
    """Chance that a ratio off by `size` at this corner would have been reported."""
    if corner not in exam.ratios:
        return 0.0
    sigma = exam.ratios[corner].sigma * 4.0 / 3.0
    limit = AXLE_WORTH_SAYING if _may_be_its_axle(exam, corner) else WORTH_SAYING
    return passes(size, limit, sigma) * _is_measured(size, sigma)


def _is_measured(size: float, sigma: float, sigmas: float = SURE_SIGMAS) -> float:
    """Doubt about a difference that is not well above its own error: most tyres are sound."""
    return passes(abs(size) / max(sigma, 1e-9), sigmas, 0.6)


def likely_patterns(ratios: Mapping[Corner, RatioEstimate], by_three: bool = False) -> list[_Pattern]:
    """One corner, or the front axle, that explains the ratios: likeliest first, hopeless ones left out.

    `by_three`: one of four is left out; the mate of it may be odd, or stand for a worn axle.

    Normal law of what a pattern leaves over, with the errors of the ratios and the differences
    of sound tyres as its width.
    """
    corners = tuple(ratios)
    if len(corners) < 2:
        return []
    rho = np.array([ratios[c].log_ratio for c in corners])
    sigma = max(ratios[c].sigma for c in corners)
    shapes: list[tuple[tuple[Corner, ...], Array, float]] = [
        ((c,), np.array([float(k is c) for k in corners]), (1.0 - AXLE_SHARE) / len(corners)) for c in corners
    ]
    if len(corners) == 4 or by_three:
        front = tuple(c for c in Corner if c.is_front)
        shapes.append((front, np.array([float(c.is_front) for c in corners]), AXLE_SHARE))
    width = math.hypot(sigma, NATURAL_SPREAD)
    fits, weights = [], []
    for who, shape, prior in shapes:
        centred = shape - shape.mean()
        norm = float(centred @ centred)
        size = float(centred @ rho) / norm
        rest = rho - size * centred
        is_beyond_wear = len(who) > 1 and abs(size) > LARGEST_BY_WEAR
        # where one rounding stands for all of a cruise, both wheels of an axle share its error
        shared = 2.0 * max(ratios[c].sigma_of_axles for c in corners) if len(who) > 1 else 0.0
        fits.append((who, size, max(sigma / math.sqrt(norm), shared)))
        weights.append(math.log(prior * (BEYOND_WEAR if is_beyond_wear else 1.0)) - 0.5 * float(rest @ rest) / width**2)
    shares = np.exp(np.array(weights) - max(weights))
    shares /= shares.sum()
    found = [_Pattern(*fit, float(share)) for fit, share in zip(fits, shares, strict=True)]
    return sorted((p for p in found if p.share > WORTH_WEIGHING), key=lambda p: -p.share)


def contrasts(ratios: Mapping[Corner, RatioEstimate], corner: Corner) -> Contrasts:
    """ln, each with the sign of `corner`; both zero where not all four are known. See `Contrasts`."""
    if len(ratios) < 4:
        return Contrasts(0.0, 0.0)
    axle, side = (sum(c.signs[k] * corner.signs[k] * r.log_ratio for c, r in ratios.items()) / 4.0 for k in (0, 1))
    return Contrasts(axle, side)
