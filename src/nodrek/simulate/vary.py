"""Scenarios drawn at random, as wide as workshops see them: for benchmarks and training.

Nothing here is tuned to the detector. A caller names the fault it wants (or none) and
the logging rate; everything else is drawn.
"""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from nodrek.core.model import Corner, Driven
from nodrek.simulate.car import Car, Tyre
from nodrek.simulate.chain import Scenario
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
)
from nodrek.simulate.drive import Driver
from nodrek.simulate.faults import Cause, SimulatedFault, Trigger
from nodrek.simulate.logger import Logger
from nodrek.simulate.nuisance import Nuisance
from nodrek.simulate.sensor import ActiveSensor, CoilSensor, Sensor

BOTH_EDGES, HEAVY, TRAILER = 0.25, 0.1, 0.04
"""Shares of drives whose control unit counts falling edges too, of heavy vehicles, of trailers of two corners."""
TWO_PLACES = 0.2
"""Share of damaged rings that lost a tooth at another place as well."""
KEEPS, TRACKS, SUBSTITUTES = 0.3, 0.08, 0.15
"""Shares, of the drives whose unit may, that keep the last value until a time-out, swing past their mark, show the
middle of all in place of a corner that falls too far below it."""
CONTROL_UNITS = ("span", "last", "count", "smoothed", "plausible", "filtered", "held", "limited")


def draw_control_unit(kind: str, rng: np.random.Generator) -> ControlUnit:
    if kind == "span":
        return SpanOfEdges(window=float(rng.choice((0.005, 0.007, 0.010, 0.020))))
    if kind == "last":
        return LastPeriod(window=float(rng.choice((0.007, 0.010, 0.020))), periods=int(rng.choice((1, 1, 2, 4, 8, 16))))
    if kind == "count":
        window, step = rng.choice((0.050, 0.100, 0.200)), rng.choice((0.010, 0.020, 0.050))
        return CountPerWindow(float(window), float(step))
    if kind == "plausible":
        inner = SpanOfEdges(window=float(rng.choice((0.005, 0.010))))
        return SmoothedSpan(inner, mean_of=int(rng.integers(1, 4)), refuse=float(rng.uniform(0.25, 0.5)))
    if kind in ("filtered", "held", "limited"):
        window = float(rng.choice((0.005, 0.010, 0.020)))
        inner_unit: ControlUnit = SpanOfEdges(window) if rng.random() < 0.6 else LastPeriod(window)
        if kind == "filtered":
            return LowPass(inner_unit, float(np.exp(rng.uniform(np.log(0.01), np.log(0.12)))))
        if kind == "limited":
            return SlewLimited(inner_unit, float(np.exp(rng.uniform(np.log(8.0), np.log(50.0)))))
        return HoldLast(inner_unit, float(rng.uniform(0.15, 0.6)), int(rng.integers(1, 15)))
    return SmoothedSpan(SpanOfEdges(window=0.010), mean_of=int(rng.integers(2, 7)))


