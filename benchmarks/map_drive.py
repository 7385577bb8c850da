"""Drives along the legs of a map, as fast as limits, bends, halts and the driver's foot allow; for the eighth world.

The square of the speed is worked out over the way, backwards for braking and forwards for pulling, and then laid out in
time.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.ndimage import gaussian_filter1d, uniform_filter1d

from nodrek.core.model import Array

GRID_S, METRE = 0.004, 0.5
"""Step of time of the motion, and of the way of the map (m)."""
LOCKS = -4.0
"""m/s² from which wheels would lock."""
LEGS = {  # km/h limits, length m, share of legs with a bend, sharpest radius m, share of legs that end in a halt
    "streets": ((30, 40, 50), (50.0, 350.0), 0.6, 7.0, 0.45),
    "villages": ((50, 70, 80), (150.0, 900.0), 0.6, 25.0, 0.12),
    "hills": ((60, 80, 100), (60.0, 400.0), 0.85, 40.0, 0.02),
    "motorway": ((90, 110, 130), (500.0, 3000.0), 0.5, 500.0, 0.0),
    "queue": ((12, 20, 35), (8.0, 90.0), 0.15, 50.0, 0.9),
    "parking": ((8, 12, 15), (6.0, 30.0), 0.7, 5.5, 0.6),
    "roundabouts": ((40, 50, 60), (80.0, 300.0), 1.0, 12.0, 0.05),
}  # fmt: skip


@dataclass(frozen=True)
class Way:
    """On a grid of time: s, speed m/s (negative backwards), curvature 1/m (left positive), gain of speed m/s² (negative
    braking), way m, and whether wheels are kept from locking."""

    time: Array
    speed: Array
    curve: Array
    gain: Array
    way: Array
    rescue: npt.NDArray[np.bool_]


def _legs(rng: np.random.Generator, kind: str, metres: float) -> tuple[Array, Array, Array, Array]:
    """By half metres: limit m/s, curvature, whether to halt there, direction."""
    limits, lengths, bends, tightest, halts = LEGS[kind]
    limit, curve, halt, sense = [], [], [], []
    done, way, allowed = 0.0, 1.0, float(rng.choice(limits))
    while done < metres:
        allowed = float(rng.choice(limits)) if rng.random() < 0.3 else allowed
        straight = float(rng.uniform(*lengths))
        parts = [(straight, 0.0)]
        if rng.random() < bends:
            radius = tightest * float(np.exp(rng.exponential(0.8)))
            turn = float(rng.uniform(0.6, 1.7)) if kind in ("streets", "parking") else float(rng.uniform(0.15, 1.2))
            side = float(rng.choice((-1.0, 1.0)))
            if kind == "roundabouts":
                parts += [(0.4 * radius, -1.0 / radius), (float(rng.uniform(1.5, 5.0)) * radius, 1.0 / radius),
                          (0.4 * radius, -1.0 / radius)]  # fmt: skip
            else:
                parts += [(turn * radius, side / radius)]
        for length, bent in parts:
            many = max(2, round(length / METRE))
            limit += [allowed / 3.6] * many
            curve += [bent] * many
            sense += [way] * many
            halt += [False] * many
            done += many * METRE
        if rng.random() < halts:
            halt[-1] = True
            if kind == "parking":
                way = -way if rng.random() < 0.6 else way
    bent = uniform_filter1d(uniform_filter1d(np.array(curve), 9 if tightest < 10.0 else 21), 9)
    return np.array(limit), bent, np.array(halt), np.array(sense)


def go(rng: np.random.Generator, lasts: float, nuisance: str) -> Way:
    roads = {"motorway", "queue", "parking", "roundabouts"}
    kind = (
        nuisance
        if nuisance in roads
        else str(rng.choice(("streets", "streets", "villages", "hills", "motorway", "queue")))
    )
    limit, curve, halt, sense = _legs(rng, kind, lasts * 36.0 + 100.0)
    hurry = float(rng.uniform(0.7, 1.5))
    panic = nuisance == "emergency stops"
    most = (
        limit
        * float(rng.uniform(0.85, 1.1))
        * np.exp(0.08 * gaussian_filter1d(rng.standard_normal(limit.size), 60) * 14.0)
    )
    most = np.minimum(most, np.sqrt(2.5 * hurry / np.maximum(np.abs(curve), 1e-6)))
    stops = np.flatnonzero(halt)
    if panic:
        stops = np.unique(
            np.concatenate([stops, rng.integers(60, limit.size, size=max(2, int(limit.size * METRE / 500)))])
        )
    most[stops] = 0.0
    energy = most**2
    gains, brakes = 2.0 * METRE * 1.6 * hurry, np.full(limit.size, 2.0 * METRE * 1.7 * hurry)
    hard = np.zeros(limit.size, dtype=bool)
    if panic:
        for stop in stops.tolist():
            hard[max(0, stop - 90) : stop + 1] = rng.random() < 0.7
        brakes[hard] = 2.0 * METRE * 7.5
    if rng.random() < 0.7:
        energy[0] = 0.0
    values, slows = energy.tolist(), brakes.tolist()
    for k in range(len(values) - 2, -1, -1):
        values[k] = min(values[k], values[k + 1] + slows[k])
    for k in range(1, len(values)):
        values[k] = min(values[k], values[k - 1] + gains / (1.0 + values[k - 1] / 500.0))
    speed = np.sqrt(np.array(values))
    passes = 2.0 * METRE / np.maximum(speed[1:] + speed[:-1], 0.05)
    waits = np.zeros(limit.size)
    waits[stops] = rng.gamma(1.5, 5.0, size=stops.size) + 1.0
    at = np.concatenate([[0.0], np.cumsum(passes + waits[1:])])
    places = np.arange(limit.size) * METRE
    # a wait is a second knot at the same place
    knots = np.concatenate([at, at[stops] - waits[stops]])
    order = np.argsort(knots, kind="stable")
    time = np.arange(0.0, lasts, GRID_S)
    way = gaussian_filter1d(
        np.interp(time, knots[order], np.concatenate([places, places[stops]])[order]), 0.12 / GRID_S, mode="nearest"
    )
    rate = np.maximum(np.gradient(way, GRID_S), 0.0)
    rate[rate < 0.02] = 0.0
    index = np.minimum((way / METRE).astype(np.int64), limit.size - 1)
    sways = gaussian_filter1d(rng.standard_normal(time.size), 0.8 / GRID_S) * np.sqrt(0.8 / GRID_S) * 1.9
    bent = np.interp(way, places, curve) + float(rng.uniform(3e-5, 2.5e-4)) * sways * (rate > 1.0)
    gain = np.gradient(rate, GRID_S)
    return Way(time, rate * sense[index], bent, gain, way, hard[index] & (rate > 2.0) & (gain < LOCKS))
