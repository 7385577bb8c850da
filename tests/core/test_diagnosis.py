"""The engine of odds: against enumeration and closed forms, and stories of our own."""

from __future__ import annotations

from dataclasses import replace
from itertools import product

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import entropy

from nodrek.core.diagnosis import odds as joint
from nodrek.core.diagnosis.code_text import read_code, read_codes
from nodrek.core.diagnosis.engine import diagnose
from nodrek.core.diagnosis.evidence import Evidence, LogWord
from nodrek.core.diagnosis.loom import best_probe, search_loom
from nodrek.core.diagnosis.measured import judge_value
from nodrek.core.diagnosis.next_check import information_bits
from nodrek.core.diagnosis.odds import corner_odds
from nodrek.core.model import Corner, Fault, Finding
from nodrek.core.model.case import (
    Access,
    Case,
    CaseVehicle,
    Cause,
    Check,
    CheckKind,
    Code,
    CodeKind,
    CodeState,
    Layout,
    Loom,
    LoomReading,
    LoomSegment,
    SensorKind,
    Symptom,
    Work,
    WorkPart,
)
from nodrek.core.model.diagnosis import Diagnosis
from nodrek.io.knowledge import trade_knowledge

KNOWLEDGE = trade_knowledge()
FL, FR, RL, RR = Corner.FL, Corner.FR, Corner.RL, Corner.RR
ACTIVE, PASSIVE = CaseVehicle(sensor=SensorKind.ACTIVE), CaseVehicle(sensor=SensorKind.PASSIVE)
CIRCUIT = Code(CodeKind.CIRCUIT, FL, CodeState.CURRENT)
AT_ONCE = Check(CheckKind.CLEAR_AND_WAIT, FL, "returns_at_once")
SIZE = len(KNOWLEDGE.states)


def told(case: Case, *logs: LogWord) -> Diagnosis:
    return diagnose(case, KNOWLEDGE, logs, costs=False)


def lead(result: Diagnosis, corner: Corner) -> tuple[Cause, float]:
    first = result.of(corner)[0]
    return first.cause, first.probability


def likelihoods() -> st.SearchStrategy[np.ndarray]:
    return st.lists(st.floats(0.01, 1.0), min_size=SIZE, max_size=SIZE).map(np.array)


@settings(max_examples=30, deadline=None)
@given(likelihoods(), likelihoods())
def test_one_corner_is_bayes_rule(one: np.ndarray, other: np.ndarray) -> None:
    """Posterior ∝ prior × likelihoods, whatever the order they come in."""
    items = [Evidence(FL, "a", one), Evidence(FL, "b", other)]
    for order in (items, items[::-1]):
        found = corner_odds({FL: []}, {FL: order}, False, KNOWLEDGE)[FL].states
        expected = KNOWLEDGE.usual * one * other
        assert found == pytest.approx(expected / expected.sum(), rel=1e-9)


