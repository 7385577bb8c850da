"""Learn what a clean log is worth: simulated twins of one drive → `knowledge/calibration.json`.

python -m tools.train_sight [DRIVES]          (make train, after the probabilities)

The first twin is sound and says with which probability the smallest fault worth finding would
have been found in it; the second has that fault at that corner, and it is found or not. One
logistic regression per kind joins the two. Seeds from 130,000 on.
"""

from __future__ import annotations

import json
import sys
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from importlib import resources

import numpy as np

from nodrek.core.corners import map_corners
from nodrek.core.model import Corner, Fault, Vehicle
from nodrek.core.verdict.judge import analyze_log
from nodrek.core.verdict.power import could_see
from nodrek.core.verdict.sight import SIGHT, sight_row
from nodrek.errors import NodrekError
from nodrek.io.knowledge import shipped_calibration
from nodrek.simulate.chain import simulate
from nodrek.simulate.faults import Cause, SimulatedFault
from nodrek.simulate.truth import is_right
from nodrek.simulate.vary import draw_scenario
from tools.train import draw, fit, write

FIRST_SEED = 130_000
DRIVES = 600
SMALLEST = (
    (Fault.RING_DAMAGE, SimulatedFault(Corner.FL, Cause.MISSING_TEETH, count=1)),
    (Fault.RING_RUNOUT, SimulatedFault(Corner.FL, Cause.ECCENTRIC_RING, size=0.002)),
    (Fault.AIR_GAP, SimulatedFault(Corner.FL, Cause.WIDE_GAP, size=8.0 / 3.6)),
    (Fault.INTERMITTENT, SimulatedFault(Corner.FL, Cause.BROKEN_LEAD, per_minute=1.0, length_s=0.1)),
    (Fault.TYRE_SIZE, SimulatedFault(Corner.FL, Cause.WHEEL_SIZE, size=0.005)),
)
FOUND_FROM = 0.5


def twins(seed: int) -> tuple[str, list[float], bool] | None:
    """Kind, what the sound twin says of its sight, and whether the fault of the other was found."""
    kind, smallest = SMALLEST[seed % len(SMALLEST)]
    fault = replace(smallest, corner=list(Corner)[(seed // len(SMALLEST)) % len(Corner)])
    settings = draw(seed)[1]
    settings.pop("nuisance", None)
    try:
        faulty = draw_scenario(seed, (fault,), **settings)
        _, exam = analyze_log(map_corners(simulate(replace(faulty, faults=()))), Vehicle(), _quiet)
        row = sight_row(exam, fault.corner, could_see(exam, fault.corner)[kind])
        analysis, _ = analyze_log(map_corners(simulate(faulty)), Vehicle(), _quiet, shipped_calibration())
    except NodrekError:
        return None
    sure = [f for f in analysis.findings if f.confidence >= FOUND_FROM]
    return kind.value, row.tolist(), any(is_right(f.fault.value, f.corners, fault) for f in sure)


def _quiet(share: float, doing: str) -> None:
    """A progress that tells nobody."""


def main(drives: int) -> None:
    with ProcessPoolExecutor(max_workers=2) as pool:
        done = list(pool.map(twins, range(FIRST_SEED, FIRST_SEED + drives), chunksize=4))
    document = json.loads(resources.files("nodrek.knowledge").joinpath("calibration.json").read_text(encoding="utf-8"))
    document["sight"] = {}
    for kind, _ in SMALLEST:
        mine = [t for t in done if t is not None and t[0] == kind.value]
        x, y = np.array([t[1] for t in mine]), np.array([t[2] for t in mine], dtype=float)
        weights = fit(x, y)
        document["sight"][kind.value] = {n: round(float(w), 5) for n, w in zip(SIGHT, weights, strict=True)}
        p = 1 / (1 + np.exp(-np.clip(x @ weights, -30, 30)))
        print(f"{kind.value:14s} {len(y):4d} twins, found {y.mean():.2f}, promised {p.mean():.2f}, "
              f"Brier {np.mean((p - y) ** 2):.3f}")  # fmt: skip
    write(document)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else DRIVES)
