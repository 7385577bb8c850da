"""Drives from a seventh world, which was measured before it taught: drivers go from one manoeuvre to the next.

Written from the trade alone, without a line of the other worlds' physics. A drive is a chain of manoeuvres (pull away,
cruise, bend, roundabout, halt, brake hard, reverse), loads move between the wheels and radii with them, and most sound
drives have a `NUISANCES` of their own. Rings are rows of angles that pass a sensor with a threshold. Six control
units: span of edges, last period, edges per window, a filter, a hold of values that no wheel can reach, and a guard
that shows the axle's mate instead.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy.signal import butter, lfilter, sosfilt

from benchmarks import smallest
from benchmarks.second_world import Drawn, counted, edges_a_turn
from nodrek.core.model import Array, Corner, Fault, RawChannel, RawLog

FAULTS: dict[str, Fault | None] = {
    "healthy": None, "tooth broken off": Fault.RING_DAMAGE, "teeth broken off": Fault.RING_DAMAGE,
    "two spots": Fault.RING_DAMAGE, "split ring": Fault.RING_DAMAGE, "eccentric": Fault.RING_RUNOUT,
    "faint arc": Fault.RING_RUNOUT, "wrong ring": Fault.RING_COUNT, "rust": Fault.ENCODER_NOISE,
    "shimmed off": Fault.AIR_GAP, "chafed lead": Fault.INTERMITTENT, "unplugged": Fault.NO_SIGNAL,
    "stuck": Fault.FROZEN, "odd tyre": Fault.TYRE_SIZE, "swapped": Fault.CROSSED,
}  # fmt: skip
SMALLEST = {
    Fault.RING_DAMAGE: "tooth broken off", Fault.RING_RUNOUT: "eccentric", Fault.AIR_GAP: "shimmed off",
    Fault.INTERMITTENT: "chafed lead", Fault.TYRE_SIZE: "odd tyre",
}  # fmt: skip
"""How the faults are called here whose smallest ones are asked for."""
UNITS = ("span", "last", "window", "filter", "hold", "guard")
NUISANCES = ("potholes", "spin", "hard braking", "roundabouts", "parking", "gravel", "crown", "warming", "worn axle",
             "motorway", "queue", "stamps")  # fmt: skip
TICK_S = 0.004
ROADS = {  # speeds m/s from and to, share of bends, of halts, sharpest radius m
    "street": (6.0, 14.0, 0.45, 0.3, 9.0), "road": (14.0, 26.0, 0.4, 0.06, 60.0),
    "motorway": (25.0, 37.0, 0.25, 0.0, 600.0), "queue": (0.8, 5.0, 0.2, 0.5, 40.0),
    "parking": (1.0, 3.5, 0.7, 0.4, 5.5), "roundabouts": (6.0, 13.0, 0.7, 0.15, 12.0),
}  # fmt: skip


@dataclass(frozen=True)
class _Drive:
    """On ticks: time s, speed m/s (negative backwards), curvature 1/m (left positive), acceleration m/s²; ``brakes``
    where the brakes are the anti-lock's."""

    time: Array
    speed: Array
    curve: Array
    gains: Array
    brakes: Array


@dataclass(frozen=True)
class _Vehicle:
    """Lengths m, times s; ``height`` of the centre of mass over the wheelbase; the rest relative or a name."""

    radius: float
    track: float
    base: float
    height: float
    teeth: int
    edges: int
    driven: tuple[float, float]
    coil: bool
    pitch: float
    unit: str
    task: float
    span: float
    limit: float
    patience: float
    silence: float
    floor: float
    scale: float
    smoothly: bool = False


