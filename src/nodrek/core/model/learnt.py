"""What training learnt, as data: sums of small decision trees, weights of regressions.

Gradient-boosted trees (Friedman 2001, Annals of Statistics 29, 1189; from memory), grown by
`make train`; here they are only asked. A tree is either a number (nats) or
``{"if": name, "most": limit, "then": tree, "else": tree}``: *then* where the number of that
name is at most the limit.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from nodrek.core.model.finding import Fault

Tree = float | tuple[str, float, "Tree", "Tree"]
"""A leaf, or name, limit, branch up to it, branch above."""
DEEPEST = 12


def logistic(nats: float) -> float:
    """Probability of a logit."""
    return 1.0 / (1.0 + math.exp(-max(-30.0, min(30.0, nats))))


@dataclass(frozen=True)
class Boosted:
    """``base`` nats and the trees that are added to it."""

    base: float
    trees: tuple[Tree, ...]

    def probability(self, row: Mapping[str, float]) -> float:
        """Probability for a row of evidence; a name that the row lacks counts as zero."""
        return logistic(self.base + sum(_ask(tree, row) for tree in self.trees))


@dataclass(frozen=True)
class Calibration:
    """From raw confidences and evidence to probabilities, by kind of fault; kinds without stay raw.

    ``weights``: a number by name of each feature of a finding (`nodrek.core.verdict.calibrate.FEATURES`);
    ``trees``: of the evidence of a corner (`nodrek.core.verdict.evidence.EVIDENCE`); ``sight``: of what a
    log is like (`nodrek.core.verdict.sight.SIGHT`), for what a clean result is worth. A name that the
    training did not know yet weighs nothing.
    """

    weights: Mapping[Fault, Mapping[str, float]]
    trees: Mapping[Fault, Boosted] = field(default_factory=dict)
    sight: Mapping[Fault, Mapping[str, float]] = field(default_factory=dict)


def boosted_from(data: Mapping[str, Any]) -> Boosted:
    """``{"base": nats, "trees": [...]}`` → `Boosted`; raises `ValueError` for anything else."""
    trees: Sequence[Any] = data["trees"]
    return Boosted(float(data["base"]), tuple(_tree(t, 0) for t in trees))


def _tree(data: Any, depth: int) -> Tree:
    if isinstance(data, int | float):
        return float(data)
    if depth > DEEPEST or not isinstance(data, Mapping):
        raise ValueError("a tree is a number or an object with if, most, then and else")
    return str(data["if"]), float(data["most"]), _tree(data["then"], depth + 1), _tree(data["else"], depth + 1)


def _ask(tree: Tree, row: Mapping[str, float]) -> float:
    while not isinstance(tree, float):
        name, limit, below, above = tree
        tree = below if row.get(name, 0.0) <= limit else above
    return tree
