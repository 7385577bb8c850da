"""Drives from a tenth world, which was measured before it taught, and which are read from text files.

As plain as a world can be: a speed that is held and changed by straight lines, bends of one radius each, an edge
wherever the turn of a wheel meets a tooth. What is not plain is what is made of it: six control units that take the
trade's words literally, whole steps of speeds, and a file in one of many dialects (`benchmarks.text_dialects`).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter1d
from scipy.signal import lfilter

from benchmarks import smallest
from benchmarks.second_world import Drawn, counted
from nodrek.core.model import Array, Corner, Fault, RawChannel, RawLog

FAULTS: dict[str, Fault | None] = {
    "healthy": None, "one off": Fault.RING_DAMAGE, "some off": Fault.RING_DAMAGE, "cracked open": Fault.RING_DAMAGE,
    "sits askew": Fault.RING_RUNOUT, "loses edges": Fault.ENCODER_NOISE, "edges shake": Fault.ENCODER_NOISE,
    "too far off": Fault.AIR_GAP, "worn through": Fault.INTERMITTENT, "keeps still": Fault.FROZEN,
    "open": Fault.NO_SIGNAL, "ring of another": Fault.RING_COUNT, "odd one": Fault.TYRE_SIZE,
    "left for right": Fault.CROSSED,
}  # fmt: skip
SMALLEST = {
    Fault.RING_DAMAGE: "one off", Fault.RING_RUNOUT: "sits askew", Fault.AIR_GAP: "too far off",
    Fault.INTERMITTENT: "worn through", Fault.TYRE_SIZE: "odd one",
}  # fmt: skip
"""How the faults are called here whose smallest ones are asked for."""
UNITS = ("span", "last", "count", "filter", "hold", "plausible")
NUISANCES = ("potholes", "wheelspin", "hard braking", "roundabouts", "parking", "gravel", "crown", "warm-up",
             "worn axle", "motorway", "queue", "stamps")  # fmt: skip
ROADS = {  # speeds m/s, s held, chance of a halt, mean m to the next bend, radius m, its length m
    "town": ((4.0, 15.5), (2.0, 14.0), 0.25, 70.0, (10.0, 150.0), (8.0, 50.0)),
    "country": ((11.0, 27.0), (5.0, 25.0), 0.0, 140.0, (50.0, 500.0), (30.0, 200.0)),
    "motorway": ((24.0, 37.0), (10.0, 60.0), 0.0, 600.0, (500.0, 3000.0), (150.0, 800.0)),
    "queue": ((1.0, 6.5), (2.0, 9.0), 0.35, 200.0, (40.0, 500.0), (20.0, 90.0)),
    "parking": ((0.8, 3.0), (1.0, 6.0), 0.4, 8.0, (5.5, 15.0), (4.0, 15.0)),
}
GRID_S = 0.004
MOST_ACROSS = 3.0
"""m/s² that a driver bears."""


@dataclass(frozen=True)
class _Car:
    """Lengths m, times s, speeds m/s; the rest relative, a number or a name."""

    rolls: float
    track: float
    base: float
    teeth: int
    driven: tuple[bool, bool]
    coil: bool
    unit: str
    task: float
    window: float
    forgets: float
    silence: float
    quiet: float
    rough: float
    nuisance: str


@dataclass(frozen=True)
class _Drive:
    """On a grid of time: s, speed m/s, curvature 1/m (left positive), pull m/s²; moments (s) of jolts and of spins;
    where it brakes hard."""

    time: Array
    speed: Array
    curve: Array
    pull: Array
    jolts: Array
    spins: Array
    hard: np.ndarray


def draw(
    seed: int, kind: str, rate_hz: float, faulty: bool = True, small: float | None = None, exact: bool = False
) -> Drawn:
    """One drive of one to seven minutes; the same drive without its fault where not `faulty`.

    `small`: the fault, one of `SMALLEST`, is so many times the smallest one worth finding. `exact`: units round and
    count nothing, and teeth are placed well, as `benchmarks.visible` asks.
    """
    rng, harm = np.random.default_rng([seed, 10_010, 1]), np.random.default_rng([seed, 10_010, 2])
    car = _car(rng, kind)
    drive = _driven(rng, car)
    bad, here = list(Corner)[int(harm.integers(4))], kind if faulty else "healthy"
    sizes = {c: float(np.exp(rng.normal(0.0, 1e-3))) for c in Corner}
    if car.nuisance == "worn axle":
        front, less = bool(rng.integers(2)), float(rng.uniform(0.003, 0.01))
        sizes = {c: size * (1.0 - less * (c.is_front is front)) for c, size in sizes.items()}
    off = smallest.RATIO * small if small else float(harm.uniform(0.006, 0.05))
    if here == "odd one":
        sizes[bad] *= 1.0 + off * float(harm.choice((-1.0, 1.0)))
    tasks = np.arange(0.2, drive.time[-1], car.task)
    shown, lost = {}, 0
    for number, corner in enumerate(Corner):
        own = np.random.default_rng([seed, 10_010, 3, number])
        fault = here if corner is bad else "healthy"
        turned = _turned(own, car, drive, corner, sizes[corner])
        places, gone = _ring(own, harm, car, fault, small, exact)
        lost = max(lost, gone)
        edges = _edges(own, harm, car, drive, turned, places, fault, small, exact)
        shown[corner] = _value(car, edges, tasks, exact)
    if car.unit == "plausible":
        shown = _believed(shown, car)
    corners: tuple[Corner, ...] = (bad,)
    if kind == "left for right":
        corners = tuple(c for c in Corner if c.is_front is bad.is_front)
        if faulty:
            shown[corners[0]], shown[corners[1]] = shown[corners[1]], shown[corners[0]]
    if here == "keeps still":
        since = int(harm.uniform(0.0, 0.6) * tasks.size)
        since += int(np.argmax(shown[bad][since:] > 1.5))
        stays = float(shown[bad][since]) if harm.random() < 0.6 else float(harm.choice((70.8, 50.6, 25.3)))
        shown[bad] = np.where(np.arange(tasks.size) >= since, stays, shown[bad])
    log = _rows(np.random.default_rng([seed, 10_010, 4]), tasks, shown, rate_hz, car.nuisance == "stamps", exact)
    found = FAULTS[here]
    return Drawn(log, found, corners if found else (), car.unit, car.teeth, lost if found else 0)


def _car(rng: np.random.Generator, kind: str) -> _Car:
    nuisance = str(rng.choice(NUISANCES)) if rng.random() < (0.85 if kind == "healthy" else 0.3) else ""
    return _Car(
        rolls=float(rng.uniform(2.6, 3.5) if rng.random() < 0.08 else rng.uniform(1.7, 2.4)),
        track=float(rng.uniform(1.35, 1.75)), base=float(rng.uniform(2.3, 3.3)), teeth=int(rng.integers(29, 101)),
        driven=((True, False), (False, True), (True, True))[int(rng.choice(3, p=(0.6, 0.25, 0.15)))],
        coil=bool(rng.random() < 0.4), unit=str(rng.choice(UNITS)), task=float(rng.choice((0.005, 0.01, 0.01, 0.02))),
        window=float(rng.choice((0.05, 0.1, 0.2))), forgets=float(rng.choice((0.05, 0.1, 0.2, 0.3))),
        silence=float(rng.choice((0.15, 0.25, 0.5, 0.8))), quiet=float(rng.choice((0.0, 0.28, 0.55, 0.76))),
        rough=float(np.exp(rng.uniform(np.log(3e-4), np.log(3e-3)))), nuisance=nuisance,
    )  # fmt: skip


def _driven(rng: np.random.Generator, car: _Car) -> _Drive:
    road = str(rng.choice(("town", "town", "country", "country", "motorway", "queue")))
    road = {"roundabouts": "town"}.get(car.nuisance, car.nuisance if car.nuisance in ROADS else road)
    lasts = float(np.exp(rng.uniform(np.log(60.0), np.log(420.0))))
    speeds, holds, halts, _, _, _ = ROADS[road]
    time = np.arange(0.0, lasts, GRID_S)
    knots, values = [0.0], [0.0 if rng.random() < 0.7 else float(np.mean(speeds))]
    while knots[-1] < lasts:
        wanted = 0.0 if rng.random() < halts else float(rng.uniform(*speeds))
        knots.append(knots[-1] + abs(wanted - values[-1]) / float(rng.uniform(0.6, 2.5)) + 0.1)
        knots.append(knots[-1] + float(rng.uniform(*holds)))
        values += [wanted, wanted]
    speed = gaussian_filter1d(np.interp(time, knots, values), 0.35 / GRID_S)
    hard = np.zeros(time.size, dtype=bool)
    if car.nuisance == "hard braking":
        for start in rng.choice(np.flatnonzero(speed > 8.0), 3) if np.any(speed > 8.0) else ():
            stop = min(int(start) + int(rng.uniform(0.8, 2.2) / GRID_S), time.size)
            falls = speed[start] - float(rng.uniform(5.0, 9.0)) * (time[start:stop] - time[start])
            speed[start:stop] = np.minimum(speed[start:stop], np.maximum(falls, 0.0))
            again = min(stop + int(8.0 / GRID_S), time.size)
            speed[stop:again] = np.minimum(
                speed[stop:again], speed[stop - 1] + 1.8 * (time[stop:again] - time[stop - 1])
            )
            hard[start:stop] = True
        speed = gaussian_filter1d(speed, 0.05 / GRID_S)
    speed[speed < 0.05] = 0.0
    curve = _curve(rng, road, np.cumsum(speed) * GRID_S, car.nuisance == "roundabouts")
    most = MOST_ACROSS / np.maximum(speed, 1.0) ** 2
    pull = np.gradient(speed, GRID_S)
    jolts = rng.uniform(0.0, lasts, rng.poisson(lasts * (0.25 if car.nuisance == "potholes" else 0.02)))
    spins = time[(pull > 0.8) & (speed < 14.0)] if car.nuisance == "wheelspin" else time[:0]
    spins = rng.choice(spins, 5) if spins.size else spins
    return _Drive(time, speed, np.clip(curve, -most, most), pull, np.sort(jolts), spins, hard)


def _curve(rng: np.random.Generator, road: str, way: Array, rounds: bool) -> Array:
    """Curvature (1/m) along the way."""
    _, _, _, between, radii, lengths = ROADS[road]
    bends, at = np.zeros(int(way[-1]) + 60), 0.0
    while at < bends.size:
        at += float(rng.exponential(between))
        length = float(rng.uniform(*lengths))
        bends[int(at) : int(at + length)] = float(rng.choice((-1.0, 1.0))) / float(rng.uniform(*radii))
        at += length
    if rounds:
        for start in np.arange(60.0, float(bends.size), float(rng.uniform(120.0, 300.0))):
            length = float(rng.uniform(25.0, 70.0))
            bends[int(start) : int(start + length)] = float(rng.choice((1.0, 1.0, -1.0))) / float(
                rng.uniform(10.0, 20.0)
            )
    return np.interp(way, np.arange(bends.size), gaussian_filter1d(bends, 1.5 if road == "parking" else 4.0))


def _turned(own: np.random.Generator, car: _Car, drive: _Drive, corner: Corner, size: float) -> Array:
    """Turns of one wheel since the start, on the drive's grid."""
    left, time, speed = (1.0 if corner.is_left else -1.0), drive.time, drive.speed
    over = speed * np.hypot(1.0 - left * 0.5 * car.track * drive.curve, drive.curve * car.base * corner.is_front)
    driven = car.driven[0 if corner.is_front else 1]
    force = 0.002 * (drive.pull + 0.12 + 1.2e-4 * speed**2) / sum(car.driven) * driven
    slip = np.where(drive.pull < -0.3, 0.0022 * drive.pull * (1.2 if corner.is_front else 0.8), force)
    keep = float(np.exp(-GRID_S / own.uniform(0.03, 0.2)))
    rough = car.rough * (4.0 if car.nuisance == "gravel" else 1.0) * np.clip(speed / 8.0, 0.3, 1.6)
    off = rough * lfilter([np.sqrt(1.0 - keep**2)], [1.0, -keep], own.standard_normal(time.size))
    for moments, share, most, lasts in ((drive.jolts, 0.7, 0.06, 0.12), (drive.spins, 0.75 * driven, 0.5, 0.8)):
        for moment in moments[own.random(moments.size) < share]:
            inside = np.clip((time - moment) / lasts, 0.0, 1.0)
            wave = np.sin(2.0 * np.pi * inside) if lasts < 0.2 else np.sin(np.pi * inside) ** 2
            off = off + float(own.uniform(0.1 * most, most)) * wave
    pumps = 0.5 + 0.5 * np.sin(2.0 * np.pi * float(own.uniform(3.0, 8.0)) * time + own.uniform(0.0, 6.0))
    off = off - np.where(drive.hard & (speed > 2.0), float(own.uniform(0.02, 0.2)) * pumps, 0.0)
    warm = float(own.uniform(5e-4, 4e-3)) * (1.0 - np.exp(-time / 150.0)) if car.nuisance == "warm-up" else 0.0
    radius = 1.0 + (6e-4 * left if car.nuisance == "crown" else 0.0) + warm - 4e-4 * left * drive.curve * speed**2
    pace = np.maximum(over * (1.0 + slip + off), 0.0) / (car.rolls * size * radius)
    return np.asarray(own.random() + np.cumsum(pace) * GRID_S)


