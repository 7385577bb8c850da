"""Learn what a clean log is worth: simulated twins of one drive → `knowledge/calibration.json`.

python -m tools.train_sight [TWINS] [--records FILE]          (make train, after the probabilities)

The first twin is sound and says with which probability the smallest fault worth finding would
have been found in it; the second has that fault at that corner, and it is found or not. One
logistic regression per kind joins the two. Twins come from the simulator and, as many each, from the worlds
that teach the probabilities as well (`tools.gather.ELSEWHERE`); seeds from 132,000 on of each. A fifth of the drives is
looked at for a minute at most: short logs are worth little, and only short ones say how little.
"""

from __future__ import annotations

import argparse
import json
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from pathlib import Path
from types import ModuleType
from typing import NamedTuple

import numpy as np
from benchmarks.elsewhere import is_right as is_right_elsewhere

from nodrek.core.corners import map_corners
from nodrek.core.model import Corner, Fault, Finding, RawLog, Vehicle
from nodrek.core.verdict.judge import FAULTY_FROM, analyze_log
from nodrek.core.verdict.power import could_see
from nodrek.core.verdict.sight import ASKED, SIGHT, sight_row
from nodrek.errors import NodrekError
from nodrek.io.knowledge import shipped_calibration
from nodrek.jobs.analyze import cut_log
from nodrek.simulate.chain import simulate
from nodrek.simulate.faults import Cause
from nodrek.simulate.truth import is_right
from nodrek.simulate.vary import draw_fault, draw_scenario, small_fault
from tools.gather import ELSEWHERE, RATES, draw, world_of
from tools.train import fit, learnt_file, write

FIRST_SEED = 132_000
TWINS = 2_200
WHOLE = 160
"""So many drives of each world are looked at whole; of the next ones a part of `SHORT_S` seconds."""
SHORT_S = (6.0, 60.0)
FIRST_SEEDS = (0, *ELSEWHERE)
"""What is added to seeds, by world: twins of all worlds in turn."""
CAUSES = {
    Fault.RING_DAMAGE: Cause.MISSING_TEETH, Fault.RING_RUNOUT: Cause.ECCENTRIC_RING, Fault.AIR_GAP: Cause.WIDE_GAP,
    Fault.INTERMITTENT: Cause.BROKEN_LEAD, Fault.TYRE_SIZE: Cause.WHEEL_SIZE,
}  # fmt: skip
"""What the simulator calls the faults whose smallest ones are asked for."""
KINDS = tuple(CAUSES)


class Pair(NamedTuple):
    """Two logs of one drive: sound, and with the smallest fault of a kind at one corner."""

    sound: RawLog
    faulty: RawLog
    corner: Corner
    is_right: Callable[[Finding], bool]


class Twin(NamedTuple):
    """What the sound log is like (`SIGHT`) and whether the fault was found in the other."""

    kind: Fault
    row: list[float]
    found: bool


def pair(seed: int, world: ModuleType | None) -> tuple[Fault, Pair]:
    """Twins of the simulator, or of another world; kinds in turn. Raises `NodrekError` where nothing can be driven."""
    kind = KINDS[seed % len(KINDS)]
    if world is None:
        fault = small_fault(draw_fault(CAUSES[kind], seed), 1.0)
        settings = draw(seed)[1]
        settings.pop("nuisance", None)
        faulty = draw_scenario(seed, (fault,), **settings)
        return kind, Pair(
            simulate(replace(faulty, faults=())), simulate(faulty), fault.corner,
            lambda f: is_right(f.fault.value, f.corners, fault),
        )  # fmt: skip
    rate, called = float(np.random.default_rng([seed, 79]).choice(RATES)), world.SMALLEST[kind]
    drawn = world.draw(seed, called, rate, small=1.0)
    sound = world.draw(seed, called, rate, faulty=False).log
    return kind, Pair(sound, drawn.log, drawn.corners[0], lambda f: is_right_elsewhere(f, drawn))


def twin(seed: int, world: ModuleType | None, is_short: bool = False) -> Twin | None:
    """``None`` where one of the two cannot be analyzed. `is_short`: of a part of the drive only."""
    try:
        kind, drives = pair(seed, world)
        sound, faulty = map_corners(drives.sound), map_corners(drives.faulty)
        if is_short:
            start, stop = _part(seed, sound.duration)
            sound, faulty = cut_log(sound, start, stop), cut_log(faulty, start, stop)
        _, exam = analyze_log(sound, Vehicle(), _quiet)
        row = sight_row(exam, drives.corner, could_see(exam, drives.corner)[kind])
        analysis, _ = analyze_log(faulty, Vehicle(), _quiet, shipped_calibration())
    except NodrekError:
        return None
    found = any(drives.is_right(f) for f in analysis.findings if f.confidence >= FAULTY_FROM)
    return Twin(kind, row.tolist(), found)


def _part(seed: int, duration: float) -> tuple[float, float]:
    """Seconds from and to which a short drive is looked at."""
    rng = np.random.default_rng([seed, 83])
    length = float(np.exp(rng.uniform(*np.log(SHORT_S))))
    start = float(rng.uniform(0.0, max(duration - length, 0.0)))
    return start, start + length


def _quiet(share: float, doing: str) -> None:
    """A progress that tells nobody."""


def _taught(number: int) -> Twin | None:
    """Kinds in turn within each world."""
    each = len(FIRST_SEEDS)
    seed = FIRST_SEEDS[number % each] + FIRST_SEED + number // each
    return twin(seed, world_of(seed), number // each >= WHOLE)


def gather(twins: int, keep: Path | None) -> list[Twin]:
    """Twins of all worlds, two at a time; from `keep` where that file is there, else left there."""
    if keep is not None and keep.exists():
        return [Twin(Fault(kind), row, found) for kind, row, found in json.loads(keep.read_text(encoding="utf-8"))]
    with ProcessPoolExecutor(max_workers=2) as pool:
        done = [t for t in pool.map(_taught, range(twins), chunksize=4) if t is not None]
    if keep is not None:
        keep.write_text(json.dumps([(t.kind.value, t.row, t.found) for t in done]), encoding="utf-8")
    return done


def learn(done: Sequence[Twin]) -> dict[str, dict[str, float]]:
    """Weights of `SIGHT` by kind; tells how good they are."""
    learnt = {}
    for kind in KINDS:
        mine = [t for t in done if t.kind is kind]
        asked = ASKED[kind]
        x = np.array([t.row for t in mine])[:, [SIGHT.index(name) for name in asked]]
        y = np.array([t.found for t in mine], dtype=float)
        weights = fit(x, y)
        learnt[kind.value] = {n: round(float(w), 5) for n, w in zip(asked, weights, strict=True)}
        p = 1 / (1 + np.exp(-np.clip(x @ weights, -30, 30)))
        print(f"{kind.value:14s} {len(y):4d} twins, found {y.mean():.2f}, promised {p.mean():.2f}, "
              f"Brier {np.mean((p - y) ** 2):.3f}")  # fmt: skip
    return learnt


def main(twins: int, records: Path | None) -> None:
    learnt = learn(gather(twins, records))
    document = json.loads(learnt_file().read_text(encoding="utf-8"))
    write({**document, "sight": learnt})


if __name__ == "__main__":
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    asked.add_argument("twins", type=int, nargs="?", default=TWINS)
    asked.add_argument("--records", type=Path, help="keep what was gathered here, or take it from here")
    main(**vars(asked.parse_args()))
