"""At which speeds a corner reads too little: what a gap, a weak arc, a bad encoder and a sound sensor make of it.

A gap that is too wide loses every edge up to one speed and none above it. A weak arc loses a part of every turn up to
one speed, and the rest of the turn reads right: low and right readings alternate. A dirty encoder loses edges at all
speeds. A sound coil sleeps while the wheel crawls. Each is a share of low readings by speed, weighed against what was
counted (binomial law), its unknown speeds and shares averaged out: Bayes factors, from however few looks.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner
from nodrek.core.motion.events import HARD_BRAKING
from nodrek.core.motion.reference import median_of
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.weak_arc import DIP_DEPTH, DIP_SCORE

EDGES = np.geomspace(0.7, 14.0, 25)
"""m/s: borders of the classes of speed."""
CENTRES = np.sqrt(EDGES[1:] * EDGES[:-1])
LOOK_S = 0.2
"""Seconds that one look takes: closer samples see the same edges of the ring."""
LEAST_STEP_S = 0.05
MOST_SAMPLES = 100_000
"""Samples closer than that are left out, and evenly so many that no more are looked at."""
CRAWL = 1.4
CRAWL_SHARE = 0.6
"""m/s up to which no noise is known, and the share of its mates' speed under which a wheel reads too little there."""
NEIGHBOURS = np.array([0.25, 0.5, 1.0, 0.5, 0.25])
SOUND_LOW, SOUND_OF = 0.15, 30.0
"""Low readings of so many that every class is granted beside those of the mates (in looks)."""
SOUND_UP_TO = 1.5
"""m/s up to which a sound coil may sleep while its mates read (common practice: 2 to 8 km/h, but all four alike)."""
WAKES = np.geomspace(1.0, 9.0, 28)
SOFT = (0.03, 0.12)
"""Speed at which a wide gap wakes, m/s, and its spread (relative)."""
HEALS = np.geomspace(1.5, 12.0, 12)
SLEEPS = (0.0, 0.35, 0.6, 0.8)
ARCS = (0.1, 0.2, 0.35, 0.55)
"""Speed at which a weak arc heals, m/s; the part of that up to which nothing is read; share of looks that dip."""
NOISES = (0.02, 0.05, 0.1, 0.2, 0.4)


@dataclass(frozen=True)
class DipSpeeds:
    """ln Bayes factors of a weak arc over a sound sensor, over a wide gap, over edges lost at any speed, and of the
    gap over a sound sensor; all 0 where there is nothing to compare."""

    arc_over_sound: float = 0.0
    arc_over_gap: float = 0.0
    arc_over_noise: float = 0.0
    gap_over_sound: float = 0.0


def dip_speeds(exam: Examination, corner: Corner) -> DipSpeeds:
    """What the speeds at which `corner` reads too little speak for."""
    counted = _counted(exam)
    if corner not in counted or len(counted) < 2:
        return DipSpeeds()
    of, less = counted[corner]
    usual = usual_share(exam, corner)
    said = {name: _evidence(shares, of, less, usual) for name, shares in _laws().items()}
    return DipSpeeds(
        said["arc"] - said["sound"],
        said["arc"] - said["gap"],
        said["arc"] - said["noise"],
        said["gap"] - said["sound"],
    )


@dataclass(frozen=True, eq=False)
class Looks:
    """Samples at which a corner is looked at: moment (s), speed that it should read (m/s), whether it reads too
    little, and what part of a look of `LOOK_S` it is; arrays of one shape."""

    times: Array
    speed: Array
    low: npt.NDArray[np.bool_]
    weight: Array

    def faster_than(self, speed: float) -> Looks:
        """Only those at more than `speed` (m/s)."""
        fast = self.speed > speed
        return Looks(self.times[fast], self.speed[fast], self.low[fast], self.weight[fast])


def looks_of(exam: Examination, corner: Corner) -> Looks:
    """Looks at one corner that are driven (no hard braking); mates that read nothing tell no speed."""
    return exam.once(f"looks {corner}", lambda: _looks(exam, corner))


