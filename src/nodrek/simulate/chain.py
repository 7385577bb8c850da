"""The whole chain: road, car, rings, sensors, control unit, logger → `RawLog`.

Every part is an object of its own, so each can be exchanged: another control unit,
another logger, another driver. The same seed always gives the same log.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from nodrek.core.model import Corner, RawLog
from nodrek.simulate import faults as fault_effects
from nodrek.simulate.car import Car, wheel_turns
from nodrek.simulate.control_unit import ControlUnit, SpanOfEdges, substituted
from nodrek.simulate.drive import Drive, Driver, drive_road, road_length
from nodrek.simulate.faults import Cause, SimulatedFault
from nodrek.simulate.logger import Logger
from nodrek.simulate.nuisance import Nuisance, Slips, extra_slip, with_parking
from nodrek.simulate.ring import Ring, edge_times
from nodrek.simulate.road import KINDS, Road, draw_road
from nodrek.simulate.sensor import ActiveSensor, CoilSensor, Lead, LosingSensor, Sensor

DEFAULT_NAMES: Mapping[Corner, str] = {c: f"Wheel speed {c}" for c in Corner}


@dataclass(frozen=True)
class Scenario:
    """Everything that decides a simulated log."""

    title: str = ""
    seed: int = 0
    duration_s: float = 180.0
    road: str = "town"
    driver: Driver = Driver()
    car: Car = Car()
    teeth: int = 48
    pitch_error: float = 0.012
    ring_swing: float = 3e-4
    tooth_share: float = 0.0
    sensor: Sensor = ActiveSensor()
    control_unit: ControlUnit = SpanOfEdges()
    believed_circumference_m: float = 1.95
    min_speed: float = 0.5
    logger: Logger = Logger()
    names: Mapping[Corner, str] = field(default_factory=lambda: dict(DEFAULT_NAMES))
    nuisance: Nuisance = Nuisance.NONE
    faults: tuple[SimulatedFault, ...] = ()
    substitutes: float = 0.0
    """Part by which a corner may fall below the middle of all before the middle is shown in its place; 0: never."""
    exact_edges: bool = False
    """Sensors are sure of their moments: then two drives that differ in a fault differ in nothing else."""

    def at(self, corner: Corner) -> list[SimulatedFault]:
        return [f for f in self.faults if f.corner is corner]


def simulate(scenario: Scenario) -> RawLog:
    """Drive the scenario once and log it."""
    rng = np.random.default_rng(scenario.seed)
    kind = KINDS[scenario.road]
    road = draw_road(kind, road_length(max(kind.limits), scenario.duration_s), rng)
    # a little longer than the log, so that its last samples still have teeth to count
    drive = drive_road(road, scenario.driver, scenario.duration_s + 1.0, rng)
    if scenario.nuisance is Nuisance.PARKING:
        drive = with_parking(drive, rng)
    driven = tuple(c for c in scenario.names if scenario.car.is_driven(c))
    slips = extra_slip(scenario.nuisance, drive, driven, rng) if scenario.nuisance is not Nuisance.NONE else None
    speeds = {
        corner: _corner_speeds(scenario, corner, drive, road, slips, np.random.default_rng(rng.integers(2**63)))
        for corner in scenario.names
    }
    if scenario.substitutes:
        speeds = dict(zip(speeds, substituted(list(speeds.values()), scenario.substitutes), strict=True))
    for fault in scenario.faults:
        if fault.cause is fault_effects.Cause.CROSSED:
            one, other = fault.corner, fault.corner.mate
            speeds[one], speeds[other] = speeds[other], speeds[one]
    return scenario.logger.record(speeds, scenario.duration_s, scenario.names, rng)


def _corner_speeds(
    scenario: Scenario,
    corner: Corner,
    drive: Drive,
    road: Road,
    slips: Slips | None,
    rng: np.random.Generator,
) -> tuple[np.ndarray, np.ndarray]:
    car = _with_wheel_sizes(scenario.car, scenario.at(corner))
    t, turns = wheel_turns(car, corner, drive, road, rng, slips)
    ring = Ring(
        scenario.teeth,
        scenario.pitch_error,
        abs(scenario.ring_swing * rng.standard_normal()),
        phase=float(rng.random()),
        seed=int(rng.integers(2**31)),
        tooth_share=scenario.tooth_share,
    )
    lead = Lead()
    sensor = scenario.sensor
    for fault in scenario.at(corner):
        sensor = fault_effects.change_sensor(sensor, fault, scenario.teeth, car.circumference)
        ring = fault_effects.damage_ring(ring, fault, rng)
        lead = fault_effects.break_lead(lead, fault, drive, road.bumps, rng)
    angles, strengths = ring.edges()
    times, which = edge_times(t, turns + rng.random(), angles)
    looks = _before(_exact(sensor) if scenario.exact_edges else sensor, ring)
    edges = looks.sense(times, strengths[which], rng)
    edges = lead.carry(edges, rng)
    pitch = scenario.believed_circumference_m / (scenario.teeth * ring.edges_a_tooth)
    when, value = scenario.control_unit.speeds(edges, scenario.duration_s, pitch)
    value = np.where(value < scenario.min_speed, 0.0, value)
    for fault in scenario.at(corner):
        value = fault_effects.freeze(when, value, fault)
    return when, value


def _before(sensor: Sensor, ring: Ring) -> Sensor:
    """The sensor as it looks at this ring."""
    if isinstance(sensor, LosingSensor):
        return replace(sensor, inner=_before(sensor.inner, ring))
    return replace(sensor, edges_a_tooth=ring.edges_a_tooth) if isinstance(sensor, CoilSensor) else sensor


def _exact(sensor: Sensor) -> Sensor:
    """The same sensor without the noise of its moments."""
    if isinstance(sensor, LosingSensor):
        return replace(sensor, inner=_exact(sensor.inner))
    return replace(sensor, jitter=0.0) if isinstance(sensor, ActiveSensor | CoilSensor) else sensor


def _with_wheel_sizes(car: Car, faults: list[SimulatedFault]) -> Car:
    for fault in faults:
        if fault.cause is Cause.WHEEL_SIZE:
            tyre = car.tyre(fault.corner)
            # a larger wheel turns slower: `size` is the change of reported speed
            changed = replace(tyre, factor=tyre.factor / (1.0 + fault.size))
            car = replace(car, tyres={**car.tyres, fault.corner: changed})
    return car
