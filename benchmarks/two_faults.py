"""Two faults in one log, and logs in which readings are missing: is each found, and nothing else cried?

python -m benchmarks.two_faults [DRIVES] [FIRST_SEED] [--world fourth|fifth|sixth|seventh|eighth]

One row for each thing of `also_wrong` that is put into drives with every kind of fault in turn, and into sound ones, at
another corner than theirs. "alone" and "beside": share of the first faults that are found without it and with it; "it":
share of what was put in that is found; "cried": drives with a finding that is neither.
"""

from __future__ import annotations

import argparse
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from benchmarks import also_wrong
from benchmarks.elsewhere import EXACT, WORLDS, is_right
from benchmarks.reliability import share
from benchmarks.second_world import Drawn
from nodrek.core.corners import map_corners
from nodrek.core.model import Corner, Finding, RawLog, Vehicle
from nodrek.core.verdict.judge import FAULTY_FROM, analyze_log
from nodrek.errors import NodrekError
from nodrek.io.knowledge import shipped_calibration

FIRST_SEED = 2_000
RATES_HZ = (50.0, 10.0, 4.0)


class Trial(NamedTuple):
    """``is_faulty``, ``has_fault``: whether the drive had a fault, and whether what was put in is one."""

    is_faulty: bool
    has_fault: bool
    alone: bool
    beside: bool
    it: bool
    cried: bool


def one_trial(world: str, seed: int, kind: str, also: str, rate_hz: float) -> Trial | None:
    """``None`` where the drive has no room for it."""
    drawn: Drawn = WORLDS[world].draw(seed, kind, rate_hz)
    rng = np.random.default_rng([seed, 84])
    sound = [c for c in Corner if c not in drawn.corners]
    added = also_wrong.add(drawn.log, tuple(Corner), also, sound[int(rng.integers(len(sound)))], rng)
    if added is None:
        return None
    alone, beside = _sure(drawn.log), _sure(added.log)
    first = [f for f in beside if drawn.fault is not None and is_right(f, drawn)]
    more = replace(drawn, fault=added.fault, corners=added.corners) if added.fault is not None else None
    second = [f for f in beside if more is not None and is_right(f, more)]
    return Trial(
        drawn.fault is not None,
        added.fault is not None,
        any(is_right(f, drawn) for f in alone) if drawn.fault is not None else False,
        bool(first),
        bool(second),
        any(f not in first and f not in second for f in beside),
    )


def _sure(log: RawLog) -> list[Finding]:
    try:
        analysis, _ = analyze_log(map_corners(log), Vehicle(), lambda share, doing: None, shipped_calibration())
    except NodrekError:
        return []
    return [f for f in analysis.findings if f.confidence >= FAULTY_FROM]


def main(drives: int, first_seed: int, world: str) -> None:
    kinds = [kind for kind in WORLDS[world].FAULTS if kind not in ("leads", "swapped")]
    print(f"{world + ' world':18s} {'rate':>5s} {'n':>4s} {'alone':>6s} {'beside':>7s} {'it':>6s} {'cried':>6s}")
    with ProcessPoolExecutor(max_workers=2) as pool:
        for rate in RATES_HZ:
            everything: list[Trial] = []
            for place, also in enumerate(also_wrong.KINDS):
                seeds = range(first_seed + 1_000 * place, first_seed + 1_000 * place + drives)
                asked = [
                    pool.submit(one_trial, world, seed, kinds[(seed + place) % len(kinds)], also, rate)
                    for seed in seeds
                ]
                done = [trial for future in asked if (trial := future.result()) is not None]
                everything += done
                _print(f"{also:18s} {rate:5.0f}", done)
            _print(f"{'all':18s} {rate:5.0f}", everything)


def _print(label: str, done: list[Trial]) -> None:
    first, second = [t for t in done if t.is_faulty], [t for t in done if t.has_fault]
    it = f"{share('it', second):6.1f}" if second else f"{'':6s}"
    print(f"{label} {len(done):4d} {share('alone', first):6.1f} {share('beside', first):7.1f} {it} "
          f"{share('cried', done):6.1f}", flush=True)  # fmt: skip


if __name__ == "__main__":
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    asked.add_argument("drives", type=int, nargs="?", default=14, help="for each thing that is put in")
    asked.add_argument("first_seed", type=int, nargs="?", default=FIRST_SEED)
    asked.add_argument("--world", choices=EXACT, default="eighth")
    main(**vars(asked.parse_args()))
