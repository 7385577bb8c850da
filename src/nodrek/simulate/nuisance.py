"""What sound cars do that a comparison of wheels may take for a fault.

Each nuisance changes the drive or adds slip of single wheels; none of them is a fault.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import StrEnum

import numpy as np

from nodrek.core.model import Array, Corner
from nodrek.simulate.drive import Drive


class Nuisance(StrEnum):
    NONE = "none"
    WHEELSPIN = "wheelspin"
    HARD_BRAKING = "hard_braking"
    PARKING = "parking"
    WARM_UP = "warm_up"


@dataclass(frozen=True, eq=False)
class Slips:
    """Extra relative slip of each corner on the times ``t`` (s) of the drive."""

    t: Array
    by_corner: dict[Corner, Array]

    def at(self, corner: Corner, times: Array) -> Array:
        values = self.by_corner.get(corner)
        return np.zeros(times.size) if values is None else np.interp(times, self.t, values)


def extra_slip(kind: Nuisance, drive: Drive, driven: tuple[Corner, ...], rng: np.random.Generator) -> Slips:
    """Slip of single wheels: spinning when pulling away, the brakes' intervention, warming tyres."""
    out: dict[Corner, Array] = {}
    if kind is Nuisance.WHEELSPIN and driven:
        starts = np.flatnonzero((drive.speed[:-1] < 0.3) & (drive.speed[1:] >= 0.3))
        for start in starts:
            wheel = driven[int(rng.integers(len(driven)))]
            length = rng.uniform(0.3, 1.8)
            x = (drive.t - drive.t[start] - 0.2) / length
            burst = rng.uniform(0.1, 0.9) * np.where((x > 0) & (x < 1), np.sin(np.pi * np.clip(x, 0, 1)) ** 0.7, 0.0)
            out[wheel] = out.get(wheel, np.zeros(drive.t.size)) + burst
    if kind is Nuisance.HARD_BRAKING:
        hard = np.clip((-drive.acceleration - 3.5) / 2.0, 0.0, 1.0)
        for corner in Corner:
            rate = rng.uniform(3.0, 8.0)
            cycle = 0.5 - 0.5 * np.cos(2 * np.pi * (rate * drive.t + rng.random()))
            wander = 1.0 + 0.5 * np.sin(2 * np.pi * (0.7 * drive.t + rng.random()))
            out[corner] = -rng.uniform(0.04, 0.22) * hard * cycle * wander
    if kind is Nuisance.WARM_UP:
        warm = 1.0 - np.exp(-drive.t / rng.uniform(100.0, 400.0))
        out = {corner: -rng.uniform(0.001, 0.004) * warm for corner in Corner}
    return Slips(drive.t, out)


def with_parking(drive: Drive, rng: np.random.Generator) -> Drive:
    """The drive with some reversing and shunting put in where the car stands."""
    stops = np.flatnonzero((drive.speed[:-1] < 0.05) & (drive.speed[1:] >= 0.05))
    if not stops.size:
        stops = np.array([0])
    step = float(drive.t[1] - drive.t[0])
    chosen = np.sort(rng.choice(stops, min(stops.size, int(rng.integers(1, 4))), replace=False))
    speed, curvature = drive.speed, drive.curvature
    for at in chosen[::-1]:
        parts, bends = [], []
        sign = -1.0
        for _ in range(int(rng.integers(2, 5))):
            x = np.arange(0.0, rng.uniform(3.0, 8.0), step)
            parts += [sign * rng.uniform(0.6, 2.2) * np.sin(np.pi * x / x[-1]) ** 2, np.zeros(int(0.8 / step))]
            bends += [np.full(x.size, rng.choice((-1, 1)) / rng.uniform(5.5, 20.0)), np.zeros(int(0.8 / step))]
            sign = -sign
        speed = np.concatenate([speed[:at], *parts, speed[at:]])
        curvature = np.concatenate([curvature[:at], *bends, curvature[at:]])
    count = drive.t.size
    speed, curvature = speed[:count], curvature[:count]
    distance = np.concatenate([[0.0], np.cumsum(0.5 * (speed[1:] + speed[:-1]) * step)])
    return replace(
        drive, speed=speed, curvature=curvature, distance=distance, acceleration=np.gradient(np.abs(speed), step)
    )
