"""What a clean log was said to be worth, against what was found in its twin: unseen twins, by kind.

python -m benchmarks.sight [TWINS]          (seeds from 190,000 on; training uses those from 130,000)
"""

from __future__ import annotations

import sys
from concurrent.futures import ProcessPoolExecutor

import numpy as np
from tools.train_sight import SMALLEST, twins

from nodrek.core.model import Fault
from nodrek.core.verdict.sight import promise
from nodrek.io.knowledge import shipped_calibration

FIRST_SEED = 190_000


def main(count: int) -> None:
    with ProcessPoolExecutor(max_workers=2) as pool:
        done = [t for t in pool.map(twins, range(FIRST_SEED, FIRST_SEED + count), chunksize=4) if t is not None]
    weights = shipped_calibration().sight
    print("kind, twins, promised, found; promised and found of the poorer and of the better half")
    for kind, _ in SMALLEST:
        mine = [(row, found) for name, row, found in done if name == kind.value]
        promised = np.array([promise(weights[kind], row) for row, _ in mine])
        found = np.array([f for _, f in mine], dtype=float)
        halves = np.array_split(np.argsort(promised), 2)
        told = ", ".join(f"{promised[h].mean():.2f} {found[h].mean():.2f}" for h in halves)
        print(f"{Fault(kind).value:14s} {len(mine):4d}  {promised.mean():.2f} {found.mean():.2f}; {told}")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 250)