def _ring(
    own: np.random.Generator, harm: np.random.Generator, car: _Car, fault: str, small: float | None, exact: bool
) -> tuple[Array, int]:
    """Places (turns) of the teeth that are there, and how many are gone."""
    teeth, gone = car.teeth, {"one off": 1, "some off": int(harm.integers(2, 5))}.get(fault, 0)
    if fault == "ring of another":
        teeth += int(harm.choice((-6, -4, -3, -2, -1, 1, 2, 3, 4, 6)))
    placed = float(own.uniform(0.002, 0.012)) * own.standard_normal(teeth)
    places = np.sort((np.arange(teeth) + (0.0 if exact else 1.0) * placed) / teeth)
    swing = float(np.exp(own.uniform(np.log(1e-4), np.log(8e-4))))
    if fault == "sits askew":
        swing = smallest.SWING * small if small else float(np.exp(harm.uniform(np.log(0.003), np.log(0.02))))
    if fault == "cracked open":
        wide = float(harm.uniform(0.3, 1.2)) / teeth
        places = (places + wide * (np.arange(teeth) >= harm.integers(teeth))) / (1.0 + wide)
    there = np.ones(teeth, dtype=bool)
    there[(int(harm.integers(teeth)) + np.arange(gone)) % teeth] = False
    return (places + swing / (2.0 * np.pi) * np.sin(2.0 * np.pi * (places + own.random())))[there], gone


