"""Drives from a fifth world: sound cars that do what sound cars do, and faults among it.

Once more written from the trade alone, without a line of the other worlds. Its roads are stints with limited jerk,
its noise is a road profile that the rear axle meets after the front one, rings are tables of teeth with a place, a
height and a state, and each sound drive has a nuisance of its own making (`NUISANCES`). Six control units: span of
edges, last period, gate, moving mean, latch and vote.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy.signal import lfilter

from benchmarks import smallest
from benchmarks.second_world import Drawn, counted, edges_a_turn
from nodrek.core.model import Array, Corner, Fault, RawChannel, RawLog

FAULTS: dict[str, Fault | None] = {
    "healthy": None, "one tooth": Fault.RING_DAMAGE, "two to four": Fault.RING_DAMAGE, "two places": Fault.RING_DAMAGE,
    "wide pitch": Fault.RING_DAMAGE, "eccentric": Fault.RING_RUNOUT, "high spot": Fault.RING_RUNOUT,
    "foreign ring": Fault.RING_COUNT, "grit": Fault.ENCODER_NOISE, "stands off": Fault.AIR_GAP,
    "chafed lead": Fault.INTERMITTENT, "cut": Fault.NO_SIGNAL, "stuck": Fault.FROZEN, "odd tyre": Fault.TYRE_SIZE,
    "swapped": Fault.CROSSED,
}  # fmt: skip
SMALLEST = {
    Fault.RING_DAMAGE: "one tooth", Fault.RING_RUNOUT: "eccentric", Fault.AIR_GAP: "stands off",
    Fault.INTERMITTENT: "chafed lead", Fault.TYRE_SIZE: "odd tyre",
}  # fmt: skip
"""How the faults are called here whose smallest ones are asked for."""
UNITS = ("span", "last", "gate", "mean", "latch", "vote")
NUISANCES = ("plain", "potholes", "wheelspin", "hard braking", "roundabouts", "parking", "gravel", "crown", "warm-up",
             "worn axle", "motorway", "queue", "bad stamps")  # fmt: skip
NUISANCE_SHARE = 0.3
"""Of drives with a fault; sound ones take each nuisance in turn."""
GRID_S = 0.004


@dataclass(frozen=True)
class _Car:
    """Lengths m, times s, speeds m/s, the rest relative."""

    turn: float
    track: float
    wheelbase: float
    teeth: int
    driven: tuple[float, float]
    slip: float
    brake: tuple[float, float]
    rough: float
    placing: float
    coil: tuple[float, ...]
    sizes: tuple[float, ...]
    believed: float
    unit: str
    task: float
    window: float
    share: float
    time_out: float
    patience: float
    quiet: float
    way: int
    smoothly: bool = False


@dataclass(frozen=True)
class _Trip:
    times: Array
    speed: Array
    pull: Array
    curve: Array


def nuisance_of(seed: int, kind: str) -> str:
    """What this drive meets besides its fault."""
    chance = np.random.default_rng([seed, 50_001])
    if kind == "healthy":
        return NUISANCES[seed % len(NUISANCES)]
    return NUISANCES[int(chance.integers(1, len(NUISANCES)))] if chance.random() < NUISANCE_SHARE else "plain"


def draw(
    seed: int, kind: str, rate_hz: float, faulty: bool = True, small: float | None = None, exact: bool = False
) -> Drawn:
    """One drive of one to six minutes; the same drive without its fault where not `faulty`.

    `small`: the fault, one of `SMALLEST`, is so many times the smallest one worth finding. `exact`: units round and
    count nothing, and teeth are placed well, as `benchmarks.visible` asks.
    """
    rng, harm = np.random.default_rng([seed, 50_002]), np.random.default_rng([seed, 50_003])
    meets, happens = nuisance_of(seed, kind), kind if faulty else "healthy"
    trip = _trip(rng, float(np.exp(rng.uniform(np.log(75.0), np.log(330.0)))), meets)
    car = _car(rng, meets)
    if exact:
        car = replace(car, placing=0.0, smoothly=True)
    bad = list(Corner)[int(harm.integers(4))]
    slips = _slips(np.random.default_rng([seed, 50_004]), car, trip, meets)
    way, much = harm.choice((-1, 1)), harm.uniform(0.006, 0.04)
    odd = float(np.exp(way * (smallest.RATIO * small if small else much)))
    shown: dict[Corner, tuple[Array, Array]] = {}
    lost = 0
    for place, corner in enumerate(Corner):
        own, hurt = np.random.default_rng([seed, place, 50_005]), np.random.default_rng([seed, 50_006])
        here = happens if corner is bad else "healthy"
        side = -0.5 if corner.is_left else 0.5
        ground = np.abs(trip.speed * (1.0 + side * car.track * trip.curve))
        if corner.is_front:
            ground = np.hypot(ground, trip.speed * trip.curve * car.wheelbase)
        radius = car.sizes[place] * (1.0 - 4e-4 * side * trip.curve * trip.speed**2) * (1.0 + 8e-7 * trip.speed**2)
        rate = ground * (1.0 + slips[corner]) / (radius * (odd if here == "odd tyre" else 1.0) * car.turn)
        turns = np.cumsum(np.maximum(rate, 0.0)) * GRID_S + own.random()
        edges = _edges(own, hurt, car, here, trip, turns, rate * car.turn, place, small)
        if here in ("one tooth", "two to four", "two places"):
            lost = car.teeth - edges_a_turn(edges, trip.times, turns)
        shown[corner] = _reading(car, edges, trip.times[-1], own)
    if car.unit == "vote":
        shown = _voted(shown, car)
    corners: tuple[Corner, ...] = (bad,)
    if kind == "swapped":
        corners = tuple(c for c in Corner if c.is_front is bad.is_front)
        if faulty:
            shown[corners[0]], shown[corners[1]] = shown[corners[1]], shown[corners[0]]
    if happens == "stuck":
        when, value = shown[bad]
        since = harm.uniform(0.0, 0.65) * when[-1]
        held = (float(value[np.searchsorted(when, since)]), 65535.0 / 360.0, 255.0 / 3.6)[int(harm.integers(3))]
        shown[bad] = (when, np.where(when >= since, held, value))
    log = _logged(np.random.default_rng([seed, 50_007]), shown, rate_hz, trip.times[-1], meets, exact)
    fault = FAULTS[happens]
    return Drawn(log, fault, corners if fault else (), car.unit, car.teeth, lost)


def _car(rng: np.random.Generator, meets: str) -> _Car:
    front = (1.0, 0.0, 0.5)[int(rng.choice(3, p=(0.55, 0.3, 0.15)))]
    heavy = bool(rng.random() < 0.08)
    coil = bool(rng.random() < 0.35)
    sizes = np.exp(rng.normal(0.0, 8e-4, 4))
    if meets == "worn axle":
        sizes[(0, 1) if rng.random() < 0.5 else (2, 3),] *= 1.0 - rng.uniform(0.002, 0.008)
    if meets == "crown":
        sizes[[0, 2]] *= 1.0 + rng.choice((-1, 1)) * rng.uniform(0.0005, 0.002)
    return _Car(
        turn=float(rng.uniform(2.5, 3.5) if heavy else rng.uniform(1.7, 2.4)), track=float(rng.uniform(1.38, 1.68)),
        wheelbase=float(rng.uniform(2.3, 3.2)), teeth=int(rng.integers(29, 101)), driven=(front, 1.0 - front),
        slip=float(np.exp(rng.uniform(np.log(4e-4), np.log(4e-3)))), brake=(float(rng.uniform(5e-4, 2e-3)), 5e-4),
        rough=float(np.exp(rng.uniform(np.log(3e-4), np.log(2.5e-3)))), placing=float(rng.uniform(0.002, 0.016)),
        coil=tuple(rng.uniform(0.5, 1.6) * rng.uniform(0.8, 1.25, 4)) if coil else (0.0,) * 4,
        sizes=tuple(sizes), believed=float(rng.uniform(0.98, 1.02)), unit=str(rng.choice(UNITS)),
        task=float(rng.choice((0.004, 0.008, 0.01, 0.016, 0.02))), window=float(rng.choice((0.02, 0.05, 0.1, 0.16))),
        share=float(rng.uniform(0.1, 0.45)), time_out=float(rng.uniform(0.12, 0.6)),
        patience=float(np.exp(rng.uniform(np.log(0.03), np.log(0.6)))), quiet=float(rng.uniform(0.2, 0.9)),
        way=int(rng.integers(3)),
    )  # fmt: skip


def _trip(rng: np.random.Generator, duration: float, meets: str) -> _Trip:
    """Stints: pull away, hold, slow down; jerk-limited. Bends begin and end within a second."""
    count, tick = int(duration / GRID_S), 0.02
    top = {"motorway": 34.0, "queue": 5.0, "parking": 9.0, "roundabouts": 12.0, "gravel": 15.0}.get(
        meets, float(rng.choice((12.0, 15.0, 20.0, 26.0)))
    )
    stop_share = {"motorway": 0.0, "queue": 0.6}.get(meets, 0.4 if top < 16.0 else 0.15)
    wanted, left, firm = 0.0, float(rng.uniform(0.5, 4.0)), 1.5
    now = top * 0.8 if meets == "motorway" or rng.random() < 0.2 else 0.0
    wanted = now
    pull, track = 0.0, []
    for _ in range(int(duration / tick) + 1):
        left -= tick
        if left <= 0.0:
            stop = wanted > 0.0 and rng.random() < stop_share
            share = float(rng.uniform(0.8 if meets == "motorway" else 0.35, 1.1)) if not stop else 0.0
            wanted = top * share
            left = float(rng.exponential(9.0) + 4.0) + abs(wanted - now) / 1.5
            firm = float(rng.uniform(5.5, 8.5) if meets == "hard braking" and wanted < now else rng.uniform(0.8, 2.4))
        goal = np.clip(0.7 * (wanted - now), -firm, firm * max(0.3, 1.0 - now / 60.0))
        pull += float(np.clip(goal - pull, -4.0 * firm * tick, 4.0 * firm * tick))
        now = max(0.0, now + pull * tick)
        if now < 0.15 and wanted == 0.0:
            now, pull = 0.0, 0.0
        track.append(now)
    times = np.arange(count) * GRID_S
    speed = np.interp(times, np.arange(len(track)) * tick, track)
    sharp, target = np.zeros(count), np.zeros(count)
    at = float(rng.uniform(0.0, 8.0))
    often = {"motorway": 15.0, "roundabouts": 5.0, "parking": 3.0}.get(meets, 8.0)
    while at < duration:
        lasts = float(rng.uniform(2.0, 12.0))
        here = (times >= at) & (times < at + lasts)
        if here.any():
            fast = max(float(speed[here].max()), 1.0)
            tight = float(rng.uniform(8.0, 16.0)) if meets in ("roundabouts", "parking") else 7.0
            bend = min(1.0 / tight, float(rng.uniform(0.3, 3.5)) / fast**2)
            sharp[here] = bend * (1.0 if meets == "roundabouts" and rng.random() < 0.8 else float(rng.choice((-1, 1))))
        at += lasts + float(rng.exponential(often))
    if meets == "parking":
        backs, to_and_fro = (times > duration - 45.0) & (speed > 0.0), np.sin(times / 3.5)
        speed = np.where(backs, to_and_fro * np.minimum(speed, 1.8), speed)
    keep = np.exp(-GRID_S / 0.35)
    target = lfilter([1.0 - keep], [1.0, -keep], lfilter([1.0 - keep], [1.0, -keep], sharp))
    hand = lfilter([1.0], [1.0, -np.exp(-GRID_S / 1.5)], rng.standard_normal(count))
    curve = target + float(rng.uniform(5e-5, 4e-4)) * hand / hand.std() * 12.0 / (12.0 + np.abs(speed))
    return _Trip(times, speed, np.gradient(np.abs(speed), GRID_S), curve)


def _slips(rng: np.random.Generator, car: _Car, trip: _Trip, meets: str) -> dict[Corner, Array]:
    """Slip of each corner: drive, brakes, road, and what this drive meets."""
    count, moving = trip.times.size, np.abs(trip.speed)
    drive = np.maximum(trip.pull + 0.12 + 5e-4 * moving**2, 0.0) * (moving > 0.5)
    delay = np.clip(car.wheelbase / np.maximum(moving, 1.5), 0.0, 2.0)
    out = {}
    profile = {side: _road(rng, count) for side in (True, False)}
    loud = car.rough * (4.0 if meets == "gravel" else 1.0) * np.clip(moving / 7.0, 0.0, 1.0)
    holes = rng.uniform(3.0, trip.times[-1], rng.poisson(trip.times[-1] / (2.5 if meets == "potholes" else 40.0)))
    hits = [(float(t), bool(rng.random() < 0.5), float(rng.uniform(0.01, 0.12))) for t in holes]
    spins = np.flatnonzero((moving[:-1] < 0.5) & (moving[1:] >= 0.5)) if meets == "wheelspin" else np.zeros(0, int)
    axle = int(car.driven[0] < car.driven[1])
    spun = [(int(at), int(2 * axle + rng.integers(2)), float(rng.uniform(0.1, 1.5)), float(rng.uniform(0.4, 2.5)))
            for at in spins]  # fmt: skip
    for place, corner in enumerate(Corner):
        late = 0.0 if corner.is_front else delay
        same = np.interp(trip.times - late, trip.times, profile[corner.is_left])
        slip = car.slip * car.driven[place // 2] * drive + car.brake[place // 2] * np.minimum(trip.pull, 0.0)
        slip = slip + loud * (0.6 * same + 0.8 * _road(rng, count))
        for when, left, deep in hits:
            if left is not corner.is_left:
                continue
            at = int((when + (0.0 if corner.is_front else float(delay[int(when / GRID_S)]))) / GRID_S)
            length = int(rng.uniform(0.03, 0.12) / GRID_S)
            if at + length < count and moving[at] > 2.0:
                slip[at : at + length] += deep * np.sin(np.linspace(0.0, 2.0 * np.pi, length))
        for at, wheel, much, lasts in spun:
            stop = min(at + int(lasts / GRID_S), count)
            if wheel == place:
                slip[at:stop] += much * np.sin(np.linspace(0.0, np.pi, stop - at))
        if meets == "hard braking":
            hard = np.clip((-trip.pull - 3.5) / 2.0, 0.0, 1.0)
            beat = np.maximum(np.sin(2.0 * np.pi * np.cumsum(rng.uniform(3.0, 7.0) + 0 * hard) * GRID_S + place), -0.2)
            slip = slip - float(rng.uniform(0.05, 0.25)) * hard * beat
        if meets == "warm-up":
            slip = slip + float(rng.uniform(0.0, 4e-3)) * np.exp(-trip.times / float(rng.uniform(60.0, 300.0)))
        out[corner] = np.maximum(slip, -0.95)
    return out


def _road(rng: np.random.Generator, count: int) -> Array:
    """Road roughness as a wheel feels it: unit size, most of it between half a hertz and twelve."""
    low, high = np.exp(-2 * np.pi * 0.5 * GRID_S), np.exp(-2 * np.pi * 12.0 * GRID_S)
    noise = lfilter([1.0, -1.0], [1.0, -low], lfilter([1.0 - high], [1.0, -high], rng.standard_normal(count)))
    return np.asarray(noise / noise.std())


def _edges(
    own: np.random.Generator, hurt: np.random.Generator, car: _Car, fault: str, trip: _Trip, turns: Array,
    speed: Array, place: int, small: float | None,
) -> Array:  # fmt: skip
    """Moments (s) at which one corner's signal switches."""
    if fault == "cut":
        return np.zeros(0)
    count = car.teeth + (int(hurt.choice((-6, -5, -4, -3, -2, -1, 1, 2, 3, 4, 5, 6))) if fault == "foreign ring" else 0)
    at = (np.arange(count) + car.placing * own.standard_normal(count)) / count
    height, there, first = np.ones(count), np.ones(count, dtype=bool), int(hurt.integers(count))
    if fault == "one tooth":
        there[first] = False
    elif fault == "two to four":
        there[(first + np.arange(int(hurt.integers(2, 5)))) % count] = False
    elif fault == "two places":
        there[[first, (first + int(hurt.integers(2, count - 2))) % count]] = False
    elif fault == "wide pitch":
        at = at / (1.0 + hurt.uniform(0.4, 1.0) / count)
    elif fault == "eccentric":
        swing = smallest.SWING * small if small else float(np.exp(hurt.uniform(np.log(3e-3), np.log(2.5e-2))))
        at = at + swing / (2.0 * np.pi) * np.cos(2.0 * np.pi * (at + hurt.random()))
    elif fault == "high spot":
        away = (at - hurt.random() + 0.5) % 1.0 - 0.5
        height = 1.0 - hurt.uniform(0.55, 0.9) * np.exp(-0.5 * (away / hurt.uniform(0.05, 0.14)) ** 2)
    order = np.argsort(at)
    at, height = at[order][there[order]], height[order][there[order]]
    numbers = np.arange(np.floor(turns[0]) - 1.0, np.ceil(turns[-1]) + 1.0)
    passing, high = (numbers[:, None] + at).ravel(), np.tile(height, numbers.size)
    inside = (passing > turns[0]) & (passing < turns[-1])
    rolls = np.concatenate([[True], np.diff(turns) > 1e-10])
    when, high = np.interp(passing[inside], turns[rolls], trip.times[rolls]), high[inside]
    least = car.coil[place]
    if fault == "stands off":
        least = smallest.WAKE * small if small else float(hurt.uniform(9.0, 26.0)) / 3.6
    elif fault == "high spot":
        least = max(least, float(hurt.uniform(0.7, 1.6)))
    heard = np.interp(when, trip.times, speed) * high * (1.0 + 0.05 * own.standard_normal(when.size)) > least
    if fault == "grit":
        share = float(np.exp(hurt.uniform(np.log(0.01), np.log(0.12))))
        clumps = 1.0 + 0.8 * np.sin(2.0 * np.pi * (when / hurt.uniform(5.0, 40.0) + hurt.random()))
        heard &= own.random(when.size) > share * clumps
    when = np.sort(when[heard] + 1e-5 * (not car.smoothly) * own.standard_normal(int(heard.sum())))
    if fault == "chafed lead":
        side = trip.curve * trip.speed**2 * float(hurt.choice((-1, 1)))
        fits = ((side > 0.8), (np.abs(trip.speed) > 0.6 * np.abs(trip.speed).max()), np.abs(trip.speed) > 1.5)
        chosen = fits[int(hurt.choice(3, p=(0.3, 0.2, 0.5)))]
        may = np.flatnonzero(chosen if chosen.sum() > 1000 else fits[2])
        many = max(2, hurt.poisson(hurt.uniform(1.5, 8.0) * trip.times[-1] / 60.0))
        for start in trip.times[hurt.choice(may, max(1, round(trip.times[-1] / 60.0)) if small else many)]:
            gone = (when > start) & (
                when < start + (smallest.BREAK_S * small if small else 0.06 + hurt.exponential(0.22))
            )
            when = when[~gone | (hurt.random(when.size) < hurt.choice((0.0, 0.0, 0.2)))]
    return when


