"""The main job: faults put into a simulated chain are found, sound vehicles are left alone.

The simulator knows nothing of the detector (import-linter keeps it so); rates of finding
are measured by the benchmark, here each kind is met once per kind of control unit.
"""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest

from conftest import analyze_raw, drive, quiet
from nodrek.core.corners import map_corners
from nodrek.core.model import Analysis, Corner, Fault, RawChannel, RawLog, Vehicle, Verdict
from nodrek.core.verdict.explain import explain, ring_share
from nodrek.core.verdict.judge import analyze_log
from nodrek.core.verdict.noise import noisiness
from nodrek.io.knowledge import shipped_calibration
from nodrek.simulate.faults import Cause, SimulatedFault, Trigger
from nodrek.simulate.vary import CONTROL_UNITS


def findings(raw: RawLog, vehicle: Vehicle | None = None) -> dict[tuple[str, tuple[str, ...]], float]:
    analysis, _ = analyze_raw(raw, vehicle)
    assert isinstance(analysis, Analysis)
    return {(f.fault.value, f.corners): f.confidence for f in analysis.findings}


def sure(raw: RawLog) -> set[tuple[str, tuple[str, ...]]]:
    return {key for key, confidence in findings(raw).items() if confidence >= 0.5}


def surely_told(raw: RawLog) -> set[tuple[str, tuple[str, ...]]]:
    """By what ships: raw confidences know nothing of what a control unit does with edges."""
    analysis, _ = analyze_log(map_corners(raw), Vehicle(), quiet, shipped_calibration())
    return {(f.fault.value, f.corners) for f in analysis.findings if f.confidence >= 0.5}


@pytest.mark.parametrize("unit", CONTROL_UNITS)
def test_one_lost_tooth_is_found_at_its_corner(unit: str) -> None:
    raw = drive(31, SimulatedFault(Corner.FR, Cause.MISSING_TEETH), control_units=(unit,), duration_s=180.0)
    assert surely_told(raw) == {("ring_damage", (Corner.FR,))}


@pytest.mark.parametrize("unit", CONTROL_UNITS)
@pytest.mark.parametrize("road", ["town", "country", "motorway"])
def test_sound_vehicles_are_left_alone(unit: str, road: str) -> None:
    assert surely_told(drive(32, control_units=(unit,), road=road)) == set()


@pytest.mark.parametrize(("cause", "fault", "extra"), [
    (Cause.CRACKED_RING, "ring_damage", {"size": 1.0}),
    (Cause.ECCENTRIC_RING, "ring_runout", {"size": 0.008}),
    (Cause.DEAD, "no_signal", {}),
    (Cause.FROZEN, "frozen", {"value": 655.35 / 3.6}),
    (Cause.FROZEN, "frozen", {"value": 8.0, "from_s": 50.0}),
    (Cause.BROKEN_LEAD, "intermittent", {"per_minute": 6.0, "trigger": Trigger.BUMPS}),
    (Cause.WHEEL_SIZE, "tyre_size", {"size": 0.01}),
    (Cause.WHEEL_SIZE, "tyre_size", {"size": -0.01}),
    (Cause.WHEEL_SIZE, "ring_count", {"size": 0.15}),
])  # fmt: skip
def test_each_fault_once(cause: Cause, fault: str, extra: dict[str, object]) -> None:
    raw = drive(33, SimulatedFault(Corner.RR, cause, **extra))  # type: ignore[arg-type]
    assert sure(raw) == {(fault, (Corner.RR,))}


@pytest.mark.parametrize("count", [1, 2, 3, 5])
@pytest.mark.parametrize(("teeth", "unit"), [(48, "span"), (96, "smoothed"), (36, "count")])
def test_lost_teeth_are_counted(count: int, teeth: int, unit: str) -> None:
    """One pitch of distance goes unreported for each, whatever the unit makes of it."""
    fault = SimulatedFault(Corner.FL, Cause.MISSING_TEETH, count=count)
    raw = drive(34, fault, teeth=(teeth, teeth), control_units=(unit,), duration_s=180.0)
    analysis, _ = analyze_raw(raw, Vehicle(teeth=teeth))
    told = sum(arc.teeth for arc in analysis.corners[Corner.FL].turn.arcs)  # type: ignore[attr-defined]
    assert abs(told - count) <= (count > 3)
    unknown = analyze_raw(raw)[0].corners[Corner.FL].turn.arcs  # type: ignore[attr-defined]
    # the size of the dip alone cannot tell one tooth of 36 from two of 72
    few, many = (0.8 * count * 27 / teeth, 1.2 * count * 105 / teeth)
    assert all(arc.teeth is None or few <= arc.teeth <= many for arc in unknown)


