"""Drives from an eleventh world: axles that send for themselves, and logs that were resampled.

Written from the trade alone, without a line of the other worlds' physics. A driver keeps a lane and changes gear, the
driveline rings after it, tyres are out of round, turn centres move forward with speed, roads shake both axles one after
the other; front and rear may have other tyres and other rings. The two axles' values come in messages of their own, at
periods of their own. Loggers keep messages, hold them in rows, draw straight lines between them, take means, or ask in
turn. Six control units: span of edges, last period on a clock, a gate, a median before a filter, a hold of what falls
too fast, and a stand-in by the other side.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter1d
from scipy.signal import iirpeak, lfilter

from benchmarks import smallest
from benchmarks.second_world import Drawn, counted
from nodrek.core.model import Array, Corner, Fault, RawChannel, RawLog

FAULTS: dict[str, Fault | None] = {
    "healthy": None, "tooth lost": Fault.RING_DAMAGE, "teeth lost": Fault.RING_DAMAGE, "lost apart": Fault.RING_DAMAGE,
    "bent tooth": Fault.RING_DAMAGE, "opened": Fault.RING_DAMAGE, "wobbles": Fault.RING_RUNOUT,
    "weak part": Fault.RING_RUNOUT, "wrong teeth": Fault.RING_COUNT, "poor poles": Fault.ENCODER_NOISE,
    "extra edges": Fault.ENCODER_NOISE, "distant": Fault.AIR_GAP, "parts": Fault.INTERMITTENT,
    "silent": Fault.NO_SIGNAL, "stands": Fault.FROZEN, "size": Fault.TYRE_SIZE, "sides changed": Fault.CROSSED,
}  # fmt: skip
SMALLEST = {
    Fault.RING_DAMAGE: "tooth lost", Fault.RING_RUNOUT: "wobbles", Fault.AIR_GAP: "distant",
    Fault.INTERMITTENT: "parts", Fault.TYRE_SIZE: "size",
}  # fmt: skip
"""How the faults are called here whose smallest ones are asked for."""
UNITS = ("span", "period", "gate", "median", "doubts", "other side")
NUISANCES = ("potholes", "slippery", "full braking", "circles", "car park", "loose stones", "slope", "cold tyres",
             "two sizes", "fast road", "jam", "bad clock")  # fmt: skip
ROADS = {  # wanted m/s, s that is wanted, share of halts, m between bends, least and most radius m, turned angle rad
    "town": ((7.0, 15.0), (6.0, 25.0), 0.3, 90.0, (9.0, 120.0), (0.3, 1.6)),
    "country": ((14.0, 28.0), (10.0, 40.0), 0.02, 160.0, (60.0, 600.0), (0.1, 1.2)),
    "fast road": ((25.0, 38.0), (20.0, 60.0), 0.0, 900.0, (600.0, 3000.0), (0.05, 0.4)),
    "jam": ((1.0, 7.0), (3.0, 10.0), 0.4, 250.0, (60.0, 600.0), (0.1, 0.5)),
    "car park": ((1.2, 3.5), (3.0, 8.0), 0.35, 10.0, (4.5, 12.0), (0.6, 3.0)),
}
STEP_S = 0.005
G = 9.81


@dataclass(frozen=True)
class _Car:
    """Lengths m, times s; shares and ln where nothing is said."""

    rolls: dict[bool, float]
    told: dict[bool, float]
    teeth: dict[bool, int]
    track: float
    base: float
    drives: dict[bool, float]
    soft: float
    both: bool
    unit: str
    task: float
    window: float
    forgets: float
    waits: float
    floor: float
    tick: float
    rough: float
    nuisance: str
    every: dict[bool, float]


@dataclass(frozen=True)
class _Drive:
    """Each `STEP_S`: time s, speed m/s, curvature 1/m (left positive), pull m/s², and what the driveline adds (ln)."""

    time: Array
    speed: Array
    curve: Array
    pull: Array
    rings: Array
    full: np.ndarray


def draw(
    seed: int, kind: str, rate_hz: float, faulty: bool = True, small: float | None = None, exact: bool = False
) -> Drawn:
    """One drive of one to seven minutes; the same drive without its fault where not `faulty`.

    `small`: the fault, one of `SMALLEST`, is so many times the smallest one worth finding. `exact`: units round and
    count nothing, and teeth are placed well, as `benchmarks.visible` asks.
    """
    rng, harm = np.random.default_rng([seed, 11_011, 1]), np.random.default_rng([seed, 11_011, 2])
    car = _car(rng, kind)
    drive = _drive(rng, car)
    road = _road(rng, car, drive)
    bad, here = list(Corner)[int(harm.integers(4))], kind if faulty else "healthy"
    sizes = {c: float(np.exp(rng.normal(0.0, 8e-4))) for c in Corner}
    if here == "size":
        off = smallest.RATIO * small if small else float(harm.uniform(0.006, 0.045))
        sizes[bad] *= 1.0 + off * float(harm.choice((-1.0, 1.0)))
    tasks = np.arange(0.1, drive.time[-1], car.task)
    shown, lost = {}, 0
    for number, corner in enumerate(Corner):
        own = np.random.default_rng([seed, 11_011, 3, number])
        fault = here if corner is bad else "healthy"
        turned = _turned(own, car, drive, road[corner], corner, sizes[corner])
        places, gone = _ring(own, harm, car, corner, fault, small, exact)
        lost = max(lost, gone)
        edges = _edges(own, harm, drive, car, turned, places, corner, fault, small, exact)
        shown[corner] = _told(car, edges, tasks, corner, exact)
    if car.unit == "other side":
        shown = {c: _stood_in(v, shown[c.mate], shown[_behind(c)], car.task) for c, v in shown.items()}
    corners: tuple[Corner, ...] = (bad,)
    if kind == "sides changed":
        corners = tuple(c for c in Corner if c.is_front is bad.is_front)
        if faulty:
            shown[corners[0]], shown[corners[1]] = shown[corners[1]], shown[corners[0]]
    if here == "stands":
        since = int(harm.uniform(0.0, 0.7) * tasks.size)
        since += int(np.argmax(shown[bad][since:] > 2.0))
        shown[bad] = np.where(np.arange(tasks.size) >= since, shown[bad][since], shown[bad])
    log = _logged(np.random.default_rng([seed, 11_011, 4]), car, tasks, shown, rate_hz, exact)
    found = FAULTS[here]
    return Drawn(log, found, corners if found else (), car.unit, car.teeth[bad.is_front], lost if found else 0)


def _behind(corner: Corner) -> Corner:
    return next(c for c in Corner if c.is_left is corner.is_left and c is not corner)


def _car(rng: np.random.Generator, kind: str) -> _Car:
    nuisance = str(rng.choice(NUISANCES)) if rng.random() < (0.85 if kind == "healthy" else 0.3) else ""
    rolls = float(rng.uniform(2.5, 3.5) if rng.random() < 0.08 else rng.uniform(1.7, 2.4))
    other = float(np.exp(rng.choice((-1.0, 1.0)) * rng.uniform(0.003, 0.01))) if nuisance == "two sizes" else 1.0
    known = float(np.exp(rng.uniform(-0.08, 0.08))) if rng.random() < 0.15 else 1.0
    teeth = int(rng.integers(29, 101))
    rears = int(np.clip(teeth + rng.choice((-8, -4, -2, 2, 4, 8)), 29, 100)) if rng.random() < 0.2 else teeth
    fronts = float(rng.choice((1.0, 0.0, 0.5), p=(0.6, 0.25, 0.15)))
    unit, both = str(rng.choice(UNITS)), bool(rng.random() < 0.2)
    every = [float(rng.choice((0.01, 0.01, 0.02))) for _ in range(2)]
    return _Car(
        rolls={True: rolls, False: rolls * other * known}, told={True: rolls, False: rolls * known},
        teeth={True: teeth, False: rears},
        track=float(rng.uniform(1.35, 1.8)), base=float(rng.uniform(2.2, 3.6)),
        drives={True: fronts, False: 1.0 - fronts}, soft=float(rng.uniform(8e-4, 2.5e-3)), both=both, unit=unit,
        task=float(rng.choice((0.005, 0.01, 0.01))), window=float(rng.choice((0.04, 0.08, 0.16))),
        forgets=float(rng.choice((0.03, 0.08, 0.16, 0.3))), waits=float(rng.choice((0.12, 0.2, 0.4, 0.9))),
        floor=float(rng.choice((0.0, 0.3, 0.5, 0.8))), tick=float(rng.choice((1e-6, 4e-6, 2e-5))),
        rough=float(np.exp(rng.uniform(np.log(3e-4), np.log(2.5e-3)))), nuisance=nuisance,
        every={True: every[0], False: every[1]},
    )  # fmt: skip


def _drive(rng: np.random.Generator, car: _Car) -> _Drive:
    road = str(rng.choice(("town", "town", "country", "country", "fast road", "jam")))
    road = {"circles": "town", "full braking": "country"}.get(
        car.nuisance, car.nuisance if car.nuisance in ROADS else road
    )
    speeds, holds, halts, between, radii, angles = ROADS[road]
    lasts = float(np.exp(rng.uniform(np.log(60.0), np.log(420.0))))
    time = np.arange(0.0, lasts, STEP_S)
    coarse = 0.1
    count, eager = int(lasts / coarse) + 2, float(rng.uniform(0.25, 0.6))
    speed, gear, pause = np.empty(count), 1, 0.0
    now = float(np.mean(speeds)) if rng.random() < 0.3 else 0.0
    wanted, until, full, ends = float(rng.uniform(*speeds)), float(rng.uniform(*holds)), np.zeros(count, dtype=bool), 0
    shifts = []
    for k in range(count):
        if k * coarse > until:
            wanted = 0.0 if wanted > 0.0 and rng.random() < halts else float(rng.uniform(*speeds))
            until = k * coarse + float(rng.uniform(*holds)) * (0.5 if wanted == 0.0 else 1.0)
            if car.nuisance == "full braking" and now > 12.0 and rng.random() < 0.6:
                ends = k + int(rng.uniform(8, 25))
        if wanted > now + 0.3 and now > 6.0 * gear and gear < 5 and pause <= 0.0:
            gear, pause = gear + 1, float(rng.uniform(0.3, 0.7))
            shifts.append(k * coarse + pause)
        gear = max(1, min(gear, 1 + int(now / 5.0)))
        most = 2.6 / (1.0 + 0.12 * now)
        pull = float(np.clip(eager * (wanted - now), -2.4, most))
        pull = -0.15 if pause > 0.0 and pull > 0.0 else pull
        if k < ends:
            pull, full[k] = -8.0, True
        pause -= coarse
        now = max(now + pull * coarse, 0.0)
        speed[k] = now
    grid = np.arange(count) * coarse
    fine = np.maximum(gaussian_filter1d(np.interp(time, grid, speed), 0.12 / STEP_S), 0.0)
    fine[fine < 0.04] = 0.0
    way = np.cumsum(fine) * STEP_S
    curve = _bends(rng, way, between, radii, angles, car.nuisance == "circles")
    sways = gaussian_filter1d(rng.standard_normal(time.size), float(rng.uniform(0.5, 1.2)) / STEP_S)
    curve += float(rng.uniform(0.05, 0.25)) * sways / max(float(sways.std()), 1e-9) / (fine**2 + 60.0)
    most_curve = float(rng.uniform(2.0, 4.5)) / np.maximum(fine, 1.0) ** 2
    rings, hertz = np.zeros(time.size), float(rng.uniform(2.5, 7.0))
    for moment in shifts:
        late = np.maximum(time - moment, 0.0)
        wave = np.exp(-late / 0.25) * np.sin(2.0 * np.pi * hertz * late)
        rings += float(rng.uniform(0.001, 0.012)) * np.where(late > 0.0, wave, 0.0)
    stops = np.interp(time, grid, full.astype(float)) > 0.5
    return _Drive(
        time, fine, np.clip(curve, -most_curve, most_curve), np.asarray(np.gradient(fine, STEP_S)), rings, stops
    )


def _bends(
    rng: np.random.Generator, way: Array, between: float, radii: tuple[float, float], angles: tuple[float, float],
    circles: bool,
) -> Array:  # fmt: skip
    """Curvature along the way: up by a straight line, held, and down again."""
    at, knots, values = 0.0, [0.0], [0.0]
    while at < way[-1]:
        at += float(rng.exponential(between)) + 3.0
        radius = float(np.exp(rng.uniform(*np.log(radii))))
        angle, side = float(rng.uniform(*angles)), float(rng.choice((-1.0, 1.0)))
        if circles and rng.random() < 0.5:
            radius, angle, side = float(rng.uniform(9.0, 22.0)), float(rng.uniform(1.5, 4.7)), 1.0
        ease = min(0.3 * radius * angle, 25.0) + 0.5
        knots += [at, at + ease, at + ease + radius * angle, at + 2.0 * ease + radius * angle]
        values += [0.0, side / radius, side / radius, 0.0]
        at = knots[-1]
    return np.interp(way, knots, values)


def _road(rng: np.random.Generator, car: _Car, drive: _Drive) -> dict[Corner, Array]:
    """What the road does to each wheel's speed (ln): rears meet what the fronts met."""
    way = np.cumsum(drive.speed) * STEP_S
    cells = int(way[-1] / 0.25) + 60
    shared = rng.standard_normal(cells)
    worse = 3.5 if car.nuisance == "loose stones" else 1.0
    sides = {left: 0.55 * shared + 0.83 * rng.standard_normal(cells) for left in (True, False)}
    holes = rng.random((2, cells)) < (0.006 if car.nuisance == "potholes" else 3e-4)
    for left, hole in zip(sides, holes, strict=True):
        sides[left] = sides[left] + hole * rng.uniform(10.0, 60.0, cells)
    hop_b, hop_a = iirpeak(float(rng.uniform(9.0, 15.0)), float(rng.uniform(2.0, 5.0)), fs=1.0 / STEP_S)
    out = {}
    for corner in Corner:
        met = np.interp(way - (0.0 if corner.is_front else car.base), np.arange(cells) * 0.25, sides[corner.is_left])
        shaken = 0.8 * lfilter(hop_b, hop_a, met) * 2.5 + 0.35 * met
        own = 0.4 * rng.standard_normal(drive.time.size)
        out[corner] = car.rough * worse * np.clip(np.sqrt(drive.speed / 12.0), 0.25, 1.6) * (shaken + own)
    return out


