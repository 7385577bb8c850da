"""How many edges a damaged ring has lost, for its finding and for the report of its turn.

Asked last, of rings that are called damaged: whether one is does not hang on the number.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from nodrek.core.model import Arc, Corner, Fault, Finding
from nodrek.core.model.learnt import Rivals
from nodrek.core.turns.lost import Dips, Losses, count_lost, is_moved, measure_dips
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.held import HELD
from nodrek.core.verdict.ring import MOVED, damage_words, shortfall


def with_losses(findings: Iterable[Finding], exam: Examination, learnt: Rivals) -> tuple[Finding, ...]:
    """The findings, those of damaged rings with the number of lost edges; same order."""
    return tuple(_with_loss(f, exam, learnt) if f.fault is Fault.RING_DAMAGE else f for f in findings)


def _with_loss(finding: Finding, exam: Examination, learnt: Rivals) -> Finding:
    if HELD in finding.evidence:
        # where the unit hides the lost edges, no arc that reads low is theirs
        return finding
    (corner,) = finding.corners
    lost = losses(exam, corner, learnt)
    said = {**finding.evidence, "teeth_lost": lost.total}
    if lost.moved:
        said["pattern"] = MOVED
    if lost.total is not None:
        said["teeth_lost_chance"] = round(lost.chance, 2)
    return replace(finding, summary=damage_words(exam, corner, lost), evidence=said)


def losses(exam: Examination, corner: Corner, learnt: Rivals) -> Losses:
    """Of a corner whose ring was folded; no arcs, no losses."""
    if not exam.rings[corner].arcs:
        return Losses()
    return exam.once(f"losses {corner}", lambda: _counted(exam, corner, learnt))


def _counted(exam: Examination, corner: Corner, learnt: Rivals) -> Losses:
    ring, dips = exam.rings[corner], dips_of(exam, corner)
    if ring.fold is not None and is_moved(ring.fold, ring.arcs[0], dips.areas[0]):
        return Losses((None,) * len(ring.arcs), moved=True)
    return count_lost(dips, exam.vehicle.teeth, learnt)


def dips_of(exam: Examination, corner: Corner) -> Dips:
    """What the dips at the corner's arcs look like; it must have some."""
    ring = exam.rings[corner]
    assert ring.fold is not None
    quantum = exam.log.channels[corner].quantum
    return measure_dips(exam.followed[corner], ring.fold, ring.arcs, shortfall(exam, corner), quantum)


def lost_arcs(exam: Examination, corner: Corner, learnt: Rivals) -> tuple[Arc, ...]:
    """Arcs of a ring that is called damaged; one that is left without an edge is a torn piece of its neighbour."""
    if corner not in exam.rings:
        return ()
    seen = zip(exam.rings[corner].arcs, losses(exam, corner, learnt).at_arcs, strict=False)
    return tuple(Arc(a.centre, a.width, number) for a, number in seen if number != 0)
