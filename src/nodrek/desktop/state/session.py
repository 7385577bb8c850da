"""What the person is doing now: one frozen value, changed by intents only. No Qt."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from enum import StrEnum
from pathlib import Path

from nodrek.core.model import Corner
from nodrek.core.model.case import Case, Check, CheckKind
from nodrek.core.model.diagnosis import Diagnosis
from nodrek.desktop.state import case as cases
from nodrek.desktop.state.case import Bench
from nodrek.desktop.state.screen import ON_LOG, View
from nodrek.jobs.analyze import Answer


class Remedy(StrEnum):
    """What a person can give so that a log that was refused can be read after all."""

    COLUMNS = "columns"
    DATABASE = "database"


@dataclass(frozen=True)
class Help:
    """What a person has said about a log: columns of corners, bus databases."""

    mapping: Mapping[Corner, str] = field(default_factory=dict)
    databases: tuple[Path, ...] = ()
    reference: str | None = None


@dataclass(frozen=True)
class Busy:
    """A running job: share done, what it does, seconds since it began."""

    share: float = 0.0
    doing: str = ""
    since_s: float = 0.0


@dataclass(frozen=True, eq=False)
class Session:
    """``revision`` counts jobs: a result that carries an older one is dropped.

    ``window``: visible stretch of the drive (s), ``None`` for all of it; ``part``: the
    stretch (s of the whole log) the answer is limited to; ``marks``: moments (s) a
    clicked place of the ring passed.
    """

    revision: int = 0
    path: Path | None = None
    answer: Answer | None = None
    help: Help = Help()
    error: str | None = None
    remedy: Remedy | None = None
    busy: Busy | None = None
    corner: Corner = Corner.FL
    view: View = View.DRIVE
    window: tuple[float, float] | None = None
    part: tuple[float, float] | None = None
    marked: float | None = None
    marks: tuple[float, ...] = ()
    came_from_turns: bool = False
    bench: Bench = Bench()


def begin(session: Session, path: Path, part: tuple[float, float] | None = None, given: Help | None = None) -> Session:
    """A job starts on `path` with what is `given`; what is on screen stays until it ends."""
    return replace(
        session,
        revision=session.revision + 1,
        path=path,
        busy=Busy(),
        error=None,
        remedy=None,
        part=part,
        help=given or Help(),
    )


def begin_look(session: Session) -> Session:
    """A job that only looks at the columns of the log starts; nothing else changes."""
    return replace(session, revision=session.revision + 1, busy=Busy())


def looked(session: Session, revision: int) -> Session:
    """The look has ended."""
    return session if revision != session.revision else replace(session, busy=None)


def progress(session: Session, revision: int, share: float, doing: str, since_s: float) -> Session:
    """Progress of the job; of a stale one nothing changes."""
    if revision != session.revision or session.busy is None:
        return session
    return replace(session, busy=Busy(max(share, session.busy.share), doing, since_s))


def finish(session: Session, revision: int, answer: Answer) -> Session:
    """The job's answer; a stale one is dropped."""
    if revision != session.revision:
        return session
    analysis = answer.analysis
    corner = analysis.findings[0].corners[0] if analysis.findings else session.corner
    if analysis.is_unnamed:
        corner = analysis.unexplained or corner
    if corner not in answer.log.corners:
        corner = answer.log.corners[0]
    return replace(
        session, answer=answer, error=None, busy=None, corner=corner, window=None, marked=None,
        marks=(), came_from_turns=False,
    )  # fmt: skip


def fail(session: Session, revision: int, sentence: str, remedy: Remedy | None = None) -> Session:
    """The job failed: the sentence stands where the result would; the last result stays.

    Where no result is shown, as beside the complaint, the drive is.
    """
    if revision != session.revision:
        return session
    part = session.part if session.answer else None
    view = session.view if session.view in ON_LOG else View.DRIVE
    return replace(session, error=sentence, remedy=remedy, busy=None, part=part, view=view)


def cancel(session: Session) -> Session:
    """Stop waiting for the job; whatever it still says is stale."""
    return replace(session, revision=session.revision + 1, busy=None)


