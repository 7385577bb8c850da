"""Drives from a second world, made without one line of the simulator that ships.

What is learnt in one simulator may only hold there. This one was written from the trade alone: other
roads and drivers, wheel turning integrated in time, rings whose strength varies, six control units with
silence ceilings and slope limits of their own, loggers that poll in turn. One training drive in four is
drawn here (`tools.gather.ELSEWHERE`); what is measured here is measured on other seeds, and what holds from
one world to another is asked by trees that learnt in the others alone (`benchmarks.unseen`).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.signal import lfilter

from benchmarks import smallest
from nodrek.core.model import Array, Corner, Fault, RawChannel, RawLog

FAULTS: dict[str, Fault | None] = {
    "healthy": None, "teeth at one place": Fault.RING_DAMAGE, "teeth at two places": Fault.RING_DAMAGE,
    "crack": Fault.RING_DAMAGE, "out of centre": Fault.RING_RUNOUT, "weak arc": Fault.RING_RUNOUT,
    "other ring": Fault.RING_COUNT, "losing edges": Fault.ENCODER_NOISE, "gap": Fault.AIR_GAP,
    "breaks": Fault.INTERMITTENT, "dead": Fault.NO_SIGNAL, "frozen": Fault.FROZEN, "tyre": Fault.TYRE_SIZE,
    "axle": Fault.TYRE_SIZE, "crossed": Fault.CROSSED,
}  # fmt: skip
SMALLEST = {
    Fault.RING_DAMAGE: "teeth at one place", Fault.RING_RUNOUT: "out of centre", Fault.AIR_GAP: "gap",
    Fault.INTERMITTENT: "breaks", Fault.TYRE_SIZE: "tyre",
}  # fmt: skip
"""How the faults are called here whose smallest ones are asked for."""
UNITS = ("last", "span", "count", "mean", "filter", "slope", "keep")
ALIKE = 0.1
"""Share of drives whose unit shows the mean of the others in place of a corner that it does not believe."""
STEP_S = 0.002
LIMITS_KMH = {"town": (20.0, 55.0), "country": (50.0, 100.0), "mixed": (20.0, 110.0)}
STOPS = {"town": 0.3, "country": 0.08, "mixed": 0.15}


@dataclass(frozen=True)
class Drawn:
    """A log and what is wrong in it; ``corners`` empty where nothing is.

    ``teeth``: of a sound ring; ``lost`` of them at the bad corner, 0 where none is.
    """

    log: RawLog
    fault: Fault | None
    corners: tuple[Corner, ...]
    unit: str
    teeth: int
    lost: int


@dataclass(frozen=True)
class _Unit:
    """One way of making speeds: kind, task time s, window s, periods, time constant s, slope m/s², time-out s."""

    kind: str
    task: float
    window: float
    periods: int
    time_constant: float
    slope: float
    time_out: float
    least: float


def draw(seed: int, kind: str, rate_hz: float, faulty: bool = True, small: float | None = None) -> Drawn:
    """One drive of three to five minutes; the same drive without its fault where not `faulty`.

    `small`: the fault, one of `SMALLEST`, is so many times the smallest one worth finding.
    """
    rng, chance = np.random.default_rng([seed, 4711]), np.random.default_rng([seed, 4712])
    duration = float(rng.choice((180.0, 240.0, 300.0)))
    road = str(rng.choice(("town", "town", "country", "mixed")))
    times, speed, curvature = _path(rng, duration, road)
    car = {
        "track": rng.uniform(1.4, 1.65), "wheelbase": rng.uniform(2.4, 3.0), "turn": rng.uniform(1.75, 2.3),
        "slip": rng.uniform(0.001, 0.004), "rough": rng.uniform(0.0006, 0.003),
    }  # fmt: skip
    driven = {"front": (True, False), "rear": (False, True), "all": (True, True)}[
        str(rng.choice(("front", "front", "rear", "all")))
    ]
    teeth, both, active = int(rng.integers(29, 101)), bool(rng.random() < 0.2), bool(rng.random() < 0.6)
    wakes, pitch_error, believed = rng.uniform(10, 45), rng.uniform(0.002, 0.015), rng.uniform(0.985, 1.015)
    unit = _Unit(
        str(rng.choice(UNITS)), float(rng.choice((0.005, 0.01, 0.02))), float(rng.choice((0.05, 0.1, 0.2))),
        int(rng.choice((2, 4, 8, 16))), float(rng.choice((0.02, 0.05, 0.1))), float(rng.choice((12.0, 20.0, 40.0))),
        float(rng.uniform(0.15, 0.5)), float(rng.uniform(0.2, 1.0)),
    )  # fmt: skip
    bumps = [(at, rng.choice((-1, 0, 1)), rng.uniform(0.01, 0.08)) for at in np.sort(rng.uniform(0, duration, 20))]
    bad = list(Corner)[int(chance.integers(4))]
    corners = (bad,) if kind not in ("axle", "crossed") else tuple(c for c in Corner if c.is_front == bad.is_front)
    size = float(np.exp(chance.uniform(np.log(0.006), np.log(0.03))))
    odd = 1.0 + (smallest.RATIO * small if small else size) * float(chance.choice((-1.0, 1.0)))
    active_fault = kind if faulty else "healthy"
    shown, lost = {}, 0
    for place, corner in enumerate(Corner):
        own, damage = np.random.default_rng([seed, place, 99]), np.random.default_rng([seed, 1234])
        here = active_fault if corner in corners else "healthy"
        ground = speed * np.hypot(
            1.0 + (1.0 if not corner.is_left else -1.0) * curvature * car["track"] / 2.0,
            curvature * car["wheelbase"] * corner.is_front,
        )
        slip = _slip(own, times, speed, driven[0 if corner.is_front else 1], car, bumps, corner)
        ratio = 1.0 + own.normal(0.0, 0.0007) - own.uniform(0.5, 3.0) * 1e-6 * speed**2
        ratio = ratio * (odd if here in ("tyre", "axle") else 1.0)
        rate = ground * (1.0 + slip) * ratio / car["turn"]
        turned = np.concatenate([[0.0], np.cumsum(0.5 * (rate[1:] + rate[:-1]) * STEP_S)]) + own.random()
        count = teeth + (int(damage.choice((-5, -3, -2, 2, 3, 5))) if here == "other ring" else 0)
        angle, strength = _ring(own, damage, count, pitch_error, both, here, small)
        if here.startswith("teeth"):
            lost = (count * (1 + both) - angle.size) // (1 + both)
        edges, power = _passing(times, turned, angle, strength)
        per_s = np.interp(edges, times, rate) * angle.size
        threshold = 0.0 if active else wakes * (1 + both)
        if here == "gap":
            wake = smallest.WAKE * small if small else chance.uniform(9.0, 26.0) / 3.6
            threshold = wake * angle.size / car["turn"]
        if here == "weak arc":
            threshold = max(threshold, 30.0)
        edges = edges[power * per_s * (1.0 + 0.05 * own.standard_normal(edges.size)) > threshold]
        edges = np.sort(edges + 1e-5 * own.standard_normal(edges.size))
        edges = _lost(chance, edges, here, times, speed, curvature, duration, small)
        when, value = _speeds(unit, edges, duration, car["turn"] * believed / (teeth * (1 + both)))
        if here == "frozen":
            value = np.where(when >= chance.uniform(0.0, 0.4) * duration, chance.choice((655.35, 12.3)) / 3.6, value)
        shown[corner] = (when, value)
    if chance.random() < ALIKE and kind != "dead":
        shown = _alike(shown, float(chance.uniform(0.15, 0.5)))
    if active_fault == "crossed":
        shown[corners[0]], shown[corners[1]] = shown[corners[1]], shown[corners[0]]
    log = _logged(np.random.default_rng([seed, 77]), shown, rate_hz, duration)
    fault = FAULTS[active_fault]
    return Drawn(log, fault, corners if fault else (), unit.kind, teeth, lost)


def edges_a_turn(edges: Array, times: Array, turned: Array) -> int:
    """How many edges (s) a ring has, from how far it had `turned` at `times`."""
    turn = np.floor(np.interp(edges, times, turned)).astype(np.int64)
    return int(np.median(np.bincount(turn - turn[0])[1:-1]))


def counted(edges: Array, times: Array, smoothly: bool) -> Array:
    """How many of the `edges` have come by each of the `times` (s).

    `smoothly`: what counts at any phase come to on average, a part of the next edge that is due included, as
    `benchmarks.visible` asks; an edge that does not come counts as none.
    """
    count = np.searchsorted(edges, times, side="right")
    if not smoothly:
        return count
    newest = np.clip(count - 1, 2, edges.size - 1)
    # the period before may be that of a gap
    period = np.minimum(edges[newest] - edges[newest - 1], edges[newest - 1] - edges[newest - 2])
    due = (times - edges[newest]) / np.maximum(period, 1e-6)
    return np.asarray(count + np.where(count > 2, np.clip(due, 0.0, 1.0), 0.0))


def _path(rng: np.random.Generator, duration: float, road: str) -> tuple[Array, Array, Array]:
    """Times, body speed m/s, curvature 1/m: wanted speeds held for some seconds, bends of half a sine."""
    count = int((duration + 1.0) / STEP_S)
    wanted, at = np.empty(count), 0
    while at < count:
        stop = rng.random() < STOPS[road]
        length = int(rng.uniform(5, 14) / STEP_S) if stop else int(rng.uniform(6, 30) / STEP_S)
        wanted[at : at + length] = 0.0 if stop else rng.uniform(*LIMITS_KMH[road]) / 3.6
        at += length
    up, down = rng.uniform(0.8, 2.2), rng.uniform(1.2, 3.0)
    coarse, now = [], 0.0 if rng.random() < 0.7 else rng.uniform(*LIMITS_KMH[road]) / 3.6
    for target in wanted[::10].tolist():
        now = max(0.0, now + min(max((target - now) * 0.6, -down), up) * 10 * STEP_S)
        now = 0.0 if target == 0.0 and now < 0.25 else now
        coarse.append(now)
    times = np.arange(count) * STEP_S
    speed = _rolling(np.interp(times, times[::10], coarse), 150)
    speed = np.where(speed < 0.08, 0.0, speed * (1.0 + 0.004 * np.sin(2 * np.pi * times / rng.uniform(5, 11))))
    curvature, at = np.zeros(count), int(rng.uniform(2, 10) / STEP_S)
    while at < count:
        length = int(rng.uniform(1.5, 7) / STEP_S)
        radius = max(max(speed[min(at + length // 2, count - 1)], 1.0) ** 2 / rng.uniform(0.3, 3.0), 6.0)
        part = np.sin(np.pi * np.arange(length) / length) ** 0.8 / radius * rng.choice((-1, 1))
        curvature[at : at + length] += part[: count - at]
        at += length + int(rng.exponential(8.0) / STEP_S)
    wander = _rolling(rng.standard_normal(count), 700)
    return times, speed, curvature + 1.5e-4 * wander / wander.std()


def _slip(
    own: np.random.Generator, times: Array, speed: Array, driven: bool, car: dict[str, float],
    bumps: list[tuple[float, int, float]], corner: Corner,
) -> Array:  # fmt: skip
    pull = np.gradient(speed, STEP_S)
    slip = 0.4 * car["slip"] * np.minimum(pull, 0.0)
    if driven:
        slip = slip + car["slip"] * np.maximum(pull + 0.15 + 4e-4 * speed**2, 0.0) * (speed > 1.0)
    keep = np.exp(-2 * np.pi * 9.0 * STEP_S)
    noise = lfilter([1.0 - keep], [1.0, -keep], own.standard_normal(times.size))
    slip = slip + car["rough"] * noise / noise.std() * np.clip(speed / 6.0, 0.0, 1.0)
    for when, side, jolt in bumps:
        if side not in (0, -1 if corner.is_left else 1):
            continue
        at = int((when + (0.0 if corner.is_front else car["wheelbase"] / max(speed[int(when / STEP_S)], 1.0))) / STEP_S)
        if at + 30 < times.size:
            wave = np.sin(np.pi * np.arange(30) / 15.0)
            slip[at : at + 30] += jolt * wave * min(speed[at] / 8.0, 1.5)
    return slip


def _ring(
    own: np.random.Generator,
    damage: np.random.Generator,
    teeth: int,
    pitch_error: float,
    both: bool,
    fault: str,
    small: float | None,
) -> tuple[Array, Array]:
    """Angles (turns) and strengths of the edges that are there."""
    angle = (np.arange(teeth) + pitch_error * own.standard_normal(teeth)) / teeth
    if both:
        falling = np.arange(teeth) + own.uniform(0.46, 0.54) + pitch_error * own.standard_normal(teeth)
        angle = np.sort(np.concatenate([angle, falling / teeth]))
    swing, strength, keep = abs(own.normal(0.0, 1.5e-4)), np.ones(angle.size), np.ones(angle.size, dtype=bool)
    if fault == "crack":
        angle = angle * (1.0 - damage.uniform(0.5, 1.2) / teeth)
    elif fault == "out of centre":
        swing = smallest.SWING * small if small else np.exp(damage.uniform(np.log(0.004), np.log(0.02)))
    elif fault == "weak arc":
        off = np.abs((angle - damage.random() + 0.5) % 1.0 - 0.5)
        width = damage.uniform(0.1, 0.3) / 2.35
        strength = 1.0 - damage.uniform(0.5, 0.85) * np.exp(-0.5 * (off / width) ** 2)
        swing = damage.uniform(0.0005, 0.005)
    elif fault.startswith("teeth"):
        first, like = int(damage.integers(angle.size)), 1 + both
        many = round(small) if small else int(damage.choice((1, 1, 2, 3)))
        keep[(first + np.arange(like * many)) % angle.size] = False
        if fault == "teeth at two places":
            keep[(first + int(damage.uniform(0.2, 0.8) * angle.size) + np.arange(like)) % angle.size] = False
    angle = angle - swing / (2 * np.pi) * np.sin(2 * np.pi * angle)
    return angle[keep], strength[keep]


def _passing(times: Array, turned: Array, angle: Array, strength: Array) -> tuple[Array, Array]:
    """When each edge passes the sensor, and how strong it is."""
    whole = np.arange(np.floor(turned[0]), np.ceil(turned[-1]) + 1)
    position, power = (whole[:, None] + angle).ravel(), np.tile(strength, whole.size)
    order = np.argsort(position)
    inside = order[(position[order] > turned[0]) & (position[order] < turned[-1])]
    rises = np.concatenate([[True], np.diff(turned) > 1e-12])
    return np.interp(position[inside], turned[rises], times[rises]), power[inside]


def _lost(
    chance: np.random.Generator,
    edges: Array,
    fault: str,
    times: Array,
    speed: Array,
    curvature: Array,
    duration: float,
    small: float | None,
) -> Array:
    """What encoder and wire leave of the edges."""
    if fault == "dead":
        return edges[:0]
    if fault == "losing edges":
        share = np.exp(chance.uniform(np.log(0.012), np.log(0.12)))
        drift = np.exp(0.3 * np.interp(edges, (0.0, duration / 2, duration), chance.standard_normal(3)))
        return edges[chance.random(edges.size) > share * drift]
    if fault == "breaks":
        count, length = max(1, chance.poisson(chance.uniform(2, 8) * duration / 60.0)), chance.uniform(0.06, 0.6)
        if small:
            count, length = max(1, round(duration / 60.0)), smallest.BREAK_S * small
        fit = (np.abs(curvature) * speed**2 > 0.8) if chance.random() < 0.3 else speed > 1.0
        for start in times[chance.choice(np.flatnonzero(fit), count)]:
            within = (edges > start) & (edges < start + length * chance.uniform(0.5, 1.6))
            edges = edges[~within | (chance.random(edges.size) < (0.3 if chance.random() < 0.5 else 0.0))]
    return edges


def _speeds(unit: _Unit, edges: Array, duration: float, pitch: float) -> tuple[Array, Array]:
    step = min(unit.window, 0.05) if unit.kind == "count" else unit.task
    when = np.arange(step, duration, step)
    if edges.size < 20:
        return when, np.zeros(when.size)
    now, padded = np.searchsorted(edges, when, side="right"), np.concatenate([[-1e6], edges])
    if unit.kind == "count":
        return when, (now - np.searchsorted(edges, when - unit.window, side="right")) * pitch / unit.window
    if unit.kind == "span":
        before = np.concatenate([[0], now[:-1]])
        fresh = (now > before) & (before > 0)
        ratio = (now - before) * pitch / np.maximum(padded[now] - padded[before], 1e-9)
        value = np.where(fresh, ratio, 0.0)[np.maximum.accumulate(np.where(fresh, np.arange(when.size), 0))]
    else:
        periods = unit.periods if unit.kind == "mean" else 1
        before = np.clip(now - periods, 1, None)
        span = (padded[now] - padded[before]) / periods
        value = np.where(now > periods, pitch / np.maximum(span, 1e-7), 0.0)
    silence = when - padded[now]
    ceiling = np.inf if unit.kind == "keep" else pitch / np.maximum(silence, 1e-9)
    value = np.where(silence > unit.time_out, 0.0, np.minimum(value, ceiling))
    if unit.kind == "filter":
        keep = np.exp(-unit.task / unit.time_constant)
        value = lfilter([1.0 - keep], [1.0, -keep], value)
    if unit.kind == "slope":
        most, now_shown, out = unit.slope * unit.task, float(value[0]), []
        for wanted in value.tolist():
            now_shown = min(max(wanted, now_shown - most), now_shown + most)
            out.append(now_shown)
        value = np.array(out)
    return when, np.where(value < unit.least, 0.0, value)


def _alike(shown: dict[Corner, tuple[Array, Array]], refuse: float) -> dict[Corner, tuple[Array, Array]]:
    """Values that fall short of the mean of the other corners by more than `refuse` give way to that mean."""
    total = np.sum([value for _, value in shown.values()], axis=0)
    out = {}
    for corner, (when, value) in shown.items():
        mean = (total - value) / (len(shown) - 1)
        out[corner] = (when, np.where(value < (1.0 - refuse) * mean, mean, value))
    return out


def _logged(
    rng: np.random.Generator, shown: dict[Corner, tuple[Array, Array]], rate_hz: float, duration: float
) -> RawLog:
    quantum = float(rng.choice((0.01, 0.05625, 0.1) if rate_hz > 20 else (0.01, 0.05625, 0.1, 0.1, 1.0)))
    poll = float(rng.choice((0.0, 1.0))) * rng.uniform(0.05, 0.22) / rate_hz
    rows = np.arange(0.05, duration - 0.2, 1.0 / rate_hz)
    rows = np.unique(np.round(rows + rng.choice((0.0, 0.0005, 0.003)) * rng.standard_normal(rows.size), 4))
    if rng.random() < 0.3:
        hole = rng.uniform(0.2, 0.8) * duration
        rows = rows[(rows < hole) | (rows > hole + rng.uniform(1, 4))]
    channels = []
    for place, (corner, (when, value)) in enumerate(shown.items()):
        index = np.clip(np.searchsorted(when, rows + place * poll, side="right") - 1, 0, None)
        kmh = np.round(np.round(value[index] * 3.6 / quantum) * quantum, 5)
        channels.append(RawChannel(f"Wheel speed {corner}", "km/h", rows, kmh))
    return RawLog(tuple(channels), "second world")


def _rolling(values: Array, width: int) -> Array:
    padded = np.pad(values, width, mode="edge")
    return np.convolve(padded, np.ones(width) / width, mode="same")[width:-width]
