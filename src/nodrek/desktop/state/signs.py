"""From findings to the ring that stands for a corner."""

from __future__ import annotations

from nodrek.core.model import Analysis, Corner, Fault, Finding, Verdict
from nodrek.core.verdict.judge import FAULTY_FROM, could_show
from nodrek.desktop.state.screen import Glyph, RingSign

WIDEST_NOTCH = 0.2
"""Turns: a dip that a long window drags out is no half of a ring gone."""
GLYPHS = {
    Fault.RING_DAMAGE: Glyph.NOTCH,
    Fault.RING_RUNOUT: Glyph.OFF_CENTRE,
    Fault.RING_COUNT: Glyph.BESIDE,
    Fault.INTERMITTENT: Glyph.BROKEN,
    Fault.NO_SIGNAL: Glyph.EMPTY,
    Fault.FROZEN: Glyph.BAR,
    Fault.TYRE_SIZE: Glyph.BESIDE,
    Fault.ENCODER_NOISE: Glyph.GRAINY,
    Fault.AIR_GAP: Glyph.OPEN_BELOW,
    Fault.CROSSED: Glyph.EXCHANGED,
}


def leading(analysis: Analysis, corner: Corner) -> Finding | None:
    """The strongest finding at a corner that is more likely than not."""
    for finding in analysis.findings:
        if corner in finding.corners and finding.confidence >= FAULTY_FROM:
            return finding
    return None


def sign_of(analysis: Analysis, corner: Corner) -> RingSign:
    finding = leading(analysis, corner)
    result = analysis.corners.get(corner)
    if finding is None or result is None:
        if result is None:  # wheels turned on stands: alive or not is all that is known
            spin = analysis.spins.get(corner)
            return RingSign(Glyph.EVEN if spin and spin.alive else Glyph.EMPTY if finding else Glyph.DOTTED, 0.4)
        is_even = could_show(result) and corner is not analysis.unexplained
        return RingSign(Glyph.EVEN if is_even else Glyph.DOTTED, 0.4)
    arcs = result.turn.arcs
    return RingSign(
        GLYPHS.get(finding.fault, Glyph.UNKNOWN),
        finding.confidence,
        tuple((a.centre_turn, min(a.width_turn, WIDEST_NOTCH)) for a in arcs) or ((0.0, 0.08),),
        # a wheel that turns slower has the larger tyre
        larger=float(finding.evidence.get("difference_percent", 0.0)) < 0.0,
        calls=True,
    )


def sign_of_verdict(analysis: Analysis) -> RingSign:
    if analysis.findings and analysis.findings[0].confidence >= FAULTY_FROM:
        return sign_of(analysis, analysis.findings[0].corners[0])
    glyph = Glyph.EVEN if analysis.verdict is Verdict.HEALTHY else Glyph.DOTTED
    return RingSign(glyph, 0.4)
