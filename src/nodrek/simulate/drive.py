"""A driver on a road: distance, speed, acceleration and path curvature against time."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from nodrek.core.model import Array
from nodrek.simulate.road import GRID_M, Road


@dataclass(frozen=True)
class Driver:
    """Limits a driver keeps to, m/s²; ``unrest`` is the slow play of the right foot."""

    accelerate: float = 1.6
    brake: float = 2.2
    lateral: float = 2.6
    unrest: float = 0.03
    stop_s: tuple[float, float] = (2.0, 9.0)
    starts_standing: bool = True


@dataclass(frozen=True, eq=False)
class Drive:
    """The path of the rear axle's centre on an even time grid.

    All arrays share one shape; ``t`` s, ``distance`` m, ``speed`` m/s, ``acceleration``
    m/s², ``curvature`` 1/m (positive to the left).
    """

    t: Array
    distance: Array
    speed: Array
    acceleration: Array
    curvature: Array


def steady_drive(speed: float, curvature: float, duration: float, step: float = 0.01) -> Drive:
    """A drive at one speed on one circle: the case with a closed form."""
    t = np.arange(0.0, duration, step)
    one = np.ones_like(t)
    return Drive(t, speed * t, speed * one, 0.0 * one, curvature * one)


def drive_road(road: Road, driver: Driver, duration: float, rng: np.random.Generator, step: float = 0.01) -> Drive:
    """Drive `road` for `duration` s as fast as limits, bends and the driver allow."""
    with np.errstate(divide="ignore"):
        bend_limit = np.sqrt(driver.lateral / np.maximum(np.abs(road.curvature), 1e-6))
    v = np.minimum(road.limit, bend_limit)
    v[(road.stops / GRID_M).astype(int)] = 0.0
    if driver.starts_standing:
        v[0] = 0.0
    squares = v * v
    _limit_growth(squares, 2 * driver.accelerate * GRID_M)
    _limit_growth(squares[::-1], 2 * driver.brake * GRID_M)
    v = np.sqrt(squares)
    # time per metre from the mean speed of its ends; a stop adds its waiting time
    mean = np.maximum(0.5 * (v[1:] + v[:-1]), 0.3)
    spent = GRID_M / mean
    waits = np.zeros(v.size)
    waits[(road.stops / GRID_M).astype(int)] = rng.uniform(*driver.stop_s, road.stops.size)
    if driver.starts_standing:
        waits[0] = rng.uniform(1.0, 3.0)
    arrive = np.concatenate([[0.0], np.cumsum(spent + waits[:-1])])
    leave = arrive + waits
    knots_t = np.column_stack([arrive, leave + 1e-9]).ravel()
    knots_s = np.repeat(np.arange(v.size) * GRID_M, 2)
    t = np.arange(0.0, duration, step)
    distance = np.interp(t, knots_t, knots_s)
    raw = np.gradient(distance, step)
    speed = _smooth(raw, 0.5, step)
    speed[speed < 0.05] = 0.0
    awake = np.clip(speed / 6.0, 0.0, 1.0)
    speed = speed * (1.0 + driver.unrest * awake * _slow_noise(t.size, 4.0, step, rng))
    distance = np.concatenate([[0.0], np.cumsum(0.5 * (speed[1:] + speed[:-1]) * step)])
    grid = np.arange(v.size) * GRID_M
    curvature = _smooth(np.interp(distance, grid, road.curvature), 0.4, step)
    # nobody steers dead straight: a slow wander of a few kilometres' radius
    curvature = curvature + 1.2e-4 * _slow_noise(t.size, 2.5, step, rng)
    return Drive(t, distance, speed, np.gradient(speed, step), curvature)


def road_length(limit: float, duration: float) -> float:
    """Metres of road that no drive of `duration` s at `limit` m/s can run out of."""
    return limit * duration + 200.0


def _limit_growth(squares: Array, step: float) -> None:
    """In place: let v² grow by at most `step` from one grid point to the next."""
    values = squares.tolist()
    for i in range(1, len(values)):
        allowed = values[i - 1] + step
        values[i] = min(values[i], allowed)
    squares[:] = values


def _smooth(values: Array, seconds: float, step: float) -> Array:
    width = max(1, int(seconds / step)) | 1
    window = np.hanning(width + 2)[1:-1]
    padded = np.pad(values, width // 2, mode="edge")
    size = padded.size + width - 1
    spectrum = np.fft.rfft(padded, size) * np.fft.rfft(window / window.sum(), size)
    full = np.fft.irfft(spectrum, size)
    return full[width - 1 : width - 1 + values.size]


def _slow_noise(count: int, seconds: float, step: float, rng: np.random.Generator) -> Array:
    """Unit-variance noise with a correlation time of about `seconds`."""
    # longer than needed, since the ends of smoothed noise are not smooth
    margin = int(seconds / step)
    smooth = _smooth(rng.standard_normal(count + 2 * margin), seconds, step)[margin : margin + count]
    spread = smooth.std()
    return smooth / spread if spread > 0 else smooth