def _looks(exam: Examination, corner: Corner) -> Looks:
    motion, usable = exam.motions[corner], exam.usable
    if motion.times.size < 2 or usable.grid.size < 2:
        return Looks(np.zeros(0), np.zeros(0), np.zeros(0, dtype=bool), np.zeros(0))
    every = max(1, round(LEAST_STEP_S / max(motion.step_s, 1e-6)), -(-motion.times.size // MOST_SAMPLES))
    at = np.arange(0, motion.times.size, every)
    vehicle = usable.vehicle_at(motion.times[at])
    at = at[(vehicle > 0.5 * EDGES[0]) & (vehicle < 2.0 * EDGES[-1]) & usable.masks[corner][at]]
    times = motion.times[at]
    mates = median_of([np.interp(times, m.times, m.speed) for c, m in exam.motions.items() if c is not corner])
    speed = np.where(np.isfinite(motion.deviation[at]), motion.expected[at], mates)
    speed = np.where(mates > 0.0, speed, 0.0)
    pulls = np.interp(times, usable.grid, np.gradient(usable.vehicle, usable.grid)) > HARD_BRAKING
    deep = motion.dips(DIP_SCORE, DIP_DEPTH)[at]
    reading = motion.speed[at]
    low = np.where(speed < CRAWL, reading < CRAWL_SHARE * mates, deep | (reading <= 0.0))
    weight = np.minimum(np.diff(times, append=np.inf), LOOK_S) / LOOK_S
    seen = pulls & (speed > EDGES[0]) & (speed <= EDGES[-1])
    return Looks(times[seen], speed[seen], low[seen], weight[seen])


def count_looks(seen: Looks) -> tuple[Array, Array]:
    """Looks by class of speed, and how many of them read too little."""
    place = class_of(seen.speed)
    looks, less = (np.bincount(place, of, CENTRES.size).astype(float) for of in (seen.weight, seen.weight * seen.low))
    return looks, less


def class_of(speed: Array) -> npt.NDArray[np.int64]:
    """Class of each speed that is looked at."""
    return np.asarray(np.searchsorted(EDGES, speed) - 1)


def usual_share(exam: Examination, corner: Corner) -> Array:
    """Share of low readings of a sound corner by class of speed, as the mates of `corner` have it."""
    mates = [seen for c, seen in _counted(exam).items() if c is not corner]
    looks, low = (np.convolve(sum(rows), NEIGHBOURS, "same") for rows in zip(*mates, strict=True))
    return np.asarray((low + SOUND_LOW) / (looks + SOUND_OF))


def _counted(exam: Examination) -> dict[Corner, tuple[Array, Array]]:
    return exam.once("dip speeds", lambda: {c: count_looks(looks_of(exam, c)) for c in exam.motions})


@lru_cache(maxsize=1)
def _laws() -> dict[str, Array]:
    """Share of low readings by class of speed under each law; shape (ways that the law can be, classes)."""
    at = np.log(CENTRES)
    return {
        "sound": _rows(0.98 * (SOUND_UP_TO * share > CENTRES) for share in (0.0, 0.6, 0.8, 1.0)),
        "gap": _rows(np.asarray(0.98 / (1.0 + np.exp((at - math.log(v)) / soft))) for v in WAKES for soft in SOFT),
        "arc": _rows(
            np.where(sleeps * heals > CENTRES, 0.98, part * (heals > CENTRES))
            for heals in HEALS
            for sleeps in SLEEPS
            for part in ARCS
        ),
        "noise": _rows(np.full(at.size, part) for part in NOISES),
    }


def _rows(shares: Iterable[npt.ArrayLike]) -> Array:
    return np.array(list(shares))


def _evidence(shares: Array, of: Array, low: Array, usual: Array) -> float:
    """ln of the likelihood, averaged over the ways that a law can be; `usual`: share of low readings of a sound one."""
    chance = 1.0 - (1.0 - shares) * (1.0 - usual)
    nats = np.log(chance) @ low + np.log1p(-chance) @ (of - low)
    return float(np.logaddexp.reduce(nats)) - math.log(len(shares))
