"""From the path of the body to the turning of four wheels.

Rigid body on a plane: each wheel runs on its own circle round the common centre of
rotation, so with curvature k at the rear axle's centre, track T and wheelbase L

    rear  v·|1 ∓ k·T/2|          front  v·sqrt((1 ∓ k·T/2)² + (k·L)²)

(upper sign: left wheel, k positive to the left). On top of it come slip, road noise,
bumps, and the tyre's own rolling circumference.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from nodrek.core.model import Array, Corner, Driven
from nodrek.simulate.drive import Drive
from nodrek.simulate.nuisance import Slips
from nodrek.simulate.road import Road

FINE_STEP = 0.0025
"""Time step of the wheel's turning, s: short against a bump and a tooth at town speed."""


@dataclass(frozen=True)
class Tyre:
    """``factor`` scales the nominal circumference; ``growth`` per (m/s)²; ``unround`` once a turn."""

    factor: float = 1.0
    growth: float = 1.5e-6
    unround: float = 4e-4
    unround_phase: float = 0.0


@dataclass(frozen=True)
class Car:
    """Geometry in m, slips per m/s² of acceleration, drags in m/s² and 1/m (times v²)."""

    wheelbase: float = 2.65
    track: float = 1.54
    circumference: float = 1.95
    driven: Driven = Driven.FRONT
    drive_slip: float = 0.003
    brake_slip: float = 0.0015
    rolling_drag: float = 0.12
    air_drag: float = 3.5e-4
    noise: float = 0.0025
    tyres: Mapping[Corner, Tyre] = field(default_factory=dict)

    def tyre(self, corner: Corner) -> Tyre:
        return self.tyres.get(corner, Tyre())

    def is_driven(self, corner: Corner) -> bool:
        if self.driven is Driven.ALL:
            return True
        return self.driven is (Driven.FRONT if corner.is_front else Driven.REAR)


def ground_speed(car: Car, corner: Corner, speed: Array, curvature: Array) -> Array:
    """Speed of the wheel's contact point along its own circle, m/s; same shape as `speed`."""
    side = -1.0 if corner.is_left else 1.0
    across = 1.0 + side * curvature * car.track / 2.0
    along = curvature * car.wheelbase if corner.is_front else 0.0
    return speed * np.hypot(across, along)


def wheel_turns(
    car: Car,
    corner: Corner,
    drive: Drive,
    road: Road | None,
    rng: np.random.Generator,
    slips: Slips | None = None,
) -> tuple[Array, Array]:
    """Times (s, even grid of `FINE_STEP`) and turns of one wheel since the start.

    `road` may be ``None``: then the ground is perfectly smooth. `slips` come on top.
    """
    t = np.arange(drive.t[0], drive.t[-1], FINE_STEP)
    v = np.interp(t, drive.t, drive.speed)
    a = np.interp(t, drive.t, drive.acceleration)
    k = np.interp(t, drive.t, drive.curvature)
    ground = ground_speed(car, corner, v, k)
    slip = car.brake_slip * np.minimum(a, 0.0)
    if car.is_driven(corner):
        share = 0.5 if car.driven is Driven.ALL else 1.0
        # drag keeps the driven axle pulling even at steady speed
        drag = (car.rolling_drag + car.air_drag * v * v) * (v > 1.0)
        slip = slip + share * car.drive_slip * np.maximum(a + drag, 0.0)
    relative = slip if slips is None else slip + slips.at(corner, t)
    if road is not None:
        relative = relative + _road_noise(car, t, v, road, rng)
        distance = np.interp(t, drive.t, drive.distance)
        relative = relative + _bumps(car, corner, distance, v, road, rng)
    tyre = car.tyre(corner)
    circumference = car.circumference * tyre.factor * (1.0 + tyre.growth * v * v)
    rate = ground * (1.0 + relative) / circumference
    turns = np.concatenate([[0.0], np.cumsum(0.5 * (rate[1:] + rate[:-1]) * FINE_STEP)])
    # out of round: the same tyre rolls a little faster on one side of every turn
    wobble = tyre.unround / (2 * np.pi) * np.sin(2 * np.pi * (turns + tyre.unround_phase))
    return t, turns + wobble


def _road_noise(car: Car, t: Array, v: Array, road: Road, rng: np.random.Generator) -> Array:
    """Relative speed noise of the contact patch: corner frequency about 12 Hz, fading at standstill."""
    white = rng.standard_normal(t.size)
    spectrum = np.fft.rfft(white)
    f = np.fft.rfftfreq(t.size, FINE_STEP)
    shaped = np.fft.irfft(spectrum / np.sqrt(1.0 + (f / 12.0) ** 2), t.size)
    shaped /= max(float(shaped.std()), 1e-12)
    return car.noise * road.roughness * shaped * np.clip(v / 5.0, 0.0, 1.0)


def _bumps(car: Car, corner: Corner, distance: Array, v: Array, road: Road, rng: np.random.Generator) -> Array:
    """Jolts where this wheel passes a bump: a rise and a fall, a few tens of centimetres long."""
    out = np.zeros_like(distance)
    side = -1.0 if corner.is_left else 1.0
    # the front axle meets a bump one wheelbase before the rear axle's centre does
    ahead = car.wheelbase if corner.is_front else 0.0
    for where, which, size in road.bumps:
        if which not in (0.0, side):
            continue
        lo, hi = np.searchsorted(distance, (where - ahead - 1.5, where - ahead + 1.5))
        if hi <= lo:
            continue
        length = rng.uniform(0.15, 0.4)
        x = (distance[lo:hi] - (where - ahead)) / length
        out[lo:hi] += size * np.clip(v[lo:hi] / 8.0, 0.0, 1.5) * x * np.exp(0.5 - 0.5 * x * x)
    return out
