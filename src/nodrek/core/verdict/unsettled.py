"""A corner that is sooner faulty than sound though no single fault is likelier than not."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from nodrek.core.model import Corner, Fault, Finding
from nodrek.core.verdict.not_turned import NOT_TURNED

APART = (Fault.TYRE_SIZE, Fault.RING_COUNT)
"""Kinds that a corner may have beside another one, which has one of the others at most."""


def find_unsettled(findings: Sequence[Finding], sure_from: float) -> tuple[Corner, str] | None:
    """The corner that is least likely sound, and one sentence; ``None`` where each is sooner sound than not, or has a
    finding of `sure_from` or more. A wheel that may have stood is no faulty one."""
    said = {
        c: [f for f in findings if f.corners == (c,) and NOT_TURNED not in f.evidence.get("or", ())] for c in Corner
    }
    known = {c for f in findings if f.confidence >= sure_from for c in f.corners}
    faulty = {c: _chance(of_one) for c, of_one in said.items() if c not in known}
    worst = max(faulty, key=lambda c: faulty[c], default=None)
    if worst is None or faulty[worst] < sure_from:
        return None
    return worst, (
        f"The {worst.words} corner is sooner faulty than sound ({100.0 * faulty[worst]:.0f} %), but this log does not "
        "settle which of the faults that are possible there it has. Log it for longer or with more values a second, or "
        "look at that corner."
    )


def _chance(findings: Iterable[Finding]) -> float:
    """That any of them is right."""
    rivals = apart = 0.0
    for finding in findings:
        if finding.fault in APART:
            apart = max(apart, finding.confidence)
        else:
            rivals += finding.confidence
    return 1.0 - (1.0 - min(rivals, 1.0)) * (1.0 - apart)
