"""Drives from a fourth world.

Written from the trade alone and without a line of the other worlds' physics. Drivers follow a schedule of speeds,
bends are arcs with easements, wheels hop on their tyres, potholes hit one side and then the axle behind. Six kinds of
control unit: span of edges, last period, edges per window, filter, hold-last and comparison with the other corners.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy.ndimage import uniform_filter1d
from scipy.signal import lfilter

from benchmarks import smallest
from benchmarks.second_world import Drawn, counted, edges_a_turn
from nodrek.core.model import Array, Corner, Fault, RawChannel, RawLog

FAULTS: dict[str, Fault | None] = {
    "healthy": None, "lost tooth": Fault.RING_DAMAGE, "lost teeth": Fault.RING_DAMAGE, "cracked": Fault.RING_DAMAGE,
    "eccentric": Fault.RING_RUNOUT, "lifted": Fault.RING_RUNOUT, "tooth count": Fault.RING_COUNT,
    "dirt": Fault.ENCODER_NOISE, "wide gap": Fault.AIR_GAP, "bad contact": Fault.INTERMITTENT,
    "no signal": Fault.NO_SIGNAL, "standing value": Fault.FROZEN, "tyre": Fault.TYRE_SIZE, "leads": Fault.CROSSED,
}  # fmt: skip
SMALLEST = {
    Fault.RING_DAMAGE: "lost tooth", Fault.RING_RUNOUT: "eccentric", Fault.AIR_GAP: "wide gap",
    Fault.INTERMITTENT: "bad contact", Fault.TYRE_SIZE: "tyre",
}  # fmt: skip
"""How the faults are called here whose smallest ones are asked for."""
UNITS = ("span", "period", "window", "filter", "hold", "compare")
GRID_S = 0.01


@dataclass(frozen=True)
class _Vehicle:
    """What a drive has besides its fault; lengths m, times s."""

    turn: float
    track: float
    wheelbase: float
    teeth: int
    driven: tuple[float, float]
    placing: float
    coil_from: tuple[float, ...]
    unit: str
    task: float
    window: float
    limit: float
    patience: int
    believed: float
    smoothly: bool = False


def draw(
    seed: int, kind: str, rate_hz: float, faulty: bool = True, small: float | None = None, exact: bool = False
) -> Drawn:
    """One drive of two to five minutes; the same drive without its fault where not `faulty`.

    `small`: the fault, one of `SMALLEST`, is so many times the smallest one worth finding. `exact`: units round and
    count nothing, and teeth are placed well, as `benchmarks.visible` asks.
    """
    rng, harm = np.random.default_rng([seed, 40_004]), np.random.default_rng([seed, 40_005])
    times, speed, yaw, pull = _drive(rng, float(rng.uniform(120.0, 300.0)))
    car = _vehicle(rng)
    rough = float(np.exp(rng.uniform(np.log(4e-4), np.log(2.5e-3))))
    holes = [(t, rng.choice((-1, 1)), rng.uniform(0.01, 0.06)) for t in rng.uniform(0, times[-1], rng.poisson(5))]
    bad = list(Corner)[int(harm.integers(4))]
    happens = kind if faulty else "healthy"
    way, much = float(harm.choice((-1, 1))), float(harm.uniform(0.006, 0.035))
    odd = 1.0 + way * (smallest.RATIO * small if small else much)
    if exact:
        car = replace(car, placing=0.0, smoothly=True)
    shown: dict[Corner, tuple[Array, Array]] = {}
    lost = 0
    for place, corner in enumerate(Corner):
        own, hurt = np.random.default_rng([seed, place, 40_006]), np.random.default_rng([seed, 40_007])
        here = happens if corner is bad else "healthy"
        side = -1.0 if corner.is_left else 1.0
        along = np.maximum(speed + side * yaw * car.track / 2.0, 0.0)
        ground = np.hypot(along, yaw * car.wheelbase) if corner.is_front else along
        slip = car.driven[0 if corner.is_front else 1] * np.maximum(pull, 0.0) + 8e-4 * np.minimum(pull, 0.0)
        slip = slip + rough * _hop(own, times.size) * np.clip(speed / 6.0, 0.0, 1.0)
        for when, hit, deep in holes:
            at = int((when + (0.0 if corner.is_front else car.wheelbase / 10.0)) / GRID_S)
            if hit == side and at + 12 < times.size and speed[at] > 2.0:
                slip[at : at + 12] += deep * np.sin(np.linspace(0.0, 2.0 * np.pi, 12))
        radius = (1.0 - 3e-4 * side * yaw * speed) * np.exp(own.normal(0.0, 7e-4)) * (odd if here == "tyre" else 1.0)
        rate = ground * (1.0 + slip) / radius / car.turn
        turns = np.concatenate([[0.0], np.cumsum(rate[:-1]) * GRID_S]) + own.random()
        edges = _edges(own, hurt, car, here, times, turns, rate, place, small)
        if here in ("lost tooth", "lost teeth"):
            lost = car.teeth - edges_a_turn(edges, times, turns)
        edges = _interrupted(hurt, edges, here, times, speed, yaw, small)
        shown[corner] = _value(car, edges, times[-1], np.random.default_rng([seed, 40_008]))
    if car.unit == "compare":
        shown = _compared(shown, car.limit, car.patience)
    corners: tuple[Corner, ...] = (bad,)
    if kind == "leads":
        corners = tuple(c for c in Corner if c.is_front is bad.is_front)
        if happens == kind:
            shown[corners[0]], shown[corners[1]] = shown[corners[1]], shown[corners[0]]
    if happens == "standing value":
        when, value = shown[bad]
        since, stands = harm.uniform(0.0, 0.6) * times[-1], harm.choice((0.0, 1.0, 2.0))
        fixed = (float(value[np.searchsorted(when, since)]), 0x3FFF / 200.0, 55.5 / 3.6)[int(stands)]
        shown[bad] = (when, np.where(when > since, fixed, value))
    log = _log(np.random.default_rng([seed, 40_009]), shown, rate_hz, times[-1], exact)
    fault = FAULTS[happens]
    return Drawn(log, fault, corners if fault else (), car.unit, car.teeth, lost)


def _vehicle(rng: np.random.Generator) -> _Vehicle:
    driven = ((1.0, 0.0), (0.0, 1.0), (0.6, 0.4))[int(rng.integers(3))]
    amount = rng.uniform(5e-4, 3e-3)
    coils = rng.random() < 0.4
    heavy = rng.random() < 0.1
    return _Vehicle(
        turn=rng.uniform(2.6, 3.4) if heavy else rng.uniform(1.72, 2.35),
        track=rng.uniform(1.4, 1.65), wheelbase=rng.uniform(2.4, 3.1),
        teeth=int(rng.integers(80, 101) if heavy else rng.integers(29, 101)),
        driven=(amount * driven[0], amount * driven[1]), placing=rng.uniform(0.002, 0.015),
        coil_from=tuple(np.where(coils, rng.uniform(0.5, 0.9) + 0.35 * rng.random(4), 0.0)),
        unit=str(rng.choice(UNITS)), task=float(rng.choice((0.005, 0.007, 0.01, 0.02))),
        window=float(rng.choice((0.04, 0.08, 0.1, 0.2))), limit=float(rng.uniform(0.12, 0.5)),
        patience=int(rng.choice((3, 10, 40))), believed=rng.uniform(0.985, 1.015),
    )  # fmt: skip


def _drive(rng: np.random.Generator, duration: float) -> tuple[Array, Array, Array, Array]:
    """Times, speed m/s, yaw rate 1/s and pull m/s²: a schedule of speeds, some of them 0, and arcs."""
    times = np.arange(0.0, duration, GRID_S)
    fast = float(rng.choice((11.0, 14.0, 22.0, 28.0)))
    halts = 0.35 if fast < 15.0 else 0.12
    at, marks = 0.0, [(0.0, 0.0 if rng.random() < 0.7 else fast * rng.uniform(0.4, 1.0))]
    while at < duration:
        now = marks[-1][1]
        goal = 0.0 if now > 0.0 and rng.random() < halts else fast * rng.uniform(0.3, 1.15)
        at += max(abs(goal - now) / (rng.uniform(0.7, 2.0) if goal > now else rng.uniform(1.0, 2.8)), 1.0)
        marks.append((at, goal))
        at += rng.uniform(2.0, 9.0) if goal == 0.0 else rng.uniform(4.0, 30.0)
        marks.append((at, goal))
    speed = np.interp(times, *np.array(marks).T)
    live = uniform_filter1d(rng.standard_normal(times.size), 300, mode="nearest")
    speed = uniform_filter1d(speed, 120, mode="nearest") * (1.0 + 0.25 * live)
    speed[speed < 0.05] = 0.0
    bend, at = np.zeros(times.size), 0.0
    while at < duration - 10.0:
        at += rng.exponential(9.0)
        lasts = rng.uniform(2.0, 8.0)
        inside = (times > at) & (times < at + lasts)
        if inside.any():
            middle = float(speed[inside].mean())
            bend[inside] += rng.choice((-1, 1)) * min(1.0 / 7.0, rng.uniform(0.2, 2.8) / max(middle, 1.0) ** 2)
        at += lasts
    bend = uniform_filter1d(bend, 150, mode="nearest")
    drift = uniform_filter1d(rng.standard_normal(times.size), 500, mode="nearest")
    return times, speed, speed * (bend + 1.5e-3 * drift), np.gradient(speed, GRID_S)


def _hop(own: np.random.Generator, count: int) -> Array:
    """Noise of unit size that rings near ten hertz, on a slow wander."""
    turn = 2.0 * np.pi * own.uniform(8.0, 13.0) * GRID_S
    ringing = lfilter([1.0], [1.0, -1.6 * np.cos(turn), 0.64], own.standard_normal(count))
    wander = uniform_filter1d(own.standard_normal(count), 40, mode="nearest")
    return np.asarray(ringing / ringing.std() + 0.5 * wander / wander.std())


def _edges(
    own: np.random.Generator, hurt: np.random.Generator, car: _Vehicle, fault: str, times: Array, turns: Array,
    rate: Array, place: int, small: float | None,
) -> Array:  # fmt: skip
    """Moments (s) at which one corner's signal switches."""
    if fault == "no signal":
        return np.zeros(0)
    count = car.teeth + (int(hurt.choice((-4, -3, -2, 2, 3, 4))) if fault == "tooth count" else 0)
    angle = (np.arange(count) + car.placing * own.standard_normal(count)) / count
    reach, keep = np.ones(count), np.ones(count, dtype=bool)
    first = int(hurt.integers(count))
    if fault == "lost tooth":
        keep[first] = False
    elif fault == "lost teeth":
        keep[(first + np.arange(int(hurt.integers(2, 5)))) % count] = False
    elif fault == "cracked":
        angle = angle * (1.0 - hurt.uniform(0.5, 1.0) / count)
    elif fault == "eccentric":
        swing = smallest.SWING * small if small else float(np.exp(hurt.uniform(np.log(4e-3), np.log(2e-2))))
        angle = angle + swing / (2.0 * np.pi) * np.sin(2.0 * np.pi * (angle + hurt.random()))
    elif fault == "lifted":
        wide, lowest = hurt.uniform(0.08, 0.3), hurt.uniform(0.1, 0.4)
        away = np.abs((angle - hurt.random() + 0.5) % 1.0 - 0.5) / wide
        reach = 1.0 - (1.0 - lowest) * np.exp(-(away**2))
    order = np.argsort(angle)
    angle, reach, keep = angle[order], reach[order], keep[order]
    whole = np.arange(np.floor(turns[0]) - 1.0, np.ceil(turns[-1]) + 1.0)
    passing, strong = (whole[:, None] + angle[keep]).ravel(), np.tile(reach[keep], whole.size)
    inside = (passing > turns[0]) & (passing < turns[-1])
    rolls = np.concatenate([[True], np.diff(turns) > 1e-10])
    when, strong = np.interp(passing[inside], turns[rolls], times[rolls]), strong[inside]
    least = car.coil_from[place]
    if fault == "wide gap":
        least = smallest.WAKE * small if small else hurt.uniform(2.4, 7.0)
    elif fault == "lifted":
        least = max(least, 0.8)
    fast = np.interp(when, times, rate) * car.turn
    heard = fast * strong > least * (1.0 + 0.03 * own.standard_normal(when.size))
    if fault == "dirt":
        heard &= own.random(when.size) > float(np.exp(hurt.uniform(np.log(0.015), np.log(0.12))))
    return np.asarray(np.sort(when[heard] + 8e-6 * (not car.smoothly) * own.standard_normal(int(heard.sum()))))


