"""Drives from a sixth world, measured before it taught: roads that have a length, channels with stamps of their own.

Once more without a line of the other worlds' physics. Bends, bumps and halts lie at places of a road and are met when
the car gets there; tyres are out of round; a ring is a row of rising (or of both) edges; faults are states of that row.
Six control units: tracked edges, single periods, counts, a smoother of second order,
doubt with a hold, and doubt with a stand-in. Loggers may ask one corner after another, and may write down when.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy.signal import butter, lfilter, lfilter_zi

from benchmarks import smallest
from benchmarks.second_world import Drawn, counted, edges_a_turn
from nodrek.core.model import Array, Corner, Fault, RawChannel, RawLog

FAULTS: dict[str, Fault | None] = {
    "healthy": None, "missing": Fault.RING_DAMAGE, "row of missing": Fault.RING_DAMAGE, "chipped": Fault.RING_DAMAGE,
    "gap filled": Fault.RING_DAMAGE, "off centre": Fault.RING_RUNOUT, "bent": Fault.RING_RUNOUT,
    "other ring": Fault.RING_COUNT, "filings": Fault.ENCODER_NOISE, "too far": Fault.AIR_GAP,
    "loose pin": Fault.INTERMITTENT, "open circuit": Fault.NO_SIGNAL, "holds": Fault.FROZEN,
    "other tyre": Fault.TYRE_SIZE, "exchanged": Fault.CROSSED,
}  # fmt: skip
SMALLEST = {
    Fault.RING_DAMAGE: "missing", Fault.RING_RUNOUT: "off centre", Fault.AIR_GAP: "too far",
    Fault.INTERMITTENT: "loose pin", Fault.TYRE_SIZE: "other tyre",
}  # fmt: skip
"""How the faults are called here whose smallest ones are asked for."""
UNITS = ("tracked", "periods", "counts", "second order", "doubt and hold", "doubt and stand in")
ROADS = ("town", "town", "lane", "trunk", "motorway", "jam", "track", "car park", "islands")
LIMITS = {"town": 13.9, "lane": 20.0, "trunk": 25.0, "motorway": 33.0, "jam": 4.5, "track": 12.0, "car park": 5.0,
          "islands": 13.0}  # fmt: skip
GRID_S = 0.005


@dataclass(frozen=True)
class _Car:
    """Lengths m, times s, speeds m/s, the rest relative."""

    turn: float
    track: float
    wheelbase: float
    teeth: int
    both: bool
    front_share: float
    stiffness: float
    placing: float
    wakes: tuple[float, ...]
    believed: float
    unit: str
    task: float
    window: float
    doubt: float
    waits: float
    time_out: float
    quiet: float
    smoothly: bool = False


@dataclass(frozen=True)
class _Way:
    """A drive on the grid; `bumps`: moments (s), side (-1 left, 0 both, 1 right) and depth of what wheels roll over."""

    times: Array
    speed: Array
    curve: Array
    pull: Array
    bumps: list[tuple[float, int, float]]
    rough: float


def draw(
    seed: int, kind: str, rate_hz: float, faulty: bool = True, small: float | None = None, exact: bool = False
) -> Drawn:
    """One drive of one to five minutes; the same drive without its fault where not `faulty`.

    `small`: the fault, one of `SMALLEST`, is so many times the smallest one worth finding. `exact`: units round and
    count nothing, and teeth are placed well, as `benchmarks.visible` asks.
    """
    rng, harm = np.random.default_rng([seed, 60_001]), np.random.default_rng([seed, 60_002])
    way = _way(rng, float(np.exp(rng.uniform(np.log(70.0), np.log(300.0)))))
    car = _car(rng)
    if exact:
        car = replace(car, placing=0.0, smoothly=True)
    bad, happens = list(Corner)[int(harm.integers(4))], kind if faulty else "healthy"
    odd = float(np.exp(harm.choice((-1, 1)) * (smallest.RATIO * small if small else harm.uniform(0.006, 0.035))))
    worn = np.ones(4)
    if rng.random() < 0.15:
        worn[2 * int(rng.integers(2)) :][:2] = 1.0 - rng.uniform(0.002, 0.007)
    shown: dict[Corner, tuple[Array, Array]] = {}
    lost = 0
    for place, corner in enumerate(Corner):
        own, hurt = np.random.default_rng([seed, place, 60_003]), np.random.default_rng([seed, 60_004])
        here = happens if corner is bad else "healthy"
        pace = _pace(own, car, way, corner)
        size = float(np.exp(own.normal(0.0, 7e-4))) * worn[place] * (odd if here == "other tyre" else 1.0)
        ran = np.concatenate([[0.0], np.cumsum(pace[1:] + pace[:-1])]) * GRID_S
        turns = own.random() + ran / (2.0 * car.turn * size)
        turns = turns + 10 ** own.uniform(-4.5, -3.3) / (2.0 * np.pi) * np.sin(2.0 * np.pi * (turns + own.random()))
        edges = _edges(own, hurt, car, here, way, turns, pace, place, small)
        if here in ("missing", "row of missing"):
            lost = car.teeth - round(edges_a_turn(edges, way.times, turns) / (2 if car.both else 1))
        shown[corner] = _reading(car, edges, way.times[-1], np.random.default_rng([seed, place, 60_005]))
    if car.unit == "doubt and stand in":
        shown = _stood_in(shown, car)
    corners: tuple[Corner, ...] = (bad,)
    if kind == "exchanged":
        corners = tuple(c for c in Corner if c.is_front is bad.is_front)
        if faulty:
            shown[corners[0]], shown[corners[1]] = shown[corners[1]], shown[corners[0]]
    if happens == "holds":
        when, value = shown[bad]
        since = harm.uniform(0.0, 0.6) * when[-1]
        rolls = np.append(value[(when >= since) & (value > 1.0)], 6.5)
        fixed = (float(rolls[0]), 65534.0 / 256.0 / 3.6, 1023.0 / 4.0 / 3.6)
        shown[bad] = (when, np.where(when >= since, fixed[int(harm.integers(3))], value))
    log = _logged(np.random.default_rng([seed, 60_006]), shown, rate_hz, way.times[-1], exact)
    fault = FAULTS[happens]
    return Drawn(log, fault, corners if fault else (), car.unit, car.teeth, lost)


def _car(rng: np.random.Generator) -> _Car:
    heavy = rng.random() < 0.08
    both = bool(rng.random() < 0.3)
    coil = rng.random() < 0.35
    return _Car(
        turn=float(rng.uniform(2.6, 3.5) if heavy else rng.uniform(1.72, 2.38)), track=float(rng.uniform(1.4, 1.7)),
        wheelbase=float(rng.uniform(2.35, 3.3)), teeth=int(rng.integers(29, 61) if both else rng.integers(36, 101)),
        both=both, front_share=float(rng.choice((1.0, 0.0, 0.4, 0.6))),
        stiffness=float(np.exp(rng.uniform(np.log(12.0), np.log(40.0)))), placing=float(rng.uniform(0.002, 0.012)),
        wakes=tuple(rng.uniform(0.4, 1.3) * np.exp(rng.normal(0.0, 0.12, 4))) if coil else (0.0,) * 4,
        believed=float(np.exp(rng.normal(0.0, 0.008))), unit=str(rng.choice(UNITS)),
        task=float(rng.choice((0.005, 0.01, 0.01, 0.02))), window=float(rng.choice((0.03, 0.06, 0.1, 0.2))),
        doubt=float(np.exp(rng.uniform(np.log(0.08), np.log(0.5)))),
        waits=float(np.exp(rng.uniform(np.log(0.04), np.log(0.8)))),
        time_out=float(rng.uniform(0.15, 0.7)), quiet=float(rng.choice((0.0, 0.28, 0.56, 0.76))),
    )  # fmt: skip


def _way(rng: np.random.Generator, duration: float) -> _Way:
    """The road is drawn by its length; the driver looks some way ahead for bends and halts."""
    road = str(rng.choice(ROADS))
    limit = LIMITS[road]
    length, piece = limit * duration * 1.2 + 200.0, 0.5
    places = np.arange(0.0, length, piece)
    bend, at = np.zeros(places.size), float(rng.uniform(5.0, 60.0))
    sharpest = {"motorway": 1 / 500.0, "trunk": 1 / 120.0, "lane": 1 / 35.0, "town": 1 / 12.0, "jam": 1 / 30.0}
    while at < length:
        sharp = sharpest.get(road, 1 / 8.0) * float(rng.random() ** 1.5)
        runs = (
            float(rng.uniform(0.4, 1.8)) / max(sharp, 4e-4) if rng.random() < 0.7 else float(rng.uniform(20.0, 120.0))
        )
        sense = 1.0 if road == "islands" and rng.random() < 0.75 else float(rng.choice((-1, 1)))
        bend[(places > at) & (places < at + runs)] += sense * sharp
        at += runs + float(rng.exponential(2.5 * limit if road != "car park" else 8.0))
    ease = max(3, int(0.5 * limit / piece) | 1)
    bend = np.convolve(bend, np.hanning(ease + 2) / np.hanning(ease + 2).sum(), mode="same")
    may = np.minimum(limit * rng.uniform(0.85, 1.1), np.sqrt(rng.uniform(1.5, 4.5) / np.maximum(np.abs(bend), 1e-5)))
    halts = {"motorway": 5e-5, "trunk": 3e-4, "lane": 1e-3, "jam": 3e-2, "car park": 2e-2}.get(road, 3.5e-3)
    stops = np.flatnonzero(rng.random(places.size) < halts * piece)
    may[stops] = 0.0
    slows = float(rng.uniform(0.9, 2.6) if rng.random() < 0.85 else rng.uniform(4.0, 8.5))
    before = np.sqrt(2.0 * slows * piece)
    for k in range(places.size - 2, -1, -1):
        may[k] = min(may[k], float(np.hypot(may[k + 1], before)))
    pulls, eager, lag, tick = float(rng.uniform(0.7, 2.4)), float(rng.uniform(0.4, 1.2)), 0.0, 0.02
    now = 0.0 if rng.random() < 0.75 else float(may[0])
    run, rest, done, speeds = 0.0, float(rng.uniform(0.0, 4.0)), -1, []
    mood = np.repeat(np.exp(0.08 * rng.standard_normal(int(duration / 6.0) + 2)), 300)
    for step in range(int(duration / tick) + 1):
        place = min(int(run / piece), places.size - 1)
        aim = may[place] * mood[step]
        if rest > 0.0:
            rest, aim = rest - tick, 0.0
        elif may[place] < 0.8 and (halt := np.flatnonzero(np.abs(stops - place) < 3)).size and stops[halt[0]] > done:
            done, rest = int(stops[halt[0]]) + 2, float(rng.exponential(4.0) + 1.0)
        elif aim < 1.2:
            aim = 1.2
        lag += (np.clip(eager * 2.0 * (aim - now), -1.15 * slows, pulls) - lag) * tick / 0.25
        now = max(now + lag * tick, 0.0)
        if rest > 0.0 and now < 0.25:
            now = lag = 0.0
        run += now * tick
        speeds.append(now)
    times = np.arange(int(duration / GRID_S)) * GRID_S
    speed = np.interp(times, np.arange(len(speeds)) * tick, speeds)
    ran = np.cumsum(speed) * GRID_S
    wheel = lfilter([0.01], [1.0, -0.99], rng.standard_normal(times.size)) * float(rng.uniform(2e-4, 1.5e-3))
    curve = np.interp(ran, places, bend) + wheel / np.maximum(speed / 10.0, 0.5)
    many = {"track": 0.05, "motorway": 0.001}.get(road, 0.004)
    lies = np.sort(rng.uniform(0.0, max(ran[-1], 1.0), rng.poisson(many * ran[-1])))
    bumps = [(float(np.interp(x, ran, times)), int(rng.integers(-1, 2)), float(rng.gamma(1.5, 0.02))) for x in lies]
    if road == "car park":
        backs = (times > rng.uniform(0.5, 0.8) * duration) & (np.cumsum(speed == 0.0) * GRID_S % 3.0 < 1.5)
        speed = np.where(backs, -0.6 * speed, speed)
    rough = float(np.exp(rng.uniform(np.log(3e-4), np.log(2e-3)))) * (3.0 if road == "track" else 1.0)
    return _Way(times, speed, curve, np.gradient(np.abs(speed), GRID_S), bumps, rough)


def _pace(own: np.random.Generator, car: _Car, way: _Way, corner: Corner) -> Array:
    """Speed (m/s, no sign) at which one tyre of the right size rolls."""
    side, fast = (-0.5 if corner.is_left else 0.5), np.abs(way.speed)
    along = way.speed * (1.0 + side * car.track * way.curve)
    ground = np.hypot(along, way.speed * way.curve * car.wheelbase) if corner.is_front else np.abs(along)
    share = car.front_share if corner.is_front else 1.0 - car.front_share
    force = way.pull + (0.1 + 4e-4 * fast**2) * (fast > 0.3)
    slip = np.where(force > 0.0, share * force, (0.6 if corner.is_front else 0.4) * force) / (9.81 * car.stiffness)
    loose = lfilter([0.02], [1.0, -0.98], own.standard_normal(fast.size)) * 10.0
    slip = slip * (1.0 + 0.15 * np.clip(loose, -3.0, 3.0))
    ring = 2.0 * np.pi * own.uniform(9.0, 14.0) * GRID_S
    shake = lfilter([1.0], [1.0, -1.8 * np.cos(ring), 0.81], own.standard_normal(fast.size))
    slow = lfilter([1.0], [1.0, -0.97], own.standard_normal(fast.size))
    noise = way.rough * np.clip(fast / 8.0, 0.0, 1.2) * (0.7 * shake / shake.std() + 0.7 * slow / slow.std())
    kick = np.zeros(fast.size)
    for when, where, deep in way.bumps:
        at = int(when / GRID_S)
        if where in (0, np.sign(side)) and fast[at] > 1.0:
            at += 0 if corner.is_front else int(min(car.wheelbase / fast[at], 3.0) / GRID_S)
            if at < fast.size:
                kick[at] += deep
    spring = np.exp(-GRID_S / 0.05)
    noise = noise + lfilter([0.0, 1.0, -1.0], [1.0, -1.9 * spring * np.cos(ring), 0.9 * spring**2], kick)
    return np.maximum(ground * (1.0 + slip + np.clip(noise, -0.5, 0.5) - side * 6e-4 * way.curve * fast**2), 0.0)


def _edges(
    own: np.random.Generator, hurt: np.random.Generator, car: _Car, fault: str, way: _Way, turns: Array, pace: Array,
    place: int, small: float | None,
) -> Array:  # fmt: skip
    """Moments (s) at which the unit sees an edge; teeth are placed, and as wide, with errors of their own."""
    if fault == "open circuit":
        return np.zeros(0)
    count = car.teeth + (int(hurt.choice((-5, -4, -3, -2, 2, 3, 4, 5))) if fault == "other ring" else 0)
    tooth, first = np.arange(count), int(hurt.integers(count))
    centre = tooth + car.placing * own.standard_normal(count)
    half = 0.25 + 0.03 * own.standard_normal(1) + 0.5 * car.placing * own.standard_normal(count)
    keep, near = np.ones(count, dtype=bool), np.ones(count)
    if fault == "missing":
        keep[first] = False
    elif fault == "row of missing":
        keep[(first + np.arange(int(hurt.integers(2, 6)))) % count] = False
    elif fault == "chipped":
        centre[first] += hurt.choice((-1, 1)) * hurt.uniform(0.25, 0.45)
    elif fault == "gap filled":
        keep[first], half[(first + 1) % count] = False, 0.4
        centre[(first + 1) % count] -= 0.5
    angle = centre / count
    if fault == "off centre":
        swing = smallest.SWING * small if small else float(np.exp(hurt.uniform(np.log(3e-3), np.log(2e-2))))
        angle = angle + swing / (2.0 * np.pi) * np.sin(2.0 * np.pi * (angle + hurt.random()))
    if fault in ("bent", "off centre"):
        much = hurt.uniform(0.5, 0.85) if fault == "bent" else 0.05
        near = 1.0 - much * (0.5 + 0.5 * np.cos(2.0 * np.pi * (angle - hurt.random()))) ** hurt.uniform(1.5, 6.0)
    rise, near = (angle - half / count)[keep], near[keep]
    if car.both:
        rise, near = np.concatenate([rise, (angle + half / count)[keep]]), np.tile(near, 2)
    order = np.argsort(rise)
    rise, near = rise[order], near[order]
    laps = np.arange(np.floor(turns[0]) - 1.0, np.ceil(turns[-1]) + 1.0)
    passing, strong = (laps[:, None] + rise).ravel(), np.tile(near, laps.size)
    inside = (passing > turns[0]) & (passing < turns[-1])
    moves = np.concatenate([[True], np.diff(turns) > 1e-9])
    when, strong = np.interp(passing[inside], turns[moves], way.times[moves]), strong[inside]
    wakes = car.wakes[place]
    if fault == "too far":
        wakes = smallest.WAKE * small if small else float(hurt.uniform(8.0, 28.0)) / 3.6
    elif fault == "bent":
        wakes = max(wakes, float(hurt.uniform(0.6, 1.5)))
    level = np.interp(when, way.times, pace) * strong / max(wakes, 1e-9)
    sees = np.ones(when.size, dtype=bool)
    if wakes > 0.0:  # a comparator with some memory: it falls asleep later than it wakes
        sees = level * (1.0 + 0.03 * own.standard_normal(when.size)) > 1.0
        asleep = np.convolve(sees, np.ones(5), mode="full")[: sees.size] < 2.0
        sees |= ~asleep & (level > 0.93)
    if fault == "filings":
        often = float(np.exp(hurt.uniform(np.log(0.01), np.log(0.1))))
        sees &= own.random(when.size) > often
        extra = np.flatnonzero(own.random(max(when.size - 1, 0)) < often * hurt.choice((0.0, 0.0, 0.7)))
        when = np.concatenate([when[sees], when[extra] + np.diff(when)[extra] * own.uniform(0.2, 0.8, extra.size)])
        sees = np.ones(when.size, dtype=bool)
    when = np.sort(when[sees] + 5e-6 * (not car.smoothly) * own.standard_normal(int(sees.sum())))
    return _broken(hurt, when, way, small) if fault == "loose pin" else when


def _broken(hurt: np.random.Generator, when: Array, way: _Way, small: float | None) -> Array:
    """Edges that a loose pin lets through: gone in breaks, some of them in a burst of short ones."""
    side = way.curve * way.speed**2 * hurt.choice((-1, 1))
    by = str(hurt.choice(("bumps", "bend", "chance", "chance")))
    if by == "bumps" and len(way.bumps) > 5:
        at = np.array([b[0] for b in way.bumps if hurt.random() < 0.6] or [b[0] for b in way.bumps])
        at = at + hurt.uniform(0.0, 0.05, at.size)
    else:
        may = np.flatnonzero(side > 0.7) if by == "bend" else np.zeros(0, int)
        may = may if may.size > 800 else np.flatnonzero(np.abs(way.speed) > 1.5)
        if not may.size:
            return when
        at = way.times[hurt.choice(may, max(3, hurt.poisson(hurt.uniform(1.5, 7.0) * way.times[-1] / 60.0)))]
    if small:
        at = hurt.choice(at, max(1, round(way.times[-1] / 60.0)))
    for first in at.tolist():
        begins = first
        for _ in range(1 if small or hurt.random() < 0.7 else int(hurt.integers(2, 5))):
            lasts = smallest.BREAK_S * small if small else 0.04 + float(hurt.exponential(0.2))
            when = when[(when < begins) | (when > begins + lasts)]
            begins += lasts + float(hurt.exponential(0.1))
    return when


def _reading(car: _Car, edges: Array, duration: float, own: np.random.Generator) -> tuple[Array, Array]:
    """Speed m/s at the moments at which the unit's task runs; each corner's at another moment."""
    when = 0.3 + car.task * (own.random() + np.arange(int((duration - 0.4) / car.task)))
    pitch = car.turn * car.believed / (car.teeth * (2 if car.both else 1))
    if edges.size < 10:
        return when, np.zeros(when.size)
    seen = np.searchsorted(edges, when, side="right")
    last = edges[np.maximum(seen - 1, 0)]
    if car.unit == "counts":
        window = max(round(car.window / car.task), 2) * car.task
        before, now = (counted(edges, when - ago, car.smoothly) for ago in (window, 0.0))
        return when, (now - before) * pitch / window
    if car.unit == "periods":
        back = 2 if car.both else 1
    else:
        back = np.maximum(seen - np.searchsorted(edges, when - car.task, side="right"), 1)
        back = np.minimum(np.maximum(back, 2 if car.both else 1), np.maximum(seen - 1, 1))
    value = back * pitch / np.maximum(last - edges[np.maximum(seen - 1 - back, 0)], 1e-6)
    value = np.minimum(value, 1.3 * pitch / np.maximum(when - last, 1e-6))
    value = np.where((seen < 6) | (when - last > car.time_out), 0.0, value)
    if car.unit == "second order":
        b, a = butter(2, min(0.35 / car.window, 0.4 / car.task), fs=1.0 / car.task)
        value = np.maximum(lfilter(b, a, value, zi=lfilter_zi(b, a) * value[0])[0], 0.0)
    if car.unit == "doubt and hold":
        kept, since, out = float(value[0]), 0.0, []
        for new in value.tolist():
            doubtful = abs(new - kept) > max(car.doubt * kept, 0.6) + 12.0 * since
            since = since + car.task if doubtful and since < car.waits else 0.0
            kept = kept if since > 0.0 else new
            out.append(kept)
        value = np.array(out)
    return when, np.where(value < car.quiet, 0.0, value)


def _stood_in(shown: dict[Corner, tuple[Array, Array]], car: _Car) -> dict[Corner, tuple[Array, Array]]:
    """A corner that falls out of the others' range shows their middle, until it has long been out of it."""
    rows = np.array([value for _, value in shown.values()])
    out = {}
    for row, (corner, (when, value)) in enumerate(shown.items()):
        others = np.delete(rows, row, axis=0)
        low, high = others.min(axis=0), others.max(axis=0)
        off = (value < low - car.doubt * np.maximum(low, 2.0)) | (value > high + car.doubt * np.maximum(high, 2.0))
        count = np.arange(off.size)
        run = count - np.maximum.accumulate(np.where(off, -1, count))
        out[corner] = (when, np.where(off & (run * car.task < 6.0 * car.waits), np.median(others, axis=0), value))
    return out