@settings(max_examples=15, deadline=None)
@given(likelihoods(), likelihoods(), likelihoods(), st.booleans())
def test_two_corners_against_enumeration_of_every_pair(
    here: np.ndarray, beside: np.ndarray, mate: np.ndarray, same_work: bool
) -> None:
    """All pairs of states, each with the prior that the module's docstring gives it."""
    states, usual = KNOWLEDGE.states, KNOWLEDGE.usual
    well = np.array([s.cause is Cause.NO_FAULT for s in states])
    shared = np.array([KNOWLEDGE.causes[s.cause].shared for s in states])
    own = ~well & ~shared
    mass = {"well": usual[well].sum(), "own": usual[own].sum(), "shared": usual[shared].sum()}
    kind = ["well" if w else "shared" if s else "own" for w, s in zip(well, shared, strict=True)]
    second = joint.SAME_WORK if same_work else joint.SECOND_FAULT
    together = joint.SHARED_BY_SEVERAL * min(1.0, mass["shared"] / joint.USUAL_SHARED)
    weights = {
        ("well", "well"): mass["well"], ("own", "own"): second * mass["own"] ** 2,
        ("own", "well"): mass["own"] * joint.WELL_BESIDE_BAD, ("well", "own"): mass["own"] * joint.WELL_BESIDE_BAD,
        ("own", "shared"): mass["own"] * mass["shared"], ("shared", "own"): mass["own"] * mass["shared"],
        ("well", "shared"): mass["shared"] * joint.WELL_BESIDE_BAD,
        ("shared", "well"): mass["shared"] * joint.WELL_BESIDE_BAD,
    }  # fmt: skip
    table = np.zeros((SIZE, SIZE))
    for i, j in product(range(SIZE), repeat=2):
        left = beside[i] if kind[j] != "well" else here[i]
        if kind[i] == kind[j] == "shared":
            if i == j:
                table[i, j] = together * usual[i] / mass["shared"] * beside[i] * mate[j]
            continue
        prior = weights[kind[i], kind[j]] * usual[i] / mass[kind[i]] * usual[j] / mass[kind[j]]
        table[i, j] = prior * left * mate[j]
    found = corner_odds(
        {FL: [], FR: []}, {FL: [Evidence(FL, "a", here, beside)], FR: [Evidence(FR, "b", mate)]}, same_work, KNOWLEDGE
    )
    assert found[FL].states == pytest.approx(table.sum(axis=1) / table.sum(), rel=1e-6)
    assert found[FR].states == pytest.approx(table.sum(axis=0) / table.sum(), rel=1e-6)


def test_information_is_mutual_information() -> None:
    rng = np.random.default_rng(3)
    table = rng.random((17, 4))
    table /= table.sum()
    rows, columns = table.sum(axis=1), table.sum(axis=0)
    assert information_bits(table) == pytest.approx(
        entropy(rows, base=2) + entropy(columns, base=2) - entropy(table.ravel(), base=2)
    )
    assert information_bits(np.outer(rows, columns)) == pytest.approx(0.0, abs=1e-12)


# ---- stories of our own: what any good technician would say (common practice, no published source)


def test_back_at_once_and_open_wire_is_a_broken_wire() -> None:
    first = told(Case(vehicle=ACTIVE, codes=(CIRCUIT,)))
    assert first.next_checks[0].info.kind is CheckKind.CLEAR_AND_WAIT
    assert not first.settled
    open_wire = Check(CheckKind.WIRE_CONTINUITY, FL, "open")
    result = told(Case(vehicle=ACTIVE, codes=(CIRCUIT,), checks=(AT_ONCE, open_wire)))
    assert lead(result, FL)[0] is Cause.WIRE_OPEN
    assert result.settled
    because = {r.text: r.weight_db for r in result.of(FL)[0].because}
    assert because["wire_continuity: open"] > 8.0
    assert "sealed sleeve" in result.repairs[0].info.option


def test_a_proven_loom_leaves_the_sensor_in_four_of_five() -> None:
    """ "About four in five cases with a proven loom end in a sensor": common practice."""
    good = Check(CheckKind.WIRE_CONTINUITY, FL, value=0.3)
    cause, share = lead(told(Case(vehicle=ACTIVE, codes=(CIRCUIT,), checks=(AT_ONCE, good))), FL)
    assert cause is Cause.SENSOR_FAILED
    assert 0.75 <= share <= 0.93


@pytest.mark.parametrize(("fault", "cause"), [
    (Fault.RING_DAMAGE, Cause.RING_DAMAGED), (Fault.RING_RUNOUT, Cause.RING_LIFTED),
    (Fault.ENCODER_NOISE, Cause.RING_CONTAMINATED), (Fault.AIR_GAP, Cause.GAP_TOO_LARGE),
    (Fault.TYRE_SIZE, Cause.TYRE_MISMATCH), (Fault.RING_COUNT, Cause.RING_WRONG_COUNT),
])  # fmt: skip
def test_a_finding_leads_to_its_cause(fault: Fault, cause: Cause) -> None:
    work = (Work(WorkPart.SHAFT, RL),) if fault is Fault.RING_COUNT else ()
    case = Case(vehicle=CaseVehicle(age_years=11), recent_work=work, findings=(Finding(fault, (RL,), 0.95, ""),))
    assert lead(told(case), RL)[0] is cause


