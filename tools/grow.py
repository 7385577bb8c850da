"""Boosted trees for the probabilities: grown with a library, written as plain data (`nodrek.core.model.learnt`).

Kinds that a ring, a sensor or a lead can have one of are grown together (`RIVALS`), against each other and against
nothing; an odd tyre and crossed leads are questions of their own.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from nodrek.core.model import Fault
from nodrek.core.model.learnt import SILENT, Rivals, boosted_from
from nodrek.core.verdict.calibrate import SILENCE
from nodrek.core.verdict.evidence import EVIDENCE

RIVALS = (Fault.RING_DAMAGE, Fault.RING_RUNOUT, Fault.ENCODER_NOISE, Fault.INTERMITTENT, Fault.AIR_GAP)
ALONE = (Fault.TYRE_SIZE, Fault.CROSSED)
GROWN = (*RIVALS, *ALONE)
"""Kinds with trees (a wrong count goes with the tyre: one odd ratio); the others have a regression each."""
NAMES = ("sound", *(kind.value for kind in RIVALS), SILENT)
"""What a corner is, one at most: places in this row are the classes."""
BOOSTING: dict[str, Any] = {
    "max_iter": 400, "learning_rate": 0.04, "max_leaf_nodes": 10, "min_samples_leaf": 10, "l2_regularization": 5.0,
    "max_features": 0.15, "early_stopping": False, "random_state": 0,
}  # fmt: skip
OF_THE_LOG = (
    "crossed_against", "crossed_sigmas", "crossed_bends", "crossed_balance",
    "rate", "minutes", "rounding", "noise", "speed",
)  # fmt: skip
FEWER: dict[Fault, tuple[str, ...]] = {Fault.CROSSED: OF_THE_LOG}
"""Kinds that look at these numbers only: one answer a log has too few examples for the rest."""
CAUTIOUS = {"max_iter": 60, "learning_rate": 0.06, "max_leaf_nodes": 6, "min_samples_leaf": 60, "max_features": 1.0}
RISING = ("crossed_against", "crossed_sigmas", "crossed_balance")
"""The more of these, the likelier, whatever a few hundred examples say between."""
NUMBERS: dict[str, Any] = {
    "max_iter": 160, "learning_rate": 0.05, "max_leaf_nodes": 8, "min_samples_leaf": 20, "l2_regularization": 3.0,
    "max_features": 0.3, "early_stopping": False, "random_state": 0,
}  # fmt: skip
"""Of trees that know one of a few classes from some thousand examples."""
FOLDS = 5
CHECKED = 200
"""Rows by which what is written is compared with what the library says."""


def planted(names: Sequence[str]) -> Any:
    """A classifier that has learnt nothing yet; few names want few leaves."""
    from sklearn.ensemble import HistGradientBoostingClassifier  # only where trees are grown

    if names == EVIDENCE:
        return HistGradientBoostingClassifier(**BOOSTING)
    rising = [int(name in RISING) for name in names]
    return HistGradientBoostingClassifier(**{**BOOSTING, **CAUTIOUS}, monotonic_cst=rising)


def rival_of(faults: Sequence[str]) -> int:
    """Which of `NAMES` a corner with `faults` is; of two rivals at one corner the first."""
    among = [NAMES.index(kind.value) for kind in RIVALS if kind.value in faults]
    return among[0] if among else (len(NAMES) - 1 if any(kind.value in faults for kind in SILENCE) else 0)


def grow_alone(x: np.ndarray, faults: Sequence[Sequence[str]], kind: Fault) -> dict[str, Any]:
    """Trees of one of `ALONE` as plain data; `x` has a column for each number of the evidence."""
    names, x, y = _asked_of(kind, x, faults)
    model = planted(names).fit(x, y)
    grown = _written(model, 0, names)
    asked = boosted_from(grown)
    rows = _some(x)
    ours = [asked.probability(dict(zip(names, row, strict=True))) for row in x[rows].tolist()]
    _must_agree(np.array(ours), model.predict_proba(x[rows])[:, 1])
    return grown


def grow_rivals(x: np.ndarray, faults: Sequence[Sequence[str]]) -> dict[str, dict[str, Any]]:
    """Trees of `NAMES`, grown against each other; each of them must occur in `faults`."""
    return _written_as_rivals(planted(EVIDENCE).fit(x, [rival_of(f) for f in faults]), NAMES, x, EVIDENCE)


def grow_classes(
    x: np.ndarray, classes: Sequence[str], names: Sequence[str], ways: int, weights: Mapping[str, float]
) -> tuple[dict[str, dict[str, Any]], list[float]]:
    """Trees of each class as plain data, grown against each other; share of rows named by trees that never saw them.

    So many rows after another are the same thing told in different `ways`; the share is of each. A row of a class that
    has one of `weights` teaches as much as so many.
    """
    from sklearn.ensemble import HistGradientBoostingClassifier  # only where trees are grown

    known, fold = np.array(classes), np.arange(len(classes)) // ways % FOLDS
    right, counts = np.zeros(len(classes), dtype=bool), np.array([weights.get(name, 1.0) for name in classes])
    for one in range(FOLDS):
        unseen = fold == one
        model = HistGradientBoostingClassifier(**NUMBERS).fit(x[~unseen], known[~unseen], counts[~unseen])
        right[unseen] = model.predict(x[unseen]) == known[unseen]
    model = HistGradientBoostingClassifier(**NUMBERS).fit(x, known, counts)
    return _written_as_rivals(model, model.classes_.tolist(), x, names), right.reshape(-1, ways).mean(axis=0).tolist()


def _written_as_rivals(
    model: Any, classes: Sequence[str], x: np.ndarray, names: Sequence[str]
) -> dict[str, dict[str, Any]]:
    """Trees of all `classes` of the model as plain data, asked once beside it."""
    grown = {name: _written(model, k, names) for k, name in enumerate(classes)}
    asked, rows = Rivals({name: boosted_from(trees) for name, trees in grown.items()}), _some(x)
    said = [asked.probabilities(dict(zip(names, row, strict=True))) for row in x[rows].tolist()]
    _must_agree(np.array([[s[name] for name in classes] for s in said]), model.predict_proba(x[rows]))
    return grown


def said_by_unseen(x: np.ndarray, faults: Sequence[Sequence[str]], group: np.ndarray) -> np.ndarray:
    """Probability of each of `GROWN` for each row by trees that never saw its group; shape (rows, kinds)."""
    classes = np.array([rival_of(f) for f in faults])
    out = np.zeros((len(x), len(GROWN)))
    for one in np.unique(group):
        here = group == one
        among = planted(EVIDENCE).fit(x[~here], classes[~here])
        said = among.predict_proba(x[here])
        for column, place in enumerate(among.classes_):
            if 0 < place <= len(RIVALS):
                out[here, place - 1] = said[:, column]
        for k, kind in enumerate(ALONE, len(RIVALS)):
            names, seen, y = _asked_of(kind, x, faults)
            out[here, k] = planted(names).fit(seen[~here], y[~here]).predict_proba(seen[here])[:, 1]
    return out


def _asked_of(
    kind: Fault, x: np.ndarray, faults: Sequence[Sequence[str]]
) -> tuple[Sequence[str], np.ndarray, np.ndarray]:
    """Names and columns of the numbers that one kind looks at, and whether each corner has it."""
    names = FEWER.get(kind, EVIDENCE)
    return names, x[:, [EVIDENCE.index(name) for name in names]], np.array([kind.value in f for f in faults])


def _written(model: Any, place: int, names: Sequence[str]) -> dict[str, Any]:
    """The trees of one class as plain data. The library's inside is read here."""
    trees = [_plain(stage[place].nodes, names) for stage in model._predictors]
    return {"base": round(float(np.ravel(model._baseline_prediction)[place]), 5), "trees": trees}


