"""Drives from a ninth world, which was measured before it taught: drivers and comparators follow.

Written from the trade alone, without a line of the other worlds' physics. A driver follows another vehicle
(`follow_drive`), tyres push against a load that bends, braking and hills shift, a sensor's comparator follows the
heights of the teeth that have passed (after a high one a low one is missed). Six control units: a tracker that looks
ahead and does not believe, the time of so many edges, a clock that ticks, the middle of the last periods, a limit of
how fast a value may change, and the mean of a part of the turn.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
from scipy.ndimage import gaussian_filter1d, uniform_filter1d
from scipy.signal import butter, sosfilt

from benchmarks import smallest
from benchmarks.follow_drive import GRID_S, Drive, follow
from benchmarks.second_world import Drawn
from nodrek.core.model import Array, Corner, Fault, RawChannel, RawLog

FAULTS: dict[str, Fault | None] = {
    "healthy": None, "tooth gone": Fault.RING_DAMAGE, "row gone": Fault.RING_DAMAGE, "two chips": Fault.RING_DAMAGE,
    "gaping": Fault.RING_DAMAGE, "wobble": Fault.RING_RUNOUT, "hollow": Fault.RING_RUNOUT,
    "strange ring": Fault.RING_COUNT, "swarf": Fault.ENCODER_NOISE, "sits back": Fault.AIR_GAP,
    "frayed": Fault.INTERMITTENT, "cut": Fault.NO_SIGNAL, "stands": Fault.FROZEN, "wrong size": Fault.TYRE_SIZE,
    "changed over": Fault.CROSSED,
}  # fmt: skip
SMALLEST = {
    Fault.RING_DAMAGE: "tooth gone", Fault.RING_RUNOUT: "wobble", Fault.AIR_GAP: "sits back",
    Fault.INTERMITTENT: "frayed", Fault.TYRE_SIZE: "wrong size",
}  # fmt: skip
"""How the faults are called here whose smallest ones are asked for."""
UNITS = ("tracker", "so many edges", "ticks", "middle", "limited", "part of a turn")
NUISANCES = ("potholes", "wet", "stamps on it", "yard", "gravel", "leaning road", "cold", "worn axle", "fast road",
             "jam", "bad rows")  # fmt: skip


@dataclass(frozen=True)
class _Car:
    """Lengths m, times s; the rest relative, a number or a name."""

    rolls: float
    track: float
    base: float
    teeth: int
    driven: tuple[float, float]
    coil: bool
    placed: float
    unit: str
    task: float
    many: int
    tick: float
    doubt: float
    most: float
    silence: float
    quiet: float
    believed: float
    nuisance: str


def draw(
    seed: int, kind: str, rate_hz: float, faulty: bool = True, small: float | None = None, exact: bool = False
) -> Drawn:
    """One drive of one to five minutes; the same drive without its fault where not `faulty`.

    `small`: the fault, one of `SMALLEST`, is so many times the smallest one worth finding. `exact`: units round and
    count nothing, and teeth are placed well, as `benchmarks.visible` asks.
    """
    rng, harm = np.random.default_rng([seed, 9_009, 1]), np.random.default_rng([seed, 9_009, 2])
    car = _car(rng, kind)
    if exact:
        car = replace(car, placed=0.0, tick=0.0)
    roads = {"yard", "fast road", "jam"}
    road = car.nuisance if car.nuisance in roads else str(rng.choice(("centre", "suburb", "lanes", "fast road", "jam")))
    drive = follow(rng, float(np.exp(rng.uniform(np.log(65.0), np.log(300.0)))), road, car.nuisance == "stamps on it")
    bad, here = list(Corner)[int(harm.integers(4))], kind if faulty else "healthy"
    sizes = {c: float(np.exp(rng.normal(0.0, 7e-4))) for c in Corner}
    if car.nuisance == "worn axle":
        front, less = bool(rng.integers(2)), float(rng.uniform(0.002, 0.009))
        sizes = {c: size * (1.0 - less * (c.is_front is front)) for c, size in sizes.items()}
    off = smallest.RATIO * small if small else float(np.exp(harm.uniform(np.log(0.007), np.log(0.04))))
    if here == "wrong size":
        sizes[bad] *= 1.0 + off * float(harm.choice((-1.0, 1.0)))
    tracks = _tracks(rng, drive, car)
    tasks = np.arange(0.2 + car.task * rng.random(), drive.time[-1], car.task)
    shown: dict[Corner, Array] = {}
    lost = 0
    for number, corner in enumerate(Corner):
        own = np.random.default_rng([seed, 9_009, 3, number])
        fault = here if corner is bad else "healthy"
        turned = _turned(own, car, drive, tracks, corner, sizes[corner])
        places, height, gone = _ring(own, harm, car, fault, small)
        lost = max(lost, gone)
        edges = _edges(own, harm, car, drive, turned, places, height, fault, small, exact)
        if fault == "frayed":
            edges = _frayed(harm, edges, drive, tracks, small)
        shown[corner] = np.zeros(tasks.size) if fault == "cut" else _value(car, edges, tasks)
    corners: tuple[Corner, ...] = (bad,)
    if kind == "changed over":
        corners = tuple(c for c in Corner if c.is_front is bad.is_front)
        if faulty:
            shown[corners[0]], shown[corners[1]] = shown[corners[1]], shown[corners[0]]
    if here == "stands":
        since = int(harm.uniform(0.0, 0.5) * tasks.size)
        rolls = shown[bad][since:][shown[bad][since:] > 1.5]
        stays = float(rolls[0]) if rolls.size and harm.random() < 0.5 else float(harm.choice((182.04, 71.1)))
        shown[bad] = np.where(np.arange(tasks.size) >= since, stays, shown[bad])
    log = _rows(np.random.default_rng([seed, 9_009, 4]), tasks, shown, rate_hz, car.nuisance == "bad rows", exact)
    found = FAULTS[here]
    return Drawn(log, found, corners if found else (), car.unit, car.teeth, lost if found else 0)


def _car(rng: np.random.Generator, kind: str) -> _Car:
    nuisance = str(rng.choice(NUISANCES)) if rng.random() < (0.8 if kind == "healthy" else 0.3) else ""
    heavy = rng.random() < 0.06
    return _Car(
        rolls=float(rng.uniform(2.8, 3.4) if heavy else rng.uniform(1.75, 2.3)), track=float(rng.uniform(1.4, 1.7)),
        base=float(rng.uniform(2.35, 3.2)),
        driven=((1.0, 0.0), (0.0, 1.0), (0.4, 0.6))[int(rng.choice(3, p=(0.6, 0.25, 0.15)))],
        teeth=int(rng.choice((29, 36, 41, 44, 45, 47, 48, 48, 48, 50, 52, 60, 64, 86, 96, 100))),
        coil=bool(rng.random() < 0.4) or kind == "hollow",
        placed=float(np.exp(rng.uniform(np.log(6e-4), np.log(1.2e-2)))), unit=str(rng.choice(UNITS)),
        task=float(rng.choice((0.005, 0.008, 0.01, 0.016, 0.02))), many=int(rng.choice((2, 3, 4, 6, 8))),
        tick=float(rng.choice((4e-6, 1.6e-5, 6.4e-5))), doubt=float(rng.uniform(0.06, 0.5)),
        most=float(rng.uniform(12.0, 60.0)), silence=float(rng.uniform(0.12, 0.7)),
        quiet=float(rng.choice((0.0, 0.0, 0.3, 0.7))), believed=float(rng.uniform(0.985, 1.015)), nuisance=nuisance,
    )  # fmt: skip


@dataclass(frozen=True)
class _Tracks:
    """The two tracks of a road by half metres: what a wheel feels, relative; ``holes``: moments (s) and side (0 left,
    1 right); how far driven wheels spin."""

    felt: tuple[Array, Array]
    holes: list[tuple[float, int]]
    spins: float


def _tracks(rng: np.random.Generator, drive: Drive, car: _Car) -> _Tracks:
    count = int(drive.way[-1] * 10.0) + 400
    rough = float(np.exp(rng.uniform(np.log(1.5e-4), np.log(1.2e-3)))) * (6.0 if car.nuisance == "gravel" else 1.0)
    both = rng.standard_normal(count)
    felt = [rough * (0.6 * both + 0.8 * rng.standard_normal(count)) for _ in range(2)]
    holes = []
    for _ in range(rng.poisson(drive.way[-1] * (0.015 if car.nuisance == "potholes" else 0.0015))):
        at, side = int(rng.integers(0, count - 40)), int(rng.integers(2))
        felt[side][at : at + 8] += float(rng.uniform(0.01, 0.08)) * np.sin(np.linspace(0.0, 2.0 * np.pi, 8))
        holes.append((float(drive.time[min(int(np.searchsorted(drive.way, at / 10.0)), drive.time.size - 1)]), side))
    return _Tracks((felt[0], felt[1]), holes, float(rng.uniform(0.02, 0.25)) if car.nuisance == "wet" else 0.0)


def _turned(own: np.random.Generator, car: _Car, drive: Drive, tracks: _Tracks, corner: Corner, size: float) -> Array:
    """Turns of one wheel since the start, on the drive's grid."""
    left, rate = (1.0 if corner.is_left else -1.0), np.abs(drive.speed)
    x, y = 1.0 - left * 0.5 * car.track * drive.curve, drive.curve * car.base * corner.is_front
    ground = rate * np.hypot(x, y)
    across = drive.curve * rate**2 / 9.81
    load = np.clip(1.0 - left * 0.65 * across + (-0.2 if corner.is_front else 0.2) * drive.pull / 9.81, 0.2, 2.0)
    share = car.driven[0 if corner.is_front else 1]
    force = drive.pull / 9.81 + 0.012 + 3.5e-5 * rate**2 + drive.slope * 0.02
    slip = (
        np.where(force > 0.0, share, 0.62 if corner.is_front else 0.38)
        * force
        / (float(own.uniform(16.0, 28.0)) * load)
    )
    if tracks.spins and share > 0.0:
        grip = gaussian_filter1d(own.standard_normal(rate.size), 0.25 / GRID_S) * 10.0
        slip = slip + tracks.spins * share * np.clip(drive.pull - 0.8, 0.0, 2.0) * np.clip(1.0 + grip, 0.0, 2.5) * (
            rate > 0.3
        )
    hard = drive.pull < -4.5
    if hard.any():
        pumps = 0.5 + 0.5 * np.sin(2.0 * np.pi * (float(own.uniform(3.0, 8.0)) * drive.time + own.random()))
        slip = slip - np.where(hard & (rate > 2.0), float(own.uniform(0.03, 0.22)) * pumps, 0.0)
    warm = float(own.uniform(0.001, 0.004)) if car.nuisance == "cold" else 0.0
    leans = 5e-4 * left if car.nuisance == "leaning road" else 0.0
    radius = (
        1.0 - 0.007 * (load - 1.0) * float(own.uniform(0.5, 1.0)) + leans + warm * (1.0 - np.exp(-drive.time / 130.0))
    )
    where = np.clip((drive.way - (0.0 if corner.is_front else car.base)) * 10.0, 0.0, None)
    felt = np.interp(where, np.arange(tracks.felt[0].size), tracks.felt[0 if corner.is_left else 1])
    hops = sosfilt(butter(2, (9.0, 15.0), "bandpass", fs=1.0 / GRID_S, output="sos"), felt)
    sways = sosfilt(butter(1, 3.5, fs=1.0 / GRID_S, output="sos"), felt)
    pace = np.maximum(ground * (1.0 + slip + 0.9 * hops + 0.7 * sways) / (car.rolls * size * radius), 0.0)
    turned = own.random() + np.cumsum(pace) * GRID_S
    unround = float(np.exp(own.uniform(np.log(4e-5), np.log(4e-4)))) / (2.0 * np.pi)
    return np.asarray(turned + unround * np.sin(2.0 * np.pi * (turned + own.random())))