def _reading(car: _Car, edges: Array, duration: float, own: np.random.Generator) -> tuple[Array, Array]:
    """Speed m/s that the control unit makes of one corner's edges."""
    step = max(car.task, 0.02) if car.unit == "gate" else car.task
    when, pitch = np.arange(0.4, duration, step), car.turn * car.believed / car.teeth
    if edges.size < 8:
        return when, np.zeros(when.size)
    seen = np.searchsorted(edges, when, side="right")
    if car.unit == "gate":
        window = max(car.window, 0.05)
        before, now = (counted(edges, when - ago, car.smoothly) for ago in (window, 0.0))
        return when, (now - before) * pitch / window
    last = edges[np.maximum(seen - 1, 0)]
    if car.unit == "last":
        value = pitch / np.maximum(last - edges[np.maximum(seen - 2, 0)], 1e-6)
    else:
        fresh = np.diff(seen, prepend=seen[0]) > 0
        place = np.maximum.accumulate(np.where(fresh, np.arange(when.size), 0))
        used = np.flatnonzero(fresh)
        if used.size < 3:
            return when, np.zeros(when.size)
        before = np.concatenate([[used[0]], used[:-1]])
        spans = (seen[used] - seen[before]) * pitch / np.maximum(last[used] - last[before], 1e-6)
        value = np.interp(np.arange(when.size), used, spans)
        value[used] = spans
        value = value[place]
    idle = when - last
    waits = np.minimum(value, 1.05 * pitch / np.maximum(idle, 1e-6))
    value = np.where(idle > pitch / np.maximum(value, 1e-3), waits, value)
    value = np.where((seen < 4) | (idle > car.time_out), 0.0, value)
    if car.unit == "mean":
        width = max(2, round(car.window / car.task))
        value = np.convolve(np.pad(value, (width - 1, 0), mode="edge"), np.ones(width) / width, mode="valid")
    if car.unit == "latch":
        kept, left, out = float(value[0]), car.patience, []
        for new in value.tolist():
            far = abs(new - kept) > car.share * max(kept, 1.5)
            left = left - car.task if far else car.patience
            kept = kept if far and left > 0.0 else new
            out.append(kept)
        value = np.array(out)
    return when, np.where(value < car.quiet, 0.0, value)


