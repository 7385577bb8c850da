"""What a handy person with a script makes of the same drives, to say how hard the worlds are.

python -m benchmarks.plain_detector [DRIVES] [FIRST_SEED] [--world second|third|...|thirteenth]

Corners are laid on one clock and compared with the median of the others: a median ratio, dips below a threshold, one
spectrum over the way driven, silence, standing still, the sign of bends. No wheel angle is followed, no noise is
modelled, nothing is learnt, every finding is certain. What `benchmarks.elsewhere` prints of the program is to be read
beside it. Its limits were set by hand, until about one sound log in ten cries, on the worlds seven, eleven and twelve.
"""

from __future__ import annotations

import argparse
from concurrent.futures import ProcessPoolExecutor
from typing import NamedTuple

import numpy as np
from scipy.ndimage import median_filter

from benchmarks.elsewhere import FIRST_SEED, HEALTHY_FOR_ONE, RATES_HZ, WORLDS, Trial, as_found, is_visible, told
from benchmarks.reliability import share
from nodrek.core.corners import map_corners
from nodrek.core.model import Array, Corner, Fault, Finding, WheelLog
from nodrek.errors import NodrekError

ODD, BY_TEETH, OVER_SPREAD = 0.006, 0.09, 1.5
"""Ratio that is odd, from which it is another ring, and how far over the spread of the others it must be."""
DIP, DIP_SIGMAS, NOISY, OVER_MATES = 0.02, 5.0, 0.03, 5.0
"""Depth of a dip at least, and over noise; share of dips of a noisy encoder, and how far over that of its mates."""
DIPS_IN_LINE, SWING_IN_LINE, SWING = 14.0, 32.0, 0.0015
"""Power of a spectrum over its mean, of dips and of all deviations; the least amplitude of the second."""
SMALLEST_M, LARGEST_M, PLACE_M = 1.6, 3.6, 0.1
SILENT, BREAK, BREAKS = 0.2, -0.3, 3
"""m/s that are silence; depth of a break, and how many make a bad lead."""
WAKES, SLOW, ASLEEP = 4.0 / 3.6, (1.2, 12.0), 4
"""m/s up to which sound corners may sleep; between which they are looked at; samples that tell."""
AGAINST = -0.6
"""Correlation of the axles' left−right differences where one is crossed."""
DRIVES, ROLLS, FAST = 3.0, 2.0, 5.0


class Rows(NamedTuple):
    """Speeds (m/s) by corner on one clock, its step (s), and the median of the other corners."""

    own: dict[Corner, Array]
    others: dict[Corner, Array]
    step: float


class Dips(NamedTuple):
    """Of one corner: relative deviation from the others without its slow changes (0 at a walk), its noise, and which
    samples dip out of that."""

    deviation: Array
    sigma: float
    low: Array


def detect(log: WheelLog) -> list[Finding]:
    rows = _rows(log)
    silent = [f for corner in rows.own if (f := _says_nothing(rows, corner))]
    left = [c for c in rows.own if not any(c in f.corners for f in silent)]
    ratios = {c: r for c in left if np.isfinite(r := _ratio(rows, c))}
    dips = {c: _dips(rows, c) for c in left}
    signal = [f for c in left if (f := _bad_signal(rows, c, dips))]
    return [*silent, *_odd_ratio(ratios), *_crossed(rows, ratios), *signal]


def _rows(log: WheelLog) -> Rows:
    channels = log.channels
    step = 1.0 / min(c.rate for c in channels.values())
    start, stop = max(c.times[0] for c in channels.values()), min(c.times[-1] for c in channels.values())
    clock = np.arange(start, stop, step)
    own = {k: np.interp(clock, c.times, np.where(c.invalid, 0.0, c.speed)) for k, c in channels.items()}
    others = {k: np.median([speed for c, speed in own.items() if c is not k], axis=0) for k in own}
    return Rows(own, others, step)


