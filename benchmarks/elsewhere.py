"""How far what was learnt holds in worlds that the shipped simulator never made.

python -m benchmarks.elsewhere [DRIVES] [FIRST_SEED] [--world second|third|...|thirteenth] [--small]

All but the twelfth and the thirteenth teach as well (other seeds of them). Drives of the tenth are read from text
files. Trees that do not know one are grown by `python -m tools.train --without eighth`.
"exact" counts a tyre for a ring with other teeth where that ratio may be either, and an axle for its
mirror image; "visible" asks for a change well over the noise of the sound twin. "small": faults of one to three times
the smallest size that is worth finding, and only kinds that have one. "teeth": of the rings that are
found, the share whose number of lost teeth is told right, without and with the number of teeth of a sound one.
"""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from benchmarks import (
    eighth_world,
    eleventh_world,
    fifth_world,
    fourth_world,
    ninth_world,
    second_world,
    seventh_world,
    sixth_world,
    smallest,
    tenth_world,
    third_world,
    thirteenth_world,
    twelfth_world,
)
from benchmarks.reliability import reliability, share
from benchmarks.second_world import Drawn
from benchmarks.text_dialects import through_text
from benchmarks.visible import LEAST_NOISE, VISIBLE_SIGMAS, noise_of
from nodrek.core.corners import map_corners
from nodrek.core.model import Array, Corner, Fault, Finding, RawChannel, RawLog, Vehicle
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.judge import FAULTY_FROM, analyze_log
from nodrek.core.verdict.losses import with_losses
from nodrek.errors import NeverMoves
from nodrek.io.knowledge import shipped_calibration

WORLDS = {
    "second": second_world, "third": third_world, "fourth": fourth_world, "fifth": fifth_world, "sixth": sixth_world,
    "seventh": seventh_world, "eighth": eighth_world, "ninth": ninth_world,
    "tenth": tenth_world, "eleventh": eleventh_world, "twelfth": twelfth_world,
    "thirteenth": thirteenth_world,
}  # fmt: skip
EXACT = ("fourth", "fifth", "sixth", "seventh", "eighth", "ninth", "tenth", "eleventh", "twelfth",
         "thirteenth")  # fmt: skip
"""Worlds that draw the mean reading too. In the others two roundings of one number differ as well, and more is asked
for than such differences make."""
AS_TEXT = ("tenth",)
"""Worlds whose drives are written as text and read back."""
BEND_S, LEAST_BENDS, NOISE_OF_TWO = 2.0, 20, 3.0
"""Seconds that a bend lasts at least, samples that are asked, and what the noise of two wheels comes to in such a time,
in variances of one (with some margin)."""
FIRST_SEED = 1_000
RATES_HZ = (50.0, 10.0, 4.0)
HEALTHY_FOR_ONE = 4
"""So many sound drives for each fault of a kind: false alarms are rare."""


class Trial(NamedTuple):
    """``said``: confidence of each finding, and whether it is right; ``teeth``: of a ring that lost some and is found,
    whether their number is right, without and with the number of teeth."""

    visible: bool
    exact: bool
    corner: bool
    alarm: bool
    said: list[tuple[float, bool]]
    teeth: tuple[bool, bool] | None = None


def one_drive(world: str, seed: int, kind: str, rate_hz: float, are_small: bool = False) -> Trial:
    small = None
    if are_small and kind in WORLDS[world].SMALLEST.values():
        small = smallest.draw_times(np.random.default_rng([seed, 81]))
    drawn = WORLDS[world].draw(seed, kind, rate_hz, small=small)
    try:
        analysis, exam = analyze_log(
            map_corners(as_found(world, seed, drawn)), Vehicle(), lambda share, doing: None, shipped_calibration()
        )
    except NeverMoves:
        # a queue may never be faster than sensors need: nothing is said of it
        visible = drawn.fault is not None and is_visible(world, drawn, seed, kind, rate_hz, small)
        return Trial(visible, False, False, False, [])
    said = [(f.confidence, is_right(f, drawn)) for f in analysis.findings]
    sure = [f for f in analysis.findings if f.confidence >= FAULTY_FROM]
    if drawn.fault is None:
        return Trial(False, False, False, bool(sure), said)
    exact, corner = told(sure, drawn)
    teeth = _teeth_right(exam, drawn, next(f for f in sure if is_right(f, drawn))) if drawn.lost and exact else None
    return Trial(is_visible(world, drawn, seed, kind, rate_hz, small), exact, corner, False, said, teeth)


def _teeth_right(exam: Examination, drawn: Drawn, found: Finding) -> tuple[bool, bool]:
    without, with_it = (
        with_losses([found], asked, shipped_calibration().lost)[0].evidence["teeth_lost"] == drawn.lost
        for asked in (exam, replace(exam, vehicle=Vehicle(teeth=drawn.teeth)))
    )
    return without, with_it


def as_found(world: str, seed: int, drawn: Drawn) -> RawLog:
    """The log as a program finds it: of some worlds written as text and read back."""
    return through_text(drawn.log, seed) if world in AS_TEXT else drawn.log


def told(sure: Sequence[Finding], drawn: Drawn) -> tuple[bool, bool]:
    """Whether one of the findings names what is wrong exactly, and whether they name its corner at least."""
    exact = any(is_right(f, drawn) for f in sure)
    return exact, exact or set(drawn.corners) <= {c for f in sure for c in f.corners}


