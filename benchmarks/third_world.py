"""Drives from a third world, which teaches as the second does (`tools.gather.ELSEWHERE`).

Once more written from the trade alone and without a line of the simulator or of the second world. Roads lie in
distance, not in time; drivers change gear; tyres give way under load and warm up; each corner's value is made at a
moment of its own; control units compare a corner with its mates, hold values, or count from the last edge that they
used; slow loggers repeat old values in faster rows.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter1d
from scipy.signal import butter, sosfilt

from benchmarks import smallest
from benchmarks.second_world import Drawn, edges_a_turn
from nodrek.core.model import Array, Corner, Fault, RawChannel, RawLog

FAULTS: dict[str, Fault | None] = {
    "healthy": None, "tooth gone": Fault.RING_DAMAGE, "some teeth gone": Fault.RING_DAMAGE,
    "split ring": Fault.RING_DAMAGE, "off centre": Fault.RING_RUNOUT, "bent ring": Fault.RING_RUNOUT,
    "wrong ring": Fault.RING_COUNT, "weak poles": Fault.ENCODER_NOISE, "far sensor": Fault.AIR_GAP,
    "loose pin": Fault.INTERMITTENT, "open wire": Fault.NO_SIGNAL, "stuck value": Fault.FROZEN,
    "odd tyre": Fault.TYRE_SIZE, "swapped leads": Fault.CROSSED,
}  # fmt: skip
SMALLEST = {
    Fault.RING_DAMAGE: "tooth gone", Fault.RING_RUNOUT: "off centre", Fault.AIR_GAP: "far sensor",
    Fault.INTERMITTENT: "loose pin", Fault.TYRE_SIZE: "odd tyre",
}  # fmt: skip
"""How the faults are called here whose smallest ones are asked for."""
UNITS = ("since last used", "one period", "count", "filter", "hold", "plausible")
STEP_S, THINKS_S = 0.005, 0.05
"""Of the wheels; of the driver."""


@dataclass(frozen=True)
class _Body:
    """What the vehicle does, on one grid: times s, speed m/s, pull m/s², yaw rate 1/s, to the left positive."""

    times: Array
    speed: Array
    pull: Array
    yaw: Array


def draw(seed: int, kind: str, rate_hz: float, faulty: bool = True, small: float | None = None) -> Drawn:
    """One drive of two and a half to five minutes; the same drive without its fault where not `faulty`.

    `small`: the fault, one of `SMALLEST`, is so many times the smallest one worth finding.
    """
    rng, harm = np.random.default_rng([seed, 90210]), np.random.default_rng([seed, 5150])
    body = _drive(rng, float(rng.uniform(150.0, 300.0)))
    track, wheelbase = rng.uniform(1.38, 1.66), rng.uniform(2.35, 3.1)
    turn, teeth = rng.uniform(1.72, 2.38), int(rng.integers(29, 101))
    unit, coil, driven = str(rng.choice(UNITS)), bool(rng.random() < 0.35), str(rng.choice(("front", "rear", "all")))
    slip_per_pull, load_per_bend, warm = rng.uniform(6e-4, 3e-3), rng.uniform(1e-4, 6e-4), rng.uniform(0, 8e-4)
    roughness, precision = rng.uniform(5e-4, 2.5e-3), rng.uniform(0.002, 0.018)
    bumps = np.sort(rng.uniform(0.0, body.times[-1], rng.poisson(body.times[-1] / rng.uniform(4.0, 30.0))))
    settings = rng.integers(2**31)
    bad = list(Corner)[int(harm.integers(4))]
    happens = kind if faulty else "healthy"
    shown, lost = {}, 0
    for place, corner in enumerate(Corner):
        own = np.random.default_rng([seed, place, 7])
        here = happens if corner is bad else "healthy"
        side = -1.0 if corner.is_left else 1.0
        ground = np.maximum(body.speed + side * body.yaw * track / 2.0, 0.0)
        if corner.is_front:
            ground = np.hypot(ground, body.yaw * wheelbase)
        pulls = driven == "all" or (driven == "front") is corner.is_front
        slip = slip_per_pull * np.where(body.pull > 0, body.pull * pulls, 0.35 * body.pull)
        slip = slip + roughness * _colour(own, body.times.size) * np.clip(body.speed / 8.0, 0.0, 1.0)
        for bump in bumps[own.random(bumps.size) < 0.6]:
            at = int(bump / STEP_S)
            shape = own.normal(0.0, 0.015) * np.hanning(18)
            slip[at : at + 18] += shape[: slip[at : at + 18].size]
        size = np.exp(own.normal(0.0, 8e-4)) * (1.0 - load_per_bend * side * body.yaw * body.speed)
        size = size * (1.0 + warm * np.exp(-body.times / 200.0) * own.random() + 1.5e-6 * body.speed**2)
        if here == "odd tyre":
            way, much = harm.choice((-1, 1)), harm.uniform(0.006, 0.03)
            size = size * np.exp(way * (smallest.RATIO * small if small else much))
        turned = np.concatenate([[0.0], np.cumsum((ground * (1.0 + slip) / size / turn)[:-1]) * STEP_S]) + own.random()
        edges = _edges(own, harm, body, turned, teeth, precision, coil, here, turn, small)
        if here in ("tooth gone", "some teeth gone"):
            lost = teeth - edges_a_turn(edges, body.times, turned)
        shown[corner] = edges
    values = _values(np.random.default_rng(settings), unit, shown, turn / teeth, body.times[-1])
    if happens == "stuck value":
        when, value = values[bad]
        stuck = float(harm.choice((655.35, 0.0, 42.0))) / 3.6
        start = harm.uniform(0.0, 0.5) * body.times[-1]
        values[bad] = (when, np.where(when > start, stuck if stuck else value[np.searchsorted(when, start)], value))
    corners: tuple[Corner, ...] = (bad,)
    if kind == "swapped leads":
        corners = tuple(c for c in Corner if c.is_front is bad.is_front)
    if happens == "swapped leads":
        values[corners[0]], values[corners[1]] = values[corners[1]], values[corners[0]]
    fault = FAULTS[happens]
    return Drawn(_log(np.random.default_rng([seed, 3]), values, rate_hz, body.times[-1]), fault,
                 corners if fault else (), unit, teeth, lost)  # fmt: skip


def _drive(rng: np.random.Generator, duration: float) -> _Body:
    """A road in distance with limits, halts and bends, and a driver who looks ahead."""
    length, at = 12_000.0, 0.0
    where = np.arange(0.0, length, 1.0)
    limit, bend = np.full(where.size, 14.0), np.zeros(where.size)
    base = rng.choice((9.0, 14.0, 20.0, 27.0))
    while at < length:
        stretch = rng.uniform(80.0, 900.0)
        limit[int(at) : int(at + stretch)] = base * rng.uniform(0.6, 1.3)
        if rng.random() < 0.35 / (base / 14.0):
            limit[int(at) : int(at) + 2] = 0.0
        at += stretch
    at = rng.uniform(20.0, 150.0)
    while at < length - 200:
        radius, turn_by = np.exp(rng.uniform(np.log(12.0), np.log(500.0))), rng.uniform(0.2, 1.6)
        span = max(int(radius * turn_by), 8)
        ramp = np.minimum(1.0, np.minimum(np.arange(span), np.arange(span)[::-1]) / (0.25 * span))
        bend[int(at) : int(at) + span] += rng.choice((-1.0, 1.0)) * ramp[: bend[int(at) : int(at) + span].size] / radius
        at += span + rng.exponential(180.0)
    sharp = np.maximum(np.abs(bend), 1e-6)
    allowed = np.minimum(limit, np.sqrt(rng.uniform(1.2, 3.2) / sharp))
    brake, push = rng.uniform(1.2, 3.0), rng.uniform(1.0, 2.4)
    for k in range(where.size - 2, -1, -1):
        allowed[k] = min(allowed[k], np.sqrt(allowed[k + 1] ** 2 + 2.0 * brake))
    s, v, halt, shift, gear = 0.0, 0.0, rng.uniform(0.0, 6.0), 0.0, 1
    coarse = np.zeros((int(duration / THINKS_S), 2))
    for k in range(len(coarse)):
        here = allowed[min(int(s), where.size - 1)]
        ahead = allowed[min(int(s + 2.0 + 0.4 * v), where.size - 1)]
        if halt > 0.0:
            halt -= THINKS_S
            s += 3.0 if halt <= 0.0 else 0.0
        else:
            wanted = min(here, ahead)
            if v > 3.5 * gear and gear < 6 and shift <= 0.0:
                gear, shift = gear + 1, rng.uniform(0.25, 0.6)
            shift -= THINKS_S
            gain = -0.2 if shift > 0.0 else push * min(1.0, max(wanted - v, 0.0)) / (1.0 + v / 25.0)
            v = max(0.0, v + THINKS_S * (gain if wanted >= v else -brake * min(1.0, 0.2 + (v - wanted))))
            if v < 0.4 and min(here, ahead) < 0.5:
                v, halt, gear = 0.0, rng.uniform(2.0, 15.0), 1
        s += v * THINKS_S
        coarse[k] = v, s
    count = int(duration / STEP_S)
    moments = np.arange(count) * STEP_S
    speed, path = (np.interp(moments, np.arange(len(coarse)) * THINKS_S, column) for column in coarse.T)
    speed = gaussian_filter1d(speed, 24)
    speed[speed < 0.03] = 0.0
    curve = np.interp(path, where, bend) + 2e-4 * gaussian_filter1d(rng.standard_normal(count), 160) * 20.0
    yaw = gaussian_filter1d(speed * curve / (1.0 + 0.002 * speed**2), 20)
    return _Body(moments, speed, np.gradient(speed, STEP_S), yaw)


def _colour(own: np.random.Generator, count: int) -> Array:
    """Noise of unit size between a tenth of a hertz and fifteen."""
    noise = sosfilt(butter(2, (0.1, 15.0), "bandpass", fs=1.0 / STEP_S, output="sos"), own.standard_normal(count))
    return np.asarray(noise / noise.std())


def _edges(
    own: np.random.Generator, harm: np.random.Generator, body: _Body, turned: Array, teeth: int, precision: float,
    coil: bool, fault: str, turn: float, small: float | None,
) -> Array:  # fmt: skip
    """Moments (s) at which the sensor of one corner switches."""
    if fault == "open wire":
        return np.zeros(0)
    n = teeth + (int(harm.choice((-4, -2, -1, 1, 2, 4))) if fault == "wrong ring" else 0)
    angle = (np.arange(n) + precision * own.standard_normal(n)) / n
    angle = angle + own.uniform(0.0, 6e-5) * np.sin(2 * np.pi * (angle + own.random()))
    strength, there = np.ones(n), np.ones(n, dtype=bool)
    place = int(harm.integers(n))
    if fault == "tooth gone":
        there[place] = False
    elif fault == "some teeth gone":
        there[(place + np.arange(int(harm.integers(2, 5)))) % n] = False
    elif fault == "split ring":
        gap = harm.uniform(0.3, 1.0) / n
        angle = angle * (1.0 - gap)
    elif fault == "off centre":
        swing = smallest.SWING * small if small else np.exp(harm.uniform(np.log(4e-3), np.log(2e-2)))
        angle = angle + swing / (2 * np.pi) * np.cos(2 * np.pi * angle)
    elif fault == "bent ring":
        weakest, width = harm.uniform(0.55, 0.9), harm.uniform(0.1, 0.3)
        strength = 1.0 - weakest * np.maximum(0.0, 1.0 - np.abs(angle - 0.5) / width)
    whole = np.arange(np.floor(turned[0]), np.ceil(turned[-1]) + 1)
    when_turned = np.sort((whole[:, None] + np.sort(angle[there])).ravel())
    power = np.tile(strength[there][np.argsort(angle[there])], whole.size)
    moving = np.concatenate([[True], np.diff(turned) > 1e-9])
    inside = (when_turned > turned[0]) & (when_turned < turned[-1])
    times = np.interp(when_turned[inside], turned[moving], body.times[moving])
    speed = np.interp(times, body.times, body.speed)
    least = own.uniform(1.0, 2.2) if coil else 0.0
    if fault == "far sensor":
        least = smallest.WAKE * small if small else harm.uniform(2.5, 7.5)
    if fault == "bent ring":
        least = max(least, own.uniform(1.2, 2.5))
    heard = speed * power[inside] * (1.0 + 0.04 * own.standard_normal(times.size)) > least
    if fault == "weak poles":
        heard &= own.random(times.size) > np.exp(harm.uniform(np.log(0.012), np.log(0.12)))
    times = times[heard] + own.normal(0.0, 1.2e-5, int(heard.sum()))
    if fault == "loose pin":
        drives = body.times[body.speed > 2.0]
        many = max(2, harm.poisson(harm.uniform(2.0, 8.0) * body.times[-1] / 60.0))
        for start in harm.choice(drives, max(1, round(body.times[-1] / 60.0)) if small else many):
            lasts = smallest.BREAK_S * small if small else harm.exponential(0.25) + 0.05
            times = times[(times < start) | (times > start + lasts)]
    return np.sort(times)


def _values(
    rng: np.random.Generator, unit: str, edges: dict[Corner, Array], pitch: float, duration: float
) -> dict[Corner, tuple[Array, Array]]:
    """Speed m/s of each corner, made at moments of its own."""
    task, believed = float(rng.choice((0.005, 0.01, 0.02))), pitch * rng.uniform(0.98, 1.02)
    window, time_out = float(rng.choice((0.06, 0.1, 0.16, 0.25))), float(rng.uniform(0.2, 0.7))
    cutoff, limit, longest = float(rng.uniform(1.5, 9.0)), float(rng.uniform(0.15, 0.45)), int(rng.integers(2, 20))
    out = {}
    for corner, mine in edges.items():
        when = np.arange(0.2 + task * rng.random(), duration, task)
        if mine.size < 10:
            out[corner] = (when, np.zeros(when.size))
            continue
        have = np.searchsorted(mine, when, side="right")
        if unit == "count":
            out[corner] = (when, (have - np.searchsorted(mine, when - window, side="right")) * believed / window)
            continue
        last = mine[np.maximum(have - 1, 0)]
        if unit == "one period":
            period = last - mine[np.maximum(have - 2, 0)]
            raw = believed / np.maximum(np.maximum(period, when - last), 1e-6)
        else:
            new = np.concatenate([[True], have[1:] > have[:-1]])
            used = np.flatnonzero(new)
            count, first = np.diff(have[used], prepend=0), np.concatenate([[mine[0] - 1.0], last[used][:-1]])
            fresh = count * believed / np.maximum(last[used] - first, 1e-6)
            raw = fresh[np.cumsum(new) - 1]
        raw = np.where((have < 3) | (when - last > time_out), 0.0, raw)
        if unit == "filter":
            raw = np.maximum(sosfilt(butter(1, cutoff, fs=1.0 / task, output="sos"), raw), 0.0)
        if unit == "hold":
            held, kept, since = [], float(raw[0]), 0
            for value in raw.tolist():
                since = since + 1 if value < (1.0 - limit) * kept else 0
                kept = kept if 0 < since <= longest else value
                held.append(kept)
            raw = np.array(held)
        out[corner] = (when, np.where(raw < 0.25, 0.0, raw))
    return _compared(out, limit, longest) if unit == "plausible" else out


def _compared(
    values: dict[Corner, tuple[Array, Array]], limit: float, longest: int
) -> dict[Corner, tuple[Array, Array]]:
    """A corner that is far from the mean of its mates shows that mean, for so many values at most."""
    out = {}
    for corner, (when, value) in values.items():
        mates = np.mean([np.interp(when, w, v) for c, (w, v) in values.items() if c is not corner], axis=0)
        far = np.abs(value - mates) > limit * np.maximum(mates, 2.0)
        run = np.arange(far.size) - np.maximum.accumulate(np.where(far, -1, np.arange(far.size)))
        out[corner] = (when, np.where(far & (run <= longest), mates, value))
    return out


def _log(
    rng: np.random.Generator, values: dict[Corner, tuple[Array, Array]], rate_hz: float, duration: float
) -> RawLog:
    unit, factor = (("km/h", 3.6), ("km/h", 3.6), ("km/h", 3.6), ("mph", 2.236936), ("m/s", 1.0))[int(rng.integers(5))]
    steps = {"km/h": (0.01, 0.1, 1.0), "mph": (0.01, 0.1, 0.5), "m/s": (0.01, 0.01, 0.1)}[unit]
    step = steps[int(rng.integers(2 if rate_hz > 20 else 3))]
    rows = np.arange(0.5, duration - 0.3, 1.0 / rate_hz)
    rows = rows + rng.choice((0.0, 0.001)) * rng.standard_normal(rows.size)
    in_turn = float(rng.choice((0.0, 0.0, 0.24))) / rate_hz
    channels = []
    for place, (corner, (when, value)) in enumerate(values.items()):
        at = np.clip(np.searchsorted(when, rows + place * in_turn, side="right") - 1, 0, None)
        shown = np.round(np.round(value[at] * factor / step) * step, 4)
        channels.append(RawChannel(f"Wheel speed {corner}", unit, np.round(rows, 3), shown))
    return RawLog(tuple(channels), "third world")
