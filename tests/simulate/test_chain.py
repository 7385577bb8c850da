"""The simulated chain, link by link, where each has an answer known beforehand."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from nodrek.core.model import Corner
from nodrek.errors import BadRequest
from nodrek.simulate.chain import Scenario, simulate
from nodrek.simulate.control_unit import (
    ControlUnit,
    CountPerWindow,
    HoldLast,
    LastPeriod,
    LowPass,
    SlewLimited,
    SmoothedSpan,
    SpanOfEdges,
    Tracking,
    substituted,
)
from nodrek.simulate.faults import Cause, SimulatedFault
from nodrek.simulate.logger import Logger
from nodrek.simulate.ring import Ring, edge_times
from nodrek.simulate.scenario import load_scenario, scenario_from, shipped
from nodrek.simulate.sensor import ActiveSensor, CoilSensor, Lead

UNITS: list[ControlUnit] = [
    SpanOfEdges(0.01),
    LastPeriod(0.01, 1),
    LastPeriod(0.01, 4),
    CountPerWindow(0.1, 0.02),
    SmoothedSpan(SpanOfEdges(0.01), 4),
    LowPass(SpanOfEdges(0.01), 0.05),
    HoldLast(SpanOfEdges(0.01), 0.6),
    Tracking(SpanOfEdges(0.01), 4.0, 0.6),
    LastPeriod(0.01, 4, keeps=True),
]


def steady_edges(teeth: int, turns_per_s: float, seconds: float, missing: frozenset[int] = frozenset()) -> np.ndarray:
    t = np.linspace(0.0, seconds, 4001)
    angles, _ = Ring(teeth, pitch_error=0.0, missing=missing).edges()
    return edge_times(t, turns_per_s * t, angles)[0]


def test_edges_of_a_steady_turn_are_evenly_spaced() -> None:
    edges = steady_edges(48, 5.0, 10.0)
    assert edges.size == pytest.approx(48 * 5 * 10, abs=2)
    np.testing.assert_allclose(np.diff(edges), 1 / 240.0, rtol=1e-6)


def test_reversing_counts_the_same_teeth_backwards() -> None:
    t = np.linspace(0.0, 4.0, 4001)
    turns = np.where(t < 2.0, t, 4.0 - t)
    times, which = edge_times(t, turns, Ring(40, pitch_error=0.0, phase=0.01).edges()[0])
    half = times < 2.0
    assert half.sum() == pytest.approx((~half).sum(), abs=1)
    assert list(which[half][-5:]) == list(which[~half][:5][::-1])


@pytest.mark.parametrize("unit", UNITS, ids=lambda u: type(u).__name__)
def test_every_control_unit_reads_a_steady_wheel_right(unit: ControlUnit) -> None:
    edges = steady_edges(48, 7.0, 10.0)
    when, value = unit.speeds(edges, 10.0, 2.0 / 48)
    settled = value[(when > 1.0) & (when < 9.5)]
    assert settled.mean() == pytest.approx(14.0, rel=2e-3)


@pytest.mark.parametrize("unit", UNITS, ids=lambda u: type(u).__name__)
def test_a_lost_tooth_costs_one_pitch_a_turn(unit: ControlUnit) -> None:
    """Whatever a unit does with a lost edge, the distance it reports falls short by that edge.

    A unit that shows only its last period shows the long one for the time of a short one,
    and so half of the loss.
    """
    edges = steady_edges(48, 3.7, 60.0, frozenset({9}))
    when, value = unit.speeds(edges, 60.0, 2.0 / 48)
    mean = value[(when > 1.0) & (when < 59.0)].mean()
    short = 48 * (1.0 - mean / 7.4)
    assert (0.45 if unit == LastPeriod(0.01, 1) else 0.8) < short < 1.2


def test_a_slope_limit_flattens_a_break_and_leaves_driving_alone() -> None:
    """20 m/s² is more than a vehicle does and less than an open contact: 0.3 s of it cost 6 m/s at most."""
    edges = steady_edges(48, 7.0, 10.0)
    broken = edges[(edges < 4.0) | (edges > 4.3)]
    unit = SlewLimited(SpanOfEdges(0.01, time_out=0.1), 20.0)
    when, whole = unit.speeds(edges, 10.0, 2.0 / 48)
    _, shown = unit.speeds(broken, 10.0, 2.0 / 48)
    assert np.abs(np.diff(shown[when > 1.0])).max() <= 20.0 * 0.01 + 1e-9
    assert whole[(when > 1.0) & (when < 9.5)].min() == pytest.approx(14.0, rel=2e-3)
    assert 14.0 - 20.0 * 0.31 <= shown[(when > 4.0) & (when < 5.0)].min() < 12.0


def test_a_unit_that_keeps_its_value_shows_a_stop_late() -> None:
    """The wheel stands at once after 5 s: one unit falls with the silence, the other holds on and then drops."""
    edges = steady_edges(48, 7.0, 10.0)
    edges = edges[edges < 5.0]
    shown = {keeps: SpanOfEdges(0.01, 0.4, keeps).speeds(edges, 6.0, 2.0 / 48)[1] for keeps in (False, True)}
    at = round(5.35 / 0.01)
    assert shown[True][at] == pytest.approx(14.0, rel=0.01)
    assert shown[False][at] < 0.2
    assert shown[True][-20:].max() == shown[False][-20:].max() == 0.0


def test_a_loop_of_second_order_swings_past_its_mark() -> None:
    """Overshoot of a step with a zero in it; damping 0.6 gives 20 to 30 % (Gardner, Phaselock Techniques, ch. 2; from
    memory)."""
    edges = steady_edges(48, 7.0, 20.0)
    edges = edges[edges > 10.0]
    _, value = Tracking(SpanOfEdges(0.01), 2.0, 0.6).speeds(edges, 20.0, 2.0 / 48)
    assert 1.15 < value.max() / 14.0 < 1.35
    assert value[-100:].mean() == pytest.approx(14.0, rel=1e-3)


def test_what_is_not_believed_gives_way_to_the_middle_of_all() -> None:
    when = np.arange(5.0)
    low = np.array([10.0, 6.0, 9.0, 0.0, 10.0])
    shown = substituted([(when, np.full(5, v)) for v in (10.0, 10.2, 10.4)] + [(when, low)], 0.3)
    middle = np.median([10.0, 10.2, 10.4, 0.0])
    assert list(shown[3][1]) == pytest.approx([10.0, middle, 9.0, middle, 10.0])
    assert list(shown[0][1]) == [10.0] * 5


def test_a_contact_that_lets_some_through_and_a_pause_of_the_recording() -> None:
    edges = np.arange(0.0, 10.0, 0.001)
    left = Lead(((2.0, 8.0),), lets_through=0.3).carry(edges, np.random.default_rng(0))
    assert ((left >= 2.0) & (left < 8.0)).mean() * left.size == pytest.approx(0.3 * 6000, rel=0.1)
    ramp = (np.arange(0.0, 60.0, 0.01), np.arange(0.0, 60.0, 0.01))
    names = {c: c.value for c in Corner}
    log = Logger(rate=10.0, jitter=0.0, hole_s=4.0).record(
        dict.fromkeys(Corner, ramp), 60.0, names, np.random.default_rng(0)
    )
    assert np.diff(log.channels[0].times_s).max() == pytest.approx(4.0, abs=0.2)


def test_coil_sleeps_when_slow_and_active_does_not() -> None:
    rng = np.random.default_rng(1)
    slow = np.arange(0.0, 5.0, 1 / 12.0)
    strength = np.ones_like(slow)
    assert CoilSensor(wake_rate=30.0).sense(slow, strength, rng).size == 0
    assert ActiveSensor().sense(slow, strength, rng).size == slow.size


def test_lead_swallows_what_passes_while_it_is_open() -> None:
    edges = np.arange(0.0, 1.0, 0.01)
    left = Lead(((0.25, 0.5),)).carry(edges, np.random.default_rng(0))
    assert left.size == edges.size - 25
    assert not ((left >= 0.25) & (left < 0.5)).any()


def test_the_same_seed_gives_the_same_log_and_another_does_not() -> None:
    scenario = Scenario(seed=3, duration_s=20.0)
    first, second, other = simulate(scenario), simulate(scenario), simulate(replace(scenario, seed=4))
    for a, b in zip(first.channels, second.channels, strict=True):
        np.testing.assert_array_equal(a.values, b.values)
    assert not np.array_equal(first.channels[0].values, other.channels[0].values)


def test_logger_keeps_its_quantum_and_its_unit() -> None:
    raw = simulate(Scenario(seed=5, duration_s=20.0, logger=Logger(rate=20.0, quantum=0.5, unit="mph")))
    values = raw.channels[0].values
    np.testing.assert_allclose(values, np.round(values / 0.5) * 0.5, atol=1e-9)
    assert raw.channels[0].unit == "mph"
    assert values.max() < 45


def test_frozen_and_dead_do_what_they_say() -> None:
    faults = (
        SimulatedFault(Corner.FL, Cause.FROZEN, value=10.0, from_s=5.0),
        SimulatedFault(Corner.RR, Cause.DEAD, from_s=5.0),
    )
    raw = simulate(Scenario(seed=6, duration_s=30.0, faults=faults))
    by_name = {c.name[-2:]: c for c in raw.channels}
    late = by_name["FL"].times_s > 5.5
    assert set(by_name["FL"].values[late]) == {36.0}
    assert by_name["RR"].values[late].max() == 0.0
    assert by_name["RL"].values[late].max() > 10.0


@pytest.mark.parametrize("name", shipped())
def test_shipped_scenarios_load(name: str) -> None:
    assert load_scenario(name).title


@pytest.mark.parametrize(
    ("data", "says"),
    [
        ({"road": "moon"}, "road must be one of"),
        ({"duration_s": -1}, "duration_s must be a number"),
        ({"car": {"wings": 2}}, "has no setting 'wings'"),
        ({"faults": []}, "has no setting 'faults'"),
        ({"ring": {"tooth": 48}}, "ring has no setting 'tooth'"),
        ({"ring": 48}, "ring must be a table"),
        ({"car": {"driven": "wind"}}, "car.driven"),
        ({"fault": [{"corner": "XX", "cause": "dead"}]}, "fault 1: corner"),
        ({"fault": ["dead"]}, "must be a table"),
        ({"sensor": {"kind": "radar"}}, "sensor.kind"),
        ({"logger": {"rate": 1e6}}, "logger.rate"),
        ({"driver": {"accelerate": "fast"}}, "must be a number"),
        ({"substitutes": 2.0}, "substitutes must be"),
        ({"control_unit": {"kind": "tracking", "bandwidth": 0.0}}, "bandwidth must be from"),
        ({"control_unit": {"kind": "tracking", "damping": -1.0}}, "damping from"),
    ],
)
def test_wrong_scenarios_name_the_key(data: dict[str, object], says: str) -> None:
    with pytest.raises(BadRequest, match=says):
        scenario_from(data, "x.toml")