@pytest.mark.parametrize("size", [0.01, -0.006])
def test_ratio_is_within_a_tenth_of_a_per_cent(size: float) -> None:
    """Ratio of one wheel against the geometric mean of four, from the sizes put in."""
    sound, _ = analyze_raw(drive(35, duration_s=240.0))
    odd, _ = analyze_raw(drive(35, SimulatedFault(Corner.RL, Cause.WHEEL_SIZE, size=size), duration_s=240.0))
    change = np.log(odd.corners[Corner.RL].ratio / sound.corners[Corner.RL].ratio)  # type: ignore[attr-defined]
    assert change == pytest.approx(0.75 * np.log1p(size), abs=1e-3)


def test_two_dead_corners_do_not_hang_the_others() -> None:
    faults = (SimulatedFault(Corner.FL, Cause.DEAD), SimulatedFault(Corner.FR, Cause.DEAD))
    assert sure(drive(36, *faults)) == {("no_signal", (Corner.FL,)), ("no_signal", (Corner.FR,))}


@pytest.mark.parametrize(("road", "may_sleep"), [("queue", True), ("town", False)])
def test_silence_in_slow_driving_may_be_a_gap_and_that_is_said(road: str, may_sleep: bool) -> None:
    """A gap that wakes at 20 km/h is as silent in a queue as a cut wire."""
    raw = drive(39, SimulatedFault(Corner.RL, Cause.DEAD), road=road)
    analysis, exam = analyze_log(map_corners(raw), Vehicle(), quiet, shipped_calibration())
    first = analysis.findings[0]
    assert (first.fault, first.corners) == (Fault.NO_SIGNAL, (Corner.RL,))
    assert (first.evidence.get("or") == "air_gap") is may_sleep
    assert ("has not woken" in first.summary) is may_sleep
    assert (first.confidence <= 0.8) is may_sleep
    # stops in between are no driving
    assert first.evidence["seconds"] <= exam.usable.moving


def test_two_faults_in_one_log() -> None:
    faults = (
        SimulatedFault(Corner.FL, Cause.MISSING_TEETH),
        SimulatedFault(Corner.RR, Cause.WHEEL_SIZE, size=0.012),
    )
    assert sure(drive(37, *faults, duration_s=180.0)) == {
        ("ring_damage", (Corner.FL,)),
        ("tyre_size", (Corner.RR,)),
    }


@pytest.mark.parametrize(("off", "teeth", "low", "high"), [
    (2.0, 48, 0.7, 1.0), (-3.0, 60, 0.7, 1.0), (1.0, 90, 0.3, 0.5), (0.5, 48, 0.0, 0.05), (2.5, 48, 0.0, 0.1),
])  # fmt: skip
def test_whole_teeth_fit_or_the_tyre_does(off: float, teeth: int, low: float, high: float) -> None:
    """Four per cent is two teeth of 48 and more than wear; one per cent may be either; half a tooth is no ring."""
    ranked = explain(math.log1p(off / teeth), 2e-4, teeth)
    assert low <= ring_share(ranked) <= high
    assert sum(e.share for e in ranked) == pytest.approx(1.0, abs=0.1)
    if off == round(off):
        assert any(e.teeth == off for e in ranked)


@pytest.mark.parametrize("percent", [9.3, -9.3, 45.0])
def test_what_is_too_much_for_a_tyre_is_the_ring(percent: float) -> None:
    """Beyond about 9 % no tyre explains a ratio (common practice, no published source)."""
    shares = [ring_share(explain(math.log1p(p / 100.0), 5e-4, None)) for p in (0.5, 2.0, 3.5, 6.0, percent)]
    assert shares == sorted(shares)
    assert shares[1] < 0.5 < shares[3]
    assert shares[-1] == pytest.approx(1.0)


def test_a_known_ring_that_fits_no_whole_tooth_is_not_blamed(healthy_raw: RawLog) -> None:
    """1.5 % is three quarters of a tooth of 48, and one of 67."""
    scaled = [replace(c, values=c.values * (1.015 if k == 1 else 1.0)) for k, c in enumerate(healthy_raw.channels)]
    for teeth, ring in ((48, False), (67, True), (None, True)):
        analysis, _ = analyze_raw(RawLog(tuple(scaled), "test"), Vehicle(teeth=teeth))
        named = analysis.findings[0]  # type: ignore[attr-defined]
        assert (named.fault, named.corners) == (Fault.TYRE_SIZE, (Corner.FR,))
        assert ("or" in named.evidence) is ring
        assert any(e["fault"] == "ring_count" for e in named.evidence["explanations"]) is ring


@pytest.mark.parametrize("factor", [1.02, 0.98])
def test_the_faster_axle_is_named_and_the_other_put_beside_it(healthy_raw: RawLog, factor: float) -> None:
    """Ratios cannot say which axle is odd; a worn tyre turns faster."""
    scaled = [replace(c, values=c.values * (factor if k < 2 else 1.0)) for k, c in enumerate(healthy_raw.channels)]
    analysis, _ = analyze_raw(RawLog(tuple(scaled), "test"))
    named = analysis.findings[0]  # type: ignore[attr-defined]
    front, rear = (Corner.FL, Corner.FR), (Corner.RL, Corner.RR)
    assert named.fault is Fault.TYRE_SIZE
    assert named.corners == (front if factor > 1 else rear)
    assert named.evidence["or"] == [c.value for c in (rear if factor > 1 else front)]
    assert named.evidence["difference_percent"] == pytest.approx(2.0, abs=0.4)


