"""Leads exchanged between two corners (`crossed`)."""

from __future__ import annotations

from nodrek.core.model import Fault, Finding
from nodrek.core.motion.crossing import Crossing
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.odds import WORTH_WEIGHING, passes

EVEN_SIGMAS, SPREAD_SIGMAS = 1.1, 0.3
EVEN_AGAINST, SPREAD_AGAINST = 0.35, 0.08
"""One sound drive in two hundred is beyond 0.9 and 0.35 (three worlds of the benchmarks, the worst of them)."""
LEAST_BENDS = 0.3
"""How far bends stand out at both axles (noise: 1; 0.7 and more where scales tell it): a wheel that is shown in place
of its mate answers none."""
BY_SCALE, SCALES_PROVE = "against_at_all_scales", 0.96
"""Name of the evidence of bends at all scales of time, and how sure it is."""
SURE_SCALES, SURE_AGAINST = 11.0, 0.2
LIKELY_SCALES, LIKELY_AGAINST, LIKELY_SIGMAS = 8.0, 0.35, 0.4
"""What scales say that no sound drive does whose axles go against each other besides, or rather clearly so. (Of 2,664
sound drives of twelve worlds none is beyond, of noise alone one in 600; of 96 drives whose crossed leads could be seen
and were not told otherwise 21 are.)"""


def find_crossed(exam: Examination) -> list[Finding]:
    """One axle whose bends come out backwards; both axles stand in it where none can be told."""
    crossing = exam.crossing
    if crossing is None:
        return []
    confidence = 0.99 * passes(-crossing.agreement, EVEN_AGAINST, SPREAD_AGAINST)
    confidence *= passes(-crossing.sigmas, EVEN_SIGMAS, SPREAD_SIGMAS)
    by_scale = _scales_prove(crossing)
    if by_scale:
        confidence = SCALES_PROVE
    if confidence < WORTH_WEIGHING:
        return []
    left = crossing.axle
    axle, other = ("front", "rear") if left.is_front else ("rear", "front")
    doubt = "" if crossing.settled else f" The {other} axle would look the same: look at both."
    evidence: dict[str, object] = {"agreement": round(crossing.agreement, 2), "sigmas": round(crossing.sigmas, 1)}
    if by_scale:
        evidence[BY_SCALE] = round(-crossing.alike, 1)
    if not crossing.settled:
        other_left = next(c for c in exam.log.corners if c.is_left and c is not left)
        evidence["or"] = [other_left.value, other_left.mate.value]
    return [
        Finding(
            Fault.CROSSED,
            (left, left.mate),
            confidence,
            f"Bends come out backwards on the {axle} axle: its left and right leads are exchanged.{doubt}",
            evidence,
        )
    ]


def _scales_prove(crossing: Crossing) -> bool:
    """Whether gentle bends that do not stand out of the noise by themselves say it together."""
    against, scales = -crossing.agreement, -crossing.alike
    if crossing.bends < LEAST_BENDS:
        return False
    clearly = against > LIKELY_AGAINST and -crossing.sigmas > LIKELY_SIGMAS
    return (scales > SURE_SCALES and against > SURE_AGAINST) or (scales > LIKELY_SCALES and clearly)
