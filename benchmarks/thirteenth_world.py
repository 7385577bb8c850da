"""Drives from a thirteenth world, which teaches nothing: a body that slips sideways over heights by the metre.

Written from the trade alone, without a line of the other worlds' physics. Speed is what a driver does with pieces of
road that have a limit, a radius and perhaps a stop at their end; the car is a body with side slip, so that its wheels
point where they do not go; load moves radii; each track of the road has heights that both of its wheels meet. A ring is
a train of pulses with two flanks each. Six control units: span of edges, last period (with or without one that is
lowered while it waits), a window that slides, a filter, a hold of what no wheel can do, and the mean of the others in
place of what is far from their middle. Loggers ask in any order, round or cut off, and write rpm as well.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter1d
from scipy.signal import butter, lfilter, sosfilt

from benchmarks import smallest
from benchmarks.piece_drive import DT, Drive, go
from benchmarks.second_world import Drawn, counted
from nodrek.core.model import Array, Corner, Fault, RawChannel, RawLog

FAULTS: dict[str, Fault | None] = {
    "healthy": None, "tooth missing": Fault.RING_DAMAGE, "section missing": Fault.RING_DAMAGE,
    "missing twice": Fault.RING_DAMAGE, "cracked ring": Fault.RING_DAMAGE, "eccentric ring": Fault.RING_RUNOUT,
    "lifted arc": Fault.RING_RUNOUT, "ring of other count": Fault.RING_COUNT, "contaminated": Fault.ENCODER_NOISE,
    "gap too large": Fault.AIR_GAP, "wire breaks": Fault.INTERMITTENT, "no signal": Fault.NO_SIGNAL,
    "frozen": Fault.FROZEN, "odd tyre": Fault.TYRE_SIZE, "odd axle": Fault.TYRE_SIZE, "leads crossed": Fault.CROSSED,
}  # fmt: skip
SMALLEST = {
    Fault.RING_DAMAGE: "tooth missing", Fault.RING_RUNOUT: "eccentric ring", Fault.AIR_GAP: "gap too large",
    Fault.INTERMITTENT: "wire breaks", Fault.TYRE_SIZE: "odd tyre",
}  # fmt: skip
"""How the faults are called here whose smallest ones are asked for."""
UNITS = ("span", "last", "window", "filter", "hold", "substitute")
NUISANCES = ("potholes", "wheelspin", "braking", "roundabouts", "parking", "gravel", "crowned", "warming", "worn axle",
             "motorway", "queue", "stamps")  # fmt: skip
HEIGHTS_M = 0.05


@dataclass(frozen=True)
class _Car:
    """Lengths m, times s, speeds m/s; ``cut`` Hz, ``believes`` m/s² (what a unit takes for possible)."""

    roll: float
    teeth: int
    both: bool
    duty: float
    track: float
    base: float
    front: float
    leans: float
    understeer: float
    rough: float
    hop: float
    unit: str
    task: float
    window: float
    order: int
    cut: float
    believes: float
    holds: float
    off: float
    waits: float
    quiet: float
    decays: bool
    least: float
    nuisance: str


def draw(
    seed: int, kind: str, rate_hz: float, faulty: bool = True, small: float | None = None, exact: bool = False
) -> Drawn:
    """One drive of one to eight minutes; the same drive without its fault where not `faulty`.

    `small`: the fault, one of `SMALLEST`, is so many times the smallest one worth finding. `exact`: units round and
    count nothing, and teeth are placed well, as `benchmarks.visible` asks.
    """
    rng, harm = np.random.default_rng([13, seed, 1]), np.random.default_rng([13, seed, 2])
    car = _car(rng, kind)
    drive = go(rng, car.nuisance)
    bad, here = list(Corner)[int(harm.integers(4))], kind if faulty else "healthy"
    of_axle = tuple(c for c in Corner if c.is_front is bad.is_front)
    bads = of_axle if kind in {"odd axle", "leads crossed"} else (bad,)
    way = np.cumsum(drive.speed) * DT
    tracks = {side: _heights(rng, way[-1] + 50.0) for side in (True, False)}
    sizes = {c: 1.0 + 0.001 * float(rng.standard_normal()) for c in Corner}
    if car.nuisance == "worn axle":
        worn, by = bool(rng.integers(2)), float(rng.uniform(0.002, 0.008))
        sizes = {c: size * (1.0 - by * (c.is_front is worn)) for c, size in sizes.items()}
    if here in {"odd tyre", "odd axle"}:
        by = smallest.RATIO * small if small else float(harm.uniform(0.007, 0.04))
        by *= float(harm.choice((-1, 1)))
        sizes = {c: size * (1.0 + by * (c in bads)) for c, size in sizes.items()}
    tasks = np.arange(0.3, drive.time[-1] - 0.1, car.task)
    shown, lost = {}, 0
    for place, corner in enumerate(Corner):
        own = np.random.default_rng([13, seed, 3, place])
        rate = _turns_a_second(own, car, drive, corner, way, tracks[corner.is_left], sizes[corner])
        turned = own.random() + np.cumsum(np.maximum(rate, 0.0)) * DT
        fault = here if corner in bads else "healthy"
        flanks, strong, gone = _ring(own, harm, car, fault, small, exact)
        lost = max(lost, gone)
        edges = _passing(own, harm, car, drive, turned, flanks, strong, fault, small, exact)
        shown[corner] = _worked_out(car, edges, tasks, exact)
    if car.unit == "substitute":
        shown = _substituted(car, shown)
    if here == "leads crossed":
        shown[bads[0]], shown[bads[1]] = shown[bads[1]], shown[bads[0]]
    if here == "frozen":
        since = int(harm.uniform(0.0, 0.5) * tasks.size)
        keeps = harm.random() < 0.6 and shown[bad][since] > 1.5
        value = shown[bad][since] if keeps else float(harm.choice((255.0, 409.5, 655.35, 120.0))) / 3.6
        shown[bad] = np.where(np.arange(tasks.size) >= since, value, shown[bad])
    log = _logged(np.random.default_rng([13, seed, 4]), car, tasks, shown, rate_hz, exact)
    found = FAULTS[here]
    return Drawn(log, found, bads if found else (), car.unit, car.teeth, lost if found else 0)


def _car(rng: np.random.Generator, kind: str) -> _Car:
    nuisance = str(rng.choice(NUISANCES)) if kind == "healthy" or rng.random() < 0.25 else ""
    heavy = rng.random() < 0.08
    return _Car(
        roll=float(rng.uniform(2.6, 3.5) if heavy else rng.uniform(1.7, 2.4)), teeth=int(rng.integers(29, 101)),
        both=bool(rng.random() < 0.3), duty=float(rng.uniform(0.4, 0.6)), track=float(rng.uniform(1.35, 1.9)),
        base=float(rng.uniform(2.3, 4.0)), front=float(rng.choice((1.0, 1.0, 0.0, 0.5))),
        leans=float(rng.uniform(6e-5, 3.6e-4)), understeer=float(rng.uniform(0.0, 0.004)),
        rough=float(np.exp(rng.uniform(np.log(0.001), np.log(0.006)))), hop=float(rng.uniform(8.0, 15.0)),
        unit=str(rng.choice(UNITS)), task=float(rng.choice((0.005, 0.01, 0.02))),
        window=float(rng.choice((0.04, 0.08, 0.1, 0.2))), order=int(rng.integers(1, 3)),
        cut=float(np.exp(rng.uniform(0.0, np.log(10.0)))), believes=float(rng.uniform(12.0, 60.0)),
        holds=float(rng.uniform(0.05, 0.5)), off=float(rng.uniform(0.08, 0.4)), waits=float(rng.uniform(0.0, 0.1)),
        quiet=float(rng.uniform(0.1, 0.6)), decays=bool(rng.random() < 0.6),
        least=float(rng.choice((0.0, 0.2, 0.5, 0.75))), nuisance=nuisance,
    )  # fmt: skip


def _heights(rng: np.random.Generator, metres: float) -> Array:
    """Heights of a track each `HEIGHTS_M`, of deviation 1: they fall with the square of the wave number."""
    white = rng.standard_normal(int(metres / HEIGHTS_M) + 1)
    heights = lfilter([1.0], [1.0, -np.exp(-HEIGHTS_M / 3.0)], white)
    return np.asarray(heights / heights.std())


def _turns_a_second(
    own: np.random.Generator, car: _Car, drive: Drive, corner: Corner, way: Array, track: Array, size: float
) -> Array:
    left = 1.0 if corner.is_left else -1.0
    yaw = drive.speed * drive.curve
    sideways = drive.speed * yaw
    along = drive.speed - left * 0.5 * car.track * yaw
    if corner.is_front:
        steer = np.arctan(car.base * drive.curve) + 0.3 * car.understeer * sideways
        across = yaw * car.base - drive.speed * car.understeer * sideways
        along = along * np.cos(steer) + across * np.sin(steer)
    at = np.clip(way - (0.0 if corner.is_front else car.base), 0.0, None)
    ride = np.interp(at, np.arange(track.size) * HEIGHTS_M, track)
    bounce = sosfilt(butter(1, (1.0, car.hop), "band", fs=1.0 / DT, output="sos"), ride)
    noise = sosfilt(butter(1, 25.0, fs=1.0 / DT, output="sos"), own.standard_normal(drive.time.size))
    rough = car.rough * (4.0 if car.nuisance == "gravel" else 1.0) * np.clip(drive.speed / 10.0, 0.2, 1.5)
    off = rough * (0.25 * bounce + 0.15 * noise)
    kick = np.exp(-np.arange(80) * DT / 0.06) * np.sin(2.0 * np.pi * car.hop * np.arange(80) * DT)
    usual = float(np.mean(drive.speed[drive.speed > 1.0])) if np.any(drive.speed > 1.0) else 5.0
    met = np.roll(drive.bumps, 0 if corner.is_front else int(car.base / max(usual, 1.0) / DT))
    hits = met * (own.random(met.size) < 0.6) * own.uniform(0.01, 0.1, met.size)
    off = off + lfilter(kick, [1.0], hits)
    share = car.front if corner.is_front else 1.0 - car.front
    pull = np.maximum(drive.accel + 0.12 + 3e-4 * drive.speed**2, 0.0) * (drive.speed > 0.3)
    off = off + 0.002 * share * pull + 0.002 * np.minimum(drive.accel + 0.3, 0.0) * (0.6 if corner.is_front else 0.4)
    off = off + share * drive.spins * own.uniform(0.2, 1.0)
    cycles = np.clip(np.sin(2.0 * np.pi * own.uniform(3.0, 8.0) * drive.time + own.uniform(0.0, 6.0)), 0.0, 1.0) ** 2
    off = off - drive.brakes * own.uniform(0.02, 0.3) * cycles * (drive.speed > 1.5)
    warms = own.uniform(0.001, 0.004) * (1.0 - np.exp(-drive.time / 200.0)) * (car.nuisance == "warming")
    crown = 7e-4 * left * (car.nuisance == "crowned")
    radius = size * (1.0 + warms + crown + car.leans * left * sideways + 2e-6 * drive.speed**2)
    return np.asarray(along * (1.0 + off) / (car.roll * radius))


def _ring(
    own: np.random.Generator, harm: np.random.Generator, car: _Car, fault: str, small: float | None, exact: bool
) -> tuple[Array, Array, int]:
    """Places of the flanks (turns), how strong they are, and how many teeth are gone."""
    teeth = car.teeth
    if fault == "ring of other count":
        teeth += int(harm.choice((-8, -5, -3, -2, -1, 1, 2, 3, 5, 8)))
    error = 0.0 if exact else float(own.uniform(0.002, 0.012))
    place = np.arange(teeth) + error * own.standard_normal(teeth)
    there, strong = np.ones(teeth, dtype=bool), 1.0 + 0.04 * own.standard_normal(teeth)
    first = int(harm.integers(teeth))
    few, more = int(harm.integers(1, 3)), int(harm.integers(1, 3))
    many, again = {"tooth missing": (1, 0), "section missing": (few + more, 0), "missing twice": (few, more)}.get(
        fault, (0, 0)
    )
    there[(first + np.arange(many)) % teeth] = False
    there[(first + int(harm.uniform(0.2, 0.8) * teeth) + np.arange(again)) % teeth] = False
    swing = float(np.exp(own.uniform(np.log(1e-4), np.log(6e-4))))
    if fault == "cracked ring":
        wide = float(harm.uniform(0.3, 1.2))
        place = (place + wide * (np.arange(teeth) > first)) * teeth / (teeth + wide)
    if fault == "eccentric ring":
        swing = smallest.SWING * small if small else float(np.exp(harm.uniform(np.log(0.003), np.log(0.02))))
    if fault == "lifted arc":
        wide, weak = float(harm.uniform(0.08, 0.35)), float(harm.uniform(0.1, 0.4))
        apart = np.abs(np.mod(np.arange(teeth) / teeth - harm.random() + 0.5, 1.0) - 0.5)
        lifted = 1.0 - (1.0 - weak) * np.cos(np.pi * np.minimum(apart / wide, 0.5))
        strong, swing = strong * lifted, max(swing, float(harm.uniform(0.0, 0.004)))
    lost = int(np.count_nonzero(~there))
    if car.both:
        place = np.concatenate([place, place + (0.5 if exact else car.duty)])
        there, strong = np.tile(there, 2), np.tile(strong, 2)
    turn = place / teeth
    turn = turn + swing / (2.0 * np.pi) * np.sin(2.0 * np.pi * (turn + own.random()))
    order = np.argsort(turn)
    order = order[there[order]]
    return turn[order], strong[order], lost


def _passing(
    own: np.random.Generator, harm: np.random.Generator, car: _Car, drive: Drive, turned: Array, flanks: Array,
    strong: Array, fault: str, small: float | None, exact: bool,
) -> Array:  # fmt: skip
    """Moments (s) at which flanks are seen."""
    if fault == "no signal":
        return np.zeros(0)
    whole = np.arange(np.floor(turned[0]) - 1.0, np.ceil(turned[-1]) + 1.0)
    at, power = (whole[:, None] + flanks).ravel(), np.tile(strong, whole.size)
    order = np.argsort(at, kind="stable")
    order = order[(at[order] > turned[0]) & (at[order] < turned[-1])]
    at, power = at[order], power[order]
    rolls = np.concatenate([[True], np.diff(turned) > 1e-9])
    when = np.interp(at, turned[rolls], drive.time[rolls])
    speed = np.interp(when, drive.time, drive.speed)
    needs = float(own.uniform(0.2, 0.9))
    if fault == "gap too large":
        needs = smallest.WAKE * small if small else float(harm.uniform(8.0, 32.0)) / 3.6
    if fault == "lifted arc":
        top = float(np.quantile(drive.speed, 0.9)) * float(strong.min())
        needs = max(0.3, float(harm.uniform(0.15, 0.6)) * top)
    seen = speed * power * (1.0 + 0.03 * harm.standard_normal(speed.size)) > needs
    if fault == "contaminated":
        share = float(np.exp(harm.uniform(np.log(0.012), np.log(0.15))))
        comes = gaussian_filter1d(harm.standard_normal(speed.size), 40) * np.sqrt(140.0)
        seen &= harm.random(speed.size) > share * np.exp(0.5 * comes)
    if fault == "wire breaks":
        seen &= ~_broken(harm, drive, when, small)
    when = when[seen]
    return np.sort(when + (0.0 if exact else 4e-6) * own.standard_normal(when.size))


def _broken(harm: np.random.Generator, drive: Drive, when: Array, small: float | None) -> Array:
    """Which of the moments a wire sits out that parts over bumps, in bends one way, when fast, or at any time."""
    minutes = drive.time[-1] / 60.0
    many = max(1, round(minutes)) if small else max(3, int(harm.poisson(float(harm.uniform(1.5, 8.0)) * minutes)))
    usual = smallest.BREAK_S * small if small else float(np.exp(harm.uniform(np.log(0.05), np.log(0.8))))
    side, chatters = float(harm.choice((-1, 1))), not small and harm.random() < 0.4
    moves = drive.speed > 0.8
    may = moves & {
        "bumps": np.convolve(drive.bumps, np.ones(20), "same") > 0.0,
        "bends": drive.speed**2 * drive.curve * side > 0.7,
        "speed": drive.speed > np.quantile(drive.speed, 0.75), "none": moves,
    }[str(harm.choice(("bumps", "bends", "speed", "none", "none")))]  # fmt: skip
    may = may if np.count_nonzero(may) * DT > 2.0 else moves
    out = np.zeros(when.size, dtype=bool)
    for start in harm.choice(drive.time[may], many) if may.any() else ():
        lasts = usual if small else usual * float(np.exp(0.5 * harm.standard_normal()))
        inside = (when > start) & (when < start + lasts)
        if chatters:
            inside &= np.sin(2.0 * np.pi * (when - start) * float(harm.uniform(10.0, 60.0))) > -0.4
        out |= inside
    return out


def _worked_out(car: _Car, edges: Array, tasks: Array, exact: bool) -> Array:
    """m/s that the control unit has at each of its tasks."""
    one = 2 if car.both else 1
    pitch = car.roll / car.teeth / one
    if edges.size < 12:
        return np.zeros(tasks.size)
    have = np.searchsorted(edges, tasks, side="right")
    newest = np.clip(have - 1, 0, None)
    if car.unit == "window":
        value = (counted(edges, tasks, exact) - counted(edges, tasks - car.window, exact)) * pitch / car.window
        return np.where(value < car.least, 0.0, value)
    back = np.full(newest.size, one)
    if car.unit != "last":
        before = np.searchsorted(edges, tasks - max(car.task, 0.01), side="right") - 1
        back = np.maximum(newest - before, one)
        back += back % one
    first = np.clip(newest - back, 0, None)
    value = (newest - first) * pitch / np.maximum(edges[newest] - edges[first], 1e-5)
    waits = tasks - edges[newest]
    if car.decays:
        value = np.minimum(value, 1.2 * back * pitch / np.maximum(waits, 1e-5))
    value = np.where((waits > car.quiet) | (have < 4), 0.0, value)
    if car.unit == "hold":
        value = _held(value, car)
    if car.unit == "filter":
        smooth = butter(car.order, min(car.cut, 0.4 / car.task), fs=1.0 / car.task, output="sos")
        value = np.maximum(sosfilt(smooth, value), 0.0)
    return np.where(value < car.least, 0.0, value)


def _held(value: Array, car: _Car) -> Array:
    """The last value for as long as no wheel can change so fast, and no longer than the unit is patient."""
    out, since = value.copy(), 0.0
    for k in range(1, value.size):
        if abs(value[k] - out[k - 1]) > car.believes * (car.task + since) and since < car.holds:
            out[k], since = out[k - 1], since + car.task
        else:
            since = 0.0
    return out


def _substituted(car: _Car, shown: dict[Corner, Array]) -> dict[Corner, Array]:
    """The mean of the others where a corner has been far from their middle for a while, for five seconds at most."""
    out = {}
    for corner, value in shown.items():
        others = np.array([v for c, v in shown.items() if c is not corner])
        middle = np.median(others, axis=0)
        far = np.abs(value - middle) > np.maximum(car.off * middle, 0.8)
        run = np.arange(far.size) - np.maximum.accumulate(np.where(far, -1, np.arange(far.size)))
        steps = max(1, int(car.waits / car.task))
        out[corner] = np.where(far & (run > steps) & (run * car.task < 5.0), others.mean(axis=0), value)
    return out


def _logged(
    rng: np.random.Generator, car: _Car, tasks: Array, shown: dict[Corner, Array], rate_hz: float, exact: bool
) -> RawLog:
    units = {"km/h": 3.6, "mph": 2.236936, "m/s": 1.0, "rpm": 60.0 / car.roll}
    unit = str(rng.choice(("km/h", "km/h", "km/h", "mph", "m/s", "rpm")))
    step = float(rng.choice((0.01, 0.01, 0.05625, 0.0625) if rate_hz > 20.0 else (0.01, 0.1, 0.1, 0.5, 1.0, 1.0)))
    step = {"m/s": 0.2 * step, "rpm": 1.0 if step > 0.2 else 0.1}.get(unit, step)
    rows = np.arange(tasks[0] + 0.1, tasks[-1] - 1.2 / rate_hz, 1.0 / rate_hz)
    rows = np.sort(rows + float(rng.choice((0.0, 0.01, 0.06))) / rate_hz * rng.standard_normal(rows.size))
    if car.nuisance == "stamps":
        hole = float(rng.uniform(rows[0], rows[-1]))
        out = (rows > hole) & (rows < hole + float(rng.uniform(0.5, 5.0)))
        rows = rows[~out & (rng.random(rows.size) > 0.03)]
        rows = np.sort(np.concatenate([rows, rng.choice(rows, rows.size // 60 + 1)]))
    asked = float(rng.uniform(0.1, 0.24)) / rate_hz * (rate_hz <= 10.0 and rng.random() < 0.6) * rng.permutation(4)
    whole = np.floor if rng.random() < 0.3 else np.round
    channels = []
    for late, (corner, value) in zip(asked, shown.items(), strict=True):
        told = value[np.clip(np.searchsorted(tasks, rows + late, side="right") - 1, 0, None)] * units[unit]
        told = told if exact else whole(told / step + 1e-9) * step
        channels.append(RawChannel(f"Wheel speed {corner}", unit, np.round(rows, 3), np.round(told, 5)))
    return RawLog(tuple(channels), "thirteenth world")