def _said(fault: Fault, *corners: Corner) -> Finding:
    return Finding(fault, corners, 1.0, "", {})


def _says_nothing(rows: Rows, corner: Corner) -> Finding | None:
    own, drives = rows.own[corner], rows.others[corner] > DRIVES
    if np.count_nonzero(drives[1:]) == 0:
        return None
    if np.mean(own[drives] < SILENT) > 0.95:
        return _said(Fault.NO_SIGNAL, corner)
    stands = np.mean(np.diff(own)[drives[1:]] == 0.0) > 0.9
    return _said(Fault.FROZEN, corner) if stands and np.ptp(rows.others[corner][drives]) > DRIVES else None


def _ratio(rows: Rows, corner: Corner) -> float:
    fast = (rows.others[corner] > FAST) & (rows.own[corner] > ROLLS)
    return float(np.median(rows.own[corner][fast] / rows.others[corner][fast])) if np.any(fast) else float("nan")


def _odd_ratio(ratios: dict[Corner, float]) -> list[Finding]:
    if len(ratios) < len(Corner):
        return []
    middle = float(np.median(list(ratios.values())))
    odd = max(ratios, key=lambda c: abs(ratios[c] - middle))
    rest = [r for c, r in ratios.items() if c is not odd]
    off = abs(ratios[odd] - float(np.mean(rest)))
    if off > max(ODD, OVER_SPREAD * float(np.ptp(rest))):
        return [_said(Fault.RING_COUNT if off > BY_TEETH else Fault.TYRE_SIZE, odd)]
    front, rear = (np.array([r for c, r in ratios.items() if c.is_front is is_front]) for is_front in (True, False))
    alike = max(np.ptp(front), np.ptp(rear)) < ODD
    return [_said(Fault.TYRE_SIZE, Corner.FL, Corner.FR)] if alike and abs(front.mean() - rear.mean()) > 2 * ODD else []


def _crossed(rows: Rows, ratios: dict[Corner, float]) -> list[Finding]:
    if len(ratios) < len(Corner):
        return []
    drives = np.min([rows.others[c] for c in Corner], axis=0) > DRIVES
    even = {c: rows.own[c][drives] / ratios[c] for c in Corner}
    front, rear = even[Corner.FL] - even[Corner.FR], even[Corner.RL] - even[Corner.RR]
    against = front.size > 1 and front.std() * rear.std() > 0.0 and np.corrcoef(front, rear)[0, 1] < AGAINST
    return [_said(Fault.CROSSED, Corner.FL, Corner.FR)] if against else []


def _dips(rows: Rows, corner: Corner) -> Dips:
    rolls = rows.others[corner] > ROLLS
    relative = np.where(rolls, rows.own[corner] / np.maximum(rows.others[corner], 1.0) - 1.0, 0.0)
    deviation = relative - median_filter(relative, max(5, int(2.0 / rows.step) | 1))
    sigma = 1.4826 * float(np.median(np.abs(deviation[rolls]))) + 1e-5 if rolls.any() else 1.0
    return Dips(deviation, sigma, rolls & (deviation < -max(DIP, DIP_SIGMAS * sigma)))


