"""A corner that is sooner faulty than sound though no single fault is likelier than not: which, and between what."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from nodrek.core.model import Corner, Fault, Finding

KINDS = {
    Fault.RING_DAMAGE: "lost teeth or poles", Fault.RING_RUNOUT: "a ring out of centre or weak on one side",
    Fault.ENCODER_NOISE: "a dirty encoder", Fault.INTERMITTENT: "a break in lead, plug or sensor",
    Fault.AIR_GAP: "a gap that is too wide", Fault.TYRE_SIZE: "a tyre of another size",
    Fault.RING_COUNT: "a ring with another number of teeth", Fault.NO_SIGNAL: "no signal",
    Fault.FROZEN: "a value that stands still",
}  # fmt: skip
APART = (Fault.TYRE_SIZE, Fault.RING_COUNT)
"""Kinds that a corner may have beside another one, which has one of the others at most."""
SETTLED = 0.5


def find_unsettled(findings: Sequence[Finding]) -> tuple[Corner, str] | None:
    """The corner that is least likely sound, and one sentence; ``None`` where each is sooner sound than not, or has a
    finding of `SETTLED` or more."""
    said = {c: [f for f in findings if f.corners == (c,)] for c in Corner}
    known = {c for f in findings if f.confidence >= SETTLED for c in f.corners}
    faulty = {c: _chance(of_one) for c, of_one in said.items() if c not in known}
    worst = max(faulty, key=lambda c: faulty[c], default=None)
    if worst is None or faulty[worst] < SETTLED:
        return None
    *others, last = [f"{KINDS[f.fault]} ({100.0 * f.confidence:.0f} %)" for f in said[worst]]
    return worst, (
        f"The {worst.words} corner is sooner faulty than sound ({100.0 * faulty[worst]:.0f} %), but this log does not "
        f"settle what it has: {', '.join(others)} or {last}. Log it for longer or with more values a second, or look "
        "at its ring, lead and sensor."
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