def _edges(
    own: np.random.Generator, harm: np.random.Generator, car: _Car, drive: _Drive, turned: Array, places: Array,
    fault: str, small: float | None, exact: bool,
) -> Array:  # fmt: skip
    """Moments (s) of the edges that the control unit gets."""
    if fault == "open":
        return np.zeros(0)
    passes = (np.arange(np.floor(turned[0]), np.ceil(turned[-1]) + 1.0)[:, None] + places).ravel()
    passes = passes[(passes > turned[0]) & (passes < turned[-1])]
    rolls = np.concatenate([[True], np.diff(turned) > 1e-10])
    when = np.interp(passes, turned[rolls], drive.time[rolls])
    speed = np.interp(when, drive.time, drive.speed)
    seen = speed > (float(own.uniform(0.5, 1.0)) if car.coil else 0.15)
    if fault == "too far off":
        wakes = smallest.WAKE * small if small else float(harm.uniform(9.0, 30.0)) / 3.6
        seen = speed * (1.0 + 0.04 * harm.standard_normal(when.size)) > wakes
    elif fault == "loses edges":
        seen &= harm.random(when.size) > float(np.exp(harm.uniform(np.log(0.01), np.log(0.15))))
    elif fault == "edges shake":
        pitch_s = car.rolls / car.teeth / np.maximum(speed, 0.5)
        when = when + float(harm.uniform(0.1, 0.4)) * harm.standard_normal(when.size) * pitch_s
    elif fault == "worn through":
        for start in _starts(harm, drive, small):
            lasts = smallest.BREAK_S * small if small else float(harm.uniform(0.06, 0.8))
            seen &= (when < start) | (when > start + lasts)
    noise = 0.0 if exact else 3e-6
    return np.sort(when[seen] + noise * own.standard_normal(int(seen.sum())))