def choose_corner(session: Session, corner: Corner) -> Session:
    there = session.bench.case.vehicle.layout.corners if session.answer is None else session.answer.log.corners
    if corner not in there:
        return session
    return replace(session, corner=corner, marked=None, marks=(), bench=replace(session.bench, question=None))


def choose_view(session: Session, view: View) -> Session:
    return replace(session, view=view, came_from_turns=False)


def look_at(session: Session, start: float, stop: float) -> Session:
    """Another stretch of the drive becomes visible."""
    return replace(session, window=(start, stop)) if stop > start else session


def show_all(session: Session) -> Session:
    return replace(session, window=None)


def mark_angle(session: Session, turn: float, angle: float) -> Session:
    """A place of the ring was clicked in the raster: go to the moments it passed.

    `turn` is the turn number of the clicked row, `angle` the place in turns (0..1).
    """
    from nodrek.desktop.state.moments import moments_of_angle

    if session.answer is None:
        return session
    marks, window = moments_of_angle(session.answer, session.corner, turn, angle)
    if not marks:
        return session
    return replace(session, marked=angle, marks=marks, window=window, view=View.DRIVE, came_from_turns=True)


def go_back(session: Session) -> Session:
    """From the moments of a clicked place back to the turns."""
    if not session.came_from_turns:
        return session
    return replace(session, view=View.TURNS, came_from_turns=False, marks=(), window=None)


def enter(session: Session, case: Case) -> Session:
    """Something was entered in the case; it can be undone."""
    bench = cases.entered(session.bench, case)
    return session if bench is session.bench else replace(session, bench=bench)


def press(session: Session, group: str, key: str) -> Session:
    """A choice of a board was pressed, for the chosen corner."""
    if group == "order":
        return order_check(session, CheckKind(key))
    return enter(session, cases.press(session.bench.case, group, key, session.corner))


def ask(session: Session, question: str, check: Check) -> Session:
    """A value looks as if its unit were wrong: ask before it counts."""
    return replace(session, bench=replace(session.bench, question=(question, check)))


def choose_check(session: Session, kind: CheckKind, corner: Corner) -> Session:
    """Look at another check than the best one."""
    return replace(session, corner=corner, bench=replace(session.bench, chosen=(kind, corner), question=None))


def answered(session: Session, check: Check) -> Session:
    """A check was done; the next best one comes up."""
    bench = cases.entered(session.bench, cases.answer_check(session.bench.case, check))
    return replace(session, bench=replace(bench, chosen=None, question=None))


def undo(session: Session) -> Session:
    return replace(session, bench=cases.undo(session.bench))


def redo(session: Session) -> Session:
    return replace(session, bench=cases.redo(session.bench))


def diagnosed(session: Session, case: Case, diagnosis: Diagnosis) -> Session:
    """What follows from the case; of another state of the case nothing changes."""
    if session.bench.case is not case:
        return session
    return replace(session, bench=replace(session.bench, diagnosis=diagnosis))


def take_case(session: Session, case: Case, path: Path | None) -> Session:
    """Another case comes on the bench, without a past and without the log of another vehicle."""
    corners = case.vehicle.layout.corners
    corner = session.corner if session.corner in corners else corners[0]
    return Session(revision=session.revision + 1, bench=Bench(case, path=path), corner=corner, view=session.view)


def refuse_case(session: Session, sentence: str) -> Session:
    """A case file could not be read or written; what is on the bench stays."""
    return replace(session, error=sentence, remedy=None, view=View.DRIVE)


def kept_in(session: Session, path: Path) -> Session:
    """The case is kept in this file from now on."""
    return replace(session, bench=replace(session.bench, path=path))


def order_check(session: Session, kind: CheckKind) -> Session:
    """A check comes last in the technician's own order, or leaves it; no entry of the case."""
    now = session.bench.own_order
    order = tuple(k for k in now if k is not kind) if kind in now else (*now, kind)
    return replace(session, bench=replace(session.bench, own_order=order))