def _turned(own: np.random.Generator, car: _Car, drive: _Drive, road: Array, corner: Corner, size: float) -> Array:
    """Turns of one wheel since the start."""
    left, front, speed, curve = (1.0 if corner.is_left else -1.0), corner.is_front, drive.speed, drive.curve
    centre = np.minimum(0.008 * speed**2, 6.0)  # m that the centre of the turn lies before the rear axle
    across = 1.0 - 0.5 * left * car.track * curve
    ahead = np.hypot(across, curve * car.base) - curve**2 * car.base * centre if front else np.abs(across)
    lateral = curve * speed**2
    share = car.drives[front]
    force = np.where(drive.pull > -0.4, drive.pull + 0.15 + 4e-4 * speed**2, 0.0)
    slip = car.soft * share * force * (1.0 + 0.05 * left * lateral)
    slip = slip + np.where(drive.pull < -0.4, 1.3e-3 * drive.pull * (1.3 if front else 0.7), 0.0) + share * drive.rings
    if car.nuisance == "slippery" and share > 0.0:
        pulls = np.flatnonzero((drive.pull > 0.7) & (speed < 15.0))
        for near in own.choice(pulls, int(own.integers(2, 7))) if pulls.size else ():
            inside = np.clip((drive.time - drive.time[near]) / float(own.uniform(0.3, 1.5)), 0.0, 1.0)
            slip = slip + float(own.uniform(0.03, 0.5)) * share * np.sin(np.pi * inside) ** 2
    if drive.full.any():
        saw = np.mod(drive.time / float(own.uniform(0.12, 0.3)) + own.random(), 1.0)
        deep = float(own.uniform(0.03, 0.3)) * (1.0 if front else 0.6)
        slip = slip - drive.full * (speed > 1.5) * deep * np.where(saw < 0.6, saw / 0.6, (1.0 - saw) / 0.4)
    warm = float(own.uniform(1e-3, 4e-3)) * np.exp(-drive.time / 200.0) if car.nuisance == "cold tyres" else 0.0
    load = 2.5e-4 * left * lateral - (1.0 if front else -1.0) * 2e-4 * drive.pull
    tilt = 5e-4 * left if car.nuisance == "slope" else 0.0
    radius = size * (1.0 + load - warm + tilt)
    pace = np.maximum(speed * ahead * (1.0 + slip + road), 0.0) / (car.rolls[front] * radius)
    turned = own.random() + np.cumsum(pace) * STEP_S
    out_of_round = float(own.uniform(5e-5, 4e-4))
    phase = 2.0 * np.pi * (turned + own.random())
    return np.asarray(
        np.maximum.accumulate(turned + out_of_round / (2.0 * np.pi) * (np.sin(phase) + 0.25 * np.sin(2.0 * phase)))
    )


