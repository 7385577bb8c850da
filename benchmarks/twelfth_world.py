"""Drives from a twelfth world, which teaches nothing: signals with an amplitude, loggers that ask and wait.

Written from the trade alone, without a line of the other worlds' physics. Drives are chains of short trips, steering is
a hand that corrects, each tooth gives a signal as high as its gap and the wheel's speed allow, and an edge is where
that passes a level. Six control units: the mean of so many periods, counts of windows that end by the clock, a period
that is given up, a follower of speed and acceleration, a limit to how fast a value changes, and the mean of the others
in place of a corner that is off for long enough. A logger asks one corner after another and waits for each answer, or
is sent all four.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter1d, uniform_filter1d
from scipy.signal import lfilter

from benchmarks import smallest
from benchmarks.second_world import Drawn, counted
from nodrek.core.model import Array, Corner, Fault, RawChannel, RawLog

FAULTS: dict[str, Fault | None] = {
    "healthy": None, "one less": Fault.RING_DAMAGE, "several less": Fault.RING_DAMAGE, "flattened": Fault.RING_DAMAGE,
    "split": Fault.RING_DAMAGE, "off axis": Fault.RING_RUNOUT, "stands back": Fault.RING_RUNOUT,
    "not its ring": Fault.RING_COUNT, "dirty": Fault.ENCODER_NOISE, "worn magnets": Fault.ENCODER_NOISE,
    "wide": Fault.AIR_GAP, "loose": Fault.INTERMITTENT, "gone": Fault.NO_SIGNAL, "fixed": Fault.FROZEN,
    "tyre": Fault.TYRE_SIZE, "other way round": Fault.CROSSED,
}  # fmt: skip
SMALLEST = {
    Fault.RING_DAMAGE: "one less", Fault.RING_RUNOUT: "off axis", Fault.AIR_GAP: "wide",
    Fault.INTERMITTENT: "loose", Fault.TYRE_SIZE: "tyre",
}  # fmt: skip
"""How the faults are called here whose smallest ones are asked for."""
UNITS = ("periods", "clocked count", "given up", "follower", "limit", "mean of others")
NUISANCES = ("potholes", "spins", "stops hard", "roundabouts", "manoeuvres", "gravel", "crown", "warms up", "worn axle",
             "motorway", "queue", "stamps")  # fmt: skip
TRIPS = {  # least and most m/s of a trip, s it is held, share that begin from rest, m/s² up and down
    "town": ((5.0, 14.5), (3.0, 20.0), 0.45, (0.7, 1.8), (0.8, 2.2)),
    "country": ((12.0, 27.0), (8.0, 45.0), 0.1, (0.5, 1.5), (0.6, 1.8)),
    "motorway": ((22.0, 37.0), (15.0, 90.0), 0.0, (0.3, 0.9), (0.3, 1.2)),
    "queue": ((1.0, 6.0), (2.0, 8.0), 0.6, (0.4, 1.2), (0.5, 1.5)),
    "manoeuvres": ((0.8, 3.2), (2.0, 7.0), 0.6, (0.3, 0.8), (0.4, 1.0)),
}
STEERS = {  # s between corners, least and most radius m, s that one lasts
    "town": (16.0, (8.0, 90.0), (2.0, 7.0)), "country": (14.0, (60.0, 700.0), (3.0, 12.0)),
    "motorway": (50.0, (700.0, 3000.0), (8.0, 30.0)), "queue": (40.0, (30.0, 300.0), (4.0, 12.0)),
    "manoeuvres": (4.0, (4.8, 12.0), (2.0, 8.0)),
}  # fmt: skip
STEP_S = 0.004


@dataclass(frozen=True)
class _Car:
    """Lengths m, times s, speeds m/s."""

    rolls: float
    teeth: int
    track: float
    base: float
    pulls: tuple[float, float]
    unit: str
    task: float
    most: int
    window: float
    patience: float
    quickness: float
    rest: float
    both: bool
    rough: float
    keeps: float
    nuisance: str


@dataclass(frozen=True)
class _Drive:
    """Each `STEP_S`: s, m/s, 1/m (left positive), m/s²; how hard the road knocks; s at which it brakes in full."""

    time: Array
    speed: Array
    curve: Array
    pull: Array
    knocks: Array
    full: Array


def draw(
    seed: int, kind: str, rate_hz: float, faulty: bool = True, small: float | None = None, exact: bool = False
) -> Drawn:
    """One drive of one to six minutes; the same drive without its fault where not `faulty`.

    `small`: the fault, one of `SMALLEST`, is so many times the smallest one worth finding. `exact`: units round and
    count nothing, and teeth are placed well, as `benchmarks.visible` asks.
    """
    rng, harm = np.random.default_rng([seed, 12_012, 1]), np.random.default_rng([seed, 12_012, 2])
    car = _car(rng, kind)
    drive = _drive(rng, car)
    bad, here = list(Corner)[int(harm.integers(4))], kind if faulty else "healthy"
    sizes = {c: float(np.exp(rng.normal(0.0, 1e-3))) for c in Corner}
    if car.nuisance == "worn axle":
        front, less = bool(rng.integers(2)), float(rng.uniform(0.003, 0.01))
        sizes = {c: size * (1.0 - less * (c.is_front is front)) for c, size in sizes.items()}
    off = smallest.RATIO * small if small else float(harm.uniform(0.006, 0.05))
    if here == "tyre":
        sizes[bad] *= 1.0 + off * float(harm.choice((-1.0, 1.0)))
    tasks = np.arange(0.05, drive.time[-1], car.task)
    shared = rng.standard_normal((2, drive.time.size))
    shown, lost = {}, 0
    for number, corner in enumerate(Corner):
        own = np.random.default_rng([seed, 12_012, 3, number])
        fault = here if corner is bad else "healthy"
        turned = _turned(own, car, drive, corner, sizes[corner], shared[int(corner.is_left)])
        places, heights, gone = _ring(own, harm, car, fault, small, exact)
        lost = max(lost, gone)
        edges = _edges(own, harm, car, drive, turned, places, heights, fault, small, exact)
        shown[corner] = _worked_out(car, edges, tasks, exact)
    if car.unit == "mean of others":
        shown = {c: _replaced(v, [shown[o] for o in Corner if o is not c], car) for c, v in shown.items()}
    corners: tuple[Corner, ...] = (bad,)
    if kind == "other way round":
        corners = tuple(c for c in Corner if c.is_front is bad.is_front)
        if faulty:
            shown[corners[0]], shown[corners[1]] = shown[corners[1]], shown[corners[0]]
    if here == "fixed":
        since = int(harm.uniform(0.05, 0.6) * tasks.size)
        since += int(np.argmax(shown[bad][since:] > 2.0))
        shown[bad] = np.where(np.arange(tasks.size) >= since, shown[bad][since], shown[bad])
    log = _asked(np.random.default_rng([seed, 12_012, 4]), car, tasks, shown, rate_hz, exact)
    found = FAULTS[here]
    return Drawn(log, found, corners if found else (), car.unit, car.teeth, lost if found else 0)


def _car(rng: np.random.Generator, kind: str) -> _Car:
    nuisance = str(rng.choice(NUISANCES)) if rng.random() < (0.85 if kind == "healthy" else 0.3) else ""
    front = float(rng.choice((1.0, 1.0, 1.0, 0.0, 0.0, 0.4)))
    return _Car(
        rolls=float(rng.uniform(2.5, 3.4) if rng.random() < 0.07 else rng.uniform(1.7, 2.4)),
        teeth=int(rng.choice((29, 33, 37, 40, 43, 44, 46, 47, 48, 48, 50, 52, 58, 60, 70, 80, 86, 96, 100))),
        track=float(rng.uniform(1.4, 1.75)), base=float(rng.uniform(2.3, 3.4)), pulls=(front, 1.0 - front),
        unit=str(rng.choice(UNITS)), task=float(rng.choice((0.005, 0.01, 0.01, 0.02))), most=int(rng.integers(1, 9)),
        window=float(rng.choice((0.05, 0.06, 0.1, 0.2))), patience=float(rng.choice((0.15, 0.3, 0.5))),
        quickness=float(rng.choice((0.03, 0.06, 0.12, 0.25))), rest=float(rng.choice((0.0, 0.0, 0.3, 0.5, 0.76))),
        both=bool(rng.random() < 0.15), rough=float(np.exp(rng.uniform(np.log(3e-4), np.log(2.5e-3)))),
        keeps=float(rng.uniform(0.02, 0.25)), nuisance=nuisance,
    )  # fmt: skip


def _drive(rng: np.random.Generator, car: _Car) -> _Drive:
    road = str(rng.choice(("town", "town", "country", "country", "motorway", "queue")))
    road = {"roundabouts": "town", "stops hard": "country"}.get(
        car.nuisance, car.nuisance if car.nuisance in TRIPS else road
    )
    speeds, holds, rests, ups, downs = TRIPS[road]
    lasts = float(np.exp(rng.uniform(np.log(60.0), np.log(360.0))))
    time = np.arange(0.0, lasts, STEP_S)
    at, now = 0.0, 0.0 if rng.random() < 0.6 else float(rng.uniform(*speeds))
    knots, values = [0.0], [now]
    while at < lasts:
        wanted = float(rng.uniform(*speeds))
        at += abs(wanted - now) / float(rng.uniform(*(ups if wanted > now else downs))) + 0.2
        knots, values = [*knots, at], [*values, wanted]
        at += float(rng.uniform(*holds))
        knots, values, now = [*knots, at], [*values, wanted * float(rng.uniform(0.97, 1.03))], wanted
        if rng.random() < rests:
            at += now / float(rng.uniform(*downs)) + 0.1
            stands = at + float(rng.uniform(0.5, 12.0))
            knots, values, at, now = [*knots, at, stands], [*values, 0.0, 0.0], stands, 0.0
    speed = np.maximum(gaussian_filter1d(np.interp(time, knots, values), float(rng.uniform(0.15, 0.5)) / STEP_S), 0.0)
    full = np.zeros(time.size)
    if car.nuisance == "stops hard":
        for start in rng.choice(np.flatnonzero(speed > 9.0), 3) if np.any(speed > 9.0) else ():
            stop = min(int(start) + int(rng.uniform(1.0, 2.5) / STEP_S), time.size)
            until = min(stop + int(10.0 / STEP_S), time.size)
            ramp = speed[start] - float(rng.uniform(6.0, 9.5)) * (time[start:stop] - time[start])
            speed[start:stop] = np.minimum(speed[start:stop], np.maximum(ramp, 0.0))
            after = speed[stop - 1] + 2.0 * (time[stop:until] - time[stop - 1])
            speed[stop:until] = np.minimum(speed[stop:until], after)
            full[start:stop] = 1.0
    speed[speed < 0.06] = 0.0
    curve = _steered(rng, time, road, car.nuisance == "roundabouts")
    sway = lfilter([1.0], [1.0, -np.exp(-STEP_S / float(rng.uniform(0.3, 1.5)))], rng.standard_normal(time.size))
    sway = gaussian_filter1d(sway, 0.25 / STEP_S)
    curve = curve + float(rng.uniform(0.03, 0.2)) * sway / max(float(sway.std()), 1e-9) / (speed + 6.0) ** 2
    most = float(rng.uniform(2.0, 4.0)) / np.maximum(speed, 1.5) ** 2
    knocks = (rng.random(time.size) < STEP_S * (0.3 if car.nuisance == "potholes" else 0.02)) * 1.0
    return _Drive(time, speed, np.clip(curve, -most, most), np.asarray(np.gradient(speed, STEP_S)), knocks, full)


def _steered(rng: np.random.Generator, time: Array, road: str, rounds: bool) -> Array:
    """Curvature by time: a corner now and then, its ends as quick as a hand."""
    every, radii, lasts = STEERS[road]
    curve, at = np.zeros(time.size), float(rng.exponential(every))
    while at < time[-1]:
        stop = at + float(rng.uniform(*lasts))
        radius, side = float(np.exp(rng.uniform(*np.log(radii)))), float(rng.choice((-1.0, 1.0)))
        if rounds and rng.random() < 0.4:
            stop, radius, side = at + float(rng.uniform(3.0, 9.0)), float(rng.uniform(9.0, 20.0)), 1.0
        curve[(time >= at) & (time < stop)] = side / radius
        at = stop + float(rng.exponential(every))
    return gaussian_filter1d(curve, float(rng.uniform(0.2, 0.6)) / STEP_S)


def _turned(own: np.random.Generator, car: _Car, drive: _Drive, corner: Corner, size: float, shared: Array) -> Array:
    """Turns of one wheel since the start."""
    left, front = (1.0 if corner.is_left else -1.0), corner.is_front
    side, ahead = 1.0 - 0.5 * left * car.track * drive.curve, car.base * drive.curve * front
    rolls = drive.speed * np.hypot(side, ahead)
    late = 0 if front else int(car.base / max(float(np.mean(drive.speed)), 2.0) / STEP_S)
    keep = float(np.exp(-STEP_S / car.keeps))
    chain = lfilter(
        [np.sqrt(1.0 - keep**2)], [1.0, -keep], 0.5 * np.roll(shared, late) + own.standard_normal(shared.size)
    )
    rough = car.rough * (3.5 if car.nuisance == "gravel" else 1.0) * np.clip(drive.speed / 9.0, 0.3, 1.5) * chain
    jolt = np.exp(-np.arange(60) * STEP_S / 0.05) * np.sin(2.0 * np.pi * 12.0 * np.arange(60) * STEP_S)
    hits = np.roll(drive.knocks, late) * (own.random(shared.size) < 0.7) * own.uniform(0.01, 0.08, shared.size)
    off = rough + lfilter(jolt, [1.0], hits)
    share = car.pulls[0 if front else 1]
    work = np.maximum(drive.pull + 0.13 + 3.5e-4 * drive.speed**2, -0.3)
    off = off + 0.0018 * share * work + np.where(drive.pull < -0.5, 0.0018 * drive.pull * (0.65 if front else 0.4), 0.0)
    if car.nuisance == "spins" and share > 0.0:
        where = np.flatnonzero((drive.pull > 0.6) & (drive.speed < 13.0))
        for start in own.choice(where, 4) if where.size else ():
            inside = np.clip((drive.time - drive.time[start]) / float(own.uniform(0.2, 1.2)), 0.0, 1.0)
            off = off + float(own.uniform(0.03, 0.6)) * share * (inside * (1.0 - inside) * 4.0)
    cycle = np.mod(drive.time * float(own.uniform(3.0, 9.0)) + own.random(), 1.0)
    off = off - drive.full * (drive.speed > 2.0) * float(own.uniform(0.02, 0.25)) * np.sin(np.pi * cycle) ** 2
    warm = float(own.uniform(5e-4, 4e-3)) * (1.0 - np.exp(-drive.time / 180.0)) if car.nuisance == "warms up" else 0.0
    round_ = size * (1.0 + warm + 6e-4 * left * (car.nuisance == "crown") + 3e-4 * left * drive.curve * drive.speed**2)
    return np.asarray(own.random() + np.cumsum(np.maximum(rolls * (1.0 + off), 0.0) / (car.rolls * round_)) * STEP_S)


def _ring(
    own: np.random.Generator, harm: np.random.Generator, car: _Car, fault: str, small: float | None, exact: bool
) -> tuple[Array, Array, int]:
    """Places (turns) and heights (1 of a sound one) of the teeth, and how many give nothing."""
    teeth = car.teeth
    if fault == "not its ring":
        teeth += int(harm.choice((-6, -4, -3, -2, -1, 1, 2, 3, 4, 6)))
    gone = {"one less": 1, "several less": int(harm.integers(2, 6))}.get(fault, 0)
    places = (np.arange(teeth) + float(own.uniform(0.002, 0.01)) * own.standard_normal(teeth) * (not exact)) / teeth
    heights = 1.0 + 0.05 * own.standard_normal(teeth)
    first = int(harm.integers(teeth))
    swing = float(np.exp(own.uniform(np.log(6e-5), np.log(5e-4))))
    lift = float(own.uniform(0.0, 0.08))
    if fault == "off axis":
        swing = smallest.SWING * small if small else float(np.exp(harm.uniform(np.log(0.003), np.log(0.02))))
        lift = 0.25
    if fault == "stands back":
        wide, low = float(harm.uniform(0.06, 0.3)), float(harm.uniform(0.02, 0.12))
        heights = np.where(np.mod(places - harm.random(), 1.0) < wide, low, heights)
    if fault == "flattened":
        places[first] += float(harm.choice((-1.0, 1.0)) * harm.uniform(0.2, 0.45)) / teeth
    if fault == "split":
        gap = float(harm.uniform(0.3, 1.4)) / teeth
        places = (places + gap * (np.arange(teeth) >= first)) / (1.0 + gap)
    heights[(first + np.arange(gone)) % teeth] = 0.0
    turn = 2.0 * np.pi * (places + own.random())
    order = np.argsort(places + swing / (2.0 * np.pi) * np.sin(turn), kind="stable")
    return (places + swing / (2.0 * np.pi) * np.sin(turn))[order], (heights * (1.0 + lift * np.cos(turn)))[order], gone


def _edges(
    own: np.random.Generator, harm: np.random.Generator, car: _Car, drive: _Drive, turned: Array, places: Array,
    heights: Array, fault: str, small: float | None, exact: bool,
) -> Array:  # fmt: skip
    """Moments (s) at which the signal passes its level."""
    if fault == "gone":
        return np.zeros(0)
    if car.both:
        places = np.concatenate([places, places + (0.5 if exact else float(own.uniform(0.44, 0.56))) / car.teeth])
        heights = np.concatenate([heights, heights])
    turns = np.arange(np.floor(turned[0]) - 1.0, np.ceil(turned[-1]) + 1.0)
    passes, tall = (turns[:, None] + places).ravel(), np.tile(heights, turns.size)
    order = np.argsort(passes, kind="stable")
    passes, tall = passes[order], tall[order]
    inside = (passes > turned[0]) & (passes < turned[-1])
    passes, tall = passes[inside], tall[inside]
    rolls = np.concatenate([[True], np.diff(turned) > 1e-10])
    when = np.interp(passes, turned[rolls], drive.time[rolls])
    speed = np.interp(when, drive.time, drive.speed)
    level = float(own.uniform(0.25, 0.6))
    if fault == "wide":
        level = smallest.WAKE * small if small else float(harm.uniform(9.0, 30.0)) / 3.6
    if fault == "stands back":
        level = min(level, 0.06 * float(np.quantile(drive.speed, 0.9)) * float(np.min(tall)) / 0.12)
    # a signal grows with speed, and shakes a little
    seen = speed * tall * (1.0 + 0.03 * harm.standard_normal(when.size)) > level
    if fault == "worn magnets":
        weak = harm.random(heights.size) < 0.3
        may = np.tile(weak, turns.size)[order][inside]
        seen &= ~(may & (harm.random(when.size) < float(np.exp(harm.uniform(np.log(0.03), np.log(0.25))))))
    elif fault == "dirty":
        share = float(np.exp(harm.uniform(np.log(0.01), np.log(0.12))))
        comes = uniform_filter1d(harm.standard_normal(when.size), 50) * np.sqrt(50.0)
        seen &= harm.random(when.size) > share * np.exp(0.7 * comes - 0.25)
    elif fault == "loose":
        for start in _partings(harm, drive, small):
            lasts = smallest.BREAK_S * small if small else float(np.exp(harm.uniform(np.log(0.05), np.log(1.2))))
            seen &= (when < start) | (when > start + lasts)
    when = when[seen]
    return np.sort(when + (0.0 if exact else 3e-6) * own.standard_normal(when.size))


def _partings(harm: np.random.Generator, drive: _Drive, small: float | None) -> Array:
    """Moments (s) at which a lead parts: at knocks, in corners one way, when fast, or at any time that it moves."""
    minutes = drive.time[-1] / 60.0
    many = max(1, round(minutes)) if small else max(3, int(harm.poisson(float(harm.uniform(2.0, 10.0)) * minutes)))
    side = float(harm.choice((-1.0, 1.0)))
    may = {
        "knocks": np.convolve(drive.knocks, np.ones(30), "same") > 0.0,
        "corners": drive.curve * drive.speed**2 * side > 0.8, "fast": drive.speed > np.quantile(drive.speed, 0.7),
        "any": drive.speed > 1.0,
    }[str(harm.choice(("knocks", "corners", "fast", "any")))]  # fmt: skip
    may = may & (drive.speed > 1.0) if may.sum() * STEP_S > 2.0 else drive.speed > 1.0
    return harm.choice(drive.time[may], many) if may.any() else np.zeros(0)


def _worked_out(car: _Car, edges: Array, tasks: Array, exact: bool) -> Array:
    """m/s that the control unit has at each of its tasks."""
    if edges.size < 14:
        return np.zeros(tasks.size)
    pitch = car.rolls / car.teeth / (2.0 if car.both else 1.0)
    have = np.searchsorted(edges, tasks, side="right")
    newest = np.clip(have - 1, 0, None)
    silent = tasks - edges[newest]
    if car.unit == "clocked count":
        ends = np.floor(tasks / car.window) * car.window if not exact else tasks
        value = (counted(edges, ends, exact) - counted(edges, ends - car.window, exact)) * pitch / car.window
    else:
        back = {"given up": 2 if car.both else 1, "periods": 2 * car.most}.get(car.unit, 0)
        if not back:
            back = np.maximum(newest - np.searchsorted(edges, tasks - 2.0 * car.task, side="right") + 1, 2)
        oldest = np.clip(newest - back, 0, None)
        value = (newest - oldest) * pitch / np.maximum(edges[newest] - edges[oldest], 1e-4)
        value = np.minimum(value, 1.3 * pitch / np.maximum(silent, 1e-4)) if car.unit != "given up" else value
        value = np.where(silent > car.patience, 0.0, value)
    value = np.where(have < 6, 0.0, value)
    if car.unit == "follower":
        new = 1.0 - float(np.exp(-car.task / car.quickness))
        value = lfilter([new, 0.0], [1.0, new - 1.0], value, zi=[value[0] * (1.0 - new)])[0]
        value = value + 0.5 * car.quickness * np.gradient(value, car.task)
    if car.unit == "limit":
        value = _limited(value, 14.0 * car.task)
    return np.where(value < car.rest, 0.0, np.maximum(value, 0.0))


def _limited(value: Array, most: float) -> Array:
    """No value further than `most` from the one before it, unless nothing is read."""
    out = value.copy()
    for k in range(1, value.size):
        if value[k] > 0.0 and out[k - 1] > 0.0:
            out[k] = min(max(value[k], out[k - 1] - most), out[k - 1] + most)
    return out


def _replaced(value: Array, others: list[Array], car: _Car) -> Array:
    """The mean of the others, without the lowest of them, where a corner has been far off it for two tasks, until it is
    back, for 0.6 s."""
    mean = np.sort(others, axis=0)[1:].mean(axis=0)
    far = np.abs(value - mean) > np.maximum(0.2 * mean, 1.2)
    run = np.arange(far.size) - np.maximum.accumulate(np.where(far, -1, np.arange(far.size)))
    return np.where(far & (run > 1) & (run <= int(0.6 / car.task)), mean, value)


def _asked(
    rng: np.random.Generator, car: _Car, tasks: Array, shown: dict[Corner, Array], rate_hz: float, exact: bool
) -> RawLog:
    """Sent together, or asked for one after another, each answer waited for; stamped by row or by answer."""
    unit, factor = (("km/h", 3.6), ("km/h", 3.6), ("km/h", 3.6), ("mph", 2.236936), ("m/s", 1.0))[int(rng.integers(5))]
    fine, coarse = (0.01, 0.015625, 0.03125, 0.0625), (0.015625, 0.1, 0.25, 0.5, 1.0)
    step = float(rng.choice(fine if rate_hz > 20.0 else coarse)) * (0.3 if unit == "m/s" else 1.0)
    asks = rate_hz <= 10.0 and rng.random() < 0.6
    rows = np.arange(0.4, tasks[-1] - 2.0 / rate_hz, 1.0 / rate_hz)
    rows = rows + float(rng.choice((0.0, 0.02, 0.08))) / rate_hz * np.abs(rng.standard_normal(rows.size))
    keep = rng.random(rows.size) > 0.02
    rows = np.sort(rows)
    if car.nuisance == "stamps":
        hole = float(rng.uniform(rows[0], rows[-1]))
        rows = rows[keep & ((rows < hole) | (rows > hole + float(rng.uniform(0.5, 6.0))))]
        rows = np.sort(np.concatenate([rows, rng.choice(rows, max(1, rows.size // 70))]))
    waits = float(rng.uniform(0.08, 0.23)) / rate_hz * (1.0 + 0.1 * rng.standard_normal((4, rows.size))) * asks
    by_answer, digits = bool(rng.random() < 0.4), int(rng.choice((2, 3, 3)))
    order = rng.permutation(4)
    late = dict(
        zip((list(Corner)[k] for k in order), np.cumsum(np.vstack([0.0 * waits[:1], waits[:-1]]), axis=0), strict=True)
    )
    channels = []
    for corner in Corner:
        asked = rows + late[corner]
        told = shown[corner][np.clip(np.searchsorted(tasks, asked, side="right") - 1, 0, None)] * factor
        stamps = np.round(asked if by_answer else rows, digits if rate_hz < 60.0 else 3)
        values = told if exact else np.round(np.round(told / step) * step, 5)
        channels.append(RawChannel(f"Wheel speed {corner}", unit, stamps, values))
    return RawLog(tuple(channels), "twelfth world")
