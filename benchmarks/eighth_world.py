"""Drives from an eighth world, which was measured before it taught: a map by the metre, teeth by their strength.

Written from the trade alone, without a line of the other worlds' physics. A drive goes along legs of a map; its speed
is as fast as limits, bends, stops and the driver's foot allow, worked out backwards and forwards over the way. Rear
wheels meet the road that the front ones met. Each tooth has a strength that its gap to the sensor sets; where it falls
below what the sensor needs, at that speed where the sensor is a coil, the edge is lost. Six control units: span of
edges, last period, edges per gate, a filter of second order, a hold that does not believe long periods, and the middle
of the others in place of a corner that is far off.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy.ndimage import gaussian_filter1d
from scipy.signal import butter, sosfilt, sosfilt_zi

from benchmarks import smallest
from benchmarks.map_drive import GRID_S, Way, go
from benchmarks.second_world import Drawn, counted
from nodrek.core.model import Array, Corner, Fault, RawChannel, RawLog

FAULTS: dict[str, Fault | None] = {
    "healthy": None, "one tooth out": Fault.RING_DAMAGE, "some teeth out": Fault.RING_DAMAGE,
    "teeth out twice": Fault.RING_DAMAGE, "cracked through": Fault.RING_DAMAGE, "off centre": Fault.RING_RUNOUT,
    "lifted by rust": Fault.RING_RUNOUT, "ring of another": Fault.RING_COUNT, "metal dust": Fault.ENCODER_NOISE,
    "sensor stands off": Fault.AIR_GAP, "loose pin": Fault.INTERMITTENT, "open circuit": Fault.NO_SIGNAL,
    "stale value": Fault.FROZEN, "wheel of another": Fault.TYRE_SIZE, "leads swapped": Fault.CROSSED,
}  # fmt: skip
SMALLEST = {
    Fault.RING_DAMAGE: "one tooth out", Fault.RING_RUNOUT: "off centre", Fault.AIR_GAP: "sensor stands off",
    Fault.INTERMITTENT: "loose pin", Fault.TYRE_SIZE: "wheel of another",
}  # fmt: skip
"""How the faults are called here whose smallest ones are asked for."""
UNITS = ("span", "period", "gate", "filter", "doubt", "others")
NUISANCES = ("potholes", "wet start", "emergency stops", "roundabouts", "parking", "gravel", "leaning road",
             "cold tyres", "worn axle", "motorway", "queue", "lost rows")  # fmt: skip
GAP_M = 1.0e-3
"""Strength falls to 1/e over so much more gap."""


@dataclass(frozen=True)
class _Car:
    """Lengths m, times s; ``strong``: strength of a tooth over what the sensor needs, of a coil at 1 m/s."""

    rolls: float
    track: float
    base: float
    driven: tuple[float, float]
    teeth: int
    both: bool
    coil: bool
    strong: float
    uneven: float
    unit: str
    task: float
    reach: float
    doubt: float
    patience: float
    silence: float
    believed: float
    nuisance: str
    smoothly: bool = False


def draw(
    seed: int, kind: str, rate_hz: float, faulty: bool = True, small: float | None = None, exact: bool = False
) -> Drawn:
    """One drive of one to five minutes; the same drive without its fault where not `faulty`.

    `small`: the fault, one of `SMALLEST`, is so many times the smallest one worth finding. `exact`: units round and
    count nothing, and teeth are placed well, as `benchmarks.visible` asks.
    """
    rng, harm = np.random.default_rng([seed, 808, 1]), np.random.default_rng([seed, 808, 2])
    car = _car(rng, kind, exact)
    way = go(rng, float(np.exp(rng.uniform(np.log(70.0), np.log(300.0)))), car.nuisance)
    bad, here = list(Corner)[int(harm.integers(4))], kind if faulty else "healthy"
    sizes = _sizes(rng, car)
    off = smallest.RATIO * small if small else float(np.exp(harm.uniform(np.log(0.007), np.log(0.05))))
    if here == "wheel of another":
        sizes[bad] *= 1.0 + off * float(harm.choice((-1.0, 1.0)))
    road = _Road.made(rng, way, car)
    tasks = np.arange(car.task * rng.random(), way.time[-1], car.task)
    shown: dict[Corner, Array] = {}
    lost = 0
    for number, corner in enumerate(Corner):
        own = np.random.default_rng([seed, 808, 3, number])
        fault = here if corner is bad else "healthy"
        turned = _turned(own, car, way, road, corner, sizes[corner])
        places, strength, gone = _ring(own, harm, car, fault, small)
        lost = max(lost, gone)
        edges = _edges(own, harm, car, way, turned, places, strength, fault, small)
        if fault == "loose pin":
            edges = _interrupted(harm, edges, way, road, small)
        shown[corner] = np.zeros(tasks.size) if fault == "open circuit" else _speed(car, edges, tasks)
    if car.unit == "others":
        shown = _by_the_others(shown, car)
    corners: tuple[Corner, ...] = (bad,)
    if kind == "leads swapped":
        corners = tuple(c for c in Corner if c.is_front is bad.is_front)
        if faulty:
            shown[corners[0]], shown[corners[1]] = shown[corners[1]], shown[corners[0]]
    if here == "stale value":
        since = int(harm.uniform(0.05, 0.5) * tasks.size)
        shown[bad] = np.where(np.arange(tasks.size) < since, shown[bad], max(float(shown[bad][since]), 2.0))
    log = _written(np.random.default_rng([seed, 808, 4]), tasks, shown, rate_hz, car.nuisance == "lost rows", exact)
    fault_here = FAULTS[here]
    return Drawn(log, fault_here, corners if fault_here else (), car.unit, car.teeth, lost)


def _car(rng: np.random.Generator, kind: str, exact: bool) -> _Car:
    nuisance = str(rng.choice(NUISANCES)) if rng.random() < (0.8 if kind == "healthy" else 0.3) else ""
    # only a coil sees a weak arc once the wheel is fast: before other sensors its teeth are as good as out
    heavy, coil = rng.random() < 0.06, bool(rng.random() < 0.45) or kind == "lifted by rust"
    car = _Car(
        rolls=float(rng.uniform(2.7, 3.5) if heavy else rng.uniform(1.72, 2.35)), track=float(rng.uniform(1.38, 1.72)),
        base=float(rng.uniform(2.3, 3.3)),
        driven=((1.0, 0.0), (1.0, 0.0), (0.0, 1.0), (0.5, 0.5))[int(rng.integers(4))],
        teeth=int(rng.choice((29, 33, 40, 43, 44, 44, 46, 48, 48, 48, 51, 56, 60, 64, 80, 88, 96, 100))),
        both=bool(rng.random() < 0.2), coil=coil,
        strong=float(np.exp(rng.uniform(np.log(0.7), np.log(2.5)))) if coil else float(rng.uniform(1.8, 6.0)),
        uneven=float(np.exp(rng.uniform(np.log(5e-4), np.log(1.2e-2)))), unit=str(rng.choice(UNITS)),
        task=float(rng.choice((0.005, 0.01, 0.01, 0.02))), reach=float(rng.choice((0.03, 0.06, 0.1, 0.2))),
        doubt=float(rng.uniform(0.08, 0.5)), patience=float(np.exp(rng.uniform(np.log(0.04), np.log(0.5)))),
        silence=float(rng.uniform(0.1, 0.7)), believed=float(rng.uniform(0.985, 1.015)), nuisance=nuisance,
    )  # fmt: skip
    if exact:
        car = replace(car, uneven=0.0, smoothly=True)
    return car


def _sizes(rng: np.random.Generator, car: _Car) -> dict[Corner, float]:
    sizes = {c: float(np.exp(rng.normal(0.0, 7e-4))) for c in Corner}
    if car.nuisance == "worn axle":
        front, worn = bool(rng.integers(2)), float(rng.uniform(0.003, 0.01))
        return {c: s * (1.0 - worn * (c.is_front is front)) for c, s in sizes.items()}
    if car.nuisance == "leaning road":
        lean = float(rng.uniform(-7e-4, 7e-4))
        return {c: s * (1.0 + (lean if c.is_left else -lean)) for c, s in sizes.items()}
    return sizes


@dataclass(frozen=True)
class _Road:
    """Bumps of the left and the right track by ``places`` (m), relative to what a wheel feels; potholes (place m, side:
    0 left, 1 right); how grippy driven wheels find it."""

    places: Array
    left: Array
    right: Array
    holes: list[tuple[float, int, float]]
    spins: float

    @staticmethod
    def made(rng: np.random.Generator, way: Way, car: _Car) -> _Road:
        places = np.arange(-5.0, way.way[-1] + 5.0, 0.1)
        rough = float(np.exp(rng.uniform(np.log(2e-4), np.log(1.3e-3)))) * (6.0 if car.nuisance == "gravel" else 1.0)
        both, one, other = rough * rng.standard_normal((3, places.size))
        many = rng.poisson(way.way[-1] * (0.015 if car.nuisance == "potholes" else 0.002))
        holes = [
            (float(rng.uniform(0.0, way.way[-1])), int(rng.integers(2)), float(rng.uniform(0.01, 0.09)))
            for _ in range(many)
        ]
        spins = float(rng.uniform(0.03, 0.3)) if car.nuisance == "wet start" else 0.0
        return _Road(places, 0.7 * both + 0.7 * one, 0.7 * both + 0.7 * other, holes, spins)

    def felt(self, way: Way, where: Array, side: int) -> Array:
        """What a wheel at `where` (m) turns faster, relative."""
        rate = 1.0 / GRID_S
        heard = np.interp(where, self.places, self.left if side == 0 else self.right)
        hop = sosfilt(butter(1, (8.0, 16.0), "bandpass", fs=rate, output="sos"), heard)
        body = sosfilt(butter(1, 3.0, fs=rate, output="sos"), heard)
        hits = np.zeros(where.size)
        for place, there, deep in self.holes:
            at = int(np.searchsorted(where, place))
            if there == side and at < where.size and abs(way.speed[at]) > 1.0:
                hits[at] += deep
        ring = np.exp(-np.arange(0.0, 0.4, GRID_S) / 0.08) * np.sin(2.0 * np.pi * 12.0 * np.arange(0.0, 0.4, GRID_S))
        shake = 4.0 * hop + 2.0 * body + np.convolve(hits, ring)[: where.size]
        return np.asarray(np.clip(shake, -0.5, 0.5)) * np.minimum(np.abs(way.speed) / 8.0, 1.0)


def _turned(own: np.random.Generator, car: _Car, way: Way, road: _Road, corner: Corner, size: float) -> Array:
    """Turns of the wheel on the grid of time."""
    left = 1.0 if corner.is_left else -1.0
    rate = np.abs(way.speed)
    along = rate * (1.0 - left * 0.5 * car.track * way.curve)
    ground = np.hypot(along, rate * way.curve * car.base) if corner.is_front else along
    share = car.driven[0 if corner.is_front else 1]
    push = way.gain + 0.1 + 3e-4 * rate**2
    load = 1.0 - left * rate**2 * way.curve / 9.81 * 0.7 - (0.45 if corner.is_front else -0.45) * way.gain / 9.81
    load = np.clip(load, 0.2, 1.9)
    slip = np.where(push > 0.0, share, 0.5) * push / 9.81 / (float(own.uniform(15.0, 30.0)) * load)
    if road.spins and share > 0.0:
        wet = gaussian_filter1d(own.random(rate.size), 0.15 / GRID_S) * 0.5 + 0.5 * float(own.random())
        slip = slip + road.spins * share * wet * np.clip(way.gain - 1.0, 0.0, 2.0) * (rate > 0.3)
    if way.rescue.any():
        beats = np.abs(((way.time * float(own.uniform(3.0, 7.0)) + own.random()) % 1.0) * 2.0 - 1.0)
        slip = np.where(way.rescue, -float(own.uniform(0.04, 0.25)) * beats, slip)
    warm = float(own.uniform(0.001, 0.004)) if car.nuisance == "cold tyres" else 0.0
    grows = (
        1.0
        + warm * (1.0 - np.exp(-way.time / 150.0))
        + 5e-6 * rate
        - 0.006 * float(own.uniform(0.5, 1.0)) * (load - 1.0)
    )
    where = way.way - (0.0 if corner.is_front else car.base)
    felt = road.felt(way, where, 0 if corner.is_left else 1)
    pace = np.maximum(ground * (1.0 + slip + felt) / (car.rolls * size * grows), 0.0)
    turned = own.random() + np.cumsum(pace) * GRID_S
    for order in (1, 2, 3):
        wobble = float(np.exp(own.uniform(np.log(2e-5), np.log(3e-4)))) / order
        turned = turned + wobble / (2.0 * np.pi * order) * np.sin(2.0 * np.pi * (order * turned + own.random()))
    return np.asarray(turned)


def _ring(
    own: np.random.Generator, harm: np.random.Generator, car: _Car, fault: str, small: float | None
) -> tuple[Array, Array, int]:
    """Places (turns) of the teeth, strength of each over what a sound one has, and how many are out."""
    teeth = car.teeth
    if fault == "ring of another":
        teeth = max(24, teeth + int(harm.choice((-6, -5, -4, -3, -2, -1, 1, 2, 3, 4, 5, 6, 8))))
    number = np.arange(teeth)
    places = (number + car.uneven * own.standard_normal(teeth)) / teeth
    gap = float(own.uniform(0.02, 0.12)) * 1e-3 * np.sin(2.0 * np.pi * (number / teeth + own.random()))
    strength = np.exp(-gap / GAP_M) * np.exp(0.02 * own.standard_normal(teeth))
    first, out = int(harm.integers(teeth)), 0
    if fault == "one tooth out":
        out = 1
        strength[first] = 0.0
    elif fault == "some teeth out":
        out = int(harm.integers(2, 6))
        strength[(first + np.arange(out)) % teeth] = 0.0
    elif fault == "teeth out twice":
        here, there = int(harm.integers(1, 3)), int(harm.integers(1, 3))
        out, away = here + there, int(harm.integers(teeth // 7, teeth - teeth // 7))
        strength[(first + np.arange(here)) % teeth] = 0.0
        strength[(first + away + np.arange(there)) % teeth] = 0.0
    elif fault == "cracked through":
        gape = float(harm.uniform(0.3, 1.1)) / teeth
        places = (places + gape * (number > first)) / (1.0 + gape)
    elif fault == "off centre":
        swing = smallest.SWING * small if small else float(np.exp(harm.uniform(np.log(0.003), np.log(0.02))))
        at = float(harm.random())
        places = places + swing / (2.0 * np.pi) * np.sin(2.0 * np.pi * (number / teeth + at))
        strength *= np.exp(-0.4 * swing * 45e-3 / GAP_M * np.sin(2.0 * np.pi * (number / teeth + at + harm.random())))
    elif fault == "lifted by rust":
        wide = float(harm.uniform(0.06, 0.3))
        away = np.abs(np.mod(number / teeth - harm.random() + 0.5, 1.0) - 0.5)
        strength *= 1.0 - float(harm.uniform(0.5, 0.93)) * np.exp(-0.5 * (away / (0.4 * wide)) ** 2)
    return places, strength, out


def _edges(
    own: np.random.Generator, harm: np.random.Generator, car: _Car, way: Way, turned: Array, places: Array,
    strength: Array, fault: str, small: float | None,
) -> Array:  # fmt: skip
    """Moments (s) of the edges that a control unit gets."""
    if fault == "open circuit":
        return np.zeros(0)
    laps = np.arange(np.floor(turned[0]) - 1.0, np.ceil(turned[-1]) + 1.0)
    angle = (laps[:, None] + places).ravel()
    tooth = np.tile(np.arange(places.size), laps.size)
    order = np.argsort(angle, kind="stable")
    angle, tooth = angle[order], tooth[order]
    met = (angle > turned[0]) & (angle < turned[-1])
    angle, tooth = angle[met], tooth[met]
    rolls = np.concatenate([[True], np.diff(turned) > 1e-9])
    pace = np.interp(np.interp(angle, turned[rolls], way.time[rolls]), way.time, np.abs(way.speed))
    level = car.strong * strength[tooth] * (np.maximum(pace, 1e-3) if car.coil else 1.0)
    if fault == "sensor stands off":
        level = pace / (smallest.WAKE * small if small else float(harm.uniform(8.0, 32.0)) / 3.6)
    level = level * np.exp(0.03 * own.standard_normal(level.size))
    # a weak tooth crosses the sensor's threshold late
    late = np.arcsin(1.0 / np.maximum(level, 1.0)) / (2.0 * np.pi * places.size)
    rising, falling = angle + 0.5 * late, angle + 0.5 / places.size - 0.5 * late
    seen = level > 1.0
    if fault == "metal dust":
        misses = float(np.exp(harm.uniform(np.log(0.006), np.log(0.1))))
        seen &= harm.random(level.size) > misses
        if harm.random() < 0.4:
            rising = rising + 0.25 / places.size * harm.standard_normal(level.size) * (harm.random(level.size) < misses)
    angles = np.concatenate([rising[seen], falling[seen]]) if car.both else rising[seen]
    return np.sort(
        np.interp(angles, turned[rolls], way.time[rolls]) + 3e-6 * (not car.smoothly) * own.standard_normal(angles.size)
    )


def _interrupted(harm: np.random.Generator, edges: Array, way: Way, road: _Road, small: float | None) -> Array:
    """Without edges while a lead is apart: at potholes, while the body leans one way, when fast, or at any time."""
    when = str(harm.choice(("holes", "leaning", "fast", "any")))
    leans = way.curve * way.speed**2 * float(harm.choice((-1.0, 1.0)))
    rate = np.abs(way.speed)
    may = rate > 1.0
    if when == "leaning" and np.count_nonzero(leans > 0.8) > 2.0 / GRID_S:
        may = leans > 0.8
    elif when == "fast":
        may = rate > np.quantile(rate, 0.65)
    places = np.flatnonzero(may)
    minutes = way.time[-1] / 60.0
    many = max(1, round(minutes)) if small else max(3, int(harm.poisson(float(harm.uniform(2.0, 12.0)) * minutes)))
    starts = way.time[harm.choice(places, many)] if places.size else np.zeros(0)
    if when == "holes" and len(road.holes) > 2:
        hit = [way.time[min(int(np.searchsorted(way.way, place)), rate.size - 1)] for place, *_ in road.holes]
        starts = np.array(hit)[harm.random(len(hit)) < 0.8]
    for start in starts.tolist():
        lasts = smallest.BREAK_S * small if small else 0.04 + float(harm.exponential(0.3))
        edges = edges[(edges < start) | (edges > start + lasts)]
    return edges


def _speed(car: _Car, edges: Array, tasks: Array) -> Array:
    """m/s that the control unit shows at each of its tasks."""
    if edges.size < 10:
        return np.zeros(tasks.size)
    each = 2 if car.both else 1
    way = car.rolls * car.believed / (car.teeth * each)
    upto = np.searchsorted(edges, tasks, side="right")
    if car.unit == "gate":
        wide = max(1, round(max(car.reach, 0.1) / car.task))
        told = np.diff(counted(edges, tasks[::wide], car.smoothly), prepend=0) * way / (wide * car.task)
        return np.asarray(np.repeat(told, wide)[: tasks.size])
    last = np.clip(upto - 1, 0, None)
    back = each
    if car.unit in ("span", "others", "doubt"):
        reach = car.reach if car.unit == "span" else car.task
        before = np.searchsorted(edges, tasks - reach, side="right")
        back = np.maximum((upto - before) // each * each, each)
    first = np.clip(last - back, 0, None)
    periods = np.maximum(edges[last] - edges[first], 1e-5)
    value = (last - first) * way / periods
    quiet = tasks - edges[last]
    value = np.where(upto > 2 * each, np.minimum(value, each * way / np.maximum(quiet, 1e-5)), 0.0)
    value = np.where(quiet > car.silence, 0.0, value)
    if car.unit == "filter":
        smooth = butter(2, min(0.35 / car.reach, 0.2 / car.task), fs=1.0 / car.task, output="sos")
        value = np.maximum(np.asarray(sosfilt(smooth, value, zi=sosfilt_zi(smooth) * value[0])[0]), 0.0)
    if car.unit == "doubt":
        value = _doubted(value, car)
    return value


def _doubted(value: Array, car: _Car) -> Array:
    """A value that falls below the last one by more than `doubt` is left out, for as long as `patience`."""
    out, kept, waited = value.tolist(), float(value[0]), 0.0
    for k, new in enumerate(out):
        if new < kept * (1.0 - car.doubt) and waited < car.patience and kept > 1.0:
            waited += car.task
            out[k] = kept
        else:
            kept, waited = new, 0.0
    return np.array(out)


def _by_the_others(shown: dict[Corner, Array], car: _Car) -> dict[Corner, Array]:
    """A corner far from the middle of the others shows that middle, for as long as `patience` in one go."""
    out = {}
    for corner, value in shown.items():
        middle = np.median([v for c, v in shown.items() if c is not corner], axis=0)
        far = np.abs(value - middle) > car.doubt * np.maximum(middle, 1.0)
        number = np.arange(value.size)
        since = number - np.maximum.accumulate(np.where(far, -1, number))
        out[corner] = np.where(far & (since * car.task < car.patience), middle, value)
    return out


def _written(
    rng: np.random.Generator, tasks: Array, shown: dict[Corner, Array], rate_hz: float, bad_rows: bool, exact: bool
) -> RawLog:
    """What a logger writes: all corners at once, each by a clock of its own, one after another, or frames that come
    when they come."""
    unit, factor = (("km/h", 3.6), ("km/h", 3.6), ("km/h", 3.6), ("mph", 2.236936), ("m/s", 1.0))[int(rng.integers(5))]
    step = float(rng.choice((0.01, 0.03125, 0.0625, 0.1) if rate_hz > 20.0 else (0.01, 0.0625, 0.1, 0.25, 1.0)))
    step *= 0.2 if unit == "m/s" else 1.0
    how = str(rng.choice(("together", "together", "own clocks", "in turn", "as they come")))
    rows = np.arange(0.3, tasks[-1] - 1.5 / rate_hz, 1.0 / rate_hz)
    if how == "as they come":
        rows = np.cumsum(rng.gamma(6.0, 1.0 / (6.0 * rate_hz), size=rows.size)) + 0.3
        rows = rows[rows < tasks[-1] - 1.5 / rate_hz]
    if bad_rows:
        rows = rows[rng.random(rows.size) > 0.05]
        away = float(rng.uniform(0.2, 0.8)) * rows[-1]
        rows = rows[(rows < away) | (rows > away + float(rng.uniform(1.0, 10.0)))]
        twice = rng.integers(rows.size, size=max(2, rows.size // 80))
        rows = np.sort(np.concatenate([rows, rows[twice]]))
    channels = []
    for number, corner in enumerate(Corner):
        asked = rows
        if how == "own clocks":
            asked = rows + 0.9 / rate_hz * float(rng.random())
        elif how == "in turn":
            asked = rows + number * 0.23 / rate_hz
        at = np.clip(np.searchsorted(tasks, asked, side="right") - 1, 0, None)
        told = shown[corner][at] * factor
        stamps = np.round(rows if how == "in turn" else asked, 3)
        channels.append(
            RawChannel(f"Wheel {corner}", unit, stamps, np.round(told if exact else np.round(told / step) * step, 5))
        )
    return RawLog(tuple(channels), "eighth world")
