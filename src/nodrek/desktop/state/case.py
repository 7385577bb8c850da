"""The case on the bench: every entry is an intent, every intent can be undone. No Qt."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TypeVar

from nodrek.core.model import Corner, Finding
from nodrek.core.model.case import (
    Access,
    Case,
    CaseLog,
    Check,
    CheckKind,
    Code,
    CodeKind,
    CodeState,
    Lamp,
    Layout,
    Loom,
    LoomReading,
    LoomSegment,
    Quality,
    SensorKind,
    Symptom,
    Work,
    WorkPart,
)
from nodrek.core.model.diagnosis import Diagnosis

MOST_SEGMENTS = 60
MOST_STEPS = 200
"""Entries that can be undone."""
Item = TypeVar("Item")


@dataclass(frozen=True, eq=False)
class Bench:
    """The case, what it was before, and what follows from it.

    ``path``: the file the case is kept in, None for the one that is kept without being asked;
    ``chosen``: a check the person looks at in place of the best one; ``question``: a sentence
    that asks about a value whose unit looks wrong, with the check as typed; ``own_order``: the
    technician's own order of checks, whose cost is shown beside the others'.
    """

    case: Case = field(default_factory=Case)
    past: tuple[Case, ...] = ()
    future: tuple[Case, ...] = ()
    path: Path | None = None
    diagnosis: Diagnosis | None = None
    chosen: tuple[CheckKind, Corner] | None = None
    question: tuple[str, Check] | None = None
    own_order: tuple[CheckKind, ...] = ()

    @property
    def is_open(self) -> bool:
        """Whether anything has been entered."""
        return self.case != Case()


def entered(bench: Bench, case: Case) -> Bench:
    """Another state of the case; the one before can be brought back."""
    if case == bench.case:
        return bench
    return replace(bench, case=case, past=(*bench.past, bench.case)[-MOST_STEPS:], future=(), question=None)


def undo(bench: Bench) -> Bench:
    if not bench.past:
        return bench
    before = bench.past[-1]
    return replace(
        bench, case=before, past=bench.past[:-1], future=(bench.case, *bench.future), chosen=None, question=None,
    )  # fmt: skip


def redo(bench: Bench) -> Bench:
    if not bench.future:
        return bench
    after = bench.future[0]
    return replace(
        bench, case=after, past=(*bench.past, bench.case), future=bench.future[1:], chosen=None, question=None,
    )  # fmt: skip


def press(case: Case, group: str, key: str, corner: Corner) -> Case:
    """A choice of a board was pressed; `corner` is the one chosen on the plan."""
    return PRESSED[group](case, key, corner)


def _lamp(case: Case, key: str, corner: Corner) -> Case:
    del corner
    return replace(case, lamps=_toggled(case.lamps, Lamp(key)))


def _symptom(case: Case, key: str, corner: Corner) -> Case:
    del corner
    return replace(case, symptoms=_toggled(case.symptoms, Symptom(key)))


def _work(case: Case, key: str, corner: Corner) -> Case:
    part = WorkPart(key)
    there = [w for w in case.recent_work if w.corner is corner and w.part is part]
    if there:
        return replace(case, recent_work=tuple(w for w in case.recent_work if w not in there))
    return replace(case, recent_work=(*case.recent_work, Work(part, corner)))


def _quality(case: Case, key: str, corner: Corner) -> Case:
    """Whose the fitted sensor is; pressed again it is not known."""
    quality = Quality(key)

    def changed(work: Work) -> Work:
        if work.corner is not corner or work.part is not WorkPart.SENSOR:
            return work
        return replace(work, quality=Quality.UNKNOWN if work.quality is quality else quality)

    return replace(case, recent_work=tuple(changed(w) for w in case.recent_work))


def _layout(case: Case, key: str, corner: Corner) -> Case:
    del corner
    return replace(case, vehicle=replace(case.vehicle, layout=Layout(key)))


def _sensor(case: Case, key: str, corner: Corner) -> Case:
    del corner
    kind = SensorKind(key)
    kind = SensorKind.UNKNOWN if case.vehicle.sensor is kind else kind
    return replace(case, vehicle=replace(case.vehicle, sensor=kind))


def _salt(case: Case, key: str, corner: Corner) -> Case:
    del corner
    wanted = key == "yes"
    return replace(case, vehicle=replace(case.vehicle, road_salt=None if case.vehicle.road_salt is wanted else wanted))


def _code(case: Case, key: str, corner: Corner) -> Case:
    kind = CodeKind(key)
    there = [c for c in case.codes if c.corner is corner and c.kind is kind]
    if there:
        return replace(case, codes=tuple(c for c in case.codes if c not in there))
    return replace(case, codes=(*case.codes, Code(kind, corner, CodeState.CURRENT)))


def _state(case: Case, key: str, corner: Corner) -> Case:
    state = CodeState(key)
    return replace(case, codes=tuple(replace(c, state=state) if c.corner is corner else c for c in case.codes))


def _access(wanted: bool) -> Callable[[Case, str, Corner], Case]:
    def change(case: Case, key: str, corner: Corner) -> Case:
        del corner
        access = vars(case.access)
        told = None if access[key] is wanted else wanted
        return replace(case, access=Access(**{**access, key: told}))

    return change


PRESSED: dict[str, Callable[[Case, str, Corner], Case]] = {
    "lamps": _lamp,
    "symptoms": _symptom,
    "work": _work,
    "quality": _quality,
    "layout": _layout,
    "sensor": _sensor,
    "salt": _salt,
    "codes": _code,
    "state": _state,
    "can": _access(True),
    "cannot": _access(False),
}


def _toggled(items: tuple[Item, ...], item: Item) -> tuple[Item, ...]:
    return tuple(x for x in items if x != item) if item in items else (*items, item)


def type_number(case: Case, key: str, value: float | None) -> Case:
    """A number field: ``age_years``, ``odometer_km`` or ``price:NAME``; None clears it."""
    if key.startswith("price:"):
        prices = {k: v for k, v in case.prices.items() if k != key[6:]}
        return replace(case, prices=prices if value is None else {**prices, key[6:]: value})
    vehicle = case.vehicle
    if key == "age_years":
        return replace(case, vehicle=replace(vehicle, age_years=value))
    return replace(case, vehicle=replace(vehicle, odometer_km=value))


def add_codes(case: Case, codes: tuple[Code, ...]) -> Case:
    fresh = tuple(c for c in codes if c not in case.codes)
    return replace(case, codes=(*case.codes, *fresh)) if fresh else case


def remove_row(case: Case, key: str) -> Case:
    """Take a listed entry back: ``code:3`` or ``check:0``."""
    kind, _, number = key.partition(":")
    at = int(number)
    if kind == "code":
        return replace(case, codes=case.codes[:at] + case.codes[at + 1 :])
    return replace(case, checks=case.checks[:at] + case.checks[at + 1 :])


def answer_check(case: Case, check: Check) -> Case:
    """A check was done: it replaces the same check at the same corner."""
    others = tuple(c for c in case.checks if (c.check, c.corner) != (check.check, check.corner))
    return replace(case, checks=(*others, check))


def pick_wire(case: Case, corner: Corner, segments: tuple[tuple[str, str], ...]) -> Case:
    """Start the search on a ready-made wire; readings of the one before are dropped."""
    loom = Loom(corner, tuple(LoomSegment(name, kind) for name, kind in segments))
    return replace(case, looms=(*(entry for entry in case.looms if entry.corner is not corner), loom))


def read_wire(case: Case, corner: Corner, reading: LoomReading) -> Case:
    """Ohms up to the far end of a segment; a second reading there replaces the first."""

    def changed(loom: Loom) -> Loom:
        kept = tuple(r for r in loom.readings if r.after != reading.after)
        pierced = reading.pierced or any(r.pierced for r in loom.readings if r.after == reading.after)
        return replace(loom, readings=(*kept, replace(reading, pierced=pierced)))

    return replace(case, looms=tuple(changed(x) if x.corner is corner else x for x in case.looms))


def seal(case: Case, corner: Corner, after: int) -> Case:
    """The hole at the far end of a segment is sealed."""

    def changed(loom: Loom) -> Loom:
        readings = tuple(replace(r, sealed=True) if r.after == after else r for r in loom.readings)
        return replace(loom, readings=readings)

    return replace(case, looms=tuple(changed(x) if x.corner is corner else x for x in case.looms))


def with_log(case: Case, folder: Path, log: Path | None, findings: tuple[Finding, ...]) -> Case:
    """The case as it is written to `folder`: a log that lies there by name, another by its findings."""
    if log is None:
        return case
    home, target = folder.resolve(), log.resolve()
    if target.is_relative_to(home):
        name = str(target.relative_to(home))
        if any(entry.path == name for entry in case.logs):
            return case
        return replace(case, logs=(*case.logs, CaseLog(name)))
    known = {(f.fault, f.corners) for f in findings}
    others = tuple(f for f in case.findings if (f.fault, f.corners) not in known)
    return replace(case, findings=(*others, *findings))


def described_wire(text: str, kinds: Mapping[str, str]) -> tuple[tuple[str, str], ...]:
    """Segments from words like "unit plug connector, sill under covers, flexing part": name and kind each.

    `kinds`: key → words of each kind of stretch; a piece that names none is a straight run.
    """
    pieces = [piece.strip()[:80] for piece in text.replace(";", ",").split(",")]
    return tuple((piece, _kind_in(piece, kinds)) for piece in pieces if piece)[:MOST_SEGMENTS]


def _kind_in(piece: str, kinds: Mapping[str, str]) -> str:
    said = piece.lower()
    for key, words in kinds.items():
        if any(word in said for word in (words, key.replace("_", " "), words.split()[0][:6])):
            return key
    return "plain"
