"""Spin scenes: the car on stands, its wheels turned one after another.

Nothing is compared here; the question is only which corner came alive, how fast and in
which order. A wheel that reads nothing may be dead, turned too slowly or not turned at
all: only where the order leaves a gap of its length is it likely that it was turned.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import combinations

import numpy as np

from nodrek.core.model import Corner, Fault, Finding, SpinResult, WheelChannel, WheelLog
from nodrek.core.motion.usable import MOVING, ONLY_DRIVEN
from nodrek.core.verdict.not_turned import NOT_TURNED

TURNING = 0.25
"""m/s from which a wheel counts as turning."""
LEAST_TURN_S = 0.5
TURN_SHARE = 0.1
"""Part of all turning that one turn takes at least."""
LONGEST_ONE_SET_S = 60.0
"""Seconds for which the same wheels turn, while another does not, from which two or three corners are a drive. (Of
four, both wheels of an axle may be run by the engine, and hardly ever are two corners dead at once.)"""
TOGETHER_SHARE = 0.1
"""Part of the turning time for which three corners may turn at once (moments of a creeping log)."""
ALIKE, ALIKE_SHARE = 0.7, 0.9
"""Part of the speed of its mate that a wheel runs at in the tightest bend, and for how much of a drive at least."""
GRID_S = 0.2
GAP_FACTOR = 1.6
CONFIDENCE_TURNED, CONFIDENCE_UNKNOWN, CONFIDENCE_STUCK = 0.75, 0.45, 0.9


@dataclass(frozen=True)
class _Turn:
    corner: Corner
    start: float
    stop: float


def is_spin(log: WheelLog) -> bool:
    """Wheels turn, but never the whole vehicle: in a drive front and rear wheels turn at once. Two of one axle that run
    alike, as fast as in a drive, are one on the road or on rollers, which `not_turned` tells apart."""
    grid = np.arange(0.0, log.duration + GRID_S, GRID_S)
    speeds = np.vstack([_speed_on(ch, grid) for ch in log.channels.values()])
    turning = speeds > TURNING
    anything: np.ndarray = np.any(turning, axis=0)
    if anything.sum() * GRID_S < LEAST_TURN_S:
        return False
    peak = max(_peak(ch) for ch in log.channels.values())
    if peak > ONLY_DRIVEN:
        return False
    few = len(log.channels) < len(Corner)
    turned = [k for k, mine in enumerate(turning) if mine.any()]
    ends = np.array([c.is_front for c in log.channels])
    if not few and len(turned) == 2 and ends[turned[0]] == ends[turned[1]]:
        return peak < MOVING or not _roll_alike(speeds[turned][:, anything])
    count = turning.sum(axis=0)
    # two may turn together: the driven wheels of one axle
    at_once: np.ndarray = count >= min(3, len(log.channels))
    if not few:
        at_once = turning[ends].any(axis=0) & turning[~ends].any(axis=0)
    together = float(at_once[anything].mean())
    alone = float((count[anything] == 1).mean())
    if few and anything.sum() * GRID_S > LONGEST_ONE_SET_S and not _takes_turns(turning, anything):
        # one wheel, or two, turn all the time: a drive on which another is dead
        return False
    return together < TOGETHER_SHARE and (alone > 0.3 or len(_sets(turning, anything)) >= 2)


def _roll_alike(speeds: np.ndarray) -> bool:
    """Whether two wheels run as on a road or on rollers, shape (2, moments), and not as a differential likes."""
    slow, fast = speeds.min(axis=0), speeds.max(axis=0)
    return bool((slow > ALIKE * fast).mean() > ALIKE_SHARE)


def _sets(turning: np.ndarray, anything: np.ndarray) -> set[tuple[bool, ...]]:
    """Which wheels turn at once: pairs of one axle may."""
    return {tuple(column) for column in turning[:, anything].T.tolist()}


def _takes_turns(turning: np.ndarray, anything: np.ndarray) -> bool:
    """Whether one set of wheels turns for a while and then another, each without some wheel of the other."""
    least = max(LEAST_TURN_S, TURN_SHARE * anything.sum() * GRID_S)
    columns, counts = np.unique(turning[:, anything], axis=1, return_counts=True)
    return any(np.any(a & ~b) and np.any(b & ~a) for a, b in combinations(columns.T[counts * GRID_S >= least], 2))


def spin_results(log: WheelLog) -> tuple[dict[Corner, SpinResult], tuple[Finding, ...]]:
    """Each corner's result in the order of turning, and what is found."""
    turns = sorted((t for c, ch in log.channels.items() if (t := _turn(c, ch)) is not None), key=lambda t: t.start)
    order = {turn.corner: k + 1 for k, turn in enumerate(turns)}
    silent = [c for c in log.corners if c not in order]
    missing = _gaps(turns, log.duration)
    results = {}
    for corner, channel in log.channels.items():
        alive = corner in order
        results[corner] = SpinResult(
            spun=alive or (len(silent) <= missing), alive=alive, peak=_peak(channel), order=order.get(corner)
        )
    findings = [_silent_finding(c, log.channels[c], len(silent) <= missing) for c in silent] if turns else []
    return results, tuple(sorted(findings, key=lambda f: -f.confidence))


