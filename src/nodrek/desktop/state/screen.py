"""What a screen shows: finished strings, thinned arrays, roles. No Qt, no NumPy maths left to do."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from nodrek.core.model import Corner
from nodrek.desktop.state.board import BoardScreen
from nodrek.desktop.state.proof import LoomScreen, NextScreen, ReasonsScreen


class Place(StrEnum):
    """Stations of the order of work."""

    COMPLAINT = "complaint"
    CODES = "codes"
    DRIVE = "drive"
    COMPARE = "compare"
    PROVE = "prove"


class View(StrEnum):
    COMPLAINT = "complaint"
    CODES = "codes"
    DRIVE = "drive"
    TURNS = "turns"
    RATIOS = "ratios"
    WAKING = "waking"
    PROVE = "prove"
    REASONS = "reasons"
    LOOM = "loom"


ON_LOG = (View.DRIVE, View.TURNS, View.RATIOS, View.WAKING)
"""Views of a log, with its result above."""
PLACE_OF = {
    View.COMPLAINT: Place.COMPLAINT,
    View.CODES: Place.CODES,
    View.DRIVE: Place.DRIVE,
    View.TURNS: Place.COMPARE,
    View.RATIOS: Place.COMPARE,
    View.WAKING: Place.COMPARE,
    View.PROVE: Place.PROVE,
    View.REASONS: Place.PROVE,
    View.LOOM: Place.PROVE,
}
FIRST_VIEW = {place: next(v for v, p in PLACE_OF.items() if p is place) for place in Place}


class Glyph(StrEnum):
    """How the state of a corner is drawn as a ring."""

    UNKNOWN = "unknown"
    EVEN = "even"
    DOTTED = "dotted"
    NOTCH = "notch"
    OFF_CENTRE = "off_centre"
    BROKEN = "broken"
    EMPTY = "empty"
    BAR = "bar"
    BESIDE = "beside"
    GRAINY = "grainy"
    OPEN_BELOW = "open_below"
    EXCHANGED = "exchanged"


@dataclass(frozen=True)
class RingSign:
    """A ring to draw. ``weight`` 0..1 is the certainty; angles and widths in turns."""

    glyph: Glyph
    weight: float = 0.5
    notches: tuple[tuple[float, float], ...] = ()
    larger: bool = False
    calls: bool = False


@dataclass(frozen=True)
class CornerCard:
    """One corner on the plan."""

    corner: Corner
    name: str
    state: str
    odds: str
    ratio: str
    sign: RingSign
    chosen: bool
    known: bool


@dataclass(frozen=True)
class PlanScreen:
    corners: tuple[CornerCard, ...]
    details: tuple[tuple[str, str], ...]
    title: str


@dataclass(frozen=True)
class Station:
    place: Place
    name: str
    state: str
    current: bool
    enabled: bool


@dataclass(frozen=True)
class AnswerScreen:
    """The answer in words: headline, reasons, the others in one line each."""

    headline: str
    sureness: str
    lines: tuple[str, ...]
    others: tuple[str, ...]
    sign: RingSign
    is_error: bool = False
    remedy: str = ""


@dataclass(frozen=True, eq=False)
class Trace:
    """One line of the drive view; ``x`` s, ``y`` in the view's unit, thinned to what is visible."""

    corner: Corner
    x: Any
    y: Any
    prominent: bool
    thinned: bool = False


@dataclass(frozen=True, eq=False)
class DriveScreen:
    speeds: tuple[Trace, ...]
    deviations: tuple[Trace, ...]
    dropouts: tuple[tuple[Corner, Sequence[float]], ...]
    stops: tuple[tuple[float, float], ...]
    marks: Sequence[float]
    mark_text: str
    window: tuple[float, float]
    whole: tuple[float, float]
    speed_range: tuple[float, float]
    deviation_range: tuple[float, float]
    speed_unit: str
    part_text: str
    can_limit: bool
    is_limited: bool
    came_from_turns: bool


@dataclass(frozen=True, eq=False)
class RasterScreen:
    """Rows of turns, angle across; ``levels`` one byte a cell: 0 not looked at, 1 low … 255 high.

    ``begins``: place on the ring (turns) at the left edge; ``ticks``: words at shares of the width.
    """

    corner: Corner
    title: str
    caption: str
    width: int
    height: int
    levels: bytes
    first_turn: int
    turns_per_row: float
    begins: float = 0.0
    ticks: tuple[tuple[float, str], ...] = ()


@dataclass(frozen=True, eq=False)
class RingFaceScreen:
    """Deviation round the ring in per cent, per bin, with its error; ``None`` where unknown."""

    corner: Corner
    title: str
    caption: str
    profile: tuple[float | None, ...]
    error: tuple[float | None, ...]
    arcs: tuple[tuple[float, float], ...]
    arc_text: str
    span: float
    marked: float | None


@dataclass(frozen=True, eq=False)
class TurnsScreen:
    own: RasterScreen | None
    mate: RasterScreen | None
    own_face: RingFaceScreen | None
    mate_face: RingFaceScreen | None
    empty_text: str
    marked: float | None
    hint: str


@dataclass(frozen=True)
class RatioRow:
    corner: Corner
    name: str
    text: str
    low: float
    value: float
    high: float
    known: bool
    chosen: bool


@dataclass(frozen=True)
class RatiosScreen:
    """Per cent on one scale; ``marks`` are explanations (value, words)."""

    rows: tuple[RatioRow, ...]
    span: float
    ticks: tuple[tuple[float, str], ...]
    marks: tuple[tuple[float, str], ...]
    sentence: str
    empty_text: str


@dataclass(frozen=True)
class WakingRow:
    """One corner: speeds (shown unit) at which it began and stopped to read, and their middle."""

    corner: Corner
    name: str
    text: str
    begins: tuple[float, ...]
    stops: tuple[float, ...]
    middle: float | None
    chosen: bool


@dataclass(frozen=True)
class WakingScreen:
    rows: tuple[WakingRow, ...]
    unit: str
    top: float
    ticks: tuple[tuple[float, str], ...]
    sentence: str
    empty_text: str


@dataclass(frozen=True)
class BusyScreen:
    doing: str
    share: float
    left: str


@dataclass(frozen=True, eq=False)
class Screen:
    """The whole window."""

    title: str
    place: Place
    view: View
    stations: tuple[Station, ...]
    plan: PlanScreen
    answer: AnswerScreen | None
    drive: DriveScreen | None
    turns: TurnsScreen | None
    ratios: RatiosScreen | None
    waking: WakingScreen | None
    board: BoardScreen | None
    reasons: ReasonsScreen | None
    loom: LoomScreen | None
    next: NextScreen | None
    busy: BusyScreen | None
    invite: bool
    notes: tuple[str, ...]
    can_copy: bool
    can_undo: bool
    can_redo: bool
