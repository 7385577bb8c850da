"""Presenter of the turns view: rasters of a corner and its mate, and their ring faces."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from nodrek.core.model import Corner, Fault
from nodrek.core.turns.fold import PROFILE_BINS
from nodrek.core.turns.raster import turn_raster
from nodrek.core.verdict.held import HELD
from nodrek.core.verdict.ring import SMOOTH_SWING
from nodrek.desktop.state.screen import RasterScreen, RingFaceScreen, TurnsScreen
from nodrek.desktop.state.session import Session
from nodrek.desktop.state.words import is_sure_of_number, is_tooth_moved, lost_words
from nodrek.jobs.analyze import Answer

MOST_ROWS = 240
FULLY_SEEN = 0.98
"""Share of the turn from which a log has looked at all of the ring."""
LEAST_SPAN = 2.0
"""Per cent of deviation at full colour, at least: a sound ring must look sound."""


def present_turns(session: Session) -> TurnsScreen | None:
    answer = session.answer
    if answer is None:
        return None
    corner = session.corner
    mate = corner.mate if corner.mate in answer.log.corners else _other(answer, corner)
    span = _span(answer, corner, mate)
    own = _raster(answer, corner, span)
    empty = ""
    if own is None:
        empty = (
            f"The {corner.words} corner gives nothing to lay over its turns: it reads nothing, turns too "
            "slowly, or the log is too short. Choose another corner with the keys 1 to 4."
        )
    return TurnsScreen(
        own=own,
        mate=_raster(answer, mate, span) if mate else None,
        own_face=_face(answer, corner, span, session.marked),
        mate_face=_face(answer, mate, span, None) if mate else None,
        empty_text=empty,
        marked=session.marked,
        hint="Press a place in the raster to see its moments in the drive.",
    )


def _other(answer: Answer, corner: Corner) -> Corner | None:
    return next((c for c in answer.log.corners if c is not corner), None)


@lru_cache(maxsize=8)
def _span(answer: Answer, *corners: Corner | None) -> float:
    """Deviation (per cent) that gets the full colour, shared by both pictures."""
    deepest = LEAST_SPAN
    for corner in corners:
        ring = answer.examination.rings.get(corner) if corner else None
        if ring is not None and ring.fold is not None:
            known = ring.fold.profile[~np.isnan(ring.fold.profile)]
            if known.size:
                deepest = max(deepest, 100.0 * float(np.abs(np.expm1(known)).max()))
    return deepest


@lru_cache(maxsize=16)
def _raster(answer: Answer, corner: Corner, span: float) -> RasterScreen | None:
    ring = answer.examination.rings.get(corner)
    if ring is None or ring.fold is None:
        return None
    quarter = _first_quarter(answer, corner)
    raster = turn_raster(answer.examination.followed[corner], ring.fold, MOST_ROWS, 0.25 * quarter)
    if raster is None:
        return None
    percent = 100.0 * np.expm1(raster.cells)
    levels = np.clip(128.0 + 127.0 * percent / (1.5 * span), 1, 255)
    levels[np.isnan(percent)] = 0
    count = round(raster.turns_per_row * raster.cells.shape[0])
    return RasterScreen(
        corner=corner,
        title=corner.words.capitalize(),
        caption=f"{count} turns, first at the top",
        width=raster.cells.shape[1],
        height=raster.cells.shape[0],
        levels=levels.astype(np.uint8).tobytes(),
        first_turn=raster.first_turn,
        turns_per_row=raster.turns_per_row,
        begins=raster.begins,
        ticks=tuple((0.25 * k, f"{90 * ((quarter + k) % 4)}°") for k in range(5)),
    )


def _first_quarter(answer: Answer, corner: Corner) -> int:
    """Quarter of the turn at which rows begin: about opposite the widest damage, which then stands in the middle and is
    not torn in two."""
    arcs = answer.analysis.corners[corner].turn.arcs
    return round(4.0 * (arcs[0].centre_turn + 0.5)) % 4 if arcs else 0


def _face(answer: Answer, corner: Corner, span: float, marked: float | None) -> RingFaceScreen | None:
    ring = answer.examination.rings.get(corner)
    if ring is None or ring.fold is None:
        return None
    result = answer.analysis.corners[corner]
    arcs = result.turn.arcs
    hidden = any(
        f.fault is Fault.RING_DAMAGE and corner in f.corners and HELD in f.evidence for f in answer.analysis.findings
    )
    text, caption = "", "even all round" if result.turn.locked or ring.fold.null < 0.01 else "nothing repeats"
    if any(corner in f.corners and f.evidence.get("pattern") == SMOOTH_SWING for f in answer.analysis.findings):
        caption = f"swings by ±{100 * ring.fold.swing:.2f} % once a turn"
    if hidden:
        caption = "the control unit hides the place"
    if arcs:
        damage = next(
            (f for f in answer.analysis.findings if corner in f.corners and "dip_percent" in f.evidence), None
        )
        text = lost_words([a.teeth for a in arcs], damage is None or is_sure_of_number(damage))
        if damage is not None and is_tooth_moved(damage):
            text = "none lost"
        caption = "reads low here" if damage is None else f"reads {damage.evidence['dip_percent']:.0f} % low here"
    if ring.fold.seen < FULLY_SEEN:
        caption += f"; {100 * ring.fold.seen:.0f} % of the turn seen"
    return RingFaceScreen(
        corner=corner,
        title=corner.words.capitalize(),
        caption=caption,
        profile=_percent(ring.fold.profile),
        error=_percent(ring.fold.error),
        arcs=tuple((a.centre_turn, max(a.width_turn, 1.5 / PROFILE_BINS)) for a in arcs),
        arc_text=text,
        span=span,
        marked=marked,
    )


def _percent(values: np.ndarray) -> tuple[float | None, ...]:
    return tuple(None if np.isnan(v) else 100.0 * float(np.expm1(v)) for v in values)
