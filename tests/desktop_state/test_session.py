"""Session and presenters, without Qt."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from conftest import drive
from nodrek.cli.show import answer_text
from nodrek.core.model import Corner, Fault, Finding, RawLog, Verdict
from nodrek.core.verdict.held import HELD
from nodrek.core.verdict.ring import MOVED
from nodrek.desktop.state import session as intents
from nodrek.desktop.state.drive import COLUMNS
from nodrek.desktop.state.present import Units, present
from nodrek.desktop.state.report import answer_lines
from nodrek.desktop.state.screen import PLACE_OF, Glyph, Place, Screen, View
from nodrek.desktop.state.session import Session
from nodrek.desktop.state.words import headline, lost_words, minutes_words, percent, short, signed, sureness
from nodrek.io.knowledge import trade_knowledge
from nodrek.jobs.analyze import Answer, analyze_file
from nodrek.simulate.faults import Cause, SimulatedFault

UNITS = Units()


def shown(session: Session, units: Units) -> Screen:
    return present(session, units, trade_knowledge())


@pytest.fixture(scope="module")
def answers(tmp_path_factory: pytest.TempPathFactory) -> Callable[[str], Answer]:
    """Answers of a healthy drive and of one per fault, made when first asked for."""
    from nodrek.io.logs.write import write_csv

    folder = tmp_path_factory.mktemp("logs")
    faults = {
        "healthy": (),
        "lost_tooth": (SimulatedFault(Corner.RL, Cause.MISSING_TEETH),),
        "dead": (SimulatedFault(Corner.FR, Cause.DEAD),),
        "frozen": (SimulatedFault(Corner.FR, Cause.FROZEN, value=9.0),),
        "breaks": (SimulatedFault(Corner.FL, Cause.BROKEN_LEAD),),
        "tyre": (SimulatedFault(Corner.RR, Cause.WHEEL_SIZE, size=-0.02),),
        "swing": (SimulatedFault(Corner.RR, Cause.ECCENTRIC_RING, size=0.008),),
    }
    known: dict[str, Answer] = {}

    def get(name: str) -> Answer:
        if name not in known:
            path = folder / f"{name}.csv"
            # a quiet vehicle: its log is worth something for every fault
            write_csv(drive(11, *faults[name]), path)
            known[name] = analyze_file(path)
        return known[name]

    return get


def showing(answer: Answer, **changes: object) -> Session:
    begun = intents.begin(Session(), answer.source.path)
    return replace(intents.finish(begun, begun.revision, answer), **changes)  # type: ignore[arg-type]


def test_state_needs_no_qt() -> None:
    code = "import sys, nodrek.desktop.state.present; sys.exit(any(m.startswith('PySide6') for m in sys.modules))"
    assert subprocess.run([sys.executable, "-c", code], check=False).returncode == 0


def test_nothing_loaded_invites() -> None:
    screen = shown(Session(), UNITS)
    assert screen.invite
    assert screen.answer is None
    assert {c.sign.glyph for c in screen.plan.corners} == {Glyph.UNKNOWN}
    assert [s.place for s in screen.stations if not s.enabled] == [Place.COMPARE]


@pytest.mark.parametrize(("name", "corner", "glyph", "words"), [
    ("lost_tooth", Corner.RL, Glyph.NOTCH, "lost a tooth"),
    ("dead", Corner.FR, Glyph.EMPTY, "no signal"),
    ("frozen", Corner.FR, Glyph.BAR, "stuck"),
    ("breaks", Corner.FL, Glyph.BROKEN, "breaks"),
    ("tyre", Corner.RR, Glyph.BESIDE, "tyre"),
    ("swing", Corner.RR, Glyph.OFF_CENTRE, "out of true"),
])  # fmt: skip
def test_each_fault_has_its_ring_and_its_words(
    answers: Callable[[str], Answer], name: str, corner: Corner, glyph: Glyph, words: str
) -> None:
    screen = shown(showing(answers(name)), UNITS)
    assert screen.answer is not None
    assert screen.answer.headline.startswith(corner.words.capitalize())
    assert words in screen.answer.headline
    card = next(c for c in screen.plan.corners if c.corner is corner)
    assert card.sign.glyph is glyph
    assert card.chosen
    assert all(
        c.sign.glyph is Glyph.EVEN
        for c in screen.plan.corners
        if c.corner is not corner and name not in ("dead", "frozen")
    )


def test_a_corner_without_its_mate_asks_for_it(tmp_path: Path) -> None:
    from nodrek.io.logs.write import write_csv

    raw = drive(11)
    write_csv(replace(raw, channels=tuple(c for c in raw.channels if "FL" not in c.name)), tmp_path / "three.csv")
    answer = analyze_file(tmp_path / "three.csv")
    assert answer.analysis.verdict is Verdict.NOT_ENOUGH_DATA
    screen = shown(showing(answer, view=View.RATIOS), UNITS)
    assert screen.answer is not None
    assert screen.ratios is not None
    assert "front left" in screen.answer.lines[-1]
    assert (1.3, "without its mate ±1.3 %") in screen.ratios.marks


def test_an_uncounted_loss_has_no_number() -> None:
    """Without the number of teeth the size of a dip may leave the count open."""
    said = {k: headline(Finding(Fault.RING_DAMAGE, (Corner.RL,), 0.9, "", {"teeth_lost": k})) for k in (None, 1, 3)}
    assert said[None] == "Rear left: the ring has lost teeth"
    assert said[1].endswith("a tooth")
    assert said[3].endswith("about 3 teeth")
    unsure = {"teeth_lost": 1, "teeth_lost_chance": 0.5}
    assert headline(Finding(Fault.RING_DAMAGE, (Corner.RL,), 0.9, "", unsure)).endswith("a tooth or more")
    moved = Finding(Fault.RING_DAMAGE, (Corner.RL,), 0.9, "", {"teeth_lost": None, "pattern": MOVED})
    assert headline(moved).endswith("out of its place")
    assert short(moved) == "moved tooth"
    assert lost_words([2], sure=False) == "2 teeth?"
    assert [lost_words(c, sure=True) for c in ([1], [2, 1], [None], [1, None])] == [
        "1 tooth",
        "3 teeth",
        "? teeth",
        "? teeth",
    ]


def test_a_slower_wheel_is_drawn_larger(answers: Callable[[str], Answer]) -> None:
    """2 % slower means 2 % more circumference: the ring beside the other is the larger one."""
    screen = shown(showing(answers("tyre")), UNITS)
    assert next(c for c in screen.plan.corners if c.corner is Corner.RR).sign.larger


def test_a_clean_result_says_what_it_is_worth(answers: Callable[[str], Answer]) -> None:
    screen = shown(showing(answers("healthy")), UNITS)
    assert screen.answer is not None
    assert "Nothing found" in screen.answer.headline
    assert "lost tooth would have shown" in screen.answer.lines[0]


def test_too_little_data_says_what_drive_would_settle_it(answers: Callable[[str], Answer]) -> None:
    answer = answers("healthy")
    unsure = replace(answer, analysis=replace(answer.analysis, verdict=Verdict.NOT_ENOUGH_DATA))
    screen = shown(showing(unsure), UNITS)
    assert screen.answer is not None
    assert "not enough" in screen.answer.headline
    assert screen.answer.lines[1].startswith("Log ")


@pytest.mark.parametrize("name", ["healthy", "lost_tooth", "dead"])
@pytest.mark.parametrize("view", list(View))
@pytest.mark.parametrize("corner", list(Corner))
def test_every_view_of_every_corner_can_be_shown(
    answers: Callable[[str], Answer], name: str, view: View, corner: Corner
) -> None:
    screen = shown(showing(answers(name), view=view, corner=corner), UNITS)
    parts = {
        View.DRIVE: screen.drive, View.TURNS: screen.turns, View.RATIOS: screen.ratios, View.WAKING: screen.waking,
        View.REASONS: screen.reasons, View.LOOM: screen.loom,
    }  # fmt: skip
    board = view in (View.COMPLAINT, View.CODES, View.PROVE)
    assert [v for v, part in parts.items() if part is not None] == ([] if board else [view])
    assert (screen.board is not None) is board
    assert screen.place is PLACE_OF[view]
    assert (screen.next is not None) is (screen.place not in (Place.DRIVE, Place.COMPARE))


def test_a_gap_that_the_control_unit_hides_stands_where_the_corner_reads_by_itself(
    answers: Callable[[str], Answer],
) -> None:
    answer = answers("healthy")
    gap = Finding(Fault.AIR_GAP, (Corner.RL,), 0.95, "Reads by itself above 18 km/h.", {HELD: 60})
    corners = {**answer.analysis.corners, Corner.RL: replace(answer.analysis.corners[Corner.RL], wake_up=5.0)}
    hidden = replace(answer, analysis=replace(answer.analysis, findings=(gap,), corners=corners))
    waking = shown(showing(hidden, view=View.WAKING), UNITS).waking
    assert waking is not None
    rows = {row.corner: row for row in waking.rows}
    assert rows[Corner.RL].middle == pytest.approx(18.0)
    assert "by itself" in rows[Corner.RL].text
    assert not rows[Corner.RL].begins
    assert waking.top > 18.0
    assert rows[Corner.RR].begins


def test_a_corner_that_gives_nothing_explains_itself(answers: Callable[[str], Answer]) -> None:
    turns = shown(showing(answers("dead"), view=View.TURNS, corner=Corner.FR), UNITS).turns
    assert turns is not None
    assert turns.own is None
    assert "gives nothing" in turns.empty_text


def test_the_raster_shows_the_streak_where_the_ring_face_shows_the_arc(answers: Callable[[str], Answer]) -> None:
    turns = shown(showing(answers("lost_tooth"), view=View.TURNS), UNITS).turns
    assert turns is not None
    assert turns.own is not None
    assert turns.own_face is not None
    cells = np.frombuffer(turns.own.levels, np.uint8).reshape(turns.own.height, turns.own.width).astype(float)
    cells[cells == 0] = np.nan
    darkest = int(np.argmin(np.nanmean(cells, axis=0)))
    centre, width = turns.own_face.arcs[0]
    off = ((darkest + 0.5) / turns.own.width + turns.own.begins - centre + 0.5) % 1.0 - 0.5
    assert abs(off) < width / 2 + 0.03
    assert turns.own_face.arc_text == "1 tooth"


def test_thinning_keeps_every_dip_and_stays_small(answers: Callable[[str], Answer]) -> None:
    answer = answers("lost_tooth")
    drive_screen = shown(showing(answer), UNITS).drive
    assert drive_screen is not None
    trace = next(t for t in drive_screen.speeds if t.corner is Corner.RL)
    assert trace.thinned
    assert len(trace.x) <= 2 * COLUMNS
    assert np.nanmin(trace.y) == pytest.approx(3.6 * float(answer.log.channels[Corner.RL].speed.min()))
    deviation = next(t for t in drive_screen.deviations if t.corner is Corner.RL)
    assert np.nanmin(deviation.y) < -15


def test_zooming_shows_the_samples_themselves(answers: Callable[[str], Answer]) -> None:
    session = intents.look_at(showing(answers("lost_tooth")), 30.0, 34.0)
    drive_screen = shown(session, UNITS).drive
    assert drive_screen is not None
    assert drive_screen.window == (30.0, 34.0)
    assert not drive_screen.speeds[0].thinned
    back = shown(intents.show_all(session), UNITS).drive
    assert back is not None
    assert back.window == back.whole


def test_a_clicked_streak_leads_to_its_moments_and_back(answers: Callable[[str], Answer]) -> None:
    answer = answers("lost_tooth")
    arc = answer.analysis.corners[Corner.RL].turn.arcs[0]
    session = showing(answer, view=View.TURNS)
    there = intents.mark_angle(session, 200.0, arc.centre_turn)
    assert there.view is View.DRIVE
    assert there.marks
    # dips fall on the marked moments, wherever in the log one clicks
    motion = answer.examination.motions[Corner.RL]
    apart: list[float] = []
    for turn in range(20, 400, 20):
        marks = np.array(intents.mark_angle(session, turn, arc.centre_turn).marks)
        shown = (motion.times > marks[0] - 0.1) & (motion.times < marks[-1] + 0.1)
        dips = motion.times[shown & (motion.score < -6)]
        if dips.size and marks.size > 2:
            apart += list(np.abs(dips[:, None] - marks).min(axis=1) / np.median(np.diff(marks)))
    assert len(apart) > 40
    assert np.median(apart) < 0.1
    again = intents.go_back(there)
    assert again.view is View.TURNS
    assert again.marked == arc.centre_turn


def test_stale_results_are_dropped(answers: Callable[[str], Answer]) -> None:
    first = intents.begin(Session(), Path("a.csv"))
    second = intents.begin(first, Path("b.csv"))
    assert intents.finish(second, first.revision, answers("healthy")) is second
    assert intents.fail(second, first.revision, "no") is second
    assert intents.progress(second, first.revision, 0.5, "x", 1.0) is second
    assert intents.finish(intents.cancel(second), second.revision, answers("healthy")).answer is None


def test_a_failed_log_keeps_the_result_before_it(answers: Callable[[str], Answer]) -> None:
    before = showing(answers("lost_tooth"))
    begun = intents.begin(before, Path("bad.csv"))
    failed = intents.fail(begun, begun.revision, "bad.csv is empty: record it again.")
    screen = shown(failed, UNITS)
    assert screen.answer is not None
    assert screen.answer.is_error
    assert "bad.csv is empty" in screen.answer.lines[0]
    assert screen.drive is not None
    assert failed.answer is before.answer


@pytest.mark.parametrize("view", list(View))
def test_a_failed_log_is_told_wherever_it_was_opened(view: View) -> None:
    begun = intents.begin(intents.choose_view(Session(), view), Path("bad.csv"))
    screen = shown(intents.fail(begun, begun.revision, "bad.csv is empty: record it again."), UNITS)
    assert screen.answer is not None
    assert "bad.csv is empty" in screen.answer.lines[0]


def test_progress_tells_the_time_left() -> None:
    begun = intents.begin(Session(), Path("a.csv"))
    busy = shown(intents.progress(begun, begun.revision, 0.25, "Comparing", 3.0), UNITS).busy
    assert busy is not None
    assert busy.left == "about 9 s left"


def test_units_switch_everywhere(answers: Callable[[str], Answer]) -> None:
    session = showing(answers("healthy"))

    def top(screen: Screen) -> float:
        assert screen.drive is not None
        return float(np.nanmax(screen.drive.speeds[-1].y))

    metric, miles = shown(session, UNITS), shown(session, Units("mph"))
    assert top(metric) / top(miles) == pytest.approx(1.609344)
    assert any("mph" in value for _, value in miles.plan.details)


def test_words() -> None:
    assert [minutes_words(s) for s in (7, 65, 3700)] == ["0:07 min", "1:05 min", "1:01 h"]
    assert percent(0.9999) == "99 %"
    assert percent(0.001) == "1 %"
    assert sureness(0.9999) == "As good as sure: 99 %"
    assert signed(-0.001) == "+0.00"


def test_the_copied_answer_holds_findings_and_ratios(answers: Callable[[str], Answer], healthy_raw: RawLog) -> None:
    lines = answer_lines(answers("lost_tooth"))
    assert lines[0] == "lost_tooth.csv"
    assert "lost a tooth" in lines[1]
    assert sum("against the others" in line for line in lines) == 4
    assert any("Nothing found" in line for line in answer_lines(answers("healthy")))


@pytest.mark.parametrize(("top_kmh", "turning", "headline"), [
    (90.0, ("FL", "FR"), "Rear left and rear right read zero: dead, or never turned"),
    (5.0, ("RL", "RR"), "Front left and front right read zero: dead, or never turned"),
    (60.0, ("RL",), "Front left, front right and rear right read zero: dead, or never turned"),
])  # fmt: skip
def test_wheels_on_rollers_are_not_called_dead(
    tmp_path: Path, top_kmh: float, turning: tuple[str, ...], headline: str
) -> None:
    times = np.arange(0.0, 60.0, 0.1)
    speed = top_kmh * np.clip(np.minimum(times, 59.0 - times) / 10.0, 0.0, 1.0)
    names = [f"Wheel speed {c} [km/h]" for c in Corner]
    rows = [",".join(f"{v if c.value in turning else 0.0:.2f}" for c in Corner) for v in speed]
    text = "\n".join([",".join(["Time [s]", *names]), *(f"{t:.1f},{r}" for t, r in zip(times, rows, strict=True)), ""])
    (tmp_path / "rollers.csv").write_text(text, encoding="utf-8")
    screen = shown(showing(analyze_file(tmp_path / "rollers.csv")), UNITS)
    assert screen.answer is not None
    assert screen.answer.headline == headline
    assert "turned" in screen.answer.lines[0]
    zero = [card.corner.value for card in screen.plan.corners if card.state == "reads zero"]
    assert zero == [c.value for c in Corner if c.value not in turning]


def test_what_no_fault_explains_is_the_answer_and_the_corner(answers: Callable[[str], Answer]) -> None:
    answer = answers("healthy")
    analysis = replace(
        answer.analysis, verdict=Verdict.NOT_ENOUGH_DATA, findings=(), unexplained=Corner.FR, warnings=("One.", "Off.")
    )
    session = showing(replace(answer, analysis=analysis))
    screen = shown(session, UNITS)
    assert session.corner is Corner.FR
    assert screen.answer is not None
    assert (screen.answer.lines, screen.notes) == (("Off.",), ("One.",))
    states = {card.corner: (card.state, card.sign.glyph) for card in screen.plan.corners}
    assert states[Corner.FR] == ("far off", Glyph.DOTTED)
    assert states[Corner.FL] == ("reads well", Glyph.EVEN)


def test_a_corner_with_one_of_two_faults_is_the_answer(answers: Callable[[str], Answer]) -> None:
    answer = answers("healthy")
    either = tuple(Finding(k, (Corner.RR,), p, "") for k, p in ((Fault.RING_RUNOUT, 0.45), (Fault.RING_DAMAGE, 0.3)))
    elsewhere = Finding(Fault.TYRE_SIZE, (Corner.FL,), 0.46, "")
    analysis = replace(
        answer.analysis, verdict=Verdict.NOT_ENOUGH_DATA, findings=(elsewhere, *either), unexplained=Corner.RR,
        warnings=("One.", "Either."),
    )  # fmt: skip
    session = showing(replace(answer, analysis=analysis))
    screen = shown(session, UNITS)
    assert session.corner is Corner.RR
    assert screen.answer is not None
    assert screen.answer.headline.startswith("Rear right: something is wrong")
    assert (screen.answer.lines, screen.notes, len(screen.answer.others)) == (("Either.",), ("One.",), 3)
    assert {c.corner: c.state for c in screen.plan.corners}[Corner.RR] == "not settled"
    assert [s.state for s in screen.stations if "settled" in s.state] == ["RR: not settled"]
    assert "Not settled: RR" in answer_text(replace(answer, analysis=analysis))


def test_the_face_of_a_ring_out_of_centre_says_how_far_it_swings(answers: Callable[[str], Answer]) -> None:
    """0.8 % of the radius, so 0.8 % of the speed; all of the ring was seen."""
    answer = answers("swing")
    turns = shown(showing(answer, corner=Corner.RR, view=View.TURNS), UNITS).turns
    assert turns is not None
    assert turns.own_face is not None
    told = turns.own_face.caption.removeprefix("swings by ±").removesuffix(" % once a turn")
    assert float(told) == pytest.approx(0.8, rel=0.1)