def test_a_bearing_without_encoder() -> None:
    case = Case(
        vehicle=ACTIVE, recent_work=(Work(WorkPart.BEARING, FR),), codes=(Code(CodeKind.NO_SIGNAL, FR),),
        findings=(Finding(Fault.NO_SIGNAL, (FR,), 0.97, ""),),
    )  # fmt: skip
    assert lead(told(case), FR)[0] is Cause.RING_MISSING
    proven = told(replace(case, checks=(Check(CheckKind.WAVE_MAGNET, FR, "blips"),)))
    assert lead(proven, FR) == (Cause.RING_MISSING, pytest.approx(0.9, abs=0.09))


def test_two_dead_at_once_point_at_what_they_share() -> None:
    dead = tuple(Finding(Fault.NO_SIGNAL, (c,), 0.97, "") for c in (RL, RR))
    codes = tuple(Code(CodeKind.CIRCUIT, c) for c in (RL, RR))
    both = told(Case(vehicle=ACTIVE, findings=dead, codes=codes))
    alone = told(Case(vehicle=ACTIVE, findings=dead[:1], codes=codes[:1]))
    assert lead(both, RL)[0] is Cause.CONTROL_UNIT
    assert lead(alone, RL)[0] is Cause.SENSOR_FAILED
    work = tuple(Work(WorkPart.BEARING, c) for c in (RL, RR))
    signals = tuple(Code(CodeKind.NO_SIGNAL, c) for c in (RL, RR))
    assert lead(told(Case(vehicle=ACTIVE, findings=dead, codes=signals, recent_work=work)), RR)[0] is Cause.RING_MISSING


def test_the_healthy_mate_with_a_knock_on_code_has_no_fault() -> None:
    codes = (Code(CodeKind.COMPARISON, FL), Code(CodeKind.COMPARISON, FR))
    result = told(Case(codes=codes, findings=(Finding(Fault.AIR_GAP, (FL,), 0.95, ""),)))
    assert lead(result, FR)[0] is Cause.NO_FAULT
    assert lead(result, FL)[0] is Cause.GAP_TOO_LARGE


def test_low_millivolts_and_rust_under_the_foot() -> None:
    vehicle = replace(PASSIVE, age_years=14.0, road_salt=True)
    checks = (
        Check(CheckKind.CLEAR_AND_WAIT, FR, "returns_when_moving"),
        Check(CheckKind.AC_MILLIVOLTS, FR, value=75.0, mate_value=320.0),
        Check(CheckKind.LOOK_AT_SENSOR, FR, "rust_under_foot"),
    )
    symptoms = (Symptom.PEDAL_PULSE, Symptom.SLOWLY_WORSE)
    result = told(Case(vehicle=vehicle, symptoms=symptoms, codes=(Code(CodeKind.NO_SIGNAL, FR),), checks=checks))
    assert lead(result, FR)[0] is Cause.GAP_TOO_LARGE
    assert result.settled


def test_what_cannot_be_done_is_never_named() -> None:
    access = Access(ring_visible=False, sensor_frees_easily=False, sides_interchangeable=False, scope=False,
                    wiring_diagram=False)  # fmt: skip
    for vehicle in (ACTIVE, PASSIVE):
        named = {n.info.kind for n in told(Case(vehicle=vehicle, codes=(CIRCUIT,), access=access)).next_checks}
        assert named
        assert not named & {
            CheckKind.LOOK_AT_RING, CheckKind.SWAP_SENSORS, CheckKind.SCOPE_SHAPE, CheckKind.WIRE_CONTINUITY,
            CheckKind.LOOK_AT_SENSOR, CheckKind.PUSH_SENSOR_HOME, CheckKind.WAVE_MAGNET,
        }  # fmt: skip
        wrong = {CheckKind.SENSOR_RESISTANCE, CheckKind.AC_MILLIVOLTS}
        assert bool(named & wrong) is (vehicle is PASSIVE)
    done = told(Case(vehicle=ACTIVE, codes=(CIRCUIT,), checks=(AT_ONCE,)))
    assert AT_ONCE.check not in {n.info.kind for n in done.next_checks}