def _interrupted(
    hurt: np.random.Generator, edges: Array, fault: str, times: Array, speed: Array, yaw: Array, small: float | None
) -> Array:
    if fault != "bad contact":
        return edges
    in_bends = hurt.random() < 0.35
    may = np.flatnonzero((yaw > 0.08) if in_bends and (yaw > 0.08).sum() > 300 else speed > 2.5)
    many = max(3, hurt.poisson(hurt.uniform(2.0, 9.0) * times[-1] / 60.0))
    for start in times[hurt.choice(may, max(1, round(times[-1] / 60.0)) if small else many)]:
        lasts = smallest.BREAK_S * small if small else 0.05 + hurt.exponential(0.2)
        edges = edges[(edges < start) | (edges > start + lasts)]
    return edges


def _value(car: _Vehicle, edges: Array, duration: float, rng: np.random.Generator) -> tuple[Array, Array]:
    """Speed m/s that the control unit makes of one corner's edges."""
    when = np.arange(0.3, duration, car.task)
    if edges.size < 12:
        return when, np.zeros(when.size)
    pitch, time_out = car.turn * car.believed / car.teeth, float(rng.uniform(0.25, 0.6))
    seen = np.searchsorted(edges, when, side="right")
    last = edges[np.maximum(seen - 1, 0)]
    if car.unit == "window":
        before, now = (counted(edges, when - ago, car.smoothly) for ago in (car.window, 0.0))
        return when, (now - before) * pitch / car.window
    if car.unit in ("period", "hold"):
        value = pitch / np.maximum(last - edges[np.maximum(seen - 2, 0)], 1e-6)
    else:
        span = car.window if car.unit == "filter" or rng.random() < 0.3 else car.task
        before = np.searchsorted(edges, when - span, side="right")
        before = np.minimum(before, seen - 1)
        base = edges[np.maximum(before - 1, 0)]
        value = (seen - np.maximum(before, 1)) * pitch / np.maximum(last - base, 1e-6)
    value = np.minimum(value, 1.2 * pitch / np.maximum(when - last, 1e-6))
    value = np.where((seen < 3) | (when - last > time_out), 0.0, value)
    if car.unit == "filter":
        value = lfilter([car.task / (car.task + 0.05)], [1.0, -0.05 / (car.task + 0.05)], value)
    if car.unit == "hold":
        kept, waits, out = float(value[0]), 0, []
        for new in value.tolist():
            waits = waits + 1 if abs(new - kept) > car.limit * max(kept, 2.0) else 0
            kept = kept if 0 < waits <= car.patience else new
            out.append(kept)
        value = np.array(out)
    return when, np.where(value < 0.2, 0.0, value)


