"""What training learnt, as data: sums of small decision trees, weights of regressions.

Gradient-boosted trees (Friedman 2001, Annals of Statistics 29, 1189; from memory), grown by
`make train`; here they are only asked. A tree is written row by row, as three columns:
``{"if": [names], "most": [numbers], "else": [rows]}``. Where the number of a row's name is at most the row's, the next
row goes on, elsewhere the one that *else* gives, counted from 0 at the root. A row without a name ("") is a leaf: its
number is the answer in nats.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from itertools import chain
from typing import Any

import numpy as np
import numpy.typing as npt

from nodrek.core.model.finding import Fault
from nodrek.core.model.log import Array

Index = npt.NDArray[np.int64]

SILENT, SOUND = "silent", "sound"
"""Among rivals: a corner that says nothing, or always the same (its own findings tell how sure that is), and one at
which nothing is wrong."""


def logistic(nats: float) -> float:
    """Probability of a logit."""
    return 1.0 / (1.0 + math.exp(-max(-30.0, min(30.0, nats))))


@dataclass(frozen=True, eq=False)
class Forest:
    """Many trees as tables, so that all are asked at once: a question in each row, or a leaf that leads to itself.

    ``names`` of what is asked; ``name`` (index), ``limit``, ``below`` and ``above`` (rows), ``value`` (nats of a
    leaf) by row; ``roots``: the first row of each tree.
    """

    names: tuple[str, ...]
    name: Index
    limit: Array
    below: Index
    above: Index
    value: Array
    roots: Index

    def nats(self, row: Mapping[str, float]) -> float:
        """Sum of all trees for a row of evidence; a name that the row lacks counts as zero."""
        known = np.array([row.get(name, 0.0) for name in self.names])
        at = self.roots
        while True:
            then = np.where(known[self.name[at]] <= self.limit[at], self.below[at], self.above[at])
            if np.array_equal(then, at):
                return float(self.value[at].sum())
            at = then


@dataclass(frozen=True)
class Boosted:
    """``base`` nats and the trees that are added to it."""

    base: float
    trees: Forest

    def nats(self, row: Mapping[str, float]) -> float:
        """Sum for a row of evidence; a name that the row lacks counts as zero."""
        return self.base + self.trees.nats(row)

    def probability(self, row: Mapping[str, float]) -> float:
        """The same, read as a logit."""
        return logistic(self.nats(row))


@dataclass(frozen=True)
class Rivals:
    """What one corner may have one of, by name: a kind of fault, or no fault at all; each with its trees.

    Kinds that answer the same question ("what is wrong with what this ring, sensor or lead tells?") are learnt
    together: what speaks for one speaks against the others (softmax of the sums).
    """

    sums: Mapping[str, Boosted]

    def probabilities(self, row: Mapping[str, float]) -> dict[str, float]:
        """By name; they add up to one."""
        nats = {name: grown.nats(row) for name, grown in self.sums.items()}
        top = max(nats.values(), default=0.0)
        parts = {name: math.exp(max(-60.0, n - top)) for name, n in nats.items()}
        whole = sum(parts.values())
        return {name: part / whole for name, part in parts.items()}


@dataclass(frozen=True)
class Calibration:
    """From raw confidences and evidence to probabilities, by kind of fault; kinds without stay raw.

    ``weights``: a number by name of each feature of a finding (`nodrek.core.verdict.calibrate.FEATURES`);
    ``rivals``, ``trees``: of the evidence of a corner (`nodrek.core.verdict.evidence.EVIDENCE`), kinds of which a
    corner has one at most, and kinds that stand for themselves; ``sight``: of what a log is like
    (`nodrek.core.verdict.sight.SIGHT`), for what a clean result is worth; ``lost``: of what the dips of a ring look
    like (`nodrek.core.turns.lost_marks.MARKS`), for the number of edges it lost. A name that the training did not
    know yet weighs nothing.
    """

    weights: Mapping[Fault, Mapping[str, float]]
    trees: Mapping[Fault, Boosted] = field(default_factory=dict)
    rivals: Rivals = field(default_factory=lambda: Rivals({}))
    sight: Mapping[Fault, Mapping[str, float]] = field(default_factory=dict)
    lost: Rivals = field(default_factory=lambda: Rivals({}))

    @property
    def grown(self) -> frozenset[Fault]:
        """Kinds whose probability comes from trees."""
        return frozenset(self.trees) | {fault for fault in Fault if fault.value in self.rivals.sums}

    def probabilities(
        self, row: Mapping[str, float], silent: float = 1.0, unlike: Mapping[str, float] | None = None
    ) -> dict[Fault, float]:
        """Of all of `grown` for one corner's row of evidence.

        `silent`: how sure it is by other ways that the corner says nothing, or always the same; no more than that is
        taken from its rivals. `unlike`: by how much less likely than the trees know some rivals are, by their names.
        """
        among = self.rivals.probabilities(row)
        if unlike:
            parts = {name: part * unlike.get(name, 1.0) for name, part in among.items()}
            whole = sum(parts.values())
            among = {name: part / whole for name, part in parts.items()}
        taken = among.get(SILENT, 0.0)
        if taken > silent:
            left = sum(part for name, part in among.items() if name != SILENT)
            among = {name: part * (1.0 - silent) / left for name, part in among.items() if name != SILENT}
        alone = {fault: trees.probability(row) for fault, trees in self.trees.items()}
        return alone | {fault: among[fault.value] for fault in Fault if fault.value in among}


def boosted_from(data: Mapping[str, Any]) -> Boosted:
    """``{"base": nats, "trees": [...]}`` → `Boosted`; raises `ValueError` for anything else."""
    return Boosted(float(data["base"]), forest_from(data["trees"]))


def forest_from(trees: Sequence[Mapping[str, Any]]) -> Forest:
    """Trees as they are written → `Forest`; raises `ValueError` for what is none."""
    sizes = np.array([len(tree["if"]) for tree in trees], dtype=np.int64)
    columns = {key: list(chain.from_iterable(tree[key] for tree in trees)) for key in ("if", "most", "else")}
    names = {name: k for k, name in enumerate(dict.fromkeys(["", *columns["if"]]))}
    name = np.array([names[n] for n in columns["if"]], dtype=np.int64)
    number = np.array(columns["most"], dtype=np.float64)
    roots, row, leaf = np.cumsum(sizes) - sizes, np.arange(name.size), name == 0
    above = np.array(columns["else"], dtype=np.int64)
    if not number.size == above.size == row.size:
        raise ValueError("the columns of a tree differ in length")
    above = np.where(leaf, row, above + np.repeat(roots, sizes))
    below = np.where(leaf, row, row + 1)
    ends = np.repeat(roots + sizes, sizes)
    # each answer leads further down, or asking might never end
    if np.any(~leaf & ((above <= below) | (above >= ends))):
        raise ValueError("a row of a tree leads to none of the rows below it")
    return Forest(tuple(names), name, np.where(leaf, 0.0, number), below, above, np.where(leaf, number, 0.0), roots)
