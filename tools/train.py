"""Learn how often raw confidences are right: simulated drives → `knowledge/calibration.json`.

python -m tools.train [DRIVES]          (make train)

Recipe: seeds from 100,000 on (the benchmark's start at 50,000, development used those
below 10,000); every kind of fault, healthy drives with every nuisance, two faults at once;
loggers of 2 to 100 samples a second, 45 s to six minutes, five kinds of control unit.
"""

from __future__ import annotations

import json
import sys
from concurrent.futures import ProcessPoolExecutor
from importlib import resources
from typing import Any

import numpy as np

from nodrek.core.corners import map_corners
from nodrek.core.model import Vehicle
from nodrek.core.verdict.calibrate import FEATURES, features
from nodrek.core.verdict.judge import analyze_log, raw_findings
from nodrek.errors import NodrekError
from nodrek.simulate.chain import simulate
from nodrek.simulate.faults import Cause, SimulatedFault
from nodrek.simulate.nuisance import Nuisance
from nodrek.simulate.truth import is_right
from nodrek.simulate.vary import draw_fault, draw_scenario

FIRST_SEED = 100_000
DRIVES = 2_000
HEALTHY_SHARE = 0.3
DOUBLE_SHARE = 0.08
RATES = (2.0, 4.0, 4.0, 5.0, 10.0, 10.0, 20.0, 50.0, 50.0, 100.0)
ROADS = ("town", "town", "country", "country", "motorway", "gravel", "roundabouts", "queue", "potholes")
RIDGE = 0.02
ROUNDS = 200

Record = tuple[str, list[float], bool]


def draw(seed: int) -> tuple[tuple[SimulatedFault, ...], dict[str, Any]]:
    """Faults and settings of one training drive."""
    rng = np.random.default_rng([seed, 79])
    causes = list(Cause)
    faults: tuple[SimulatedFault, ...] = ()
    if rng.random() > HEALTHY_SHARE:
        faults = (draw_fault(causes[int(rng.integers(len(causes)))], seed),)
        if rng.random() < DOUBLE_SHARE:
            faults = (*faults, draw_fault(causes[int(rng.integers(len(causes)))], seed + 1))
    settings: dict[str, Any] = {
        "rates_hz": (float(rng.choice(RATES)),),
        "road": str(rng.choice(ROADS)),
        "duration_s": float(np.exp(rng.uniform(np.log(45.0), np.log(360.0)))),
    }
    if rng.random() < (0.5 if not faults else 0.2):
        settings["nuisance"] = list(Nuisance)[int(rng.integers(len(Nuisance)))]
    settings["worn_axle"] = bool(rng.random() < 0.15)
    return faults, settings


def records_of(seed: int) -> list[Record]:
    """Kind, features and rightness of each raw finding of one drive."""
    faults, settings = draw(seed)
    try:
        log = map_corners(simulate(draw_scenario(seed, faults, **settings)))
        _, exam = analyze_log(log, Vehicle(), lambda share, doing: None)
    except NodrekError:
        return []
    except ArithmeticError as error:  # a defect to mend, not a reason to lose an hour of the other drives
        print(f"seed {seed}: {error!r}", flush=True)
        return []
    findings = raw_findings(exam)
    return [
        (
            f.fault.value,
            features(f, findings, exam).tolist(),
            any(is_right(f.fault.value, f.corners, x) for x in faults),
        )
        for f in findings
    ]


def fit(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Logistic regression with a ridge on all but the first weight; Newton's method, damped."""
    scale = np.maximum(x.std(axis=0), 1e-3)
    scale[0] = 1.0
    z = x / scale
    weights = np.zeros(x.shape[1])
    ridge = np.full(x.shape[1], RIDGE * len(y) / 100.0 + 0.5)
    ridge[0] = 1e-6
    for _ in range(ROUNDS):
        p = 1.0 / (1.0 + np.exp(-np.clip(z @ weights, -30, 30)))
        gradient = z.T @ (p - y) + ridge * weights
        hessian = (z * (p * (1 - p))[:, None]).T @ z + np.diag(ridge)
        step = np.linalg.solve(hessian, gradient)
        step *= min(1.0, 2.0 / max(float(np.abs(step).max()), 1e-9))
        weights -= step
        if np.abs(step).max() < 1e-8:
            break
    return np.asarray(weights / scale)


def main(drives: int) -> None:
    with ProcessPoolExecutor(max_workers=2) as pool:
        seeds = range(FIRST_SEED, FIRST_SEED + drives)
        records = [record for found in pool.map(records_of, seeds, chunksize=8) for record in found]
    weights: dict[str, dict[str, float]] = {}
    counts = {}
    for kind in sorted({r[0] for r in records}):
        x = np.array([r[1] for r in records if r[0] == kind])
        y = np.array([r[2] for r in records if r[0] == kind], dtype=float)
        counts[kind] = {"findings": len(y), "right": int(y.sum())}
        if min(y.sum(), len(y) - y.sum()) < 5:
            print(f"{kind}: too few of one sort, stays raw ({counts[kind]})")
            continue
        weights[kind] = {name: round(float(w), 5) for name, w in zip(FEATURES, fit(x, y), strict=True)}
        p = 1 / (1 + np.exp(-np.clip(x @ np.array(list(weights[kind].values())), -30, 30)))
        print(f"{kind:14s} {len(y):5d} findings, {int(y.sum()):5d} right, Brier {np.mean((p - y) ** 2):.4f}")
    document = {
        "made_by": "python -m tools.train", "drives": drives, "first_seed": FIRST_SEED, "counts": counts,
        "weights": weights,
    }  # fmt: skip
    target = resources.files("nodrek.knowledge").joinpath("calibration.json")
    with open(str(target), "w", encoding="utf-8") as file:
        json.dump(document, file, indent=1)
        file.write("\n")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else DRIVES)