def _starts(harm: np.random.Generator, drive: _Drive, small: float | None) -> Array:
    """Moments (s) at which a wire parts: at jolts, in bends to one side, when fast, or whenever."""
    minutes = drive.time[-1] / 60.0
    many = max(1, round(minutes)) if small else max(3, int(harm.poisson(float(harm.uniform(2.0, 10.0)) * minutes)))
    way, side = str(harm.choice(("jolts", "bends", "fast", "whenever"))), float(harm.choice((-1.0, 1.0)))
    leans = drive.curve * drive.speed**2 * side > 0.8
    if way == "jolts" and drive.jolts.size > 3:
        return harm.choice(drive.jolts, many) + 0.02
    may = drive.speed > 1.0
    if way == "bends" and leans.sum() * GRID_S > 4.0:
        may = leans
    elif way == "fast":
        may = drive.speed >= np.quantile(drive.speed, 0.7)
    return harm.choice(drive.time[may], many) if may.any() else np.zeros(0)


def _value(car: _Car, edges: Array, tasks: Array, exact: bool) -> Array:
    """m/s that the control unit works out at each of its tasks."""
    if edges.size < 10:
        return np.zeros(tasks.size)
    pitch, have = car.rolls / car.teeth, np.searchsorted(edges, tasks, side="right")
    newest = np.clip(have - 1, 0, None)
    silent = tasks - edges[newest]
    if car.unit == "count":
        now, before = (counted(edges, tasks - ago, exact) for ago in (0.0, car.window))
        value = (now - before) * pitch / car.window
    else:
        back = np.ones(tasks.size, dtype=int)
        if car.unit not in ("last", "hold"):
            since = tasks - (car.window if car.unit == "span" else car.task)
            back = np.maximum(newest - np.searchsorted(edges, since, side="right") + 1, 1)
        oldest = np.clip(newest - back, 0, None)
        value = (newest - oldest) * pitch / np.maximum(edges[newest] - edges[oldest], 1e-4)
        if car.unit != "hold":
            value = np.minimum(value, 1.05 * pitch / np.maximum(silent, 1e-4))
        value = np.where(silent > car.silence, 0.0, value)
    value = np.where(have < 3, 0.0, value)
    if car.unit == "filter":
        new = 1.0 - np.exp(-car.task / car.forgets)
        value = lfilter([new], [1.0, new - 1.0], value, zi=[value[0] * (1.0 - new)])[0]
    return np.where(value < car.quiet, 0.0, value)


