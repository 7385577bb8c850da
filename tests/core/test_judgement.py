"""From evidence to words and numbers: odds, patterns of ratios, what a clean log is worth."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from conftest import analyze_raw, drive
from nodrek.core.model import Analysis, Corner, Fault, Finding, RawChannel, RawLog, Vehicle, Verdict, WheelLog
from nodrek.core.motion.ratios import RatioEstimate
from nodrek.core.verdict.breaks import times_words
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.judge import FAULTY_FROM, analyze_log, weigh
from nodrek.core.verdict.not_turned import NOT_TURNED
from nodrek.core.verdict.odds import passes, ratio_odds
from nodrek.core.verdict.ring import turns_with_dip
from nodrek.core.verdict.tyre import could_measure, find_tyre
from nodrek.core.verdict.unsettled import find_unsettled
from nodrek.errors import BadRequest, NeverMoves
from nodrek.simulate.faults import Cause, SimulatedFault


@given(st.floats(-5, 5), st.floats(0.1, 3))
def test_passes_is_near_the_normal_law(value: float, sigma: float) -> None:
    """Logistic with factor 1.702 stays within 0.0095 of the normal law (Camilli 1994; from memory)."""
    assert passes(value, 0.0, sigma) == pytest.approx(float(stats.norm.cdf(value / sigma)), abs=0.0096)


@given(st.floats(1e-6, 1e3), st.floats(1e-3, 10), st.floats(1, 10))
def test_ratio_odds_is_even_at_its_point_and_grows(value: float, even: float, steep: float) -> None:
    odds = ratio_odds(value, even, steep)
    assert 0.0 <= odds <= 1.0
    assert ratio_odds(even, even, steep) == pytest.approx(0.5)
    assert ratio_odds(2 * value, even, steep) >= odds
    assert ratio_odds(0.0, even, steep) == 0.0


def test_odds_of_nothing_known_are_nothing() -> None:
    assert passes(float("nan"), 0.0, 1.0) == 0.0


@pytest.fixture(scope="module")
def exam() -> Examination:
    return analyze_raw(drive(81, duration_s=150.0))[1]


def with_ratios(exam: Examination, **per_cent: float) -> Examination:
    logs = {c: np.log1p(per_cent.get(c.value, 0.0) / 100) for c in Corner}
    mean = float(np.mean(list(logs.values())))
    return replace(exam, ratios={c: RatioEstimate(v - mean, 3e-4) for c, v in logs.items()})


@pytest.mark.parametrize(("sizes", "fault", "corners"), [
    ({"FL": 1.0}, Fault.TYRE_SIZE, {Corner.FL}),
    ({"RR": -1.5}, Fault.TYRE_SIZE, {Corner.RR}),
    ({"FL": 2.0, "FR": 2.0}, Fault.TYRE_SIZE, {Corner.FL, Corner.FR}),
    ({"RL": 15.0}, Fault.RING_COUNT, {Corner.RL}),
    ({"RL": -12.0}, Fault.RING_COUNT, {Corner.RL}),
])  # fmt: skip
def test_patterns_of_ratios(exam: Examination, sizes: dict[str, float], fault: Fault, corners: set[Corner]) -> None:
    found = find_tyre(with_ratios(exam, **sizes), {}, {})
    assert len(found) == 1
    assert found[0].fault is fault
    assert set(found[0].corners) == corners
    assert found[0].confidence > 0.9
    value = next(iter(sizes.values()))
    assert found[0].evidence["difference_percent"] == pytest.approx(value, rel=0.02)
    assert ("faster" if value > 0 else "slower") in found[0].summary


@pytest.mark.parametrize("sizes", [{}, {"FL": 0.2}, {"FL": 0.8, "FR": 0.8}, {"FL": 0.25, "RR": -0.2}])
def test_honest_differences_are_no_finding(exam: Examination, sizes: dict[str, float]) -> None:
    """Sound sets differ by some 0.3 %, axles by wear (common practice, no published source)."""
    assert all(f.confidence < 0.5 for f in find_tyre(with_ratios(exam, **sizes), {}, {}))


def test_a_damaged_ring_explains_its_own_ratio(exam: Examination) -> None:
    off = with_ratios(exam, FL=-2.0)
    assert find_tyre(off, {}, {})[0].confidence > 0.9
    assert all(f.confidence < 0.1 for f in find_tyre(off, {Corner.FL: 0.99}, {}))
    assert find_tyre(with_ratios(exam, FL=-6.0), {Corner.FL: 0.99}, {})[0].confidence > 0.9


def test_worse_measurement_is_worth_less(exam: Examination) -> None:
    sure = with_ratios(exam)
    unsure = replace(sure, ratios={c: RatioEstimate(0.0, 4e-3) for c in Corner})
    assert could_measure(sure, Corner.FL, 0.005) > 0.9
    assert could_measure(unsure, Corner.FL, 0.005) < 0.7
    assert could_measure(replace(sure, ratios={}), Corner.FL, 0.005) == 0.0


def test_findings_come_strongest_first_and_none_below_a_fifth() -> None:
    faults = (
        SimulatedFault(Corner.FL, Cause.MISSING_TEETH),
        SimulatedFault(Corner.RR, Cause.BROKEN_LEAD, per_minute=4.0),
    )
    _, found = analyze_raw(drive(82, *faults, duration_s=150.0))
    confidences = [f.confidence for f in weigh(found)]
    assert confidences == sorted(confidences, reverse=True)
    assert min(confidences) >= 0.2
    assert max(confidences) < 1.0


@pytest.mark.parametrize(("said", "percent"), [
    ({Fault.RING_RUNOUT: 0.45, Fault.RING_DAMAGE: 0.3}, 75),
    ({Fault.ENCODER_NOISE: 0.3, Fault.TYRE_SIZE: 0.4}, 58),
    ({Fault.TYRE_SIZE: 0.3, Fault.RING_COUNT: 0.4}, None),
    ({Fault.RING_DAMAGE: 0.24, Fault.ENCODER_NOISE: 0.24}, None),
    ({Fault.RING_DAMAGE: 0.5, Fault.ENCODER_NOISE: 0.24}, None),
])  # fmt: skip
def test_a_corner_is_unsettled_where_it_is_sooner_faulty_and_no_fault_is_sure(
    said: dict[Fault, float], percent: int | None
) -> None:
    """Rivals exclude each other and add up; an odd ratio may come on top."""
    found = find_unsettled([Finding(kind, (Corner.RL,), p, "") for kind, p in said.items()], FAULTY_FROM)
    assert (found is None) is (percent is None)
    if found is not None:
        assert found[0] is Corner.RL
        assert f"({percent} %)" in found[1]


def test_a_wheel_that_may_have_stood_is_not_unsettled() -> None:
    zero = Finding(Fault.NO_SIGNAL, (Corner.RL,), 0.45, "", {"or": NOT_TURNED})
    late = Finding(Fault.AIR_GAP, (Corner.RL,), 0.3, "")
    assert find_unsettled([zero, late], FAULTY_FROM) is None
    assert find_unsettled([replace(zero, evidence={}), late], FAULTY_FROM) is not None


def test_evidence_of_a_ring_counts_turns_honestly() -> None:
    _, found = analyze_raw(drive(83, SimulatedFault(Corner.RL, Cause.MISSING_TEETH), duration_s=150.0))
    seen, dipped = turns_with_dip(found, Corner.RL)
    turns = found.motions[Corner.RL].path[-1] * found.rings[Corner.RL].scale.frequency  # type: ignore[union-attr]
    assert 0.8 * dipped <= seen <= dipped <= turns
    assert seen > 0.2 * turns


def test_the_number_of_teeth_is_used_where_it_is_known() -> None:
    raw = drive(84, SimulatedFault(Corner.FR, Cause.MISSING_TEETH, count=2), teeth=(96, 96), duration_s=180.0)
    known, _ = analyze_raw(raw, Vehicle(teeth=96))
    assert isinstance(known, Analysis)
    assert known.corners[Corner.FR].turn.arcs[0].teeth == 2


@pytest.mark.parametrize("rate", [50.0, 4.0])
def test_what_a_clean_log_is_worth_follows_its_rate(rate: float) -> None:
    """The promise is kept: where a lost tooth is said to show with 0.9 and more, it is found."""
    kept = promised = 0
    for seed in range(90, 95):
        clean, _ = analyze_raw(drive(seed, rates_hz=(rate,), duration_s=150.0))
        assert isinstance(clean, Analysis)
        if clean.corners[Corner.RL].could_see[Fault.RING_DAMAGE] < 0.9:
            continue
        promised += 1
        hurt, _ = analyze_raw(
            drive(seed, SimulatedFault(Corner.RL, Cause.MISSING_TEETH), rates_hz=(rate,), duration_s=150.0)
        )
        assert isinstance(hurt, Analysis)
        kept += any(f.fault is Fault.RING_DAMAGE and f.confidence >= 0.5 for f in hurt.findings)
    assert kept >= promised - 1
    assert promised == 5 or rate < 10


def test_a_gap_shows_only_where_the_log_goes_through_its_speed(healthy_raw: RawLog) -> None:
    """One that reads above 8 km/h only, asked of a drive with pull-aways and stops and of its longest fast part."""
    speeds = np.min([c.values for c in healthy_raw.channels], axis=0)
    slow = np.flatnonzero(np.concatenate([[True], speeds < 12.0, [True]]))
    longest = int(np.argmax(np.diff(slow)))
    fast = slice(slow[longest], slow[longest + 1] - 1)
    part = tuple(replace(c, times_s=c.times_s[fast], values=c.values[fast]) for c in healthy_raw.channels)
    seen = {}
    for raw in (healthy_raw, replace(healthy_raw, channels=part)):
        analysis, _ = analyze_raw(raw)
        assert isinstance(analysis, Analysis)
        seen[raw is healthy_raw] = [c.could_see[Fault.AIR_GAP] for c in analysis.corners.values()]
    assert min(seen[True]) > 0.8
    assert max(seen[False]) == 0.0


def test_a_standing_vehicle_is_told() -> None:
    raw = drive(85, duration_s=20.0)
    still = replace(raw, channels=tuple(replace(c, values=c.values * 0.02) for c in raw.channels))
    with pytest.raises(NeverMoves, match="highest speed seen"):
        analyze_raw(still)


def test_three_dead_corners_do_not_stop_the_vehicle() -> None:
    """The fourth shows 90 km/h: that log was said never to move."""
    raw = drive(85, duration_s=60.0, road="motorway")
    one = tuple(replace(c, values=c.values * (k == 1)) for k, c in enumerate(raw.channels))
    analysis, _ = analyze_raw(replace(raw, channels=one))
    assert isinstance(analysis, Analysis)
    assert {(f.fault, f.corners) for f in analysis.findings if f.confidence >= 0.5} == {
        (Fault.NO_SIGNAL, (c,)) for c in Corner if c.value not in one[1].name
    }


def test_a_walk_is_a_drive_where_all_corners_read_at_it() -> None:
    """Pushed at 4 to 7 km/h: a ring that loses teeth shows. A silent corner may sleep, and is not judged."""
    times = np.arange(0.0, 60.0, 0.02)
    kmh = np.where(times > 4.0, 5.5 + 1.4 * np.sin(times / 5.0), 0.0)
    turns = np.cumsum(kmh / 3.6 * 0.02) / 1.9
    values = {c: np.round(kmh * (1.0 + 0.003 * np.sin(3.0 * times + k)), 2) for k, c in enumerate(Corner)}
    values[Corner.RL] *= np.where(np.mod(turns, 1.0) < 0.05, 0.5, 1.0)
    walked = RawLog(tuple(RawChannel(c.value, "km/h", times, v) for c, v in values.items()), "csv")
    analysis, _ = analyze_raw(walked)
    assert isinstance(analysis, Analysis)
    assert [(f.fault, f.corners) for f in analysis.findings if f.confidence >= 0.5] == [
        (Fault.RING_DAMAGE, (Corner.RL,))
    ]
    asleep = tuple(replace(c, values=c.values * (c.name != "FR")) for c in walked.channels)
    with pytest.raises(NeverMoves):
        analyze_raw(replace(walked, channels=asleep))


def test_missing_corners_are_said() -> None:
    raw = drive(86)
    two = replace(raw, channels=raw.channels[2:])
    analysis, _ = analyze_raw(two)
    assert isinstance(analysis, Analysis)
    assert any("FL, FR" in w for w in analysis.warnings)
    assert set(analysis.corners) == {Corner.RL, Corner.RR}


def test_two_corners_of_a_trailer_still_find_a_lost_tooth() -> None:
    raw = drive(87, SimulatedFault(Corner.RR, Cause.MISSING_TEETH), duration_s=180.0)
    analysis, _ = analyze_raw(replace(raw, channels=raw.channels[2:]))
    assert isinstance(analysis, Analysis)
    assert analysis.verdict is Verdict.FAULTY
    assert (analysis.findings[0].fault, analysis.findings[0].corners) == (Fault.RING_DAMAGE, (Corner.RR,))


def test_words_for_numbers() -> None:
    assert [times_words(n) for n in (1, 2, 7)] == ["once", "twice", "7 times"]


def test_a_clock_that_jumps_by_years_is_refused_in_bounded_memory(healthy_log: WheelLog) -> None:
    """125 values over four years: everything kept per second of the log would fill the machine."""
    times = np.linspace(0.0, 1.2e8, 125)
    still = np.zeros(125, dtype=bool)
    channels = {
        c: replace(ch, times=times, speed=ch.speed[:125], invalid=still) for c, ch in healthy_log.channels.items()
    }
    with pytest.raises(BadRequest, match="its time jumps"):
        analyze_log(replace(healthy_log, channels=channels, duration=1.2e8), Vehicle(), lambda share, doing: None)