def test_contradictions_lower_certainty_and_are_pointed_out() -> None:
    moves = Check(CheckKind.SWAP_SENSORS, FL, "moves_with_sensor")
    open_wire = Check(CheckKind.WIRE_CONTINUITY, FL, "open")
    case = Case(vehicle=ACTIVE, codes=(CIRCUIT,))
    sure = lead(told(replace(case, checks=(moves,))), FL)[1]
    both = told(replace(case, checks=(moves, open_wire)))
    assert lead(both, FL)[1] < sure
    assert any("repeat one of them" in w for w in both.warnings)


def test_one_fact_is_not_counted_twice() -> None:
    """An electrical code and the same code back at once are one fact: the second adds little."""
    before = lead(told(Case(vehicle=ACTIVE, codes=(CIRCUIT,))), FL)[1]
    after = lead(told(Case(vehicle=ACTIVE, codes=(CIRCUIT,), checks=(AT_ONCE,))), FL)[1]
    assert abs(after - before) < 0.12
    finding = Finding(Fault.RING_DAMAGE, (FL,), 0.9, "")
    word = LogWord(FL, (finding,), {})
    assert lead(told(Case(findings=(finding,)), word), FL) == lead(told(Case(), word), FL)


def test_a_clean_log_speaks_against_what_it_could_have_shown() -> None:
    case = Case(vehicle=ACTIVE, codes=(Code(CodeKind.COMPARISON, RL),))
    seen = dict.fromkeys(Fault, 0.99)
    blind = dict.fromkeys(Fault, 0.0)
    unseen, clean = (
        {c.cause: c.probability for c in told(case, LogWord(RL, (), could_see)).of(RL)} for could_see in (blind, seen)
    )
    assert clean[Cause.NO_FAULT] / clean[Cause.RING_DAMAGED] > 5.0 * unseen[Cause.NO_FAULT] / unseen[Cause.RING_DAMAGED]
    assert clean[Cause.SENSOR_FAILED] == pytest.approx(unseen[Cause.SENSOR_FAILED], abs=0.2)


def test_costs_of_a_settled_case_are_those_of_its_repairs() -> None:
    """Closed form: causes are repaired from the likeliest on, and each wrong one comes back."""
    checks = (Check(CheckKind.SENSOR_RESISTANCE, FL, "open"), Check(CheckKind.SWAP_SENSORS, FL, "moves_with_sensor"))
    settled = diagnose(Case(vehicle=PASSIVE, codes=(CIRCUIT,), checks=checks, prices={"sensor": 45.0}), KNOWLEDGE)
    assert settled.settled
    odds = sorted(settled.of(FL), key=lambda c: -c.probability)
    spent = paid = minutes = parts = 0.0
    for i, cause in enumerate(odds):
        info = KNOWLEDGE.causes[cause.cause]
        spent, paid = spent + info.minutes, paid + 45.0 * (info.part == "sensor")
        minutes += cause.probability * (spent + 30.0 * i)
        parts += cause.probability * paid
    proof, sensor = settled.policies
    assert proof.minutes == pytest.approx(minutes, rel=1e-3)
    assert proof.parts == pytest.approx(parts, rel=1e-3)
    likely = next(c.probability for c in odds if c.cause is Cause.SENSOR_FAILED)
    assert proof.come_back == pytest.approx(1.0 - likely, abs=1e-6)
    assert sensor.come_back == pytest.approx(1.0 - likely, abs=1e-6)