def _ring(
    own: np.random.Generator, harm: np.random.Generator, car: _Car, fault: str, small: float | None
) -> tuple[Array, Array, int]:
    """Places (turns) and heights (over a usual one) of the teeth, and how many are gone for good."""
    teeth = car.teeth
    if fault == "strange ring":
        teeth = max(24, teeth + int(harm.choice((-7, -5, -4, -3, -2, -1, 1, 2, 3, 4, 5, 7))))
    number, first, gone = np.arange(teeth), int(harm.integers(teeth)), 0
    places = (number + car.placed * own.standard_normal(teeth)) / teeth
    height = np.exp(0.03 * own.standard_normal(teeth)) * (
        1.0 + 0.06 * np.cos(2.0 * np.pi * (number / teeth + own.random()))
    )
    if fault in ("tooth gone", "row gone"):
        gone = 1 if fault == "tooth gone" else int(harm.integers(2, 5))
        height[(first + np.arange(gone)) % teeth] = 0.0
    elif fault == "two chips":
        gone, away = 2, int(harm.integers(teeth // 8, teeth - teeth // 8))
        height[[first, (first + away) % teeth]] = 0.0
    elif fault == "gaping":
        wide = float(harm.uniform(0.3, 1.0)) / teeth
        places = (places + wide * (number > first)) / (1.0 + wide)
    elif fault == "wobble":
        swing = smallest.SWING * small if small else float(np.exp(harm.uniform(np.log(0.003), np.log(0.02))))
        places = places + swing / (2.0 * np.pi) * np.sin(2.0 * np.pi * (number / teeth + harm.random()))
    elif fault == "hollow":
        away = np.abs((number / teeth - harm.random() + 0.5) % 1.0 - 0.5)
        height = height * (1.0 - float(harm.uniform(0.5, 0.9)) / (1.0 + (away / float(harm.uniform(0.03, 0.12))) ** 4))
    return places, height, gone


def _edges(
    own: np.random.Generator, harm: np.random.Generator, car: _Car, drive: Drive, turned: Array, places: Array,
    height: Array, fault: str, small: float | None, exact: bool,
) -> Array:  # fmt: skip
    """Moments (s) at which the comparator switches."""
    if fault == "cut":
        return np.zeros(0)
    order = np.argsort(places)
    places, height = places[order], height[order]
    laps = np.arange(np.floor(turned[0]) - 1.0, np.ceil(turned[-1]) + 1.0)
    passes, high = (laps[:, None] + places).ravel(), np.tile(height, laps.size)
    met = (passes > turned[0]) & (passes < turned[-1])
    rolls = np.concatenate([[True], np.diff(turned) > 1e-9])
    when, high = np.interp(passes[met], turned[rolls], drive.time[rolls]), high[met]
    pace = np.interp(when, drive.time, np.abs(drive.speed))
    strong = float(np.exp(own.uniform(np.log(0.8), np.log(3.0))))
    volts = high * strong * (pace if car.coil else 1.0)
    if fault == "sits back":
        volts = high * pace / (smallest.WAKE * small if small else float(harm.uniform(8.0, 30.0)) / 3.6)
    volts = volts * np.exp(0.03 * own.standard_normal(volts.size))
    floor = 1.0 if car.coil or fault == "sits back" else 0.3
    # the comparator's level follows the heights that have passed, and comes down within some teeth
    level = np.maximum(floor, float(own.uniform(0.15, 0.35)) * uniform_filter1d(volts, 9, origin=4))
    seen = volts > level
    if fault == "swarf":
        often = float(np.exp(harm.uniform(np.log(0.008), np.log(0.1))))
        often_here = often * (1.0 + 0.7 * np.sin(2.0 * np.pi * (when / float(harm.uniform(6.0, 50.0)) + harm.random())))
        seen &= harm.random(seen.size) > often_here
        if harm.random() < 0.3:
            more = harm.uniform(when[0], when[-1], int(0.3 * often * when.size)) if when.size else when
            return np.sort(np.concatenate([when[seen], more]))
    noise = 0.0 if exact else 4e-6
    return np.sort(when[seen] + noise * own.standard_normal(int(seen.sum())))


def _frayed(harm: np.random.Generator, edges: Array, drive: Drive, tracks: _Tracks, small: float | None) -> Array:
    """Without what passes while a wire is apart: over holes, while leaning one way, when fast, or whenever."""
    when, rate = str(harm.choice(("holes", "leaning", "fast", "whenever"))), np.abs(drive.speed)
    leans = drive.curve * rate**2 * float(harm.choice((-1.0, 1.0)))
    may = rate > 1.0
    if when == "leaning" and np.count_nonzero(leans > 0.8) * GRID_S > 3.0:
        may = leans > 0.8
    elif when == "fast":
        may = rate > np.quantile(rate, 0.7)
    minutes, at = drive.time[-1] / 60.0, np.flatnonzero(may)
    many = max(1, round(minutes)) if small else max(3, int(harm.poisson(float(harm.uniform(2.0, 10.0)) * minutes)))
    starts = drive.time[harm.choice(at, many)] if at.size else np.zeros(0)
    if when == "holes" and len(tracks.holes) > 3:
        starts = np.array([t for t, _ in tracks.holes])[harm.random(len(tracks.holes)) < 0.8]
    for start in starts.tolist():
        lasts = smallest.BREAK_S * small if small else 0.05 + float(harm.exponential(0.25))
        edges = edges[(edges < start) | (edges > start + lasts)]
    return edges


def _value(car: _Car, edges: Array, tasks: Array) -> Array:
    """m/s that the control unit shows at each of its tasks."""
    if edges.size < 12:
        return np.zeros(tasks.size)
    pitch = car.rolls * car.believed / car.teeth
    stamps = np.round(edges / car.tick) * car.tick if car.unit == "ticks" and car.tick else edges
    count = np.searchsorted(edges, tasks, side="right")
    newest = np.clip(count - 1, 0, None)
    periods = np.maximum(np.diff(stamps, prepend=stamps[0] - 1.0), 1e-5)
    if car.unit == "middle":
        width = 3 if car.many < 4 else 5
        runs = np.lib.stride_tricks.sliding_window_view(
            np.concatenate([np.full(width - 1, periods[1]), periods]), width
        )
        value = pitch / np.median(runs, axis=1)[newest]
    else:
        back: npt.NDArray[np.int64] | int = 1
        if car.unit == "so many edges":
            back = car.many
        elif car.unit == "part of a turn":
            back = max(2, round(car.teeth * (0.1, 0.25, 0.5)[car.many % 3]))
        elif car.unit in ("tracker", "limited"):
            back = np.maximum(count - np.searchsorted(edges, tasks - car.task, side="right"), 1)
        oldest = np.clip(newest - back, 0, None)
        value = (newest - oldest) * pitch / np.maximum(stamps[newest] - stamps[oldest], 1e-5)
    waits = tasks - edges[newest]
    value = np.where(count > 2, np.minimum(value, 1.1 * pitch / np.maximum(waits, 1e-5)), 0.0)
    value = np.where(waits > car.silence, 0.0, value)
    if car.unit == "tracker":
        value = _tracked(value, car)
    elif car.unit == "limited":
        value = _limited(value, car)
    return np.where(value < car.quiet, 0.0, value)


def _tracked(value: Array, car: _Car) -> Array:
    """Foresees the next value from the last and its slope, and takes only a part of what is far from that."""
    shown, slope, out = float(value[0]), 0.0, []
    for new in value.tolist():
        foreseen = max(shown + slope * car.task, 0.0)
        off = new - foreseen
        part = 0.5 if abs(off) < max(car.doubt * foreseen, 0.5) else 0.08
        shown = foreseen + part * off
        slope = min(max(slope + 0.05 * part * off / car.task, -9.0), 9.0)
        if new == 0.0 and shown < 0.4:
            shown = slope = 0.0
        out.append(max(shown, 0.0))
    return np.array(out)


def _limited(value: Array, car: _Car) -> Array:
    """Follows no faster than `most` m/s²."""
    shown, step, out = float(value[0]), car.most * car.task, []
    for new in value.tolist():
        shown = min(max(new, shown - step), shown + step)
        out.append(shown)
    return np.array(out)


def _rows(
    rng: np.random.Generator, tasks: Array, shown: dict[Corner, Array], rate_hz: float, bad: bool, exact: bool
) -> RawLog:
    """What a logger writes: all at once, asked one after another and stamped once or each for itself."""
    unit, factor = (("km/h", 3.6), ("km/h", 3.6), ("mph", 2.236936), ("m/s", 1.0))[int(rng.integers(4))]
    step = float(rng.choice((0.01, 0.015625, 0.05, 0.1) if rate_hz > 20.0 else (0.01, 0.0625, 0.1, 0.5, 1.0)))
    step *= 0.25 if unit == "m/s" else 1.0
    how = str(rng.choice(("at once", "at once", "stamped once", "stamped each")))
    rows = np.arange(0.4, tasks[-1] - 2.0 / rate_hz, 1.0 / rate_hz)
    rows = rows + float(rng.choice((0.0, 0.0, 0.08, 0.2))) / rate_hz * rng.standard_normal(rows.size)
    rows = np.sort(rows)
    if bad:
        rows = rows[rng.random(rows.size) > 0.04]
        rows = np.sort(np.concatenate([rows, rows[rng.integers(rows.size, size=max(2, rows.size // 90))]]))
    wait = float(rng.uniform(0.1, 0.24)) / rate_hz
    channels = []
    for number, corner in enumerate(Corner):
        asked = rows if how == "at once" else rows + number * wait
        at = np.clip(np.searchsorted(tasks, asked, side="right") - 1, 0, None)
        told = shown[corner][at] * factor
        stamps = np.round(asked if how == "stamped each" else rows, 3)
        channels.append(
            RawChannel(f"Speed {corner}", unit, stamps, np.round(told if exact else np.round(told / step) * step, 5))
        )
    return RawLog(tuple(channels), "ninth world")
