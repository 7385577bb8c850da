"""The simulated world behind the chain: roads, drivers, bumps, faults, loggers, draws."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from nodrek.core.model import Array, Corner, Driven
from nodrek.simulate.car import Car, Tyre, wheel_turns
from nodrek.simulate.chain import Scenario, simulate
from nodrek.simulate.drive import Drive, Driver, drive_road, road_length, steady_drive
from nodrek.simulate.faults import Cause, SimulatedFault, Trigger, break_lead, damage_ring, freeze
from nodrek.simulate.logger import Logger
from nodrek.simulate.ring import Ring, WeakArc
from nodrek.simulate.road import KINDS, Road, draw_road
from nodrek.simulate.sensor import ActiveSensor, CoilSensor, Lead
from nodrek.simulate.vary import CONTROL_UNITS, draw_control_unit, draw_fault, draw_scenario

G = 9.81


def drawn(kind: str, seed: int = 1, seconds: float = 300.0) -> tuple[Road, Drive]:
    rng = np.random.default_rng(seed)
    chosen = KINDS[kind]
    road = draw_road(chosen, road_length(max(chosen.limits), seconds), rng)
    return road, drive_road(road, Driver(), seconds, rng)


@pytest.mark.parametrize("kind", KINDS)
def test_drivers_keep_to_the_road_and_to_physics(kind: str) -> None:
    road, drive = drawn(kind)
    assert drive.speed.min() >= 0.0
    assert drive.speed.max() <= 1.2 * road.limit.max()
    assert np.diff(drive.distance).min() >= 0.0
    # no driver here asks for more than six tenths of the grip of a dry road
    assert np.quantile(np.abs(drive.acceleration), 0.999) < 0.6 * G
    assert np.quantile(drive.speed**2 * np.abs(drive.curvature), 0.99) < 0.6 * G
    assert drive.distance[-1] < road.length


def test_town_drives_stop_and_motorway_drives_do_not() -> None:
    def stops(kind: str) -> int:
        _, drive = drawn(kind)
        still = drive.speed < 0.1
        return int(np.sum(still[1:] & ~still[:-1]))

    assert stops("town") >= 2
    assert stops("motorway") <= 1


def test_speed_is_the_derivative_of_distance() -> None:
    _, drive = drawn("country")
    step = drive.t[1] - drive.t[0]
    np.testing.assert_allclose(np.gradient(drive.distance, step)[5:-5], drive.speed[5:-5], atol=0.1)


def test_rough_roads_shake_more() -> None:
    def shake(kind: str) -> float:
        road, _ = drawn(kind)
        drive = steady_drive(10.0, 0.0, 60.0)
        t, turns = wheel_turns(Car(), Corner.FL, drive, replace(road, bumps=road.bumps[:0]), np.random.default_rng(2))
        return float(np.std(np.diff(turns) / np.diff(t)))

    assert shake("gravel") > 2 * shake("motorway")


def rate_of(car: Car, corner: Corner, drive: Drive, road: Road | None = None) -> tuple[Array, Array]:
    t, turns = wheel_turns(car, corner, drive, road, np.random.default_rng(3))
    return t[:-1], np.diff(turns) / np.diff(t)


@pytest.mark.parametrize("driven", [Driven.FRONT, Driven.REAR, Driven.NONE])
def test_driven_wheels_run_ahead_while_pulling(driven: Driven) -> None:
    t = np.arange(0.0, 10.0, 0.01)
    pulling = Drive(t, t**2, 2.0 * t + 2.0, 2.0 + 0.0 * t, 0.0 * t)
    car = Car(driven=driven, tyres={c: Tyre(unround=0.0) for c in Corner})
    front, rear = (float(rate_of(car, c, pulling)[1].mean()) for c in (Corner.FL, Corner.RL))
    expected = {Driven.FRONT: 1, Driven.REAR: -1, Driven.NONE: 0}[driven]
    assert np.sign(round(front / rear - 1.0, 4)) == expected


def test_a_bump_reaches_the_rear_axle_one_wheelbase_later() -> None:
    road = Road(np.zeros(400), np.full(400, 20.0), np.empty(0), np.array([[100.0, 0.0, 0.05]]), 0.0)
    car = Car(wheelbase=3.0, noise=0.0, driven=Driven.NONE, tyres={c: Tyre(unround=0.0) for c in Corner})
    drive = steady_drive(10.0, 0.0, 20.0)
    when = {}
    for corner in (Corner.FL, Corner.RL):
        t, rate = rate_of(car, corner, drive, road)
        when[corner] = t[int(np.argmax(np.abs(rate - np.median(rate))))]
    assert when[Corner.RL] - when[Corner.FL] == pytest.approx(0.3, abs=0.06)


def test_a_bump_on_the_left_leaves_the_right_alone() -> None:
    road = Road(np.zeros(400), np.full(400, 20.0), np.empty(0), np.array([[100.0, -1.0, 0.05]]), 0.0)
    car = Car(noise=0.0, driven=Driven.NONE, tyres={c: Tyre(unround=0.0) for c in Corner})
    left, right = (np.ptp(rate_of(car, c, steady_drive(10.0, 0.0, 20.0), road)[1]) for c in (Corner.FL, Corner.FR))
    assert left > 100 * right


def test_rings_and_their_faults() -> None:
    rng = np.random.default_rng(0)
    ring = Ring(48, pitch_error=0.0)
    assert ring.edges()[0].size == 48
    lost = damage_ring(ring, SimulatedFault(Corner.FL, Cause.MISSING_TEETH, count=3), rng)
    assert lost.edges()[0].size == 45
    cracked = damage_ring(ring, SimulatedFault(Corner.FL, Cause.CRACKED_RING, size=1.0), rng).edges()[0]
    pitches = 48 * np.diff(np.append(cracked, cracked[0] + 1.0))
    assert np.sort(pitches)[-1] == pytest.approx(2.0, abs=0.05)
    eccentric = damage_ring(ring, SimulatedFault(Corner.FL, Cause.ECCENTRIC_RING, size=0.01), rng).edges()[0]
    swing = 1.0 - 48 * np.diff(np.append(eccentric, eccentric[0] + 1.0))
    assert 2 * abs(np.mean(swing * np.exp(-2j * np.pi * np.arange(48) / 48))) == pytest.approx(0.01, rel=0.05)
    weak = Ring(48, pitch_error=0.0, weak=(WeakArc(0.5, 0.25, 0.3),)).edges()[1]
    assert np.sum(weak < 0.5) == pytest.approx(12, abs=1)
    soft = Ring(48, pitch_error=0.0, weak=(WeakArc(0.5, 0.25, 0.3, soft=True),)).edges()[1]
    assert soft.min() == pytest.approx(weak.min(), abs=0.02)
    assert np.sum(soft < 0.5) < np.sum(weak < 0.5)
    apart = damage_ring(ring, SimulatedFault(Corner.FL, Cause.MISSING_TEETH, second_at=0.5), rng).edges()[0]
    pitches = np.round(48 * np.diff(np.append(apart, apart[0] + 1.0)), 6)
    assert np.sum(pitches == 2.0) == 2
    assert np.ptp(np.flatnonzero(pitches == 2.0)) == pytest.approx(23, abs=1)
    assert damage_ring(ring, SimulatedFault(Corner.FL, Cause.DEAD), rng) is ring


def test_both_edges_of_a_tooth_come_and_go_together() -> None:
    """Twice the edges at unequal halves of a pitch; a lost tooth loses both; a coil wakes at the same speed."""
    ring = Ring(48, pitch_error=0.0, tooth_share=0.4)
    pitches = 48 * np.diff(ring.edges()[0])
    assert ring.edges()[0].size == 96
    assert set(np.round(pitches, 6)) == {0.4, 0.6}
    lost = damage_ring(ring, SimulatedFault(Corner.FL, Cause.MISSING_TEETH), np.random.default_rng(0)).edges()[0]
    assert lost.size == 94
    assert 48 * np.diff(np.append(lost, lost[0] + 1.0)).max() == pytest.approx(1.6)
    for teeth_a_second, read in ((25.0, 0), (35.0, 96)):
        times = ring.edges()[0] * 48 / teeth_a_second
        sensed = CoilSensor(wake_rate=30.0, edges_a_tooth=2).sense(times, np.ones(96), np.random.default_rng(1))
        assert sensed.size == read


def test_weak_arcs_sleep_first() -> None:
    rng = np.random.default_rng(1)
    times = np.arange(200) * 0.02
    strength = np.where(np.arange(200) % 4 == 0, 0.4, 1.0)
    kept = CoilSensor(wake_rate=30.0).sense(times, strength, rng)
    assert kept.size == 150
    assert ActiveSensor(threshold=0.35).sense(times, strength, rng).size > 180


def test_leads_break_where_the_car_is_shaken() -> None:
    road, drive = drawn("town")
    fault = SimulatedFault(Corner.FL, Cause.BROKEN_LEAD, per_minute=6.0, trigger=Trigger.BUMPS)
    lead = break_lead(Lead(), fault, drive, road.bumps, np.random.default_rng(5))
    passed = np.interp(road.bumps[:, 0], drive.distance, drive.t)
    assert len(lead.breaks) > 5
    for start, stop in lead.breaks:
        assert stop > start
        assert np.abs(passed - start).min() < 0.05


def test_freezing_holds_the_last_value_or_the_given_one() -> None:
    times, speeds = np.arange(10.0), np.arange(10.0)
    held = freeze(times, speeds, SimulatedFault(Corner.FL, Cause.FROZEN, from_s=4.0))
    np.testing.assert_array_equal(held, [0, 1, 2, 3, 4, 4, 4, 4, 4, 4])
    given = freeze(times, speeds, SimulatedFault(Corner.FL, Cause.FROZEN, from_s=4.0, value=9.0))
    assert set(given[4:]) == {9.0}
    assert freeze(times, speeds, SimulatedFault(Corner.FL, Cause.DEAD)) is speeds


def test_staggered_polls_are_stamped_once_or_truly() -> None:
    ramp = (np.arange(0.0, 30.0, 0.005), np.arange(0.0, 30.0, 0.005))
    speeds = dict.fromkeys(Corner, ramp)
    names = {c: c.value for c in Corner}
    once, truly = (
        Logger(rate=10.0, stagger=0.02, jitter=0.0, quantum=0.0, unit="m/s", own_times=own).record(
            speeds, 30.0, names, np.random.default_rng(0)
        )
        for own in (False, True)
    )
    for place in range(4):
        late = once.channels[place].values - once.channels[place].times_s
        assert np.median(late) == pytest.approx(0.02 * place, abs=0.004)
        true = truly.channels[place].values - truly.channels[place].times_s
        assert np.median(true) == pytest.approx(0.0, abs=0.004)


def test_draws_vary_what_matters_and_keep_within_bounds() -> None:
    scenarios = [draw_scenario(seed) for seed in range(60)]
    assert {type(s.control_unit).__name__ for s in scenarios} >= {"SpanOfEdges", "LastPeriod", "CountPerWindow"}
    assert {s.car.driven for s in scenarios} == {Driven.FRONT, Driven.REAR, Driven.ALL}
    assert all(29 <= s.teeth <= 100 for s in scenarios)
    heavy = [s for s in scenarios if s.car.circumference > 2.5]
    assert all(1.7 <= s.car.circumference <= 2.4 for s in scenarios if s not in heavy)
    assert 0 < len(heavy) < 15
    assert all(s.car.circumference <= 3.5 and s.teeth >= 80 for s in heavy)
    assert 0 < sum(s.tooth_share > 0 for s in scenarios) < 30
    assert len({s.logger.quantum for s in scenarios}) == 3
    faults = [draw_fault(cause, seed) for cause in Cause for seed in range(40)]
    assert {f.corner for f in faults} == set(Corner)
    rng = np.random.default_rng(0)
    assert len({draw_control_unit(kind, rng).__class__ for kind in CONTROL_UNITS}) == 7


def test_a_longer_drive_begins_like_the_shorter_one() -> None:
    """The road is drawn before the drive, so more of it does not change what came before it much."""
    short = simulate(Scenario(seed=9, duration_s=30.0))
    assert short.channels[0].times_s[-1] == pytest.approx(30.0, abs=0.2)
    assert all(c.times_s is short.channels[0].times_s for c in short.channels)
    assert max(float(c.values.max()) for c in short.channels) < 90.0
