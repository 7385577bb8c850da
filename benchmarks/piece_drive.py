"""A driver who goes from piece to piece of a road: the drives of the thirteenth world.

Each piece has a limit, perhaps a radius and perhaps a stop at its end.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from scipy.ndimage import gaussian_filter1d

from nodrek.core.model import Array

DT, THINKS = 0.005, 4
"""Seconds of one step; steps from one decision of the driver to the next."""


class _Road(NamedTuple):
    """Least and most m/s, m of a piece, radius m; share of pieces with a stop at their end; longest stop, s."""

    limits: tuple[float, float]
    piece: tuple[float, float]
    radii: tuple[float, float]
    stops: float
    waits: float = 8.0


ROADS = {
    "town": _Road((7.0, 15.0), (20.0, 200.0), (8.0, 120.0), 0.25),
    "lane": _Road((12.0, 25.0), (60.0, 500.0), (40.0, 500.0), 0.06),
    "motorway": _Road((22.0, 38.0), (300.0, 2000.0), (500.0, 3000.0), 0.01),
    "queue": _Road((2.0, 7.0), (5.0, 60.0), (30.0, 300.0), 0.6, 15.0),
    "parking": _Road((1.0, 3.0), (3.0, 20.0), (5.0, 12.0), 0.5),
    "roundabouts": _Road((8.0, 14.0), (25.0, 150.0), (10.0, 40.0), 0.05),
}


@dataclass(frozen=True)
class Drive:
    """Each `DT`: s, m/s, 1/m (left positive), m/s²; how hard it brakes and its wheels spin, where bumps lie."""

    time: Array
    speed: Array
    curve: Array
    accel: Array
    brakes: Array
    spins: Array
    bumps: Array


def go(rng: np.random.Generator, nuisance: str) -> Drive:
    """A drive of one to eight minutes, on the road that a `nuisance` asks for."""
    usual = str(rng.choice(("town", "lane", "motorway"), p=(0.6, 0.25, 0.15)))
    road = ROADS[nuisance if nuisance in ROADS else usual]
    lasts = float(np.exp(rng.uniform(np.log(60.0), np.log(500.0)))) if rng.random() < 0.6 else 180.0
    time = np.arange(int(lasts / DT)) * DT
    speed, curve = _driven(rng, road, time.size)
    speed = gaussian_filter1d(speed, 0.08 / DT)
    speed[speed < 0.05] = 0.0
    brakes = _braked(rng, speed) if nuisance == "braking" else np.zeros(time.size)
    accel = gaussian_filter1d(np.gradient(speed, DT), 0.05 / DT)
    spins = np.zeros(time.size)
    pulls = np.flatnonzero((accel > 0.5) & (speed < 12.0))
    if nuisance == "wheelspin" and pulls.size:
        for start in rng.choice(pulls, 5):
            long = min(time.size - start, int(rng.uniform(0.3, 1.5) / DT))
            hump = rng.uniform(0.05, 0.7) * np.sin(np.pi * np.arange(long) / long)
            spins[start : start + long] = np.maximum(spins[start : start + long], hump)
    often = 0.4 if nuisance == "potholes" else 0.03
    bumps = (rng.random(time.size) < often * DT) & (speed > 2.0)
    wander = gaussian_filter1d(rng.standard_normal(time.size), 0.6 / DT)
    curve = curve + rng.uniform(2e-5, 2e-4) * wander / max(float(wander.std()), 1e-9)
    return Drive(time, speed, np.clip(curve, -1.0 / 4.5, 1.0 / 4.5), accel, brakes, spins, bumps * 1.0)


def _driven(rng: np.random.Generator, road: _Road, count: int) -> tuple[Array, Array]:
    """Speed and curvature of a driver who goes from piece to piece of a road."""
    speed, curve = np.zeros(count), np.zeros(count)
    now = 0.0 if rng.random() < 0.6 else float(rng.uniform(*road.limits))
    up, down = float(rng.uniform(0.8, 2.5)), float(rng.uniform(1.2, 3.0))
    at = end = waits = turns = 0.0
    limit, wanted, stops = road.limits[0], 0.0, False
    for i in range(0, count, THINKS):
        seconds = THINKS * DT
        if at >= end and waits <= 0.0 and not (stops and now > 0.3):
            waits = float(rng.uniform(1.0, road.waits)) if stops else 0.0
            end, limit, wanted = at + float(rng.uniform(*road.piece)), float(rng.uniform(*road.limits)), 0.0
            if rng.random() < 0.5:
                radius = float(np.exp(rng.uniform(*np.log(road.radii))))
                wanted = float(rng.choice((-1, 1))) / radius
                limit = min(limit, float(np.sqrt(radius * rng.uniform(1.0, 3.5))))
                end = min(end, at + radius * float(rng.uniform(0.4, 2.2)) + 5.0)
            stops = bool(rng.random() < road.stops)
        goal = min(limit, float(np.sqrt(1.4 * down * max(end - at, 0.0)))) if stops else limit
        if waits > 0.0:
            waits, goal = waits - seconds, 0.0
        now = max(0.0, now + float(np.clip((goal - now) * 1.2, -down, up)) * seconds)
        if goal == 0.0 and now < 0.2:
            now = 0.0
        if stops and at >= end - 0.3 and now < 0.6:
            now, at = 0.0, max(at, end)
        at += now * seconds
        turns += (wanted - turns) * min(1.0, seconds * max(now, 1.0) / 6.0)
        speed[i : i + THINKS], curve[i : i + THINKS] = now, turns
    return speed, curve


def _braked(rng: np.random.Generator, speed: Array) -> Array:
    """Brakes in full four times, `speed` itself; 1 where it does."""
    brakes = np.zeros(speed.size)
    fast = np.flatnonzero(speed > 8.0)
    for start in rng.choice(fast, 4) if fast.size else ():
        stop = min(speed.size, int(start + rng.uniform(0.8, 2.5) / DT))
        ramp = speed[start] - rng.uniform(6.0, 10.0) * np.arange(stop - start) * DT
        speed[start:stop] = np.minimum(speed[start:stop], np.maximum(ramp, 0.0))
        again = speed[stop - 1] + 1.8 * np.arange(speed.size - stop) * DT
        there = np.flatnonzero(again >= speed[stop:])
        until = stop + (int(there[0]) if there.size else again.size)
        speed[stop:until] = np.minimum(speed[stop:until], again[: until - stop])
        brakes[start:stop] = 1.0
    return brakes
