"""The next check, the reasons and the wire, in finished words."""

from __future__ import annotations

from dataclasses import dataclass

from nodrek.core.diagnosis.measured import MEASURED, judge_value
from nodrek.core.model import Corner
from nodrek.core.model.case import Case, Check, CheckKind, LoomReading
from nodrek.core.model.diagnosis import CauseOdds, Diagnosis, LoomSearch, NextCheck
from nodrek.core.model.knowledge import CheckInfo, Knowledge
from nodrek.desktop.state.words import percent

MOST_OTHERS = 4
MOST_CAUSES = 6
MOST_REASONS = 5
LEAST_SHOWN = 0.01
STRONG_DB, PLAIN_DB = 10.0, 4.0


@dataclass(frozen=True)
class NextScreen:
    """The check worth most now. ``answers``: (result, words); ``unit`` set where a value is typed instead."""

    title: str
    corner: Corner | None
    check: CheckKind | None
    facts: str
    why: str
    steps: tuple[str, ...]
    usual: str
    cautions: tuple[str, ...]
    undo: str
    answers: tuple[tuple[str, str], ...]
    unit: str
    others: tuple[tuple[CheckKind, Corner, str], ...]
    question: str
    accept: str
    warnings: tuple[str, ...]


@dataclass(frozen=True)
class CauseRow:
    name: str
    share: float
    share_words: str
    reasons: tuple[tuple[str, str], ...]
    """(words, how strongly)"""


@dataclass(frozen=True)
class ReasonsColumn:
    corner: Corner
    title: str
    rows: tuple[CauseRow, ...]
    repairs: tuple[tuple[str, str], ...]


@dataclass(frozen=True)
class ReasonsScreen:
    columns: tuple[ReasonsColumn, ...]
    empty_text: str


@dataclass(frozen=True)
class SegmentRow:
    name: str
    kind: str
    share: float
    share_words: str
    is_connector: bool
    reading: str
    hole: bool
    likeliest: bool
    next_here: bool


@dataclass(frozen=True)
class LoomScreen:
    """A wire; ``wires`` the ready-made ones to pick from; ``probe`` the index to measure at next."""

    corner: Corner
    title: str
    sentence: str
    segments: tuple[SegmentRow, ...]
    wires: tuple[str, ...]
    probe: int | None
    pierces: bool
    holes: tuple[tuple[int, str], ...]
    caution: str = ""


def typed_check(
    kind: CheckKind, corner: Corner, value: float | None, mate: float | None, knowledge: Knowledge
) -> tuple[Check, str]:
    """A measured value as a check, and the question whether its unit is right (empty where it is)."""
    check = Check(kind, corner, "open" if value is None else None, value, mate)
    return check, judge_value(check, knowledge.checks[kind].unit).question


def present_next(
    diagnosis: Diagnosis | None,
    chosen: tuple[CheckKind, Corner] | None,
    question: tuple[str, Check] | None,
    knowledge: Knowledge,
) -> NextScreen:
    """The best check, or the one the person chose among the others."""
    if diagnosis is None or not diagnosis.corners:
        return _nothing("Enter a complaint or a code, or open a log: then the best check stands here.", diagnosis)
    steps = diagnosis.next_checks
    item = next((n for n in steps if (n.info.kind, n.corner) == chosen), steps[0] if steps else None)
    if item is None:
        return _nothing(_settled_words(diagnosis, knowledge), diagnosis)
    info = item.info
    is_measured = info.kind in MEASURED
    asked = question[0] if question and question[1].check is info.kind and question[1].corner is item.corner else ""
    several = len(diagnosis.corners) > 1
    return NextScreen(
        title=f"{item.corner.words.capitalize()}: {_lower_first(info.words)}",
        corner=item.corner,
        check=info.kind,
        facts=f"About {info.minutes:.0f} minutes · {info.tool}",
        why=_why(item, knowledge),
        steps=info.how,
        usual=f"Usual: {info.usual}." if info.usual else "",
        cautions=tuple(knowledge.cautions[c] for c in info.cautions),
        undo=f"Afterwards: {info.undo}." if info.undo else "",
        answers=() if is_measured else _answer_words(info),
        unit=info.unit if is_measured else "",
        others=tuple(
            (
                n.info.kind,
                n.corner,
                f"{n.corner.value + '  ' if several else ''}{n.info.words}, {n.info.minutes:.0f} min",
            )
            for n in steps
            if n is not item
        )[:MOST_OTHERS],
        question=asked,
        accept="It is right as typed" if asked else "",
        warnings=diagnosis.warnings,
    )


def _answer_words(info: CheckInfo) -> tuple[tuple[str, str], ...]:
    return tuple((word, _first_part(means)) for word, means in zip(info.outcomes, info.means, strict=True))


def _first_part(means: str) -> str:
    """The answer itself, without what it means."""
    return means.split(":", maxsplit=1)[0].strip().capitalize()


def _lower_first(words: str) -> str:
    return words[:1].lower() + words[1:]


def _why(item: NextCheck, knowledge: Knowledge) -> str:
    likely = sorted(item.answers, key=lambda a: -a[1])[:2]
    means = dict(zip(item.info.outcomes, item.info.means, strict=True))
    parts = [
        f"{_first_part(means[word])} ({percent(p)} likely): {_lower_first(knowledge.causes[cause].words)}, {percent(q)}"
        for word, p, cause, q in likely
    ]
    return ". ".join(parts) + "."