def draw_scenario(
    seed: int,
    faults: tuple[SimulatedFault, ...] = (),
    *,
    road: str = "town",
    rates_hz: tuple[float, ...] = (50.0, 100.0),
    duration_s: float = 180.0,
    teeth: tuple[int, int] = (29, 100),
    control_units: tuple[str, ...] = CONTROL_UNITS,
    nuisance: Nuisance = Nuisance.NONE,
    worn_axle: bool = False,
) -> Scenario:
    """A car, its ring, control unit and logger drawn from `seed`; faults as given."""
    rng = np.random.default_rng([seed, 77])
    wide = np.random.default_rng([seed, 81])
    spread = float(wide.uniform(0.0004, 0.0012))
    growth = float(rng.uniform(0.5e-6, 3e-6))
    tyres = {
        c: Tyre(
            factor=1.0 + spread * float(rng.standard_normal()),
            growth=growth * float(rng.uniform(0.85, 1.15)),
            unround=float(abs(rng.normal(0, 2.5e-4))),
            unround_phase=float(rng.random()),
        )
        for c in Corner
    }
    if worn_axle:
        wear = float(rng.uniform(0.002, 0.010)) * float(rng.choice((-1.0, 1.0)))
        tyres = {c: replace(t, factor=t.factor * (1.0 + wear * c.is_front)) for c, t in tyres.items()}
    circumference = float(rng.uniform(1.7, 2.4))
    car = Car(
        wheelbase=float(rng.uniform(2.3, 3.3)),
        track=float(rng.uniform(1.35, 1.7)),
        circumference=circumference,
        driven=Driven(rng.choice(("front", "front", "rear", "all"))),
        drive_slip=float(rng.uniform(0.001, 0.006)),
        brake_slip=float(rng.uniform(0.0005, 0.003)),
        rolling_drag=float(rng.uniform(0.08, 0.2)),
        air_drag=float(rng.uniform(2e-4, 6e-4)),
        noise=float(rng.uniform(0.001, 0.004)),
        tyres=tyres,
    )
    driver = Driver(
        accelerate=float(rng.uniform(1.0, 2.6)),
        brake=float(rng.uniform(1.4, 3.2)),
        lateral=float(rng.uniform(1.5, 3.5)),
        unrest=float(rng.uniform(0.01, 0.05)),
        starts_standing=bool(rng.random() < 0.8),
    )
    sensor: Sensor = ActiveSensor() if rng.random() < 0.6 else CoilSensor(wake_rate=float(rng.uniform(15, 60)))
    rate = float(rng.choice(rates_hz))
    if nuisance is Nuisance.HARD_BRAKING:
        driver = replace(driver, brake=float(rng.uniform(4.5, 8.0)))
    # slow loggers are scan tools, and many of those know whole kilometres per hour only
    quanta = (0.01, 0.05625, 0.1) if rate > 20.0 else (0.01, 0.05625, 0.1, 0.5, 1.0)
    logger = Logger(
        rate=rate,
        stagger=0.0 if rng.random() < 0.6 else float(rng.uniform(0.0, 0.2)) / rate,
        jitter=float(rng.choice((0.0, 0.0005, 0.002))),
        quantum=float(rng.choice(quanta)),
        own_times=bool(wide.random() < 0.2),
        drop=float(rng.choice((0.0, 0.0, 0.002))),
        hole_s=float(wide.uniform(1.0, 5.0)) if wide.random() < 0.15 else 0.0,
    )
    drawn = Scenario(
        title="drawn",
        seed=seed,
        duration_s=duration_s,
        road=road,
        driver=driver,
        car=car,
        teeth=int(rng.integers(teeth[0], teeth[1] + 1)),
        pitch_error=float(rng.uniform(0.003, 0.02)),
        ring_swing=float(rng.uniform(0.5e-4, 3e-4)),
        sensor=sensor,
        control_unit=draw_control_unit(str(rng.choice(control_units)), rng),
        believed_circumference_m=circumference * float(rng.uniform(0.98, 1.02)),
        min_speed=float(rng.uniform(0.2, 0.8)),
        logger=logger,
        nuisance=nuisance,
        faults=faults,
    )
    drawn = _wider(drawn, np.random.default_rng([seed, 83]))
    return _own_ways(drawn, np.random.default_rng([seed, 85])) if control_units == CONTROL_UNITS else drawn


def _wider(drawn: Scenario, rng: np.random.Generator) -> Scenario:
    """Some of the drives on other rings and other vehicles; the rest as they were."""
    both, heavy, trailer = (bool(rng.random() < share) for share in (BOTH_EDGES, HEAVY, TRAILER))
    if both:
        # hardly any tooth is exactly half a pitch; a unit takes its periods between like edges
        drawn = replace(drawn, tooth_share=float(rng.uniform(0.46, 0.54)), control_unit=_like_edges(drawn.control_unit))
    if heavy:
        size = float(rng.uniform(2.6, 3.5))
        car = replace(
            drawn.car,
            circumference=size,
            wheelbase=float(rng.uniform(3.5, 6.0)),
            track=float(rng.uniform(1.8, 2.1)),
            driven=Driven.REAR,
        )
        believed = size * drawn.believed_circumference_m / drawn.car.circumference
        drawn = replace(drawn, car=car, teeth=int(rng.integers(80, 101)), believed_circumference_m=believed)
    behind = all(not f.corner.is_front and f.cause is not Cause.CROSSED for f in drawn.faults)
    if trailer and behind:
        drawn = replace(drawn, names={c: name for c, name in drawn.names.items() if not c.is_front})
    return drawn