def _compared(
    shown: dict[Corner, tuple[Array, Array]], limit: float, patience: int
) -> dict[Corner, tuple[Array, Array]]:
    """A corner that differs too much from the middle of the others shows that middle, for a while at most."""
    values = np.array([value for _, value in shown.values()])
    out = {}
    for row, (corner, (when, value)) in enumerate(shown.items()):
        middle = np.median(np.delete(values, row, axis=0), axis=0)
        off = np.abs(value - middle) > limit * np.maximum(middle, 2.0)
        edges = np.flatnonzero(np.diff(off.astype(np.int8), prepend=0, append=0))
        for start, stop in zip(edges[::2], edges[1::2], strict=False):
            off[min(start + 8 * patience, stop) : stop] = False
        out[corner] = (when, np.where(off, middle, value))
    return out


def _log(
    rng: np.random.Generator, shown: dict[Corner, tuple[Array, Array]], rate_hz: float, duration: float, exact: bool
) -> RawLog:
    steps = (0.01, 0.03125, 0.05625, 0.1, 0.1) if rate_hz > 20 else (0.01, 0.05625, 0.1, 0.5, 1.0)
    step, in_turn = float(rng.choice(steps)), float(rng.choice((0.0, 0.0, 0.2))) / rate_hz
    rows = np.arange(0.5, duration - 0.5, 1.0 / rate_hz)
    rows = np.sort(rows + float(rng.choice((0.0, 5e-4, 2e-3))) * rng.standard_normal(rows.size))
    channels = []
    for place, (corner, (when, value)) in enumerate(shown.items()):
        now = np.clip(np.searchsorted(when, rows + place * in_turn, side="right") - 1, 0, None)
        kmh = value[now] * 3.6
        shows = kmh if exact else np.round(np.round(kmh / step) * step, 5)
        channels.append(RawChannel(f"Wheel speed {corner}", "km/h", np.round(rows, 4), shows))
    return RawLog(tuple(channels), "fourth world")