def is_right(finding: Finding, drawn: Drawn) -> bool:
    """Whether `finding` names what is wrong, as exactly as one log can tell."""
    odd_ratio = {Fault.RING_COUNT, Fault.TYRE_SIZE}
    mirrored = len(drawn.corners) == 2 and len(finding.corners) == 2 and finding.corners[0].mate is finding.corners[1]
    same = finding.fault is drawn.fault or (finding.fault in odd_ratio and drawn.fault in odd_ratio)
    return same and (mirrored or set(finding.corners) == set(drawn.corners))


def is_visible(world: str, drawn: Drawn, seed: int, kind: str, rate_hz: float, small: float | None = None) -> bool:
    """Whether the fault of a drive stands out of the noise of its sound twin; see `benchmarks.visible`."""
    sound = WORLDS[world].draw(seed, kind, rate_hz, faulty=False).log
    with_it, without, asked = drawn.log, sound, 4.0 * VISIBLE_SIGMAS
    if world in EXACT:
        with_it, without = (
            WORLDS[world].draw(seed, kind, rate_hz, faulty, small, exact=True).log for faulty in (True, False)
        )
        asked = VISIBLE_SIGMAS
    changes = [a.values - b.values for a, b in zip(with_it.channels, without.channels, strict=True)]
    seen = 0.0
    for at in (list(Corner).index(corner) for corner in drawn.corners):
        step = float(np.diff(np.unique(sound.channels[at].values)).min(initial=1.0))
        noise = noise_of(sound.channels[at], [c for k, c in enumerate(sound.channels) if k != at])
        sigma = np.maximum(noise, max(LEAST_NOISE, step / np.sqrt(12.0)))
        shown = _times_shown(without.channels[at]) if world in EXACT else 1.0
        if drawn.fault is Fault.CROSSED:
            seen = max(seen, _bends_seen(changes[at], sigma, sound.channels[at]))
        else:
            seen = max(seen, float(np.sqrt(np.sum((changes[at] / sigma) ** 2 / shown))))
    return seen >= asked


def _times_shown(exact: RawChannel) -> Array:
    """How often in a row each value of an exact sound log is shown: one that is shown again tells nothing new."""
    fresh = np.concatenate([[True], np.diff(exact.values) != 0.0])
    run = np.cumsum(fresh) - 1
    return np.asarray(np.bincount(run)[run], dtype=float)


def _bends_seen(change: Array, sigma: Array, sound: RawChannel) -> float:
    """What bends alone change where two leads are exchanged, in sigmas.

    Two wheels of one axle differ by their noise and by a size that nobody knows as well, and that tells nothing.
    """
    rolls = sound.values > 0.0
    if np.count_nonzero(rolls) < LEAST_BENDS:
        return 0.0
    apart = change - np.where(rolls, np.median(change[rolls] / sound.values[rolls]), 0.0) * sound.values
    rate = sound.times_s.size / max(float(sound.times_s[-1] - sound.times_s[0]), 1e-9)
    size = max(1, round(BEND_S * rate))
    count = apart.size // size
    means = (apart / sigma)[: count * size].reshape(count, size).mean(axis=1) * np.sqrt(size)
    # the noise of both wheels is in what they differ by
    return float(np.sqrt(max(0.0, np.sum(means**2) - NOISE_OF_TWO * count)))


def main(drives: int, first_seed: int, world: str, small: bool) -> None:
    print(f"{world + ' world':22s} {'rate':>5s} {'n':>4s} {'visible':>8s} {'exact':>6s} {'corner':>7s} {'alarms':>7s}")
    said: list[tuple[float, bool]] = []
    with ProcessPoolExecutor(max_workers=2) as pool:
        for rate in RATES_HZ:
            everything, teeth = [], []
            for place, kind in enumerate(WORLDS[world].FAULTS):
                if small and kind not in WORLDS[world].SMALLEST.values():
                    continue
                count = drives * (HEALTHY_FOR_ONE if kind == "healthy" else 1)
                seeds = range(first_seed + 1_000 * place, first_seed + 1_000 * place + count)
                done = list(
                    pool.map(
                        one_drive, [world] * count, seeds, [kind] * count, [rate] * count, [small] * count, chunksize=2
                    )
                )
                said += [pair for trial in done for pair in trial.said]
                seen = [trial for trial in done if trial.visible]
                label = f"{kind:22s} {rate:5.0f} {count:4d}"
                if kind == "healthy":
                    print(f"{label} {'':8s} {'':6s} {'':7s} {share('alarm', done):7.1f}", flush=True)
                    continue
                everything += seen
                print(f"{label} {len(seen):8d} {share('exact', seen):6.1f} {share('corner', seen):7.1f}", flush=True)
                teeth += [trial.teeth for trial in done if trial.teeth is not None]
            print(f"{'all visible':22s} {rate:5.0f} {'':4s} {len(everything):8d} {share('exact', everything):6.1f} "
                  f"{share('corner', everything):7.1f}")  # fmt: skip
            if teeth:
                without, with_it = 100.0 * np.mean(teeth, axis=0)
                print(f"{'teeth':22s} {rate:5.0f} {len(teeth):4d} right without their number {without:.1f}, "
                      f"with it {with_it:.1f}")  # fmt: skip
    pairs = np.array(said, dtype=float)
    seen_bands = reliability(pairs[:, 0], pairs[:, 1])
    print(f"All findings of 0.2 and more: calibration error {seen_bands.error:.3f}, Brier score {seen_bands.brier:.3f}")


if __name__ == "__main__":
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    asked.add_argument("drives", type=int, nargs="?", default=12, help="of each kind of fault")
    asked.add_argument("first_seed", type=int, nargs="?", default=FIRST_SEED)
    asked.add_argument("--small", action="store_true", help="the smallest faults worth finding")
    asked.add_argument("--world", choices=tuple(WORLDS), default="thirteenth")
    main(**vars(asked.parse_args()))
