"""Session → Screen: every word and number of the window is finished here."""

from __future__ import annotations

from dataclasses import dataclass, replace

from nodrek.core.model import Corner, Fault, Finding, Scene, Verdict
from nodrek.core.model.diagnosis import Diagnosis
from nodrek.core.model.knowledge import Knowledge
from nodrek.core.verdict.judge import FAULTY_FROM
from nodrek.core.verdict.not_turned import NOT_TURNED
from nodrek.desktop.state.board import BoardScreen, present_codes, present_complaint, present_prove
from nodrek.desktop.state.drive import present_drive
from nodrek.desktop.state.proof import present_loom, present_next, present_reasons
from nodrek.desktop.state.ratios import present_ratios, shown_ratios
from nodrek.desktop.state.screen import (
    ON_LOG,
    PLACE_OF,
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
from nodrek.desktop.state.waking import present_waking
from nodrek.desktop.state.words import (
    EVERY_WHEEL,
    SHORT_CAUSE,
    UNEXPLAINED,
    WORTH_OF_SPIN,
    advice_for_more,
    clean_headline,
    headline,
    minutes_words,
    percent,
    short,
    signed,
    stood_headline,
    sureness,
    unsettled_headline,
    worth_of_clean,
)
from nodrek.jobs.analyze import Answer

UNKNOWN_SIGN = RingSign(Glyph.UNKNOWN, 0.2)
REMEDIES: dict[Remedy | None, str] = {
    Remedy.COLUMNS: "Say which column is which…",
    Remedy.DATABASE: "Give a bus database…",
}


WOULD_SHOW = {
    Fault.RING_DAMAGE: "a single lost tooth",
    Fault.RING_RUNOUT: "a swing of 0.2 %",
    Fault.AIR_GAP: "silence to 8 km/h",
    Fault.INTERMITTENT: "one break a minute",
    Fault.TYRE_SIZE: "half a per cent of tyre",
}
"""The smallest fault of each kind worth finding, for the question what a clean log is worth."""


@dataclass(frozen=True)
class Units:
    """Units on screen; they switch everywhere at once."""

    speed: str = "km/h"

    @property
    def speed_factor(self) -> float:
        """Shown unit per m/s."""
        return {"km/h": 3.6, "mph": 1 / 0.44704}[self.speed]


def present(session: Session, units: Units, knowledge: Knowledge) -> Screen:
    """The whole window for this session."""
    answer, bench, view = session.answer, session.bench, session.view
    on_log = view in ON_LOG
    invite = on_log and answer is None and session.error is None and session.busy is None
    case_open = bench.is_open or not on_log
    return Screen(
        title=f"{answer.source.path.name} · Nodrek" if answer else "Nodrek",
        place=PLACE_OF[view],
        view=view,
        stations=_stations(session),
        plan=_plan(session, units),
        answer=_answer(session) if on_log else None,
        drive=present_drive(session, units.speed_factor, units.speed) if session.view is View.DRIVE else None,
        turns=present_turns(session) if session.view is View.TURNS else None,
        ratios=present_ratios(session) if session.view is View.RATIOS else None,
        waking=present_waking(session, units.speed_factor, units.speed) if view is View.WAKING else None,
        board=_board(session, knowledge),
        reasons=present_reasons(bench.diagnosis, session.corner, knowledge) if view is View.REASONS else None,
        loom=present_loom(bench.case, bench.diagnosis, session.corner, knowledge) if view is View.LOOM else None,
        next=present_next(bench.diagnosis, bench.chosen, bench.question, knowledge) if case_open else None,
        busy=_busy(session),
        invite=invite,
        notes=_notes(session),
        can_copy=answer is not None,
        can_undo=bool(bench.past),
        can_redo=bool(bench.future),
    )


def _notes(session: Session) -> tuple[str, ...]:
    """The warnings, but the one that is the answer itself."""
    if session.answer is None:
        return ()
    analysis = session.answer.analysis
    return analysis.warnings[:-1] if analysis.is_unnamed else analysis.warnings


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
            compare = f"{' '.join(first.corners)}: {short(first)}"
            if len(findings) > 1:
                compare += f" and {len(findings) - 1} more"
        elif answer.analysis.unexplained is not None:
            compare = f"{answer.analysis.unexplained}: not settled"
        else:
            compare = "nothing found" if answer.analysis.verdict is Verdict.HEALTHY else "not enough data"
    here = PLACE_OF[session.view]
    case, diagnosis = session.bench.case, session.bench.diagnosis
    told = len(case.lamps) + len(case.symptoms) + len(case.recent_work)
    words = {
        Place.COMPLAINT: ("Complaint", f"{told} noted" if told else "nothing noted"),
        Place.CODES: ("Codes", f"{len(case.codes)} read" if case.codes else "none read"),
        Place.DRIVE: ("Drive", drive),
        Place.COMPARE: ("Compare", compare),
        Place.PROVE: ("Prove", _proof_words(diagnosis, len(case.checks))),
    }
    return tuple(
        Station(place, *words[place], place is here, place is not Place.COMPARE or answer is not None)
        for place in Place
    )


def _proof_words(diagnosis: Diagnosis | None, done: int) -> str:
    checks = f"{done} check{'' if done == 1 else 's'} done"
    if diagnosis is None or not diagnosis.corners:
        return checks
    if diagnosis.settled:
        return f"settled, {checks}"
    best = max((diagnosis.of(c)[0] for c in diagnosis.corners), key=lambda o: o.probability)
    return f"{best.cause.value.replace('_', ' ')} {percent(best.probability)}"


def _board(session: Session, knowledge: Knowledge) -> BoardScreen | None:
    case, corner = session.bench.case, session.corner
    if session.view is View.COMPLAINT:
        return present_complaint(case, corner)
    if session.view is View.CODES:
        return present_codes(case, corner)
    if session.view is View.PROVE:
        return present_prove(case, session.bench.diagnosis, knowledge, session.bench.own_order)
    return None


def _plan(session: Session, units: Units) -> PlanScreen:
    answer, diagnosis = session.answer, session.bench.diagnosis
    layout = session.bench.case.vehicle.layout.corners
    cards = []
    for corner in Corner:
        name, chosen = corner.words.capitalize(), corner is session.corner
        case_known = session.bench.is_open and answer is None and corner in layout
        if answer is not None and corner in answer.log.corners:
            card = _card(answer, corner, chosen)
        elif case_known:
            card = CornerCard(corner, name, "not suspected", "", "", UNKNOWN_SIGN, chosen, True)
        else:
            state = "no log" if answer is None else "not in the log"
            card = CornerCard(corner, name, state, "", "", UNKNOWN_SIGN, chosen and answer is None, False)
        if session.bench.is_open and diagnosis is not None and corner in diagnosis.corners:
            lead = diagnosis.of(corner)[0]
            card = replace(card, state=SHORT_CAUSE[lead.cause], odds=percent(lead.probability))
        cards.append(card)
    details = _details(answer, session.corner, units) if answer else ()
    return PlanScreen(tuple(cards), details, session.corner.words.capitalize() if details else "")


def _card(answer: Answer, corner: Corner, chosen: bool) -> CornerCard:
    finding = leading(answer.analysis, corner)
    still = any(_may_stand(f) and corner in f.corners for f in answer.analysis.findings)
    sign = sign_of(answer.analysis, corner)
    if finding is not None:
        state, odds = short(finding), f"{percent(finding.confidence)} sure"
    elif still:
        state, odds = "reads zero", ""
    elif corner is answer.analysis.unexplained:
        state, odds = ("not settled" if answer.analysis.is_unsettled else "far off"), ""
    elif corner in answer.analysis.spins:
        state, odds = ("comes alive" if answer.analysis.spins[corner].alive else "not turned"), ""
    else:
        state, odds = ("reads well" if sign.glyph is Glyph.EVEN else "too little seen"), ""
    ratios = shown_ratios(answer)
    ratio = f"{signed(ratios[corner][1])} %" if corner in ratios else ""
    return CornerCard(corner, corner.words.capitalize(), state, odds, ratio, sign, chosen, True)


def _may_stand(finding: Finding) -> bool:
    """Whether a silent corner may be one that nothing turned."""
    return NOT_TURNED in finding.evidence.get("or", ())


def _details(answer: Answer, corner: Corner, units: Units) -> tuple[tuple[str, str], ...]:
    channel = answer.log.channels[corner]
    rows = [("Column", channel.name)]
    result = answer.analysis.corners.get(corner)
    if result is None or answer.analysis.scene is Scene.SPIN:
        spin = answer.analysis.spins[corner]
        peak = f"{spin.peak * units.speed_factor:.1f} {units.speed}" if spin.alive else "nothing read"
        return (*rows, ("Turned", f"as number {spin.order}" if spin.order else "perhaps not"), ("Fastest", peak))
    ratios = shown_ratios(answer)
    if corner in ratios:
        low, _, high = ratios[corner]
        rows.append(("Against the others", f"{signed(low)} to {signed(high)} %"))
    rows.append(("Dropouts", str(result.dropouts)))
    if result.wake_up == result.wake_up:
        rows.append(("Wakes up at", f"{result.wake_up * units.speed_factor:.1f} {units.speed}"))
    rows.append(("Would have shown:", ""))
    rows += [(words, percent(result.could_see[fault])) for fault, words in WOULD_SHOW.items()]
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
    still = [f for f in weak if _may_stand(f)]
    if still:
        return AnswerScreen(stood_headline([f.corners[0] for f in still]), "", (still[0].summary,), others, sign)
    if analysis.scene is Scene.SPIN:
        return AnswerScreen(EVERY_WHEEL, "", (WORTH_OF_SPIN,), others, sign)
    if analysis.unexplained is not None:
        headed = unsettled_headline(analysis.unexplained) if analysis.is_unsettled else UNEXPLAINED
        return AnswerScreen(headed, "", analysis.warnings[-1:], others, sign)
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
