"""Learn how often raw confidences are right: what drives showed (`tools.gather`) → `knowledge/calibration.json`.

python -m tools.train [DRIVES] [--records FOLDER] [--without WORLD]          (make train)

Stopped and started again it goes on where it was. What the other tools learnt stays in the file until they learn again.
"""

from __future__ import annotations

import argparse
import json
from collections.abc import Sequence
from importlib import resources
from pathlib import Path
from typing import Any

import numpy as np
from benchmarks.elsewhere import WORLDS

from nodrek.core.verdict.calibrate import FEATURES, SAME_TREES
from tools.gather import DRIVES, FIRST_SEED, KEPT, Record, gather
from tools.grow import ALONE, FOLDS, GROWN, grow_alone, grow_rivals, said_by_unseen

RIDGE = 0.02
ROUNDS = 200
FORESTS = ("rivals", "trees")
OTHERS = ("sight", "lost")
OTHERS_FORESTS = ("lost",)
"""Parts of the file that hold trees: learnt here; parts that other tools learn, and which of these hold trees."""


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


def learn(records: Sequence[Record]) -> dict[str, Any]:
    """Regressions and trees from the records of many drives; tells how good they are."""
    weights: dict[str, dict[str, float]] = {}
    counts = {}
    for kind in sorted({r.kind for r in records} - {"", *(k.value for k in (*GROWN, *SAME_TREES))}):
        mine = [r for r in records if r.kind == kind]
        x, y = np.array([r.row for r in mine]), np.array([r.right for r in mine], dtype=float)
        counts[kind] = {"findings": len(y), "right": int(y.sum())}
        if min(y.sum(), len(y) - y.sum()) < 5:
            print(f"{kind}: too few of one sort, stays raw ({counts[kind]})")
            continue
        weights[kind] = {name: round(float(w), 5) for name, w in zip(FEATURES, fit(x, y), strict=True)}
        p = 1 / (1 + np.exp(-np.clip(x @ np.array(list(weights[kind].values())), -30, 30)))
        print(f"{kind:14s} {len(y):5d} findings, {int(y.sum()):5d} right, Brier {np.mean((p - y) ** 2):.4f}")
    corners = [r for r in records if not r.kind]
    x, seeds = np.array([r.row for r in corners]), np.array([r.seed for r in corners])
    faults = [r.faults for r in corners]
    rivals = grow_rivals(x, faults)
    trees = {kind.value: grow_alone(x, faults, kind) for kind in ALONE}
    unseen = said_by_unseen(x, faults, seeds % FOLDS)
    for fault, p in zip(GROWN, unseen.T, strict=True):
        kind = fault.value
        y = np.array([kind in f for f in faults])
        counts[kind] = {"corners": len(y), "right": int(y.sum())}
        said = p >= 0.2
        print(
            f"{kind:14s} {len(y):5d} corners, {int(y.sum()):5d} right; unseen drives: "
            f"{100 * np.mean(p[y] >= 0.5):.0f} % found, {int((p[~y] >= 0.5).sum())} wrong, "
            f"Brier of findings {np.mean((p[said] - y[said]) ** 2):.4f}"
        )
    return {"counts": counts, "weights": weights, "rivals": rivals, "trees": trees}


def write(document: dict[str, Any]) -> None:
    """One line a tree: long, but a change of one tree changes one line."""
    forests = [forest for forest in (*FORESTS, *OTHERS_FORESTS) if forest in document]
    parts = {k: v for k, v in document.items() if k not in forests}
    text = json.dumps(parts, indent=1)[:-2]
    for forest in forests:
        kinds = []
        for kind, grown in document[forest].items():
            lines = ",\n".join("   " + json.dumps(t) for t in grown["trees"])
            kinds.append(f'  "{kind}": {{"base": {grown["base"]}, "trees": [\n{lines}\n  ]}}')
        text += f',\n "{forest}": {{\n' + ",\n".join(kinds) + "\n }"
    text += "\n}\n"
    learnt_file().write_text(text, encoding="utf-8")


def learnt_file() -> Path:
    """Where all that training learns is kept."""
    return Path(str(resources.files("nodrek.knowledge").joinpath("calibration.json")))


def main(drives: int, records: Path, without: str | None) -> None:
    learnt = learn(gather(drives, records, without))
    made = {"made_by": "python -m tools.train", "drives": drives, "first_seed": FIRST_SEED}
    before = json.loads(learnt_file().read_text(encoding="utf-8"))
    write({**made, **learnt, **{part: before[part] for part in OTHERS if part in before}})


if __name__ == "__main__":
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    asked.add_argument("drives", type=int, nargs="?", default=DRIVES)
    asked.add_argument("--records", type=Path, default=KEPT, help="folder of what was gathered, used and added to")
    asked.add_argument("--without", choices=tuple(WORLDS), help="a world that does not teach, to see what it is told")
    main(**vars(asked.parse_args()))
