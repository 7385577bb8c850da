"""The case on the bench: intents, undo, and the words of its screens. No Qt."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nodrek.core.diagnosis.engine import diagnose
from nodrek.core.model import Corner, Fault, Finding
from nodrek.core.model.case import (
    Access,
    Case,
    CaseLog,
    CaseVehicle,
    Check,
    CheckKind,
    Code,
    CodeKind,
    CodeState,
    Lamp,
    Layout,
    LoomReading,
    Quality,
    SensorKind,
    Symptom,
    Work,
    WorkPart,
)
from nodrek.desktop.state import case as cases
from nodrek.desktop.state import session as intents
from nodrek.desktop.state.board import (
    BoardScreen,
    check_words,
    policy_words,
    present_codes,
    present_complaint,
    present_prove,
)
from nodrek.desktop.state.case import Bench
from nodrek.desktop.state.present import Units, present
from nodrek.desktop.state.proof import present_loom, present_next, present_reasons, strength_words, typed_check
from nodrek.desktop.state.screen import FIRST_VIEW, PLACE_OF, Place, View
from nodrek.desktop.state.session import Session
from nodrek.io.knowledge import trade_knowledge

KNOWLEDGE = trade_knowledge()
FL, FR, RL = Corner.FL, Corner.FR, Corner.RL
CIRCUIT = Code(CodeKind.CIRCUIT, FL, CodeState.CURRENT)

PRESSES = [
    *(("lamps", lamp.value) for lamp in Lamp),
    *(("symptoms", symptom.value) for symptom in Symptom),
    *(("work", part.value) for part in WorkPart),
    ("sensor", "passive"),
    ("salt", "yes"),
    ("salt", "no"),
    *(("codes", kind.value) for kind in CodeKind),
    *((group, key) for group in ("can", "cannot") for key in ("ring_visible", "scope", "wiring_diagram")),
]


def buttons(screen: BoardScreen) -> dict[tuple[str, str], bool]:
    return {(g.key, c.key): c.on for g in screen.groups for c in g.choices}


@pytest.mark.parametrize(("group", "key"), PRESSES)
@pytest.mark.parametrize("corner", [FL, RL])
def test_a_choice_pressed_twice_is_as_before(group: str, key: str, corner: Corner) -> None:
    """What is not known, then known, then not known again."""
    once = cases.press(Case(), group, key, corner)
    assert once != Case()
    assert cases.press(once, group, key, corner) == Case()


@settings(max_examples=60, deadline=None)
@given(st.lists(st.tuples(st.sampled_from(PRESSES), st.sampled_from(list(Corner))), max_size=25))
def test_everything_entered_can_be_undone_and_done_again(presses: list[tuple[tuple[str, str], Corner]]) -> None:
    bench = Bench()
    states = [bench.case]
    for (group, key), corner in presses:
        bench = cases.entered(bench, cases.press(bench.case, group, key, corner))
        states.append(bench.case)
    for before in reversed(states[:-1]):
        bench = cases.undo(bench)
        assert bench.case == before
    assert cases.undo(bench) is bench
    for after in states[1:]:
        bench = cases.redo(bench)
        assert bench.case == after
    assert cases.redo(bench) is bench


def test_a_new_entry_forgets_what_was_undone() -> None:
    bench = cases.entered(Bench(), cases.press(Case(), "lamps", "abs", FL))
    bench = cases.entered(cases.undo(bench), cases.press(Case(), "lamps", "brake", FL))
    assert not bench.future
    assert bench.case.lamps == (Lamp.BRAKE,)


def test_the_past_has_an_end() -> None:
    bench = Bench()
    for age in range(2 * cases.MOST_STEPS):
        bench = cases.entered(bench, cases.type_number(bench.case, "age_years", float(age)))
    assert len(bench.past) == cases.MOST_STEPS


def test_boards_show_what_is_in_the_case() -> None:
    case = Case(
        vehicle=CaseVehicle(layout=Layout.TRAILER_2, sensor=SensorKind.PASSIVE, road_salt=True, age_years=12.0),
        lamps=(Lamp.ABS,),
        symptoms=(Symptom.WHEN_WET,),
        recent_work=(Work(WorkPart.SENSOR, RL, Quality.USED), Work(WorkPart.BRAKE, FL)),
    )
    screen = present_complaint(case, RL)
    on = {key for key, pressed in buttons(screen).items() if pressed}
    assert on == {
        ("lamps", "abs"),
        ("symptoms", "worse_when_wet"),
        ("work", "sensor"),
        ("quality", "used"),
        ("layout", "trailer_2"),
        ("sensor", "passive"),
        ("salt", "yes"),
    }
    assert {f.key: f.value for f in screen.fields} == {"age_years": "12", "odometer_km": ""}
    assert "quality" not in {g.key for g in present_complaint(case, FL).groups}


def test_whose_sensor_was_fitted() -> None:
    case = cases.press(Case(), "work", "sensor", FR)
    case = cases.press(case, "quality", "aftermarket", FR)
    assert case.recent_work == (Work(WorkPart.SENSOR, FR, Quality.AFTERMARKET),)
    assert cases.press(case, "quality", "aftermarket", FR).recent_work[0].quality is Quality.UNKNOWN
    assert cases.press(case, "quality", "used", FL) == case


def test_codes_by_button_and_by_list() -> None:
    case = cases.press(Case(), "codes", "circuit", FL)
    assert case.codes == (CIRCUIT,)
    case = cases.press(case, "state", "stored", FL)
    assert case.codes[0].state is CodeState.STORED
    case = cases.add_codes(case, (Code(CodeKind.RATE, FR, text="C0034-2F"), Code(CodeKind.RATE, FR, text="C0034-2F")))
    assert cases.add_codes(case, (case.codes[-1],)) is case
    screen = present_codes(case, FL)
    assert screen.rows[0].text == "Front left · electrical circuit · stored"
    assert "C0034-2F" in screen.rows[1].text
    assert cases.remove_row(case, screen.rows[0].key).codes == case.codes[1:]
    assert "No code entered yet" in present_codes(Case(), FL).rows_title


def test_numbers_are_typed_and_cleared() -> None:
    case = cases.type_number(Case(), "price:hour", 80.0)
    case = cases.type_number(case, "odometer_km", 91_000.0)
    assert dict(case.prices) == {"hour": 80.0}
    assert case.vehicle.odometer_km == 91_000.0
    assert cases.type_number(cases.type_number(case, "price:hour", None), "odometer_km", None) == Case()


def test_a_check_done_again_replaces_the_first() -> None:
    case = cases.answer_check(Case(), Check(CheckKind.WIGGLE, FL, "steady"))
    case = cases.answer_check(case, Check(CheckKind.WIGGLE, FR, "steady"))
    case = cases.answer_check(case, Check(CheckKind.WIGGLE, FL, "changes"))
    assert [(c.corner, c.result) for c in case.checks] == [(FR, "steady"), (FL, "changes")]
    prove = present_prove(case, None, KNOWLEDGE)
    assert [r.text for r in prove.rows] == [
        "Front right: wiggle and tug the lead while measuring · steady",
        "Front left: wiggle and tug the lead while measuring · changes",
    ]
    assert cases.remove_row(case, prove.rows[0].key).checks == case.checks[1:]


def test_measured_checks_in_words() -> None:
    check = Check(CheckKind.AC_MILLIVOLTS, RL, value=75.0, mate_value=320.0)
    assert check_words(check, KNOWLEDGE).endswith("75 mV, mate 320 mV")
    assert check_words(Check(CheckKind.WIRE_CONTINUITY, RL, "open"), KNOWLEDGE).endswith("· open")
    assert check_words(Check(CheckKind.ASK_CONTROL_UNIT, None, "silent"), KNOWLEDGE).startswith("Ask the control unit")


def test_typed_values_are_asked_about_or_taken() -> None:
    check, question = typed_check(CheckKind.SENSOR_RESISTANCE, FL, 1.1, 1120.0, KNOWLEDGE)
    assert "thousand times too small" in question
    check, question = typed_check(CheckKind.SENSOR_RESISTANCE, FL, None, 1120.0, KNOWLEDGE)
    assert (check.result, check.value, question) == ("open", None, "")


def test_next_says_what_to_do_and_why() -> None:
    result = diagnose(Case(codes=(CIRCUIT,)), KNOWLEDGE, costs=False)
    screen = present_next(result, None, None, KNOWLEDGE)
    assert screen.title == "Front left: clear the codes and wait, standing still"
    assert [word for word, _ in screen.answers] == ["returns_at_once", "returns_when_moving", "stays_away"]
    assert screen.cautions
    assert 3 <= len(screen.steps) <= 6
    assert "likely" in screen.why
    kind, corner, words = screen.others[0]
    other = present_next(result, (kind, corner), None, KNOWLEDGE)
    assert other.check is kind
    assert other.title.lower().startswith("front left: " + words.split(",")[0].lower()[:12])
    assert (CheckKind.CLEAR_AND_WAIT, FL) in [(k, c) for k, c, _ in other.others]


def test_next_without_a_suspect_and_when_settled() -> None:
    assert "Enter a complaint" in present_next(None, None, None, KNOWLEDGE).title
    checks = (
        Check(CheckKind.CLEAR_AND_WAIT, FL, "returns_at_once"),
        Check(CheckKind.WIRE_CONTINUITY, FL, "open"),
    )
    case = Case(vehicle=CaseVehicle(sensor=SensorKind.ACTIVE), codes=(CIRCUIT,), checks=checks)
    settled = diagnose(case, KNOWLEDGE)
    screen = present_next(settled, None, None, KNOWLEDGE)
    assert screen.title.startswith("Settled. front left: a wire is broken")
    assert screen.check is None
    assert all("minutes" in policy_words(p) for p in settled.policies)


def test_a_question_stands_only_at_its_check() -> None:
    case = Case(vehicle=CaseVehicle(sensor=SensorKind.PASSIVE), codes=(CIRCUIT,))
    result = diagnose(case, KNOWLEDGE, costs=False)
    check = Check(CheckKind.SENSOR_RESISTANCE, FL, value=1.1)
    asked = present_next(result, (CheckKind.SENSOR_RESISTANCE, FL), ("is it kilo-ohm", check), KNOWLEDGE)
    assert (asked.question, asked.accept) == ("is it kilo-ohm", "It is right as typed")
    assert asked.unit == "ohm"
    assert not asked.answers
    elsewhere = present_next(result, (CheckKind.LOOK_AT_LEAD, FL), ("is it kilo-ohm", check), KNOWLEDGE)
    assert not elsewhere.question


def test_reasons_stand_side_by_side() -> None:
    findings = (Finding(Fault.NO_SIGNAL, (FL,), 0.97, ""), Finding(Fault.RING_DAMAGE, (FR,), 0.95, ""))
    result = diagnose(Case(findings=findings), KNOWLEDGE, costs=False)
    screen = present_reasons(result, FR, KNOWLEDGE)
    assert [c.corner for c in screen.columns] == [FR, FL]
    first = screen.columns[0].rows[0]
    assert first.name == "The ring has lost teeth or poles"
    assert first.share == max(r.share for r in screen.columns[0].rows)
    assert any("log: ring damage" in words for words, _ in first.reasons)
    assert present_reasons(None, FL, KNOWLEDGE).empty_text


@pytest.mark.parametrize(
    ("weight", "words"),
    [(12.0, "strongly for it, +12 dB"), (5.2, "for it, +5 dB"), (-2.0, "a little against it, -2 dB")],
)
def test_strength_in_words(weight: float, words: str) -> None:
    assert strength_words(weight) == words


def test_the_wire_is_picked_read_and_sealed() -> None:
    case = cases.pick_wire(Case(), FL, KNOWLEDGE.wires["trailer corner"])
    empty = present_loom(Case(), None, FL, KNOWLEDGE)
    assert not empty.segments
    assert "trailer corner" in empty.wires
    case = cases.read_wire(case, FL, LoomReading(2, None, pierced=True))
    screen = present_loom(case, diagnose(case, KNOWLEDGE, costs=False), FL, KNOWLEDGE)
    assert screen.segments[2].reading == "open"
    assert screen.segments[2].hole
    assert screen.holes == ((2, "axle loop"),)
    assert sum(s.share for s in screen.segments) == pytest.approx(1.0)
    assert screen.probe is not None
    again = cases.read_wire(case, FL, LoomReading(2, 0.3))
    assert again.looms[0].readings == (LoomReading(2, 0.3, pierced=True),)
    sealed = cases.seal(case, FL, 2)
    assert not present_loom(sealed, diagnose(sealed, KNOWLEDGE, costs=False), FL, KNOWLEDGE).holes
    other = cases.pick_wire(sealed, FL, KNOWLEDGE.wires["car, rear corner"])
    assert not other.looms[0].readings


def test_a_log_is_kept_by_name_or_by_what_it_showed(tmp_path: Path) -> None:
    inside, outside = tmp_path / "job" / "before.csv", tmp_path / "elsewhere.csv"
    inside.parent.mkdir()
    finding = Finding(Fault.RING_DAMAGE, (RL,), 0.95, "")
    assert cases.with_log(Case(), inside.parent, None, ()) == Case()
    kept = cases.with_log(Case(), inside.parent, inside, (finding,))
    assert kept.logs == (CaseLog("before.csv"),)
    assert cases.with_log(kept, inside.parent, inside, (finding,)) == kept
    noted = cases.with_log(Case(findings=(replace(finding, confidence=0.4),)), inside.parent, outside, (finding,))
    assert noted.findings == (finding,)


# ---- the session round it


def test_stations_tell_what_is_there() -> None:
    session = intents.press(Session(), "lamps", "abs")
    session = intents.enter(session, cases.add_codes(session.bench.case, (CIRCUIT,)))
    session = intents.diagnosed(session, session.bench.case, diagnose(session.bench.case, KNOWLEDGE, costs=False))
    screen = present(session, Units(), KNOWLEDGE)
    told = {s.place: s.state for s in screen.stations}
    assert told[Place.COMPLAINT] == "1 noted"
    assert told[Place.CODES] == "1 read"
    assert told[Place.PROVE].startswith("sensor failed")
    assert screen.can_undo
    assert not screen.can_redo
    card = next(c for c in screen.plan.corners if c.corner is FL)
    assert (card.state, card.chosen) == ("sensor", True)


def test_each_station_has_a_first_view() -> None:
    assert {PLACE_OF[view] for view in FIRST_VIEW.values()} == set(Place)
    assert all(PLACE_OF[FIRST_VIEW[place]] is place for place in Place)
    assert set(PLACE_OF) == set(View)


def test_a_diagnosis_of_an_older_case_is_dropped() -> None:
    session = intents.press(Session(), "lamps", "abs")
    old = session.bench.case
    session = intents.press(session, "lamps", "brake")
    assert intents.diagnosed(session, old, diagnose(old, KNOWLEDGE, costs=False)) is session


def test_answers_questions_and_other_checks() -> None:
    session = intents.enter(Session(), Case(codes=(CIRCUIT,)))
    session = intents.choose_check(session, CheckKind.WIGGLE, FR)
    assert (session.bench.chosen, session.corner) == ((CheckKind.WIGGLE, FR), FR)
    check = Check(CheckKind.SENSOR_RESISTANCE, FR, value=1.1)
    session = intents.ask(session, "is it kilo-ohm", check)
    assert session.bench.question == ("is it kilo-ohm", check)
    session = intents.answered(session, replace(check, value=1100.0))
    assert session.bench.question is None
    assert session.bench.chosen is None
    assert intents.undo(session).bench.case == Case(codes=(CIRCUIT,))
    assert intents.redo(intents.undo(session)).bench.case == session.bench.case


def test_another_case_has_no_past_and_a_corner_it_has() -> None:
    session = intents.press(Session(), "lamps", "abs")
    trailer = Case(vehicle=CaseVehicle(layout=Layout.TRAILER_2))
    taken = intents.take_case(session, trailer, Path("trailer.nodrek.json"))
    assert not taken.bench.past
    assert taken.corner is RL
    assert intents.choose_corner(taken, FL) is taken
    refused = intents.refuse_case(taken, "checks[0].result: no")
    assert refused.error == "checks[0].result: no"
    assert refused.bench.case == trailer


def test_access_that_is_not_known_stays_unknown() -> None:
    case = cases.press(Case(), "can", "scope", FL)
    assert case.access == Access(scope=True)
    case = cases.press(case, "cannot", "scope", FL)
    assert case.access == Access(scope=False)
    assert buttons(present_prove(case, None, KNOWLEDGE))["cannot", "scope"]
    assert not buttons(present_prove(case, None, KNOWLEDGE))["can", "scope"]


def test_a_wire_in_ones_own_words() -> None:
    words = {key: kind.words for key, kind in KNOWLEDGE.loom_kinds.items()}
    told = cases.described_wire("unit plug connector; sill under covers, bend at the arch,, flexing part , lead", words)
    assert told == (
        ("unit plug connector", "connector"),
        ("sill under covers", "under_cover"),
        ("bend at the arch", "bend"),
        ("flexing part", "flexing"),
        ("lead", "plain"),
    )
    assert cases.described_wire(" , ;", words) == ()
    assert len(cases.described_wire("bend," * 500, words)) == 60


def test_ones_own_order_is_no_entry_of_the_case() -> None:
    session = intents.enter(Session(), Case(codes=(CIRCUIT,)))
    for key in ("swap_sensors", "wiggle", "scope_shape", "wiggle"):
        session = intents.press(session, "order", key)
    assert session.bench.own_order == (CheckKind.SWAP_SENSORS, CheckKind.SCOPE_SHAPE)
    assert len(session.bench.past) == 1
    result = diagnose(session.bench.case, KNOWLEDGE, (), session.bench.own_order)
    screen = present_prove(session.bench.case, result, KNOWLEDGE, session.bench.own_order)
    assert any(fact.startswith("Own order: about") for fact in screen.facts)
    title = next(g.title for g in screen.groups if g.key == "order")
    assert title.endswith("swap sensors, then scope shape")