def _settled_words(diagnosis: Diagnosis, knowledge: Knowledge) -> str:
    first = [diagnosis.of(c)[0] for c in diagnosis.corners]
    told = "; ".join(f"{o.corner.words}: {knowledge.causes[o.cause].words}, {percent(o.probability)}" for o in first)
    return f"{'Settled' if diagnosis.settled else 'No check is left that is worth its minutes'}. {told}."


def _nothing(words: str, diagnosis: Diagnosis | None) -> NextScreen:
    warnings = diagnosis.warnings if diagnosis else ()
    return NextScreen(words, None, None, "", "", (), "", (), "", (), "", (), "", "", warnings)


def present_reasons(diagnosis: Diagnosis | None, corner: Corner, knowledge: Knowledge) -> ReasonsScreen:
    """The chosen corner, and its mate or another suspect beside it."""
    if diagnosis is None or not diagnosis.corners:
        return ReasonsScreen((), "No corner is suspected yet: enter codes or open a log.")
    order = [c for c in (corner, corner.mate, *diagnosis.corners) if c in diagnosis.corners]
    shown = list(dict.fromkeys(order))[:2]
    return ReasonsScreen(tuple(_column(diagnosis, c, knowledge) for c in shown), "")


def _column(diagnosis: Diagnosis, corner: Corner, knowledge: Knowledge) -> ReasonsColumn:
    rows = tuple(_cause(c, knowledge) for c in diagnosis.of(corner)[:MOST_CAUSES] if c.probability >= LEAST_SHOWN)
    repairs = tuple(
        (
            "Repair" if r.info.lasting else "Stop-gap, note a date to look again",
            "\n".join((r.info.option, *(f"Caution: {knowledge.cautions[c]}" for c in r.info.cautions))),
        )
        for r in diagnosis.repairs
        if r.corner is corner
    )
    return ReasonsColumn(corner, corner.words.capitalize(), rows, repairs)


def _cause(odds: CauseOdds, knowledge: Knowledge) -> CauseRow:
    reasons = tuple((_evidence_words(r.text), strength_words(r.weight_db)) for r in odds.because[:MOST_REASONS])
    words = knowledge.causes[odds.cause].words
    return CauseRow(words[:1].upper() + words[1:], odds.probability, percent(odds.probability), reasons)


def _evidence_words(text: str) -> str:
    head, _, rest = text.partition(": ")
    return f"{head.replace('_', ' ')}: {rest}" if rest else head.replace("_", " ")


def strength_words(weight_db: float) -> str:
    """How strongly something speaks, first in words, then in decibels."""
    size = abs(weight_db)
    strong = "strongly " if size >= STRONG_DB else "" if size >= PLAIN_DB else "a little "
    return f"{strong}{'for' if weight_db > 0 else 'against'} it, {weight_db:+.0f} dB"


def present_loom(case: Case, diagnosis: Diagnosis | None, corner: Corner, knowledge: Knowledge) -> LoomScreen:
    """The wire of the chosen corner, or the ready-made wires to pick from."""
    wires = tuple(knowledge.wires)
    loom = next((x for x in case.looms if x.corner is corner and x.segments), None)
    found = next((x for x in diagnosis.looms if x.corner is corner), None) if diagnosis else None
    title = f"Wire of the {corner.words}"
    if loom is None or found is None:
        words = "Pick the wire that is most like it, or describe it from the control unit to the sensor."
        return LoomScreen(corner, title, words, (), wires, None, False, ())
    readings = {r.after: r for r in loom.readings}
    rows = tuple(
        SegmentRow(
            s.name,
            knowledge.loom_kinds[s.kind].words,
            found.shares[i],
            percent(found.shares[i]),
            s.kind == "connector",
            _ohm_words(readings.get(i)),
            i in found.unsealed,
            i == found.likeliest,
            found.probe is not None and found.probe.after == i,
        )
        for i, s in enumerate(loom.segments)
    )
    probe = found.probe
    return LoomScreen(
        corner,
        title,
        _loom_sentence(found),
        rows,
        wires,
        probe.after if probe else None,
        bool(probe and probe.pierces),
        tuple((i, found.names[i]) for i in found.unsealed),
        "Caution: " + " ".join(knowledge.cautions[c] for c in knowledge.checks[CheckKind.WIRE_CONTINUITY].cautions),
    )


def _ohm_words(reading: LoomReading | None) -> str:
    if reading is None:
        return ""
    return "open" if reading.ohm is None else f"{reading.ohm:g} ohm"


def _loom_sentence(found: LoomSearch) -> str:
    likeliest = found.names[found.likeliest]
    if found.found:
        return f"The break is at “{likeliest}” ({percent(found.shares[found.likeliest])})."
    if found.probe is None:
        return f"Likeliest at “{likeliest}”; no new point is left to probe."
    at = found.names[found.probe.after]
    how = "pierce, and seal the hole afterwards" if found.probe.pierces else "open the connector"
    return (
        f"Measure from the control unit's plug to the far end of “{at}” ({how}; {found.probe.minutes:.0f} minutes; "
        f"about {found.expected_minutes:.0f} minutes until the break is found)."
    )