def test_costs_follow_odds_and_prices() -> None:
    prices = {"sensor": 45.0, "lead": 60.0, "control_unit": 900.0, "hour": 80.0}
    likely = diagnose(Case(vehicle=PASSIVE, codes=(CIRCUIT,), prices=prices,
                           checks=(Check(CheckKind.SENSOR_RESISTANCE, FL, "open"),)), KNOWLEDGE)  # fmt: skip
    unlikely = diagnose(
        Case(vehicle=ACTIVE, prices=prices, findings=(Finding(Fault.RING_DAMAGE, (FL,), 0.97, ""),)), KNOWLEDGE
    )
    by_name = {p.name: p for p in likely.policies}
    assert by_name["sensor first"].come_back < 0.15
    assert {p.name: p for p in unlikely.policies}["sensor first"].come_back > 0.8
    for p in (*likely.policies, *unlikely.policies):
        assert p.total == pytest.approx(p.parts + p.minutes / 60 * 80.0)
    assert all(p.total is None and p.parts is None for p in diagnose(Case(codes=(CIRCUIT,)), KNOWLEDGE).policies)


@given(
    st.permutations([AT_ONCE, Check(CheckKind.LOOK_AT_LEAD, FL, "green_pins"), Check(CheckKind.WIGGLE, FL, "changes")])
)
@settings(max_examples=6, deadline=None)
def test_the_order_of_checks_does_not_matter(checks: list[Check]) -> None:
    result = told(Case(vehicle=ACTIVE, codes=(CIRCUIT,), checks=tuple(checks)))
    assert lead(result, FL) == (Cause.CONNECTOR_CORRODED, pytest.approx(lead(result, FL)[1]))
    assert sum(c.probability for c in result.of(FL)) == pytest.approx(1.0)


def test_left_and_right_are_mirror_images() -> None:
    left = told(Case(vehicle=ACTIVE, codes=(CIRCUIT,), checks=(AT_ONCE,)))
    right = told(Case(vehicle=ACTIVE, codes=(replace(CIRCUIT, corner=FR),), checks=(replace(AT_ONCE, corner=FR),)))
    assert [(c.cause, c.probability) for c in left.of(FL)] == [(c.cause, c.probability) for c in right.of(FR)]


def test_a_trailer_has_two_corners_and_loose_bushes() -> None:
    vehicle = CaseVehicle(layout=Layout.TRAILER_2, sensor=SensorKind.PASSIVE)
    result = told(Case(vehicle=vehicle, symptoms=(Symptom.BRAKES_APPLY,)))
    assert result.corners == (RL, RR)
    pushed = Check(CheckKind.PUSH_SENSOR_HOME, RL, "recovers")
    finding = Finding(Fault.AIR_GAP, (RL,), 0.9, "")
    shares = {c.cause: c.probability for c in told(Case(vehicle=vehicle, findings=(finding,), checks=(pushed,))).of(RL)}
    assert shares[Cause.GAP_TOO_LARGE] + shares[Cause.SENSOR_LOOSE] > 0.95


@pytest.mark.parametrize(("check", "outcome"), [
    (Check(CheckKind.AC_MILLIVOLTS, FL, value=75.0), "low"),
    (Check(CheckKind.AC_MILLIVOLTS, FL, value=420.0), "sound"),
    (Check(CheckKind.AC_MILLIVOLTS, FL, value=320.0, mate_value=900.0), "poor"),
    (Check(CheckKind.AC_MILLIVOLTS, FL, value=0.0), "none"),
    (Check(CheckKind.WIRE_CONTINUITY, FL, value=0.3), "good"),
    (Check(CheckKind.WIRE_CONTINUITY, FL, value=4700.0), "bad"),
    (Check(CheckKind.WIRE_CONTINUITY, FL, "open"), "open"),
    (Check(CheckKind.SENSOR_RESISTANCE, FL, value=1100.0, mate_value=1150.0), "near_mate"),
    (Check(CheckKind.SENSOR_RESISTANCE, FL, value=500.0, mate_value=1150.0), "off_mate"),
    (Check(CheckKind.FEED_VOLTAGE, FL, value=12.0), "present"),
    (Check(CheckKind.FEED_VOLTAGE, FL, value=0.1), "missing"),
])  # fmt: skip
def test_measured_values_are_judged(check: Check, outcome: str) -> None:
    """100/300 mV, tenths and kilo-ohms, battery voltage: common practice, no published source."""
    assert judge_value(check, KNOWLEDGE.checks[check.check].unit).outcome == outcome


