"""Roads: curvature, speed limit, stops and bumps against distance.

A road knows nothing of a vehicle. It is drawn from a random generator by kind, so one
seed always gives one road.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from nodrek.core.model import Array

GRID_M = 1.0
"""Spacing of the distance grid."""


@dataclass(frozen=True)
class RoadKind:
    """The character of a road; speeds in m/s, lengths in m."""

    limits: tuple[float, ...]
    limit_length: tuple[float, float]
    straight: tuple[float, float]
    bend_radius: tuple[float, float]
    bend_angle_deg: tuple[float, float]
    stop_every: tuple[float, float]
    bumps_per_km: float
    roughness: float
    bump_size: float | None = None
    """Relative jolts of its bumps where they are not as rough as the rest of the road."""


KINDS: dict[str, RoadKind] = {
    "town": RoadKind(
        (30 / 3.6, 50 / 3.6, 50 / 3.6, 60 / 3.6),
        (200, 700), (40, 320), (7, 60), (25, 95), (180, 700), 14, 1.0,
    ),
    "country": RoadKind(
        (70 / 3.6, 80 / 3.6, 100 / 3.6),
        (600, 2500), (60, 600), (40, 400), (10, 80), (1500, 5000), 8, 1.2,
    ),
    "motorway": RoadKind(
        (100 / 3.6, 120 / 3.6, 130 / 3.6),
        (2000, 6000), (400, 2500), (500, 2000), (5, 25), (9000, 20000), 3, 0.7,
    ),
    "roundabouts": RoadKind(
        (40 / 3.6, 50 / 3.6, 60 / 3.6),
        (200, 700), (60, 250), (9, 16), (90, 330), (300, 1200), 10, 1.0,
    ),
    "queue": RoadKind(
        (8 / 3.6, 12 / 3.6, 20 / 3.6, 30 / 3.6),
        (30, 150), (60, 400), (15, 120), (10, 60), (12, 90), 8, 0.8,
    ),
    "potholes": RoadKind(
        (30 / 3.6, 50 / 3.6, 50 / 3.6),
        (200, 700), (40, 320), (10, 80), (25, 95), (180, 900), 40, 1.2, 5.0,
    ),
    "gravel": RoadKind(
        (30 / 3.6, 40 / 3.6, 50 / 3.6),
        (300, 900), (30, 200), (12, 90), (20, 90), (500, 1500), 40, 3.0,
    ),
}  # fmt: skip


@dataclass(frozen=True, eq=False)
class Road:
    """Arrays on a grid of `GRID_M`; bumps as rows of (distance, side, height).

    ``curvature`` in 1/m, positive to the left; ``limit`` in m/s; ``stops`` distances
    in m; ``bumps`` has shape (n, 3): distance m, side (-1 left, 0 both, +1 right) and
    size as the relative jolt of wheel speed it gives.
    """

    curvature: Array
    limit: Array
    stops: Array
    bumps: Array
    roughness: float

    @property
    def length(self) -> float:
        return float(self.curvature.size * GRID_M)


def draw_road(kind: RoadKind, length_m: float, rng: np.random.Generator) -> Road:
    """A road of one kind: straights and bends with clothoid-like ends, limits, stops, bumps."""
    n = int(np.ceil(length_m / GRID_M)) + 1
    curvature = np.zeros(n)
    at = float(rng.uniform(*kind.straight))
    while at < length_m:
        radius = float(rng.uniform(*kind.bend_radius))
        angle = np.radians(rng.uniform(*kind.bend_angle_deg)) * rng.choice((-1.0, 1.0))
        # half the angle is turned in the ramps, as on a road laid out for cars
        arc = abs(angle) * radius
        ramp = max(2.0, 0.5 * arc)
        x = np.arange(n) * GRID_M - at
        shape = np.clip(np.minimum(x / ramp, (ramp + arc - x) / ramp), 0.0, 1.0)
        curvature += np.sign(angle) / radius * shape
        at += arc + ramp + float(rng.uniform(*kind.straight))
    limit = np.empty(n)
    start = 0
    while start < n:
        stop = start + int(rng.uniform(*kind.limit_length) / GRID_M) + 1
        limit[start:stop] = rng.choice(kind.limits)
        start = stop
    stops = np.cumsum(rng.uniform(*kind.stop_every, size=max(1, int(length_m / kind.stop_every[0]))))
    count = rng.poisson(kind.bumps_per_km * length_m / 1000.0)
    bumps = np.column_stack(
        [
            np.sort(rng.uniform(0.0, length_m, count)),
            rng.choice((-1.0, 0.0, 1.0), count, p=(0.3, 0.25, 0.45)),
            rng.lognormal(np.log(0.015 * (kind.bump_size or kind.roughness)), 0.7, count),
        ]
    )
    return Road(curvature, limit, stops[stops < length_m], bumps, kind.roughness)