def draw(
    seed: int, kind: str, rate_hz: float, faulty: bool = True, small: float | None = None, exact: bool = False
) -> Drawn:
    """One drive of one to six minutes; the same drive without its fault where not `faulty`.

    `small`: the fault, one of `SMALLEST`, is so many times the smallest one worth finding. `exact`: units round and
    count nothing, and teeth are placed well, as `benchmarks.visible` asks.
    """
    rng, bad_luck = np.random.default_rng([seed, 7, 1]), np.random.default_rng([seed, 7, 2])
    nuisance = str(rng.choice(NUISANCES)) if rng.random() < (0.75 if kind == "healthy" else 0.35) else ""
    vehicle = _vehicle(rng)
    if exact:
        vehicle = replace(vehicle, pitch=0.0, smoothly=True)
    drive = _drive(rng, float(np.exp(rng.uniform(np.log(60.0), np.log(360.0)))), nuisance)
    bad, here = Corner(list(Corner)[int(bad_luck.integers(4))]), kind if faulty else "healthy"
    sizes = _sizes(rng, nuisance)
    odd = smallest.RATIO * small if small else float(bad_luck.uniform(0.006, 0.04))
    if here == "odd tyre":
        sizes[bad] *= float(np.exp(bad_luck.choice((-1, 1)) * odd))
    bumps = _bumps(rng, drive, nuisance)
    rough = float(np.exp(rng.uniform(np.log(2e-4), np.log(1.5e-3)))) * (5.0 if nuisance == "gravel" else 1.0)
    spins = _spins(rng, drive, vehicle) if nuisance == "spin" else {}
    drift = float(rng.uniform(0.0, 0.004)) if nuisance == "warming" else 0.0
    values: dict[Corner, Array] = {}
    lost = 0
    ticks = np.arange(vehicle.task, drive.time[-1], vehicle.task)
    for corner in Corner:
        own = np.random.default_rng([seed, 7, 3, list(Corner).index(corner)])
        pace = _pace(own, vehicle, drive, corner, rough, bumps) * (1.0 + spins.get(corner, 0.0))
        warm = 1.0 - drift * np.exp(-drive.time / 120.0) * float(own.uniform(0.8, 1.0))
        angle = own.random() + np.cumsum(pace) * TICK_S / (2.0 * np.pi * vehicle.radius * sizes[corner] * warm)
        unround = float(np.exp(own.uniform(np.log(3e-5), np.log(4e-4)))) / (2.0 * np.pi)
        angle = angle + unround * np.sin(2.0 * np.pi * (angle + own.random()))
        edges = _passing(own, bad_luck, vehicle, here if corner is bad else "healthy", drive, angle, pace, bumps, small)
        if corner is bad and kind in ("tooth broken off", "teeth broken off", "two spots"):
            lost = vehicle.teeth - round(edges_a_turn(edges, drive.time, angle) / vehicle.edges)
        values[corner] = _unit(vehicle, edges, ticks)
    if vehicle.unit == "guard":
        values = _guarded(values, vehicle)
    corners: tuple[Corner, ...] = (bad,)
    if kind == "swapped":
        corners = tuple(c for c in Corner if c.is_front is bad.is_front)
        if faulty:
            values[corners[0]], values[corners[1]] = values[corners[1]], values[corners[0]]
    if here == "stuck":
        since = int(bad_luck.uniform(0.0, 0.5) * ticks.size)
        rolls = values[bad][since:][values[bad][since:] > 1.5]
        fixed = float(rolls[0]) if rolls.size and bad_luck.random() < 0.5 else float(bad_luck.choice((142.22, 91.0)))
        values[bad] = np.where(np.arange(ticks.size) >= since, fixed, values[bad])
    log = _logger(np.random.default_rng([seed, 7, 4]), ticks, values, rate_hz, nuisance == "stamps", exact)
    fault = FAULTS[here]
    return Drawn(log, fault, corners if fault else (), vehicle.unit, vehicle.teeth, lost if fault else 0)


