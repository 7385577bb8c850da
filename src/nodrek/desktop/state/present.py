"""Session → Screen: every word and number of the window is finished here."""

from __future__ import annotations

from dataclasses import dataclass

from nodrek.core.model import Corner, Fault, Verdict
from nodrek.core.verdict.judge import FAULTY_FROM
from nodrek.desktop.state.drive import present_drive
from nodrek.desktop.state.ratios import present_ratios, shown_ratios
from nodrek.desktop.state.screen import (
    AnswerScreen,
    BusyScreen,
    CornerCard,
    Glyph,
    Place,
    PlanScreen,
    RingSign,
    Screen,
    Station,
    View,
)
from nodrek.desktop.state.session import Remedy, Session
from nodrek.desktop.state.signs import leading, sign_of, sign_of_verdict
from nodrek.desktop.state.turns import present_turns
from nodrek.desktop.state.words import (
    SHORT,
    advice_for_more,
    clean_headline,
    headline,
    minutes_words,
    percent,
    signed,
    sureness,
    worth_of_clean,
)
from nodrek.jobs.analyze import Answer

UNKNOWN_SIGN = RingSign(Glyph.UNKNOWN, 0.2)
REMEDIES: dict[Remedy | None, str] = {
    Remedy.COLUMNS: "Say which column is which…",
    Remedy.DATABASE: "Give a bus database…",
}


@dataclass(frozen=True)
class Units:
    """Units on screen; they switch everywhere at once."""

    speed: str = "km/h"

    @property
    def speed_factor(self) -> float:
        """Shown unit per m/s."""
        return {"km/h": 3.6, "mph": 1 / 0.44704}[self.speed]


def present(session: Session, units: Units) -> Screen:
    """The whole window for this session."""
    answer = session.answer
    invite = answer is None and session.error is None and session.busy is None
    return Screen(
        title=f"{answer.source.path.name} · Nodrek" if answer else "Nodrek",
        place=Place.DRIVE if session.view is View.DRIVE else Place.COMPARE,
        view=session.view,
        stations=_stations(session),
        plan=_plan(session, units),
        answer=_answer(session),
        drive=present_drive(session, units.speed_factor, units.speed) if session.view is View.DRIVE else None,
        turns=present_turns(session) if session.view is View.TURNS else None,
        ratios=present_ratios(session) if session.view is View.RATIOS else None,
        busy=_busy(session),
        invite=invite,
        notes=answer.analysis.warnings if answer else (),
        can_copy=answer is not None,
    )


def _stations(session: Session) -> tuple[Station, ...]:
    answer = session.answer
    drive = "no log yet"
    compare = "waits for a log"
    if answer is not None:
        rate = max(c.rate for c in answer.log.channels.values())
        drive = f"{minutes_words(answer.log.duration)}, {rate:.0f} values a second"
        findings = [f for f in answer.analysis.findings if f.confidence >= FAULTY_FROM]
        if findings:
            first = findings[0]
            compare = f"{' '.join(first.corners)}: {SHORT[first.fault]}"
            if len(findings) > 1:
                compare += f" and {len(findings) - 1} more"
        else:
            compare = "nothing found" if answer.analysis.verdict is Verdict.HEALTHY else "not enough data"
    on_drive = session.view is View.DRIVE
    return (
        Station(Place.DRIVE, "Drive", drive, on_drive, True),
        Station(Place.COMPARE, "Compare", compare, not on_drive, answer is not None),
    )


def _plan(session: Session, units: Units) -> PlanScreen:
    answer = session.answer
    cards = []
    for corner in Corner:
        if answer is None:
            cards.append(CornerCard(corner, corner.words.capitalize(), "no log", "", "", UNKNOWN_SIGN, False, False))
        elif corner in answer.log.corners:
            cards.append(_card(answer, corner, corner is session.corner))
        else:
            cards.append(
                CornerCard(corner, corner.words.capitalize(), "not in the log", "", "", UNKNOWN_SIGN, False, False)
            )
    details = _details(answer, session.corner, units) if answer else ()
    return PlanScreen(tuple(cards), details, session.corner.words.capitalize() if answer else "")


def _card(answer: Answer, corner: Corner, chosen: bool) -> CornerCard:
    finding = leading(answer.analysis, corner)
    sign = sign_of(answer.analysis, corner)
    if finding is not None:
        state, odds = SHORT[finding.fault], f"{percent(finding.confidence)} sure"
    else:
        state, odds = ("reads well" if sign.glyph is Glyph.EVEN else "too little seen"), ""
    ratios = shown_ratios(answer)
    ratio = f"{signed(ratios[corner][1])} %" if corner in ratios else ""
    return CornerCard(corner, corner.words.capitalize(), state, odds, ratio, sign, chosen, True)


def _details(answer: Answer, corner: Corner, units: Units) -> tuple[tuple[str, str], ...]:
    result = answer.analysis.corners[corner]
    channel = answer.log.channels[corner]
    rows = [("Column", channel.name)]
    ratios = shown_ratios(answer)
    if corner in ratios:
        low, _, high = ratios[corner]
        rows.append(("Against the others", f"{signed(low)} to {signed(high)} %"))
    rows.append(("Dropouts", str(result.dropouts)))
    if result.wake_up == result.wake_up:
        rows.append(("Wakes up at", f"{result.wake_up * units.speed_factor:.1f} {units.speed}"))
    rows.append(("A lost tooth would show", percent(result.could_see[Fault.RING_DAMAGE])))
    return tuple(rows)


def _answer(session: Session) -> AnswerScreen | None:
    if session.error is not None:
        kept = ("The result before it stays below.",) if session.answer else ()
        remedy = REMEDIES.get(session.remedy, "")
        lines = (session.error, *kept)
        return AnswerScreen("This log cannot be used", "", lines, (), UNKNOWN_SIGN, True, remedy)
    if session.answer is None:
        return None
    analysis = session.answer.analysis
    sign = sign_of_verdict(analysis)
    sure = [f for f in analysis.findings if f.confidence >= FAULTY_FROM]
    weak = [f for f in analysis.findings if f.confidence < FAULTY_FROM]
    others = tuple(f"{headline(f)}. {sureness(f.confidence)}." for f in (*sure[1:], *weak))
    if sure:
        first = sure[0]
        return AnswerScreen(headline(first), sureness(first.confidence), (first.summary,), others, sign)
    corners = {c.value: r for c, r in analysis.corners.items()}
    worth = [worth_of_clean(corners)]
    if analysis.verdict is Verdict.NOT_ENOUGH_DATA:
        worth.append(advice_for_more(corners))
    return AnswerScreen(clean_headline(analysis.verdict), "", tuple(worth), others, sign)


def _busy(session: Session) -> BusyScreen | None:
    if session.busy is None:
        return None
    busy = session.busy
    left = ""
    if busy.share > 0.1 and busy.since_s > 1.0:
        left = f"about {busy.since_s * (1 - busy.share) / busy.share:.0f} s left"
    return BusyScreen(busy.doing or "Reading the log", busy.share, left)