def _ring(
    own: np.random.Generator, harm: np.random.Generator, car: _Car, corner: Corner, fault: str, small: float | None,
    exact: bool,
) -> tuple[Array, int]:  # fmt: skip
    """Places (turns) of the rising edges that are there, and how many are gone."""
    teeth = car.teeth[corner.is_front]
    if fault == "wrong teeth":
        teeth += int(harm.choice((-5, -4, -3, -2, -1, 1, 2, 3, 4, 5)))
    gone = {"tooth lost": 1, "teeth lost": int(harm.integers(2, 6)), "lost apart": 2}.get(fault, 0)
    pitch = (np.arange(teeth) + float(own.uniform(0.003, 0.011)) * own.standard_normal(teeth) * (not exact)) / teeth
    first = int(harm.integers(teeth))
    if fault == "bent tooth":
        pitch[first] += float(harm.choice((-1.0, 1.0)) * harm.uniform(0.15, 0.4)) / teeth
    if fault == "opened":
        wide = float(harm.uniform(0.2, 1.5)) / teeth
        pitch = (pitch + wide * (np.arange(teeth) >= first)) / (1.0 + wide)
    swing = float(np.exp(own.uniform(np.log(5e-5), np.log(4e-4))))
    if fault == "wobbles":
        swing = smallest.SWING * small if small else float(np.exp(harm.uniform(np.log(0.003), np.log(0.02))))
    turn = 2.0 * np.pi * (pitch + own.random())
    places = pitch + swing / (2.0 * np.pi) * (np.sin(turn) + 0.15 * np.sin(2.0 * turn + own.uniform(0.0, 6.0)))
    there = np.ones(teeth, dtype=bool)
    apart = int(harm.integers(teeth // 5, teeth // 2)) if fault == "lost apart" else 1
    there[(first + apart * np.arange(gone)) % teeth] = False
    return np.sort(places[there]), gone


def _edges(
    own: np.random.Generator, harm: np.random.Generator, drive: _Drive, car: _Car, turned: Array, places: Array,
    corner: Corner, fault: str, small: float | None, exact: bool,
) -> Array:  # fmt: skip
    """Moments (s) of the edges that the control unit counts."""
    if fault == "silent":
        return np.zeros(0)
    if car.both:
        high = float(own.uniform(0.46, 0.54)) if not exact else 0.5
        places = np.sort(np.concatenate([places, places + high / car.teeth[corner.is_front]]))
    passes = (np.arange(np.floor(turned[0]) - 1.0, np.ceil(turned[-1]) + 1.0)[:, None] + places).ravel()
    passes = np.sort(passes[(passes > turned[0]) & (passes < turned[-1])])
    rolls = np.concatenate([[True], np.diff(turned) > 1e-10])
    when = np.interp(passes, turned[rolls], drive.time[rolls])
    speed = np.interp(when, drive.time, drive.speed)
    seen = speed > 0.2
    if fault == "distant":
        wakes = smallest.WAKE * small if small else float(harm.uniform(9.0, 32.0)) / 3.6
        swings = 0.06 * np.sin(2.0 * np.pi * (passes + harm.random())) + 0.02 * harm.standard_normal(when.size)
        seen = speed * (1.0 + swings) > wakes
    elif fault == "weak part":
        wide, until = float(harm.uniform(0.04, 0.3)), float(harm.uniform(3.0, 14.0))
        # one that never heals is a lost one
        until = min(until, 0.6 * float(np.quantile(drive.speed, 0.95)))
        inside = np.mod(passes - harm.random(), 1.0) < wide
        seen &= ~inside | (speed * (1.0 + 0.05 * harm.standard_normal(when.size)) > until)
    elif fault == "poor poles":
        seen &= harm.random(when.size) > float(np.exp(harm.uniform(np.log(0.008), np.log(0.12))))
    elif fault == "parts":
        for start in _starts(harm, drive, small):
            lasts = smallest.BREAK_S * small if small else float(np.exp(harm.uniform(np.log(0.05), np.log(1.5))))
            seen &= (when < start) | (when > start + lasts)
    when = when[seen]
    if fault == "extra edges":
        more = harm.random(when.size) < float(np.exp(harm.uniform(np.log(0.01), np.log(0.1))))
        next_one = np.append(when[1:], when[-1] + 0.01)
        when = np.sort(np.concatenate([when, (when + harm.uniform(0.2, 0.8, when.size) * (next_one - when))[more]]))
    noise = 0.0 if exact else 2e-6
    when = np.sort(when + noise * own.standard_normal(when.size))
    return when if exact else np.round(when / car.tick) * car.tick


def _starts(harm: np.random.Generator, drive: _Drive, small: float | None) -> Array:
    """Moments (s) at which a lead parts: where the road shakes, in bends to one side, fast, or whenever."""
    minutes = drive.time[-1] / 60.0
    many = max(1, round(minutes)) if small else max(3, int(harm.poisson(float(harm.uniform(2.0, 12.0)) * minutes)))
    side = float(harm.choice((-1.0, 1.0)))
    may = {
        "bends": drive.curve * drive.speed**2 * side > 0.7,
        "fast": drive.speed > np.quantile(drive.speed, 0.75),
        "whenever": drive.speed > 1.0,
    }[str(harm.choice(("bends", "fast", "whenever")))]
    may = may if may.sum() * STEP_S > 5.0 else drive.speed > 1.0
    return harm.choice(drive.time[may], many) if may.any() else np.zeros(0)


def _told(car: _Car, edges: Array, tasks: Array, corner: Corner, exact: bool) -> Array:
    """m/s that the control unit works out at each of its tasks."""
    if edges.size < 12:
        return np.zeros(tasks.size)
    front = corner.is_front
    step = car.told[front] / car.teeth[front] / (2.0 if car.both else 1.0)
    have = np.searchsorted(edges, tasks, side="right")
    newest = np.clip(have - 1, 0, None)
    silent = tasks - edges[newest]
    if car.unit == "gate":
        value = (counted(edges, tasks, exact) - counted(edges, tasks - car.window, exact)) * step / car.window
    else:
        span = {"period": 0.0, "median": 0.0}.get(car.unit, car.window if car.unit == "span" else car.task)
        begun = np.searchsorted(edges, edges[newest] - span, side="left")
        least = 2 if car.both else 1  # one whole pitch
        oldest = np.clip(np.minimum(begun, newest - least), 0, None)
        value = (newest - oldest) * step / np.maximum(edges[newest] - edges[oldest], 1e-4)
        late = silent > 1.5 * step / np.maximum(value, 1e-3)
        if car.unit != "doubts":
            value = np.where(late, np.minimum(value, step / np.maximum(silent, 1e-4)), value)
        value = np.where(silent > car.waits, 0.0, value)
    value = np.where(have < 4, 0.0, value)
    if car.unit == "median":
        value = np.median([value, np.roll(value, 1), np.roll(value, 2)], axis=0)
        new = 1.0 - float(np.exp(-car.task / car.forgets))
        value = lfilter([new], [1.0, new - 1.0], value, zi=[value[0] * (1.0 - new)])[0]
    if car.unit == "doubts":
        value = _doubted(value, car.task)
    return np.where(value < car.floor, 0.0, value)


def _doubted(value: Array, task: float) -> Array:
    """What falls faster than a wheel can stays for up to 0.3 s as it was."""
    out, held = value.copy(), 0
    falls, most = 1.6 * G * task + 0.02 * value, int(0.3 / task)
    for k in range(1, value.size):
        if out[k - 1] - value[k] > falls[k - 1] + 0.3 and held < most:
            out[k], held = out[k - 1], held + 1
        else:
            held = 0
    return out


def _stood_in(value: Array, across: Array, behind: Array, task: float) -> Array:
    """Where a corner is far off both of its neighbours, the other side's value for it, for 0.4 s at most."""
    far = (np.abs(value - across) > 0.2 * across + 1.0) & (np.abs(value - behind) > 0.2 * behind + 1.0)
    run = np.arange(far.size) - np.maximum.accumulate(np.where(far, -1, np.arange(far.size)))
    return np.where(far & (run <= int(0.4 / task)), across, value)


def _logged(
    rng: np.random.Generator, car: _Car, tasks: Array, shown: dict[Corner, Array], rate_hz: float, exact: bool
) -> RawLog:
    """Messages of each axle as they came, held in rows, joined by straight lines, as means, or asked for in turn."""
    unit, factor = (("km/h", 3.6), ("km/h", 3.6), ("mph", 2.236936), ("m/s", 1.0))[int(rng.integers(4))]
    sent = float(rng.choice((0.01, 0.015625, 0.05625, 0.0625)))
    steps = (0.0, 0.0, 0.0, 0.1) if rate_hz > 20.0 else (0.0, 0.1, 0.5, 1.0)
    sent *= 0.3 if unit == "m/s" else 1.0
    step = max(float(rng.choice(steps)) * (0.3 if unit == "m/s" else 1.0), sent)
    ways = ("messages", "rows", "rows", "lines") if rate_hz > 20.0 else ("messages", "rows", "lines", "means", "turns")
    how, phase = str(rng.choice(ways)), rng.random(2)
    rows = np.arange(0.6, tasks[-1] - 3.0 / rate_hz, 1.0 / rate_hz)
    rows = rows + float(rng.choice((0.0, 0.03, 0.12))) / rate_hz * rng.standard_normal(rows.size)
    keep, rows = rng.random(rows.size), np.sort(rows)
    if car.nuisance == "bad clock":
        hole = float(rng.uniform(rows[0], rows[-1]))
        rows = rows[(keep > 0.02) & ((rows < hole) | (rows > hole + float(rng.uniform(0.3, 5.0))))]
        rows = np.sort(np.concatenate([rows, rng.choice(rows, rows.size // 60)]))
    channels = []
    for number, corner in enumerate(Corner):
        every = car.every[corner.is_front]
        times = 0.3 + every * (phase[int(corner.is_front)] + np.arange(int((tasks[-1] - 0.4) / every)))
        message = shown[corner][np.clip(np.searchsorted(tasks, times, side="right") - 1, 0, None)] * factor
        if not exact:
            message = np.round(message / sent) * sent
        stamps, asked = rows, rows + (number * 0.23 / rate_hz if how == "turns" else 0.0)
        if how == "lines":
            seen = np.arange(0, times.size, max(1, round(1.0 / (rate_hz * every))))
            told = np.interp(asked, times[seen], message[seen])
        elif how == "means":
            sums = np.concatenate([[0.0], np.cumsum(message)])
            ends = np.searchsorted(times, asked, side="right")
            begins = np.minimum(np.searchsorted(times, asked - 1.0 / rate_hz, side="right"), ends - 1)
            told = (sums[ends] - sums[begins]) / (ends - begins)
        else:
            at = np.clip(np.searchsorted(times, asked, side="right") - 1, 0, None)
            told, stamps = message[at], times[at] if how == "messages" else rows
        values = told if exact or how == "lines" else np.round(told / step) * step
        channels.append(RawChannel(f"Wheel speed {corner}", unit, np.round(stamps, 4), np.round(values, 5)))
    return RawLog(tuple(channels), "eleventh world")