def _bad_signal(rows: Rows, corner: Corner, dips: dict[Corner, Dips]) -> Finding | None:
    own, others, (deviation, sigma, low) = rows.own[corner], rows.others[corner], dips[corner]
    slow = (others > SLOW[0]) & (others < SLOW[1])
    asleep = slow & (own < SILENT)
    if np.count_nonzero(asleep) >= ASLEEP:
        wake = float(np.quantile(others[asleep], 0.9))
        below = slow & (others < 0.9 * wake)
        if wake > WAKES and np.count_nonzero(below) > ASLEEP and np.mean(own[below] < SILENT) > 0.8:
            return _said(Fault.AIR_GAP, corner)
    rolls = others > ROLLS
    way = np.cumsum(others) * rows.step
    if np.count_nonzero(low) >= 5 and _line(way[low], np.ones(np.count_nonzero(low)))[0] > DIPS_IN_LINE:
        return _said(Fault.RING_DAMAGE, corner)
    power, swing = _line(way[rolls], np.clip(deviation[rolls], -4.0 * sigma, 4.0 * sigma))
    if power > SWING_IN_LINE and swing > SWING:
        return _said(Fault.RING_RUNOUT, corner)
    shares = {c: float(np.mean(d.low)) / max(float(np.mean(rolls)), 1e-9) for c, d in dips.items()}
    if shares.pop(corner) > max(NOISY, OVER_MATES * max(shares.values(), default=0.0)):
        return _said(Fault.ENCODER_NOISE, corner)
    mates_read = np.min([s for c, s in rows.own.items() if c is not corner], axis=0) > DRIVES
    broken = ((own < SILENT) | (deviation < BREAK)) & (others > 4.0) & mates_read
    begins = np.count_nonzero(broken[1:] & ~broken[:-1])
    return _said(Fault.INTERMITTENT, corner) if begins >= BREAKS else None


def _line(way: Array, weights: Array) -> tuple[float, float]:
    """Highest power over its mean, and amplitude, of `weights` at places `way` (m), once a turn of any usual wheel."""
    if way.size < 10 and not np.all(weights == 1.0):
        return 0.0, 0.0
    places = np.bincount(((way - way[0]) / PLACE_M).astype(np.int64), weights=weights)
    size = 1 << int(np.ceil(np.log2(2 * places.size)))
    turns = np.fft.rfftfreq(size, PLACE_M)
    usual = (turns > 1.0 / LARGEST_M) & (turns < 1.0 / SMALLEST_M)
    highest = float(np.abs(np.fft.rfft(places, size))[usual].max(initial=0.0))
    return highest**2 / max(float(weights @ weights), 1e-12), 2.0 * highest / way.size


def one_drive(world: str, seed: int, kind: str, rate_hz: float) -> Trial:
    drawn = WORLDS[world].draw(seed, kind, rate_hz)
    try:
        said = detect(map_corners(as_found(world, seed, drawn)))
    except NodrekError:
        said = []
    if drawn.fault is None:
        return Trial(False, False, False, bool(said), [])
    return Trial(is_visible(world, drawn, seed, kind, rate_hz), *told(said, drawn), False, [])


def main(drives: int, first_seed: int, world: str) -> None:
    columns = f"{'rate':>5s} {'visible':>8s} {'exact':>6s} {'corner':>7s} {'sound':>6s} {'alarms':>7s}"
    print(f"{world + ' world':14s} {columns}")
    asked = [
        (world, first_seed + 1_000 * place + number, kind)
        for place, kind in enumerate(WORLDS[world].FAULTS)
        for number in range(drives * (HEALTHY_FOR_ONE if kind == "healthy" else 1))
    ]
    with ProcessPoolExecutor(max_workers=2) as pool:
        for rate in RATES_HZ:
            done = list(pool.map(one_drive, *zip(*asked, strict=True), [rate] * len(asked), chunksize=4))
            sound = [t for t, (_, _, kind) in zip(done, asked, strict=True) if kind == "healthy"]
            seen = [t for t in done if t.visible]
            print(f"{'':14s} {rate:5.0f} {len(seen):8d} {share('exact', seen):6.1f} {share('corner', seen):7.1f} "
                  f"{len(sound):6d} {share('alarm', sound):7.1f}", flush=True)  # fmt: skip


if __name__ == "__main__":
    options = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    options.add_argument("drives", type=int, nargs="?", default=2, help="of each kind of fault")
    options.add_argument("first_seed", type=int, nargs="?", default=FIRST_SEED)
    options.add_argument("--world", choices=tuple(WORLDS), default="thirteenth")
    main(**vars(options.parse_args()))