def _logged(
    rng: np.random.Generator, shown: dict[Corner, tuple[Array, Array]], rate_hz: float, duration: float, exact: bool
) -> RawLog:
    """Messages every few hundredths of a second with steps of their own; the logger writes the latest, some rounded."""
    unit, factor = (("km/h", 3.6), ("km/h", 3.6), ("m/s", 1.0), ("mph", 2.236936))[int(rng.integers(4))]
    step = float(rng.choice((0.01, 0.0078125, 0.05625, 0.0625))) / 3.6
    shows = float(rng.choice((0.01, 0.01, 0.1)) if rate_hz > 20 else rng.choice((0.01, 0.1, 0.5, 1.0)))
    shows *= 0.25 if unit == "m/s" else 1.0
    cycle, apart = float(rng.choice((0.01, 0.02))), bool(rng.random() < 0.4)
    spread = float(rng.choice((0.15, 0.22, 0.25)))
    rows = np.arange(0.6, duration - 0.8, 1.0 / rate_hz)
    rows = np.sort(rows + float(rng.choice((0.0, 1e-3, 6e-3))) * rng.standard_normal(rows.size))
    kept = rng.random(rows.size) > float(rng.choice((0.0, 0.0, 0.0, 0.03)))
    if rng.random() < 0.1:
        hole = rng.uniform(0.2, 0.8) * duration
        kept &= (rows < hole) | (rows > hole + rng.uniform(1.0, 6.0))
    own_stamps = bool(rng.random() < 0.5)
    channels = []
    for place, (corner, (when, value)) in enumerate(shown.items()):
        asks = rows[kept] + (place * spread / rate_hz if apart else 0.0)
        sent = np.floor(asks / cycle) * cycle - 0.002
        told = value[np.clip(np.searchsorted(when, sent, side="right") - 1, 0, None)]
        if not exact:
            told = np.round(np.round(told / step) * step * factor / shows) * shows
        else:
            told = told * factor
        stamps = np.round(asks if own_stamps else rows[kept], 3)
        channels.append(RawChannel(f"Wheel speed {corner}", unit, stamps, np.round(told, 5)))
    return RawLog(tuple(channels), "sixth world")