def _voted(shown: dict[Corner, tuple[Array, Array]], car: _Car) -> dict[Corner, tuple[Array, Array]]:
    """A corner that is not believed shows its axle's mate, the middle of the others or their mean, for a while."""
    values = {corner: value for corner, (_, value) in shown.items()}
    out, most = {}, int(5.0 * car.patience / car.task)
    for corner, (when, value) in shown.items():
        others = np.array([v for c, v in values.items() if c is not corner])
        middle = np.median(others, axis=0)
        far = np.abs(value - middle) > car.share * np.maximum(middle, 1.5)
        run = np.arange(far.size) - np.maximum.accumulate(np.where(far, -1, np.arange(far.size)))
        instead = (values[corner.mate], middle, others.mean(axis=0))[car.way]
        out[corner] = (when, np.where(far & (run <= most), instead, value))
    return out


def _logged(
    rng: np.random.Generator, shown: dict[Corner, tuple[Array, Array]], rate_hz: float, duration: float, meets: str,
    exact: bool,
) -> RawLog:  # fmt: skip
    unit, factor = (("km/h", 3.6), ("km/h", 3.6), ("km/h", 3.6), ("mph", 2.236936), ("m/s", 1.0))[int(rng.integers(5))]
    fast, slow = (0.01, 0.015625, 0.0625, 0.1), (0.01, 0.0625, 0.1, 0.25, 1.0)
    step = float(rng.choice(fast if rate_hz > 20 else slow)) * {"km/h": 1.0, "mph": 0.5, "m/s": 0.25}[unit]
    down, in_turn = bool(rng.random() < 0.3), float(rng.choice((0.0, 0.0, 0.25, 0.12))) / rate_hz
    rows = np.arange(0.6, duration - 0.6, 1.0 / rate_hz)
    rows = np.sort(rows + float(rng.choice((0.0, 1e-3, 4e-3))) * rng.standard_normal(rows.size))
    order = rng.permutation(4) if rng.random() < 0.3 else np.arange(4)
    stamps = np.round(rows, 3)
    kept = np.ones(rows.size, dtype=bool)
    if meets == "bad stamps":
        kept = rng.random(rows.size) > rng.uniform(0.01, 0.08)
        hole = rng.uniform(0.2, 0.8) * duration
        kept &= (rows < hole) | (rows > hole + rng.uniform(2.0, 8.0))
        same = np.flatnonzero(rng.random(rows.size) < 0.03)[1:]
        stamps[same] = stamps[same - 1]
    channels = []
    for place, (corner, (when, value)) in enumerate(shown.items()):
        now = np.clip(np.searchsorted(when, rows + order[place] * in_turn, side="right") - 1, 0, None)
        raw = value[now] * factor
        steps = np.floor(raw / step + 1e-9) if down else np.round(raw / step)
        told = raw if exact else np.round(steps * step, 5)
        channels.append(RawChannel(f"Wheel speed {corner}", unit, stamps[kept], told[kept]))
    return RawLog(tuple(channels), "fifth world")