def test_a_short_log_is_not_called_healthy() -> None:
    analysis, _ = analyze_raw(drive(38, duration_s=20.0, rates_hz=(4.0,)))
    assert analysis.verdict is Verdict.NOT_ENOUGH_DATA  # type: ignore[attr-defined]
    assert min(c.could_see[Fault.TYRE_SIZE] for c in analysis.corners.values()) < 0.8  # type: ignore[attr-defined]


def test_a_long_fast_log_is_worth_something(healthy_raw: RawLog) -> None:
    analysis, _ = analyze_raw(healthy_raw)
    assert analysis.verdict is Verdict.HEALTHY  # type: ignore[attr-defined]
    assert min(c.could_see[Fault.RING_DAMAGE] for c in analysis.corners.values()) > 0.9  # type: ignore[attr-defined]


def test_wake_up_speed_follows_the_sensor() -> None:
    """A coil that needs 60 teeth a second wakes at 60 × pitch; an active one near zero."""
    raw = drive(39, duration_s=180.0)
    analysis, _ = analyze_raw(raw)
    wakes = [c.wake_up * 3.6 for c in analysis.corners.values()]  # type: ignore[attr-defined]
    assert all(0.3 < w < 12.0 for w in wakes)


@pytest.mark.parametrize(("factor", "found"), [(0.96, True), (1.035, True), (1.0, False), (0.99, False)])
def test_four_equal_odd_tyres_need_an_independent_speed(healthy_raw: RawLog, factor: float, found: bool) -> None:
    """The corners agree with each other; a satellite speed, half a second late, tells."""
    rng = np.random.default_rng(3)
    first = healthy_raw.channels[0]
    body = np.mean([np.interp(first.times_s, c.times_s, c.values) for c in healthy_raw.channels], axis=0)
    times = np.arange(first.times_s[0], first.times_s[-1], 0.2)
    late = np.interp(times - 0.5, first.times_s, body) / factor + 0.1 * rng.standard_normal(times.size)
    raw = RawLog((*healthy_raw.channels, RawChannel("Satellite", "km/h", times, np.maximum(late, 0.0))), "test")
    analysis, _ = analyze_log(map_corners(raw, reference="satellite"), Vehicle(), quiet)
    named = {f.corners: f for f in analysis.findings if f.confidence >= 0.5}
    assert (tuple(Corner) in named) is found
    if found:
        low, high = (named[tuple(Corner)].evidence[f"difference_{end}_percent"] for end in ("low", "high"))
        assert low < 100.0 * (factor - 1.0) < high


@pytest.mark.parametrize(("duty", "lost"), [(0.5, 0.0), (0.56, 0.0), (0.43, 0.0), (0.5, 0.03)])
def test_uneven_edges_are_no_lost_edges(duty: float, lost: float) -> None:
    """A unit that counts both edges of 40 teeth over 10 ms, by their moments: where teeth and gaps are not alike, it
    reads too high or too low whenever it counts an odd number; where edges are lost, too low only."""
    times = np.arange(0.0, 120.0, 0.02)
    fine = np.arange(0.0, 121.0, 0.001)
    rng = np.random.default_rng(11)
    channels = []
    for corner in Corner:
        is_odd = corner is Corner.FR
        turns = np.cumsum(8.0 + 3.0 * np.sin(fine / 7.0)) * 0.001 / 2.0 + rng.random()
        laps = np.arange(0, int(turns[-1]))[:, None]
        tooth = np.arange(40)
        width = duty if is_odd else 0.5
        edges = (laps + np.sort(np.concatenate([tooth, tooth + width]) / 40.0)).ravel()
        edges = edges[edges > turns[0]]
        keep = rng.random(edges.size) > (lost if is_odd else 0.0)
        when = np.interp(edges, turns, fine)[keep]
        when = np.sort(when + 1e-5 * rng.standard_normal(when.size))
        last = np.maximum(np.searchsorted(when, times + 0.5) - 1, 4)
        counted = np.maximum(last - np.searchsorted(when, times + 0.49), 2)
        speed = counted * 2.0 / 80.0 / (when[last] - when[last - counted])
        channels.append(RawChannel(f"Wheel speed {corner}", "km/h", times, np.round(3.6 * speed, 2)))
    log = map_corners(RawLog(tuple(channels), "test"))
    analysis, exam = analyze_log(log, Vehicle(), quiet, shipped_calibration())
    said = {f.fault: f.confidence for f in analysis.findings if f.corners == (Corner.FR,)}
    assert noisiness(exam, Corner.FR).even is (duty != 0.5)
    assert (said.get(Fault.ENCODER_NOISE, 0.0) >= 0.5) is (lost > 0.0)