def _own_ways(drawn: Scenario, rng: np.random.Generator) -> Scenario:
    """Some of the drives before units with ways of their own; the rest as they were."""
    keeps, tracks, substitutes = (bool(rng.random() < share) for share in (KEEPS, TRACKS, SUBSTITUTES))
    unit = drawn.control_unit
    time_out = float(np.exp(rng.uniform(np.log(0.08), np.log(0.8))))
    if keeps and isinstance(unit, SpanOfEdges | LastPeriod):
        unit = replace(unit, keeps=True, time_out=time_out)
    elif keeps and isinstance(unit, LowPass) and isinstance(unit.inner, SpanOfEdges | LastPeriod):
        unit = replace(unit, inner=replace(unit.inner, keeps=True, time_out=time_out))
    bandwidth, damping = float(np.exp(rng.uniform(np.log(1.5), np.log(10.0)))), float(rng.uniform(0.4, 1.0))
    if tracks and isinstance(unit, SpanOfEdges | LastPeriod):
        unit = Tracking(unit, bandwidth, damping)
    refuse = float(rng.uniform(0.12, 0.5)) if substitutes else 0.0
    return replace(drawn, control_unit=unit, substitutes=refuse)


def _like_edges(unit: ControlUnit) -> ControlUnit:
    if isinstance(unit, LastPeriod):
        return replace(unit, periods=2 * unit.periods)
    if isinstance(unit, LowPass | HoldLast | SlewLimited) and isinstance(unit.inner, LastPeriod):
        return replace(unit, inner=_like_edges(unit.inner))
    return unit


def small_fault(fault: SimulatedFault, times: float) -> SimulatedFault:
    """The same kind of fault at the same corner, so many `times` the smallest size that is worth finding.

    One lost tooth, a swing of 0.2 %, reading above 8 km/h only, a break of a tenth of a second once a minute, a
    tyre half a per cent off; other kinds know no smallest size and stay as they are.
    """
    if fault.cause is Cause.MISSING_TEETH:
        return replace(fault, count=max(1, round(times)), second_at=0.0)
    if fault.cause is Cause.WHEEL_SIZE:
        return replace(fault, size=math.copysign(0.005 * times, fault.size))
    if fault.cause is Cause.ECCENTRIC_RING:
        return replace(fault, size=0.002 * times)
    if fault.cause is Cause.WIDE_GAP:
        return replace(fault, size=8.0 / 3.6 * times)
    if fault.cause is Cause.BROKEN_LEAD:
        return replace(fault, per_minute=1.0, length_s=0.1 * times)
    return fault


def draw_fault(cause: Cause, seed: int) -> SimulatedFault:
    """A fault of one kind at a random corner, of a size that is worth finding."""
    rng = np.random.default_rng([seed, 78])
    corner = list(Corner)[int(rng.integers(4))]
    base = SimulatedFault(corner, cause)
    if cause is Cause.MISSING_TEETH:
        # an edge of a stone that went round with the wheel hits more than one place
        second = float(rng.uniform(0.15, 0.85)) if rng.random() < TWO_PLACES else 0.0
        return replace(base, count=int(rng.choice((1, 1, 1, 2, 3, 4))), second_at=second)
    sign = float(rng.choice((-1.0, 1.0)))
    if cause is Cause.WHEEL_SIZE:
        return replace(base, size=sign * float(np.exp(rng.uniform(np.log(0.004), np.log(0.03)))))
    if cause is Cause.ECCENTRIC_RING:
        return replace(base, size=float(np.exp(rng.uniform(np.log(0.003), np.log(0.02)))))
    if cause is Cause.CRACKED_RING:
        return replace(base, size=float(rng.uniform(0.6, 1.2)))
    if cause is Cause.BROKEN_LEAD:
        trigger = list(Trigger)[int(rng.integers(len(Trigger)))]
        return replace(
            base, per_minute=float(rng.uniform(2, 12)), length_s=float(rng.uniform(0.05, 0.4)), trigger=trigger,
            lets_through=float(rng.choice((0.0, 0.0, 0.3))),
        )  # fmt: skip
    if cause is Cause.WIDE_GAP:
        return replace(base, size=float(rng.uniform(9.0, 28.0)) / 3.6)
    if cause is Cause.DIRTY_ENCODER:
        return replace(base, size=float(np.exp(rng.uniform(np.log(0.01), np.log(0.15)))))
    if cause is Cause.LIFTED_RING:
        return replace(base, size=float(rng.uniform(0.08, 0.3)))
    if cause is Cause.WRONG_COUNT:
        return replace(base, count=int(rng.integers(1, 7)) * int(sign))
    if cause is Cause.FROZEN:
        value = float(rng.choice((655.35, 255.99, 30.0, 17.3))) / 3.6
        return replace(base, value=value, from_s=0.0 if rng.random() < 0.5 else 40.0)
    return base