def _silent_finding(corner: Corner, channel: WheelChannel, turned: bool) -> Finding:
    known = channel.speed[~channel.invalid]
    stuck = channel.invalid.mean() > 0.9 or (known.size > 0 and np.ptp(known) == 0.0 and known[0] > TURNING)
    if stuck:
        return Finding(
            Fault.FROZEN, (corner,), CONFIDENCE_STUCK,
            f"The {corner.words} corner shows one value while the others are turned, and it is no standstill.",
            {"value_kmh": round(float(known[0]) * 3.6, 2) if known.size else None},
        )  # fmt: skip
    why = (
        "the order of turning leaves a pause in which it was probably turned"
        if turned
        else "it may be dead, turned too slowly, or not turned"
    )
    return Finding(
        Fault.NO_SIGNAL, (corner,), CONFIDENCE_TURNED if turned else CONFIDENCE_UNKNOWN,
        f"The {corner.words} wheel reads zero in the whole log: {why}. "
        "A coil sensor says nothing below about 8 km/h: turn it briskly and look again.",
        {"turned": turned, "or": ["too slow", NOT_TURNED]},
    )  # fmt: skip


def _gaps(turns: list[_Turn], duration: float) -> int:
    """How many wheels fit into pauses that are longer than the usual step from wheel to wheel."""
    if len(turns) < 2:
        return 0
    starts = np.array([t.start for t in turns])
    steps = np.diff(starts)
    usual = float(np.min(steps)) if steps.size < 3 else float(np.median(steps))
    if usual <= 0:
        return 0
    inner = int(np.sum(np.maximum(np.round(steps[steps > GAP_FACTOR * usual] / usual) - 1, 1)))
    length = float(np.median([t.stop - t.start for t in turns]))
    before, after = starts[0], duration - turns[-1].stop
    # at either end a pause must hold a whole turn with its margins
    return inner + int(before > GAP_FACTOR * usual) + int(after > max(GAP_FACTOR * usual - length, usual))


def _turn(corner: Corner, channel: WheelChannel) -> _Turn | None:
    """When the corner turned: first to last moment of its longest run, short stops bridged."""
    with np.errstate(invalid="ignore"):
        on = channel.speed > TURNING
    times = channel.times[on & ~channel.invalid]
    if times.size < 2 or np.ptp(channel.speed[~channel.invalid]) == 0.0:
        return None
    groups = np.split(times, np.flatnonzero(np.diff(times) > max(2.0, 4.0 / max(channel.rate, 0.1))) + 1)
    longest = max(groups, key=lambda g: float(g[-1] - g[0]))
    if longest[-1] - longest[0] < LEAST_TURN_S:
        return None
    return _Turn(corner, float(longest[0]), float(longest[-1]))


def _peak(channel: WheelChannel) -> float:
    known = channel.speed[~channel.invalid]
    return float(known.max()) if known.size else math.nan


def _speed_on(channel: WheelChannel, grid: np.ndarray) -> np.ndarray:
    good = ~channel.invalid
    if good.sum() < 2 or np.ptp(channel.speed[good]) == 0.0:
        return np.zeros(grid.size)
    values: np.ndarray = np.interp(grid, channel.times[good], channel.speed[good], left=0.0, right=0.0)
    return values