def _vehicle(rng: np.random.Generator) -> _Vehicle:
    heavy = rng.random() < 0.07
    return _Vehicle(
        radius=float(rng.uniform(0.42, 0.55) if heavy else rng.uniform(0.275, 0.375)),
        track=float(rng.uniform(1.4, 1.75)), base=float(rng.uniform(2.3, 3.4)), height=float(rng.uniform(0.17, 0.25)),
        teeth=int(rng.choice((29, 36, 43, 44, 46, 47, 48, 48, 48, 50, 52, 54, 60, 72, 86, 96, 100))),
        edges=2 if rng.random() < 0.25 else 1,
        driven=((1.0, 0.0), (0.0, 1.0), (0.5, 0.5))[int(rng.integers(3))], coil=bool(rng.random() < 0.4),
        pitch=float(np.exp(rng.uniform(np.log(1e-3), np.log(1.5e-2)))), unit=str(rng.choice(UNITS)),
        task=float(rng.choice((0.005, 0.007, 0.01, 0.02))), span=float(rng.choice((0.02, 0.04, 0.1, 0.16))),
        limit=float(rng.uniform(12.0, 60.0)), patience=float(np.exp(rng.uniform(np.log(0.03), np.log(0.6)))),
        silence=float(rng.uniform(0.12, 0.8)), floor=float(rng.choice((0.0, 0.0, 0.4, 0.76))),
        scale=float(np.exp(rng.normal(0.0, 0.01))),
    )  # fmt: skip


def _drive(rng: np.random.Generator, lasts: float, nuisance: str) -> _Drive:
    roads = {"motorway": "motorway", "queue": "queue", "parking": "parking", "roundabouts": "roundabouts"}
    road = roads.get(nuisance) or str(rng.choice(("street", "street", "road", "road", "motorway", "queue")))
    low, high, bends, halts, tightest = ROADS[road]
    nerve, grip = float(rng.uniform(0.6, 1.6)), float(rng.uniform(2.0, 5.0))
    aims, turns, begins, locks = [], [], [], []
    now, aim = 0.0, 0.0 if rng.random() < 0.7 else float(rng.uniform(low, high))
    start = aim
    while now < lasts:
        curve, stay, lock = 0.0, float(rng.gamma(2.0, 5.0)), False
        if rng.random() < halts:
            aim, stay = 0.0, float(rng.gamma(1.5, 4.0)) + 2.0
        elif rng.random() < bends:
            radius = tightest * float(np.exp(rng.exponential(1.2)))
            curve = (1.0 if road == "roundabouts" and rng.random() < 0.8 else float(rng.choice((-1, 1)))) / radius
            aim = min(float(rng.uniform(low, high)), float(np.sqrt(grip * radius)))
            stay = float(rng.uniform(0.25, 2.0)) * radius / max(aim, 1.0)
            stay = min(max(stay, 1.5), 25.0)
        else:
            aim = float(rng.uniform(low, high))
        if nuisance == "hard braking" and rng.random() < 0.25:
            aim, stay, lock, curve = 0.0 if rng.random() < 0.5 else 0.3 * low, float(rng.uniform(2.0, 5.0)), True, 0.0
        if road == "parking" and rng.random() < 0.35:
            aim = -0.6 * abs(aim)
        aims.append(aim), turns.append(curve), begins.append(now), locks.append(lock)
        now += stay
    time = np.arange(0.0, lasts, TICK_S)
    which = np.searchsorted(begins, time, side="right") - 1
    wanted, hard = np.array(aims)[which], np.array(locks)[which]
    speed, pull = np.empty(time.size), 0.0
    going = start
    for k, (target, brake) in enumerate(zip(wanted.tolist(), hard.tolist(), strict=True)):
        most = 8.5 if brake else 2.6 * nerve
        push = min(max(0.9 * nerve * (target - going), -most), 2.2 * nerve)
        pull += (push - pull) * TICK_S / (0.08 if brake else 0.35)
        going += pull * TICK_S
        if abs(target) < 0.01 and abs(going) < 0.15:
            going = pull = 0.0
        speed[k] = going
    # what the driver asks for, loads the wheels: the surge is a walk, whose every step would be a jerk
    gains = np.gradient(np.abs(speed), TICK_S)
    surge = lfilter([TICK_S / 4.0], [1.0, TICK_S / 4.0 - 1.0], rng.standard_normal(time.size)) * np.sqrt(8.0 / TICK_S)
    speed = speed * (1.0 + 0.012 * surge * (np.abs(wanted) > 0.1))
    steers = sosfilt(butter(2, 0.35, fs=1.0 / TICK_S, output="sos"), np.array(turns)[which])
    sways = lfilter([TICK_S], [1.0, TICK_S - 1.0], rng.standard_normal(time.size)) * np.sqrt(2.0 / TICK_S)
    curve = np.asarray(steers) + sways * float(rng.uniform(2e-5, 2e-4)) / np.maximum(np.abs(speed) / 15.0, 0.3)
    return _Drive(time, speed, curve, gains, hard & (speed > 2.0))


