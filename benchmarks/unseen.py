"""How far probabilities hold for control units and roads that nothing was learnt from.

python -m benchmarks.unseen [DRIVES] [--records FOLDER]

Trees are grown as `tools.train` grows them, but with one group of drives held out (all those of one kind of
control unit, on one road, or of one world), and asked about that group. Healthy drives with one nuisance at a time are
asked of trees that never saw them. Ratios, silent and frozen corners without trees take no part.
"""

from __future__ import annotations

import argparse
from collections import defaultdict
from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np
from tools.gather import KEPT, Record, draw, gather, world_of
from tools.grow import FOLDS, GROWN, said_by_unseen

from benchmarks.reliability import reliability
from nodrek.core.model import Array
from nodrek.simulate.vary import draw_scenario

DRIVES = 1_500
SURE = 0.5


class Answers:
    """Of every corner and every kind of fault: what was said, what was true, and of which drive."""

    def __init__(self, records: Sequence[Record]) -> None:
        corners = [r for r in records if not r.kind]
        self.rows = np.array([r.row for r in corners])
        self.seeds = np.array([r.seed for r in corners])
        self.faults = [r.faults for r in corners]
        self.true = np.array([[k.value in f for k in GROWN] for f in self.faults])
        self.sound = ~np.isin(self.seeds, self.seeds[[bool(r.faults) for r in corners]])

    def held_out(self, group: Array) -> Array:
        """Probabilities of each kind by trees that never saw the group of the row; same shape as `true`."""
        return said_by_unseen(self.rows, self.faults, group)


def alarms(answers: Answers, p: Array, part: Array) -> str:
    """Healthy drives among the rows of `part` with a finding, of how many."""
    loud, every = (set(answers.seeds[part & answers.sound & rows]) for rows in (p.max(axis=1) >= SURE, True))
    return f"{len(loud):3d} of {len(every):4d}"


def table(title: str, answers: Answers, group_of: Callable[[int], str]) -> None:
    """One row a group, held out."""
    named = {int(seed): group_of(int(seed)) for seed in np.unique(answers.seeds)}
    group = np.array([named[int(seed)] for seed in answers.seeds])
    p = answers.held_out(group)
    print(f"\n{title:24s} {'found':>6s} {'healthy alarms':>14s} {'ECE':>6s} {'Brier':>6s}  stated/right (number)")
    for name in [*sorted(set(named.values())), "all"]:
        part = np.ones(group.size, dtype=bool) if name == "all" else group == name
        seen = reliability(p[part], answers.true[part])
        bands = "  ".join(f"{band.stated:.2f}/{band.right:.2f} ({band.number})" for band in seen.bands)
        found = 100.0 * float(np.mean(p[part][answers.true[part]] >= SURE))
        print(f"{name:24s} {found:6.1f} {alarms(answers, p, part):>14s} {seen.error:6.3f} {seen.brier:6.3f}  {bands}")


def nuisances(answers: Answers) -> None:
    """Healthy drives by what disturbs them, of trees that never saw the drive."""
    p = answers.held_out(answers.seeds % FOLDS)
    rows: dict[str, Array] = defaultdict(lambda: np.zeros(answers.seeds.size, dtype=bool))
    for seed in np.unique(answers.seeds[answers.sound & [world_of(int(s)) is None for s in answers.seeds]]):
        settings = draw(int(seed))[1]
        mine = answers.seeds == seed
        for name in (settings["road"], settings.get("nuisance"), "worn axle" if settings["worn_axle"] else None):
            if name is not None:
                rows[str(name)] |= mine
    print("\nHealthy drives with a finding, by road and nuisance (drives held out)")
    for name, part in sorted(rows.items()):
        print(f"{name.replace('_', ' '):24s} {alarms(answers, p, part)}")


def _named(seed: int) -> str:
    """The world of a drive."""
    world = world_of(seed)
    return "first world" if world is None else world.__name__.rpartition(".")[2].replace("_", " ")


def main(drives: int, records: Path) -> None:
    answers = Answers(gather(drives, records))
    print(f"{len(np.unique(answers.seeds))} drives; per cent of all faults drawn, visible or not")

    def unit_of(seed: int) -> str:
        if world_of(seed) is not None:
            return _named(seed)
        faults, settings = draw(seed)
        return type(draw_scenario(seed, faults, **settings).control_unit).__name__

    table("Unseen control unit", answers, unit_of)
    table("Unseen road", answers, lambda seed: str(draw(seed)[1]["road"]) if world_of(seed) is None else _named(seed))
    table("Unseen world", answers, _named)
    nuisances(answers)


if __name__ == "__main__":
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    asked.add_argument("drives", type=int, nargs="?", default=DRIVES)
    asked.add_argument("--records", type=Path, default=KEPT, help="folder of what was gathered, used and added to")
    main(**vars(asked.parse_args()))
