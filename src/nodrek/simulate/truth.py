"""What a log with a simulated fault should be said to show; for training and benchmarks alike."""

from __future__ import annotations

from nodrek.core.model import Corner
from nodrek.simulate.faults import Cause, SimulatedFault

FAULT_OF = {
    Cause.MISSING_TEETH: "ring_damage",
    Cause.CRACKED_RING: "ring_damage",
    Cause.ECCENTRIC_RING: "ring_runout",
    Cause.LIFTED_RING: "ring_runout",
    Cause.WHEEL_SIZE: "tyre_size",
    Cause.WRONG_COUNT: "ring_count",
    Cause.DEAD: "no_signal",
    Cause.FROZEN: "frozen",
    Cause.BROKEN_LEAD: "intermittent",
    Cause.WIDE_GAP: "air_gap",
    Cause.DIRTY_ENCODER: "encoder_noise",
    Cause.CROSSED: "crossed",
}


def corners_of(fault: SimulatedFault) -> tuple[Corner, ...]:
    """The corners that the fault shows at."""
    if fault.cause is Cause.CROSSED:
        return tuple(c for c in Corner if c in (fault.corner, fault.corner.mate))
    return (fault.corner,)


def is_right(kind: str, corners: tuple[Corner, ...], fault: SimulatedFault) -> bool:
    """Whether a finding names this fault; what no log can tell apart counts as right.

    An axle with crossed leads is the mirror image of the other one; a few per cent may be
    tyre or tooth count.
    """
    if fault.cause is Cause.CROSSED:
        return kind == "crossed" and len(corners) == 2 and corners[0].mate is corners[1]
    if fault.cause in (Cause.WRONG_COUNT, Cause.WHEEL_SIZE):
        return corners == (fault.corner,) and kind in ("tyre_size", "ring_count")
    return (kind, corners) == (FAULT_OF[fault.cause], (fault.corner,))