def _sizes(rng: np.random.Generator, nuisance: str) -> dict[Corner, float]:
    sizes = {c: float(np.exp(rng.normal(0.0, 6e-4))) for c in Corner}
    if nuisance == "worn axle":
        front, worn = bool(rng.integers(2)), float(rng.uniform(0.003, 0.01))
        sizes = {c: s * (1.0 - worn * (c.is_front is front)) for c, s in sizes.items()}
    if nuisance == "crown":  # the camber of the road leans on one side all the time
        leans = float(rng.choice((-1, 1)) * rng.uniform(2e-4, 8e-4))
        sizes = {c: s * (1.0 + leans * (1 if c.is_left else -1)) for c, s in sizes.items()}
    return sizes


def _bumps(rng: np.random.Generator, drive: _Drive, nuisance: str) -> list[tuple[int, int, float]]:
    """Tick at which the front axle meets it, side (-1 left, 0 both, 1 right), and depth."""
    way = np.cumsum(np.abs(drive.speed)) * TICK_S
    many = rng.poisson(way[-1] * (0.02 if nuisance == "potholes" else 0.0025))
    at = np.searchsorted(way, np.sort(rng.uniform(0.0, way[-1], many)))
    return [(int(k), int(rng.integers(-1, 2)), float(rng.exponential(0.035))) for k in at if k < way.size]


def _spins(rng: np.random.Generator, drive: _Drive, vehicle: _Vehicle) -> dict[Corner, Array]:
    """How much faster driven wheels turn where the road is wet and the driver in a hurry; often one side more."""
    out: dict[Corner, Array] = {}
    hurry = np.maximum(drive.gains - 1.2, 0.0) * (drive.speed > 0.5)
    for corner in Corner:
        share = vehicle.driven[0 if corner.is_front else 1]
        slips = sosfilt(butter(1, 1.5, fs=1.0 / TICK_S, output="sos"), rng.random(drive.time.size) ** 2)
        out[corner] = share * float(rng.choice((0.02, 0.08, 0.2))) * hurry * np.maximum(np.asarray(slips), 0.0)
    return out


