"""Learn how many edges a damaged ring has lost from what its dips look like → `knowledge/calibration.json`.

python -m tools.train_lost [DRIVES] [--records FILE]          (make train, after the probabilities)

Drives with lost teeth only, as many each of the simulator that ships and of the worlds of the benchmarks;
rings that are called damaged there teach. Seeds from 142,800 on, of the other worlds by their own first seeds. Small
trees, one of five numbers each; each ring teaches twice, without its number of teeth and with it.
"""

from __future__ import annotations

import argparse
import json
from concurrent.futures import ProcessPoolExecutor
from dataclasses import asdict
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from nodrek.core.corners import map_corners
from nodrek.core.model import Corner, Fault, RawLog, Vehicle
from nodrek.core.turns.lost import LEARNT, Dips, told_marks
from nodrek.core.turns.lost_marks import MARKS
from nodrek.core.verdict.judge import FAULTY_FROM, analyze_log
from nodrek.core.verdict.losses import dips_of
from nodrek.errors import NodrekError
from nodrek.io.knowledge import shipped_calibration
from nodrek.simulate.chain import simulate
from nodrek.simulate.faults import Cause
from nodrek.simulate.vary import draw_fault, draw_scenario
from tools.gather import ELSEWHERE, ROADS
from tools.grow import grow_classes
from tools.train import learnt_file, write

FIRST_SEED = 142_800
DRIVES = 7_200
RATES_HZ = (50.0, 100.0, 50.0, 100.0, 20.0, 10.0)
FEW_DRAWN = {LEARNT[-1]: 3.0}
"""So often a ring that lost five edges or more teaches: most worlds break four at most, which says how they were
written, not what rings do."""
WAYS = 2
"""A ring teaches without its number of teeth, and with it."""
LOST_TEETH = {
    10_000_000: ("teeth at one place", "teeth at two places"), 20_000_000: ("tooth gone", "some teeth gone"),
    30_000_000: ("one tooth", "two to four", "two places"), 40_000_000: ("lost tooth", "lost teeth"),
    50_000_000: ("missing", "row of missing"), 60_000_000: ("tooth broken off", "teeth broken off", "two spots"),
    70_000_000: ("one tooth out", "some teeth out", "teeth out twice"), 80_000_000: ("tooth gone", "row gone"),
    90_000_000: ("one off", "some off"), 100_000_000: ("tooth lost", "teeth lost", "lost apart"),
}  # fmt: skip
"""Kinds of drives with lost teeth, by the first seed of the world that makes them."""


class Ring(NamedTuple):
    """Dips of a ring that is found in the drive of a seed, its number of teeth, and which of `LEARNT` it lost."""

    seed: int
    dips: Dips
    teeth: int
    lost: str


def one_ring(seed: int) -> Ring | None:
    """``None`` where the ring is not found."""
    log, corner, teeth, lost = _drawn(seed)
    try:
        analysis, exam = analyze_log(map_corners(log), Vehicle(), _quiet, shipped_calibration())
    except NodrekError:
        return None
    found = [f for f in analysis.findings if f.fault is Fault.RING_DAMAGE and f.corners == (corner,)]
    if not found or found[0].confidence < FAULTY_FROM or not exam.rings[corner].arcs:
        return None
    return Ring(seed, dips_of(exam, corner), teeth, LEARNT[min(lost, len(LEARNT)) - 1])


def _drawn(seed: int) -> tuple[RawLog, Corner, int, int]:
    """A log, the corner whose ring lost teeth, of how many, and how many."""
    rng = np.random.default_rng([seed, 83])
    rate = float(rng.choice(RATES_HZ))
    first = max((start for start in ELSEWHERE if seed >= start), default=None)
    if first is not None:
        drawn = ELSEWHERE[first].draw(seed, str(rng.choice(LOST_TEETH[first])), rate)
        return drawn.log, drawn.corners[0], drawn.teeth, drawn.lost
    fault = draw_fault(Cause.MISSING_TEETH, seed)
    lasts = float(rng.uniform(90.0, 300.0))
    scenario = draw_scenario(seed, (fault,), rates_hz=(rate,), road=str(rng.choice(ROADS)), duration_s=lasts)
    return simulate(scenario), fault.corner, scenario.teeth, fault.count + bool(fault.second_at)


def _quiet(share: float, doing: str) -> None:
    """A progress that tells nobody."""


def gather(drives: int, keep: Path | None) -> list[Ring]:
    """Rings of all drives that are found, two at a time; from `keep` where that file is there, else left there."""
    if keep is not None and keep.exists():
        kept = json.loads(keep.read_text(encoding="utf-8"))
        return [Ring(s, Dips(**{**dips, "areas": tuple(dips["areas"])}), teeth, lost) for s, dips, teeth, lost in kept]
    starts = (0, *ELSEWHERE)
    seeds = [starts[i % len(starts)] + FIRST_SEED + i for i in range(drives)]
    with ProcessPoolExecutor(max_workers=2) as pool:
        rings = [ring for ring in pool.map(one_ring, seeds, chunksize=4) if ring is not None]
    if keep is not None:
        written = [(ring.seed, asdict(ring.dips), ring.teeth, ring.lost) for ring in rings]
        keep.write_text(json.dumps(written), encoding="utf-8")
    return rings


def main(drives: int, records: Path | None) -> None:
    rings = gather(drives, records)
    told = [told_marks(ring.dips, teeth) for ring in rings for teeth in (None, ring.teeth)]
    x = np.array([[marks[name] for name in MARKS] for marks in told])
    grown, right = grow_classes(x, [ring.lost for ring in rings for _ in range(WAYS)], MARKS, WAYS, FEW_DRAWN)
    print(f"{len(rings)} rings are found; of unseen ones {100 * right[0]:.0f} % have the right number, "
          f"{100 * right[1]:.0f} % where their number of teeth is known")  # fmt: skip
    document: dict[str, Any] = json.loads(learnt_file().read_text(encoding="utf-8"))
    write({**document, "lost": grown})


if __name__ == "__main__":
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    asked.add_argument("drives", type=int, nargs="?", default=DRIVES)
    asked.add_argument("--records", type=Path, help="keep what was gathered here, or take it from here")
    main(**vars(asked.parse_args()))
