"""Drives behind another vehicle along bends that tighten and open again; for the ninth world.

A driver keeps a wanted speed, brakes for bends ahead and keeps a distance that grows with speed (intelligent driver
model, Treiber et al. 2000, Phys. Rev. E 62, 1805; from memory). The other vehicle does as it likes.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter1d

from nodrek.core.model import Array

STEP_S, GRID_S = 0.05, 0.005
METRE = 1.0
ROADS = {  # wanted speed m/s from and to, metres between bends, sharpest radius m, halts of the other one a minute
    "centre": (7.0, 14.0, 60.0, 8.0, 1.6), "suburb": (10.0, 18.0, 120.0, 18.0, 0.7),
    "lanes": (14.0, 25.0, 150.0, 45.0, 0.1), "fast road": (24.0, 38.0, 900.0, 500.0, 0.02),
    "jam": (2.0, 7.0, 300.0, 60.0, 3.5), "yard": (1.5, 4.0, 12.0, 5.5, 2.5),
}  # fmt: skip
ABREAST, EASY = 2.0, 1.7
"""m/s² across that a driver bears, and along that a calm one brakes with."""


@dataclass(frozen=True)
class Drive:
    """On a grid of time: s, speed m/s (negative backwards), curvature 1/m (left positive), pull m/s² (negative in
    braking), slope (rise over way), way m."""

    time: Array
    speed: Array
    curve: Array
    pull: Array
    slope: Array
    way: Array


def follow(rng: np.random.Generator, lasts: float, road: str, stamps_on_it: bool) -> Drive:
    """`stamps_on_it`: now and then the driver brakes as hard as it goes."""
    low, high, between, tightest, halts = ROADS[road]
    metres = int(high * lasts * 1.3) + 400
    bend = _bends(rng, metres, between, tightest)
    slope = gaussian_filter1d(rng.standard_normal(metres), 80.0) * float(rng.uniform(0.0, 0.7))
    nerve = float(rng.uniform(0.7, 1.4))
    allowed = np.minimum(high * 1.1, np.sqrt(ABREAST * nerve / np.maximum(np.abs(bend), 1e-6)))
    # a bend is slowed down for before it begins: what the energy allows, backwards along the way
    square, drop = (allowed**2).tolist(), 2.0 * EASY * nerve * METRE
    for k in range(metres - 2, -1, -1):
        square[k] = min(square[k], square[k + 1] + drop)
    allowed = np.sqrt(np.array(square))
    count = int(lasts / STEP_S)
    other = _other(rng, count, low, high, halts)
    speed, way, ahead = np.zeros(count), 0.0, float(rng.uniform(6.0, 30.0))
    now = 0.0 if rng.random() < 0.65 else float(rng.uniform(low, high))
    wanted, panic = float(rng.uniform(low, high)), 0.0
    for k in range(count):
        if rng.random() < STEP_S / 15.0:
            wanted = float(rng.uniform(low, high))
        if stamps_on_it and panic <= 0.0 and now > 4.0 and rng.random() < STEP_S / 18.0:
            panic = float(rng.uniform(0.8, 3.0))
        limit = max(min(wanted, allowed[min(int(way), metres - 1)]), 0.5)
        closing = now - other[k]
        gap = 2.0 + 1.2 * now + max(now * closing / (2.0 * np.sqrt(1.6 * EASY)), 0.0)
        gain = 1.6 * nerve * (1.0 - (now / limit) ** 4 - (gap / max(ahead, 0.5)) ** 2)
        gain = -7.5 if panic > 0.0 else max(gain, -4.5)
        panic -= STEP_S
        now = max(now + gain * STEP_S, 0.0)
        ahead = min(max(ahead + (other[k] - now) * STEP_S, 0.5), 80.0)
        way += now * STEP_S
        speed[k] = now if now > 0.05 or other[k] > 0.3 else 0.0
    time = np.arange(0.0, lasts - STEP_S, GRID_S)
    pace = gaussian_filter1d(np.interp(time, np.arange(count) * STEP_S, speed), 0.12 / GRID_S)
    pace[pace < 0.02] = 0.0
    places = np.cumsum(pace) * GRID_S
    curve = np.interp(places, np.arange(metres) * METRE, bend)
    hands = gaussian_filter1d(rng.standard_normal(time.size), 0.6 / GRID_S) * np.sqrt(0.6 / GRID_S) * 1.9
    curve = curve + float(rng.uniform(2e-5, 3e-4)) * hands * (pace > 1.0) / np.maximum(pace / 12.0, 0.4)
    pull = np.gradient(pace, GRID_S)
    turns_back = _backwards(rng, pace) if road == "yard" else np.ones(pace.size)
    return Drive(time, pace * turns_back, curve, pull, np.interp(places, np.arange(metres) * METRE, slope), places)


def _bends(rng: np.random.Generator, metres: int, between: float, tightest: float) -> Array:
    """Curvature by metres: each bend tightens, holds and opens."""
    out, at = np.zeros(metres), 0
    while at < metres:
        at += int(rng.exponential(between)) + 5
        radius = tightest * float(np.exp(rng.exponential(1.0)))
        arc = int(min(radius * float(rng.uniform(0.2, 1.6)), 300.0)) + 3
        eases = int(min(0.4 * radius, 60.0)) + 2
        shape = np.concatenate([np.linspace(0.0, 1.0, eases), np.ones(arc), np.linspace(1.0, 0.0, eases)])
        part = out[at : at + shape.size]
        part += float(rng.choice((-1.0, 1.0))) / radius * shape[: part.size]
        at += shape.size
    return out


def _other(rng: np.random.Generator, count: int, low: float, high: float, halts: float) -> Array:
    """Speed of the vehicle in front, m/s, every `STEP_S`."""
    out, at, aim = np.empty(count), 0, float(rng.uniform(low, 1.2 * high))
    while at < count:
        lasts = int(rng.gamma(2.0, 6.0) / STEP_S) + 1
        stands = rng.random() < halts * 12.0 / 60.0
        aim = 0.0 if stands and aim > 0.0 else float(rng.uniform(low, 1.3 * high))
        out[at : at + lasts] = aim
        at += lasts
    return np.asarray(gaussian_filter1d(out, 1.5 / STEP_S))


def _backwards(rng: np.random.Generator, pace: Array) -> Array:
    """1 or -1: between two halts a driver in a yard may go backwards."""
    starts = np.cumsum(np.diff(pace > 0.0, prepend=False) & (pace > 0.0))
    ways = np.where(rng.random(int(starts.max()) + 1) < 0.4, -1.0, 1.0)
    return np.asarray(ways[starts])