@pytest.mark.parametrize("check", [
    Check(CheckKind.SENSOR_RESISTANCE, FL, value=1.1, mate_value=1120.0),
    Check(CheckKind.SENSOR_RESISTANCE, FL, value=1.2),
    Check(CheckKind.AC_MILLIVOLTS, FL, value=0.3),
    Check(CheckKind.FEED_VOLTAGE, FL, value=12_000.0),
])  # fmt: skip
def test_a_unit_wrong_by_a_thousand_is_asked_about(check: Check) -> None:
    judged = judge_value(check, "x")
    assert judged.outcome is None
    assert "thousand times" in judged.question
    assert any("thousand" in w for w in told(Case(codes=(CIRCUIT,), checks=(check,))).warnings)


@pytest.mark.parametrize(("text", "corner", "kind"), [
    ("C0031-13", FL, CodeKind.CIRCUIT), ("c0034:31", FR, CodeKind.NO_SIGNAL),
    ("C003764 stored", RL, CodeKind.COMPARISON),
    ("C0037 64", RL, CodeKind.COMPARISON), ("C003A-2F", RR, CodeKind.RATE), ("C0045", RL, None),
    ("SPN 789 FMI 5", FL, CodeKind.CIRCUIT), ("spn: 792, fmi: 8", RR, CodeKind.RATE), ("P0500", None, None),
])  # fmt: skip
def test_codes_as_text(text: str, corner: Corner | None, kind: CodeKind | None) -> None:
    """SAE J2012 / ISO 15031-6 wheel speed numbers, SAE J1939 SPN/FMI: from memory."""
    found = read_code(text)
    if corner is None:
        assert found is None
    else:
        assert found is not None
        assert (found.corner, found.kind) == (corner, kind)


def test_a_pasted_list_of_codes() -> None:
    assert read_codes("C0034-64 stored at 90 880 km")[0].odometer_km == 90_880.0
    codes = read_codes("Module 1\nC0031-13 current\nC0034-64 history\nU0100 lost\n")
    assert [(c.corner, c.state) for c in codes] == [(FL, CodeState.CURRENT), (FR, CodeState.STORED)]


# ---- the wire


def cheapest(shares: tuple[float, ...], costs: tuple[float, ...], left: int, right: int) -> float:
    """Every way of searching, tried out: expected minutes × probability."""
    if left == right:
        return 0.0
    mass = sum(shares[left : right + 1])
    return min(
        costs[k] * mass + cheapest(shares, costs, left, k) + cheapest(shares, costs, k + 1, right)
        for k in range(left, right)
    )


@settings(max_examples=40, deadline=None)
@given(st.lists(st.tuples(st.floats(0.01, 1.0), st.floats(1.0, 15.0)), min_size=2, max_size=7))
def test_bisection_is_the_optimal_search(wire: list[tuple[float, float]]) -> None:
    shares = np.array([s for s, _ in wire])
    shares /= shares.sum()
    costs = tuple(c for _, c in wire)
    minutes, first = best_probe(shares, np.array(costs))
    assert minutes == pytest.approx(cheapest(tuple(shares), costs, 0, len(wire) - 1))
    assert first is not None


def test_equal_wires_are_halved() -> None:
    assert best_probe(np.full(8, 1 / 8), np.ones(8)) == (pytest.approx(3.0), 3)


def test_readings_narrow_the_wire_and_holes_stay_listed() -> None:
    segments = tuple(LoomSegment(name, kind) for name, kind in KNOWLEDGE.wires["car, front corner"])
    for broken in range(len(segments)):
        loom = Loom(FL, segments)
        for _ in range(len(segments)):
            found = search_loom(loom, KNOWLEDGE.loom_kinds)
            if found.probe is None:
                break
            ohm = None if broken <= found.probe.after else 0.3
            reading = LoomReading(found.probe.after, ohm, pierced=found.probe.pierces)
            loom = replace(loom, readings=(*loom.readings, reading))
        assert found.likeliest == broken
        assert set(found.unsealed) == {r.after for r in loom.readings if r.pierced}
        assert len(loom.readings) <= 5