def _pace(
    own: np.random.Generator, vehicle: _Vehicle, drive: _Drive, corner: Corner, rough: float,
    bumps: list[tuple[int, int, float]],
) -> Array:  # fmt: skip
    """Speed at which the rim of a right tyre passes, m/s, from the body, the load on the wheel and the road."""
    left, size = (1.0 if corner.is_left else -1.0), np.abs(drive.speed)
    forward = size * (1.0 - left * 0.5 * vehicle.track * drive.curve)
    across = size * drive.curve * vehicle.base * corner.is_front
    ground = np.hypot(forward, across)
    aside = drive.curve * size**2 / 9.81
    load = (
        1.0
        - left * 0.6 * aside / vehicle.track
        - (1.0 if corner.is_front else -1.0) * vehicle.height * drive.gains / 9.81
    )
    load = np.clip(load, 0.15, 2.0)
    radius = 1.0 - 0.008 * (load - 1.0) * float(own.uniform(0.4, 1.0)) + 6e-6 * size * float(own.uniform(0.5, 1.0))
    share = vehicle.driven[0 if corner.is_front else 1]
    drag = 0.12 + 4e-4 * size**2
    force = np.where(drive.gains + drag > 0.0, share * (drive.gains + drag), 0.5 * (drive.gains + drag)) / 9.81
    slip = force / (float(own.uniform(18.0, 26.0)) * load)
    if drive.brakes.any():
        beats = (drive.time * float(own.uniform(4.0, 8.0)) + own.random()) % 1.0
        slip = np.where(drive.brakes, slip - float(own.uniform(0.03, 0.2)) * np.clip(1.6 * beats - 0.4, 0.0, 1.0), slip)
    white = own.standard_normal((2, size.size))
    hop = sosfilt(butter(1, (9.0, 15.0), "bandpass", fs=1.0 / TICK_S, output="sos"), white[0])
    soft = sosfilt(butter(1, 4.0, fs=1.0 / TICK_S, output="sos"), white[1])
    shakes = rough * (0.8 * hop / np.std(hop) + 0.6 * soft / np.std(soft)) * np.minimum(size / 10.0, 1.5)
    hits = np.zeros(size.size)
    for at, where, deep in bumps:
        late = 0 if corner.is_front else int(vehicle.base / max(size[at], 0.8) / TICK_S)
        if where in (0, -left) and at + late < size.size and size[at] > 0.8:
            hits[at + late] += deep
    decays, rings = np.exp(-TICK_S / 0.07), 2.0 * np.pi * 11.0 * TICK_S
    hits = lfilter([0.0, 1.0, -1.0], [1.0, -2.0 * decays * np.cos(rings), decays**2], hits)
    return np.asarray(np.maximum(ground * (1.0 + slip + shakes + np.clip(hits, -0.4, 0.4)) / radius, 0.0))