def _believed(shown: dict[Corner, Array], car: _Car) -> dict[Corner, Array]:
    """For half a second a corner far from the middle of all shows that middle."""
    middle = np.median(list(shown.values()), axis=0)
    out = {}
    for corner, value in shown.items():
        far = np.abs(value - middle) > np.maximum(0.25 * middle, 1.5)
        run = np.arange(far.size) - np.maximum.accumulate(np.where(far, -1, np.arange(far.size)))
        out[corner] = np.where(far & (run <= int(0.5 / car.task)), middle, value)
    return out


def _rows(
    rng: np.random.Generator, tasks: Array, shown: dict[Corner, Array], rate_hz: float, bad: bool, exact: bool
) -> RawLog:
    """What a logger asks for: all at once, one after another and stamped once, or each stamped for itself."""
    unit, factor = (("km/h", 3.6), ("km/h", 3.6), ("mph", 2.236936), ("m/s", 1.0))[int(rng.integers(4))]
    steps = (0.01, 0.015625, 0.05, 0.1) if rate_hz > 20.0 else (0.01, 0.015625, 0.1, 0.5, 1.0)
    step = float(rng.choice(steps)) * (0.25 if unit == "m/s" else 1.0)
    how = str(
        rng.choice(("at once", "at once", "in turn") if rate_hz > 10.0 else ("at once", "in turn", "stamped each"))
    )
    rows = np.arange(0.5, tasks[-1] - 2.0 / rate_hz, 1.0 / rate_hz)
    rows = np.sort(rows + float(rng.choice((0.0, 0.02, 0.1))) / rate_hz * rng.standard_normal(rows.size))
    if bad:
        rows = rows[rng.random(rows.size) > 0.03]
        start = float(rng.uniform(rows[0], rows[-1]))
        rows = rows[(rows < start) | (rows > start + float(rng.uniform(0.5, 4.0)))]
        rows = np.sort(np.concatenate([rows, rng.choice(rows, rows.size // 80)]))
    wait = float(rng.uniform(0.1, 0.24)) / rate_hz
    channels = []
    for number, corner in enumerate(Corner):
        asked = rows if how == "at once" else rows + number * wait
        told = shown[corner][np.clip(np.searchsorted(tasks, asked, side="right") - 1, 0, None)] * factor
        stamps = np.round(asked if how == "stamped each" else rows, 3)
        values = told if exact else np.round(np.round(told / step) * step, 5)
        channels.append(RawChannel(f"Wheel speed {corner}", unit, stamps, values))
    return RawLog(tuple(channels), "tenth world")