def _plain(nodes: np.ndarray, names: Sequence[str]) -> dict[str, list[Any]]:
    """One tree as columns, root first and what is below a row right after it (`nodrek.core.model.learnt`)."""
    asked: list[str] = []
    most: list[float] = []
    other: list[int] = []

    def write(at: int) -> None:
        node, row = nodes[at], len(asked)
        leaf = bool(node["is_leaf"])
        asked.append("" if leaf else names[int(node["feature_idx"])])
        most.append(round(float(node["value"]), 5) if leaf else float(f"{node['num_threshold']:.9g}"))
        other.append(0)
        if not leaf:
            write(int(node["left"]))
            other[row] = len(asked)
            write(int(node["right"]))

    write(0)
    return {"if": asked, "most": most, "else": other}


def _some(x: np.ndarray) -> np.ndarray:
    known = np.flatnonzero(~np.isnan(x).any(axis=1))  # records of before a number existed do not have it
    return np.random.default_rng(0).choice(known, min(CHECKED, len(known)), replace=False)


def _must_agree(ours: np.ndarray, theirs: np.ndarray) -> None:
    """What ships must say what the library says; raises `RuntimeError`."""
    if not np.allclose(ours, theirs, atol=0.01):
        raise RuntimeError("the trees as written do not answer as the library's do")