def _ring(
    own: np.random.Generator, harm: np.random.Generator, vehicle: _Vehicle, fault: str, small: float | None
) -> Array:
    """Angles of the edges round the turn, in turns; rising ones, then falling ones where both are counted."""
    teeth = vehicle.teeth
    if fault == "wrong ring":
        teeth += int(harm.choice((-8, -5, -4, -3, -2, -1, 1, 2, 3, 4, 5, 8)))
    angles = (np.arange(teeth) + vehicle.pitch * own.standard_normal(teeth)) / teeth
    first, gone = int(harm.integers(teeth)), np.zeros(teeth, dtype=bool)
    if fault == "tooth broken off":
        gone[first] = True
    elif fault == "teeth broken off":
        gone[(first + np.arange(int(harm.integers(2, 5)))) % teeth] = True
    elif fault == "two spots":
        gone[[first, (first + int(harm.integers(teeth // 6, teeth - teeth // 6))) % teeth]] = True
    elif fault == "split ring":  # a pressed ring that has cracked: one pitch is longer, all others give way
        gape = float(harm.uniform(0.25, 1.0)) / teeth
        angles = (angles + gape * (angles > angles[first])) / (1.0 + gape)
    elif fault == "eccentric":
        swing = smallest.SWING * small if small else float(np.exp(harm.uniform(np.log(0.003), np.log(0.025))))
        angles = angles + swing / (2.0 * np.pi) * np.sin(2.0 * np.pi * (angles + harm.random()))
    width = (float(own.uniform(0.42, 0.58)) + 0.3 * vehicle.pitch * own.standard_normal(teeth)) / teeth
    rising, falling = angles[~gone], (angles + width)[~gone]
    return np.concatenate([rising, falling]) if vehicle.edges == 2 else rising


def _passing(
    own: np.random.Generator, harm: np.random.Generator, vehicle: _Vehicle, fault: str, drive: _Drive, angle: Array,
    pace: Array, bumps: list[tuple[int, int, float]], small: float | None,
) -> Array:  # fmt: skip
    """Moments (s) of the edges that reach the control unit."""
    least = float(own.uniform(0.3, 1.2)) if vehicle.coil else 0.02
    angles = _ring(own, harm, vehicle, fault, small)
    if fault == "unplugged":
        return np.zeros(0)
    laps = np.arange(np.floor(angle[0]), np.ceil(angle[-1]))
    when_at = np.sort((laps[:, None] + angles).ravel())
    rolls = np.concatenate([[True], np.diff(angle) > 1e-10])
    inside = (when_at > angle[0]) & (when_at < angle[-1])
    when_at = when_at[inside]
    when = np.interp(when_at, angle[rolls], drive.time[rolls])
    volts = np.interp(when, drive.time, pace)
    if fault == "faint arc":
        centre, wide = harm.random(), float(harm.uniform(0.05, 0.3))
        off = np.abs(np.mod(when_at - centre + 0.5, 1.0) - 0.5)
        faint = float(harm.uniform(1.8, 6.0))
        least = np.where(off < 0.5 * wide, max(faint, least), least)
    elif fault == "shimmed off":
        wakes = smallest.WAKE * small if small else float(harm.uniform(8.0, 30.0)) / 3.6
        least = max(wakes, least)
    seen = volts * np.exp(0.04 * own.standard_normal(when.size)) > least
    if fault == "rust":
        seen &= harm.random(when.size) > float(np.exp(harm.uniform(np.log(0.008), np.log(0.12))))
    when = when[seen]
    if fault == "rust" and harm.random() < 0.5:  # crumbs that count as edges
        more = harm.uniform(when[0], when[-1], int(0.02 * when.size)) if when.size else when
        when = np.sort(np.concatenate([when, more]))
    if fault == "chafed lead":
        when = _chafed(harm, when, drive, bumps, small)
    return np.sort(when + 4e-6 * (not vehicle.smoothly) * own.standard_normal(when.size))


def _chafed(
    harm: np.random.Generator, when: Array, drive: _Drive, bumps: list[tuple[int, int, float]], small: float | None
) -> Array:
    """Without the edges that fall into breaks: at bumps, in bends one way, above a speed, or whenever."""
    minutes, trigger = drive.time[-1] / 60.0, str(harm.choice(("bumps", "bends", "speed", "none")))
    aside = drive.curve * drive.speed**2 * harm.choice((-1, 1))
    may = np.flatnonzero(np.abs(drive.speed) > 1.0)
    if trigger == "bends" and (aside > 1.0).sum() > 500:
        may = np.flatnonzero(aside > 1.0)
    if trigger == "speed":
        may = np.flatnonzero(np.abs(drive.speed) > np.quantile(np.abs(drive.speed), 0.7))
    many = max(1, round(minutes)) if small else max(2, harm.poisson(float(harm.uniform(2.0, 10.0)) * minutes))
    begins = drive.time[harm.choice(may, many)] if may.size else np.zeros(0)
    if trigger == "bumps" and len(bumps) > 3:
        begins = drive.time[[at for at, *_ in bumps]]
        begins = harm.choice(begins, min(many, begins.size), replace=False)
    for begin in begins.tolist():
        lasts = smallest.BREAK_S * small if small else 0.05 + float(harm.gamma(1.0, 0.25))
        when = when[(when < begin) | (when > begin + lasts)]
    return when


def _unit(vehicle: _Vehicle, edges: Array, ticks: Array) -> Array:
    """Speed (m/s) that a control unit shows at its ticks."""
    if edges.size < 8:
        return np.zeros(ticks.size)
    pitch = 2.0 * np.pi * vehicle.radius * vehicle.scale / (vehicle.teeth * vehicle.edges)
    count = np.searchsorted(edges, ticks, side="right")
    newest = np.clip(count - 1, 0, None)
    before = np.searchsorted(edges, ticks - vehicle.task, side="right")
    if vehicle.unit == "window":
        reach = max(2, round(vehicle.span / vehicle.task)) * vehicle.task
        before, now = (counted(edges, ticks - ago, vehicle.smoothly) for ago in (reach, 0.0))
        return np.asarray((now - before) * pitch / reach)
    # both edges: always whole teeth, whose two edges are apart by the tooth's width
    periods = np.full(ticks.size, vehicle.edges)
    if vehicle.unit != "last":
        periods = np.maximum((count - before) // vehicle.edges * vehicle.edges, periods)
    oldest = np.clip(newest - periods, 0, None)
    value = (newest - oldest) * pitch / np.maximum(edges[newest] - edges[oldest], 1e-5)
    waits = ticks - edges[newest]
    value = np.minimum(value, vehicle.edges * pitch / np.maximum(waits, 1e-5))
    value = np.where((count < 4) | (waits > vehicle.silence), 0.0, value)
    if vehicle.unit == "filter":
        keeps = float(np.exp(-vehicle.task / max(vehicle.span, 0.03)))
        value = np.asarray(lfilter([1.0 - keeps], [1.0, -keeps], value, zi=[keeps * value[0]])[0])
    if vehicle.unit == "hold":
        value = _held(value, vehicle)
    return np.where(value < vehicle.floor, 0.0, value)


def _held(value: Array, vehicle: _Vehicle) -> Array:
    """A value that would need more than `limit` m/s² is left out for a while: the last one that was believed stays."""
    shown, idle, out = float(value[0]), 0.0, []
    for new in value.tolist():
        idle += vehicle.task
        if abs(new - shown) <= vehicle.limit * idle + 0.15 or idle > vehicle.patience:
            shown, idle = new, 0.0
        out.append(shown)
    return np.array(out)


def _guarded(values: dict[Corner, Array], vehicle: _Vehicle) -> dict[Corner, Array]:
    """A corner that reads far less than its axle's mate for a short while shows the mate's value instead."""
    out, tasks = {}, max(1, round(vehicle.patience / vehicle.task))
    for corner, value in values.items():
        mate = values[corner.mate]
        low = (mate > 1.5) & (value < mate * (1.0 - 0.01 * vehicle.limit))
        place = np.arange(value.size)
        since = place - np.maximum.accumulate(np.where(low, -1, place))
        out[corner] = np.where(low & (since <= tasks), mate, value)
    return out


def _logger(
    rng: np.random.Generator, ticks: Array, values: dict[Corner, Array], rate_hz: float, bad_stamps: bool, exact: bool
) -> RawLog:
    """Asks for all at once, for one after another, or for the rear axle every other time; writes what it was told."""
    unit, factor = (("km/h", 3.6), ("km/h", 3.6), ("km/h", 3.6), ("m/s", 1.0), ("mph", 2.236936))[int(rng.integers(5))]
    steps = (0.01, 0.05625, 0.0625, 0.1) if rate_hz > 20.0 else (0.01, 0.0625, 0.1, 0.5, 1.0)
    step = float(rng.choice(steps)) * (0.25 if unit == "m/s" else 1.0)
    way = str(rng.choice(("at once", "at once", "in turn", "rear less often")))
    rows = np.arange(0.5, ticks[-1] - 1.0 / rate_hz, 1.0 / rate_hz)
    rows = np.sort(rows + float(rng.choice((0.0, 5e-4, 0.1 / rate_hz))) * rng.uniform(-0.5, 0.5, rows.size))
    if bad_stamps:
        rows = rows[rng.random(rows.size) > 0.04]
        again = np.sort(rng.integers(rows.size, size=max(3, rows.size // 60)))
        rows = np.sort(np.concatenate([rows, rows[again]]))
        hole = float(rng.uniform(0.2, 0.8)) * rows[-1]
        rows = rows[(rows < hole) | (rows > hole + float(rng.uniform(0.5, 8.0)))]
    channels = []
    for place, corner in enumerate(Corner):
        asks = rows[::2] if way == "rear less often" and not corner.is_front else rows
        asks = asks + (0.24 * place / rate_hz if way == "in turn" else 0.0)
        told = values[corner][np.clip(np.searchsorted(ticks, asks, side="right") - 1, 0, None)] * factor
        told = told if exact else np.round(told / step) * step
        stamps = np.round(rows if way == "in turn" else asks, 3)
        channels.append(RawChannel(f"Wheel speed {corner}", unit, stamps, np.round(told, 5)))
    return RawLog(tuple(channels), "seventh world")
