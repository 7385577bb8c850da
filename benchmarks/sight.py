"""What a clean log was said to be worth, against what was found in its twin: unseen twins, by kind.

python -m benchmarks.sight [TWINS] [FIRST_SEED] [--world first|second|...|thirteenth]

Training uses seeds from 132,000 on (`tools.train_sight`).
"""

from __future__ import annotations

import argparse
from concurrent.futures import ProcessPoolExecutor

import numpy as np
from tools.train_sight import KINDS, Twin, twin

from benchmarks.elsewhere import WORLDS
from nodrek.core.verdict.sight import promise
from nodrek.io.knowledge import shipped_calibration

FIRST_SEED = 190_000
FIRST = "first"
"""The simulator that ships."""


def _twin(seed: int, world: str) -> Twin | None:
    return twin(seed, WORLDS.get(world))


def main(count: int, first_seed: int, worlds: list[str]) -> None:
    print("world, kind, twins, promised, found; promised and found of the poorer and of the better half")
    weights = shipped_calibration().sight
    for world in worlds:
        with ProcessPoolExecutor(max_workers=2) as pool:
            seeds = range(first_seed, first_seed + count)
            done = [t for t in pool.map(_twin, seeds, [world] * count, chunksize=4) if t is not None]
        for kind in KINDS:
            mine: list[Twin] = [t for t in done if t.kind is kind]
            promised = np.array([promise(weights[kind], t.row) for t in mine])
            found = np.array([t.found for t in mine], dtype=float)
            halves = np.array_split(np.argsort(promised), 2)
            told = ", ".join(f"{promised[h].mean():.2f} {found[h].mean():.2f}" for h in halves)
            print(f"{world:7s} {kind.value:14s} {len(mine):4d}  {promised.mean():.2f} {found.mean():.2f}; {told}")


if __name__ == "__main__":
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    asked.add_argument("count", metavar="twins", type=int, nargs="?", default=250, help="of each world")
    asked.add_argument("first_seed", type=int, nargs="?", default=FIRST_SEED)
    asked.add_argument("--world", dest="worlds", action="append", choices=(FIRST, *WORLDS))
    told = vars(asked.parse_args())
    main(told["count"], told["first_seed"], told["worlds"] or [FIRST, "eighth"])
