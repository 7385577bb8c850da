"""Drives that teach, examined: what every corner and every finding of them showed → parts of a folder.

Recipe: seeds from 103,300 on (the benchmark's start at 150,000); every kind of fault, half of them about as small as
is worth finding, healthy drives with every nuisance, two faults at once, and in three logs of ten something more
(`benchmarks.also_wrong`: a corner that dies on the way, an odd tyre beside what is drawn, readings that are missing);
loggers of 2 to 100 samples a second, 45 s to six minutes, eight kinds of control unit and some with habits of their
own. Most drives are from worlds of the benchmarks that share no line with the simulator (`ELSEWHERE`): what holds in
eleven worlds is likelier to hold in a twelfth.

What is gathered is kept by `PART` drives and goes on where it was stopped. It is of the very program that gathers:
parts of another state of it are never mixed in (`state_of_program`).
"""

from __future__ import annotations

import gzip
import hashlib
import json
from collections.abc import Callable, Collection, Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import asdict, dataclass
from importlib import resources
from pathlib import Path
from types import ModuleType
from typing import Any

import numpy as np
from benchmarks import also_wrong, smallest
from benchmarks.also_wrong import Also
from benchmarks.elsewhere import WORLDS
from benchmarks.second_world import Drawn

from nodrek.core.corners import map_corners
from nodrek.core.model import Corner, Fault, Finding, RawLog, Vehicle, WheelLog
from nodrek.core.motion.lag import with_lags
from nodrek.core.verdict.calibrate import SAME_TREES, features
from nodrek.core.verdict.evidence import corner_evidence
from nodrek.core.verdict.examine import Examination, examine
from nodrek.core.verdict.judge import raw_findings
from nodrek.errors import NodrekError
from nodrek.simulate.chain import simulate
from nodrek.simulate.faults import Cause, SimulatedFault
from nodrek.simulate.nuisance import Nuisance
from nodrek.simulate.truth import FAULT_OF, corners_of, is_right
from nodrek.simulate.vary import draw_fault, draw_scenario, small_fault

FIRST_SEED = 103_300
DRIVES = 20_000
ELSEWHERE = {
    10_000_000: WORLDS["second"], 20_000_000: WORLDS["third"], 30_000_000: WORLDS["fifth"],
    40_000_000: WORLDS["fourth"], 50_000_000: WORLDS["sixth"], 60_000_000: WORLDS["seventh"],
    70_000_000: WORLDS["eighth"], 80_000_000: WORLDS["ninth"], 90_000_000: WORLDS["tenth"],
    100_000_000: WORLDS["eleventh"],
}  # fmt: skip
"""Worlds that teach as well, by what is added to the seeds of each."""
IN_TURN = (
    0, 100_000_000, 90_000_000, 80_000_000, 70_000_000, 60_000_000, 50_000_000,
    40_000_000, 100_000_000, 90_000_000, 80_000_000, 30_000_000, 20_000_000, 10_000_000,
)  # fmt: skip
"""Worlds that drives are taken from; the first is the simulator that ships, those that come twice are the newest."""
HEALTHY_SHARE = 0.3
DOUBLE_SHARE = 0.2
ALSO_SHARE = 0.3
"""Of all drives, so many have something more in their log (`also_wrong`)."""
SMALL_SHARE = 0.5
"""Of the faults that have a smallest size worth finding, so many are small (`smallest.UP_TO`)."""
RATES = (2.0, 4.0, 4.0, 5.0, 10.0, 10.0, 20.0, 50.0, 50.0, 100.0)
ROADS = ("town", "town", "country", "country", "motorway", "gravel", "roundabouts", "queue", "potholes")
PART = 200
"""So many drives are kept at a time."""
KEPT = Path("build/training")
"""Where what is gathered is kept, if nobody says so otherwise."""


@dataclass(frozen=True)
class Record:
    """One finding with its features, or one corner with its evidence, and whether it is right."""

    seed: int
    kind: str
    """Of the finding; of a corner the empty word."""
    row: list[float]
    right: bool
    faults: tuple[str, ...] = ()
    """Kinds of fault that are truly at the corner; crossed leads are a matter of the whole log."""


def draw(seed: int) -> tuple[tuple[SimulatedFault, ...], dict[str, Any]]:
    """Faults and settings of one training drive."""
    rng = np.random.default_rng([seed, 79])
    causes = list(Cause)
    faults: tuple[SimulatedFault, ...] = ()
    if rng.random() > HEALTHY_SHARE:
        faults = (_perhaps_small(draw_fault(causes[int(rng.integers(len(causes)))], seed), seed),)
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


def _perhaps_small(fault: SimulatedFault, seed: int) -> SimulatedFault:
    small = _small_times(seed)
    return small_fault(fault, small) if small else fault


def _small_times(seed: int) -> float | None:
    """How many times the smallest one the fault of a drive is; ``None`` for the sizes of its world."""
    rng = np.random.default_rng([seed, 80])
    return smallest.draw_times(rng) if rng.random() < SMALL_SHARE else None


def records_of(seed: int) -> list[Record]:
    """Everything one drive teaches."""
    faults, settings = draw(seed)
    scenario = draw_scenario(seed, faults, **settings)
    also = with_more(seed, simulate(scenario), tuple(scenario.names), {c for f in faults for c in corners_of(f)})
    try:
        exam = _examined(map_corners(also.log))
    except NodrekError:
        return []
    except ArithmeticError as error:  # a defect to mend, not a reason to lose an hour of the other drives
        print(f"seed {seed}: {error!r}", flush=True)
        return []
    wrong = {
        c: tuple(_named(x.cause) for x in faults if c in corners_of(x) or x.cause is Cause.CROSSED) for c in Corner
    }
    return _records(
        seed, exam, _labels(wrong, also), lambda f: any(is_right(f.fault.value, f.corners, x) for x in faults), also
    )


def with_more(seed: int, log: RawLog, corners: tuple[Corner, ...], bad: Collection[Corner]) -> Also:
    """The log with something more in it, mostly at a corner that is not among the `bad` ones; or as it is."""
    rng = np.random.default_rng([seed, 82])
    if rng.random() < ALSO_SHARE:
        kind = str(rng.choice(also_wrong.KINDS))
        hides = kind in also_wrong.HIDES or rng.random() < 0.8
        may = [c for c in corners if not (hides and c in bad)]
        added = also_wrong.add(log, corners, kind, may[int(rng.integers(len(may)))], rng) if may else None
        if added is not None:
            return added
    return Also(log, None, ())


def _labels(wrong: Mapping[Corner, tuple[str, ...]], also: Also) -> dict[Corner, tuple[str, ...]]:
    if also.fault is None or len(also.corners) > 1:
        # an odd axle is no odd corner
        return dict(wrong)
    (corner,) = also.corners
    return {**wrong, corner: (*wrong.get(corner, ()), SAME_TREES.get(also.fault, also.fault).value)}


def world_of(seed: int) -> ModuleType | None:
    """``None`` for the simulator that ships."""
    return next((world for first, world in reversed(ELSEWHERE.items()) if seed >= first), None)


def drawn_elsewhere(seed: int, world: ModuleType) -> Drawn:
    """One training drive of another world."""
    rng = np.random.default_rng([seed, 79])
    kinds = [kind for kind in world.FAULTS if kind != "healthy"]
    kind = "healthy" if rng.random() < HEALTHY_SHARE else str(rng.choice(kinds))
    small = _small_times(seed) if kind in world.SMALLEST.values() else None
    drawn: Drawn = world.draw(seed, kind, float(rng.choice(RATES)), small=small)
    return drawn


def records_elsewhere(seed: int, world: ModuleType) -> list[Record]:
    """Everything one drive of another world teaches."""
    drawn = drawn_elsewhere(seed, world)
    also = with_more(seed, drawn.log, tuple(Corner), drawn.corners)
    try:
        exam = _examined(map_corners(also.log))
    except NodrekError:
        return []
    fault, several = drawn.fault, len(drawn.corners) > 1
    here: dict[Corner, tuple[str, ...]] = {}
    if fault is Fault.CROSSED:
        here = dict.fromkeys(Corner, (fault.value,))
    elif fault is not None and not several:
        # an odd axle is no odd corner
        here = {drawn.corners[0]: (SAME_TREES.get(fault, fault).value,)}
    right = () if several or fault is None else ((fault, drawn.corners),)
    return _records(seed, exam, _labels(here, also), lambda f: (f.fault, f.corners) in right, also)


def _examined(log: WheelLog) -> Examination:
    """What a drive is examined as; raises `NodrekError` as an analysis does."""
    return examine(with_lags(log), Vehicle(), lambda share, doing: None)


def _records(
    seed: int, exam: Examination, wrong: Mapping[Corner, tuple[str, ...]], right: Callable[[Finding], bool], also: Also
) -> list[Record]:
    findings = raw_findings(exam)
    out = [
        Record(
            seed,
            f.fault.value,
            features(f, findings, exam).tolist(),
            right(f) or (f.fault, f.corners) == (also.fault, also.corners),
        )
        for f in findings
        if len(f.corners) == 1
    ]
    for corner in exam.log.corners:
        row = corner_evidence(exam, corner, findings).tolist()
        out.append(Record(seed, "", row, False, wrong.get(corner, ())))
    return out


def _named(cause: Cause) -> str:
    fault = Fault(FAULT_OF[cause])
    return SAME_TREES.get(fault, fault).value


def seed_of(number: int) -> int:
    """Of the drive of that number, its world included."""
    return IN_TURN[number % len(IN_TURN)] + FIRST_SEED + number


def records_anywhere(seed: int) -> list[Record]:
    world = world_of(seed)
    return records_of(seed) if world is None else records_elsewhere(seed, world)


def gather(drives: int, keep: Path, without: str | None = None) -> list[Record]:
    """Records of the first `drives` but those of the world `without`, two at a time.

    `keep`: a folder. Parts of an earlier run of this very program are taken from there, the others are left there.
    """
    folder = keep / state_of_program()
    folder.mkdir(parents=True, exist_ok=True)
    left_out = WORLDS[without] if without else None
    records: list[Record] = []
    with ProcessPoolExecutor(max_workers=2) as pool:
        for first in range(0, drives, PART):
            part = folder / f"{first:06d}.jsonl.gz"
            if not part.exists():
                seeds = [seed_of(number) for number in range(first, first + PART)]
                _write(part, [r for found in pool.map(records_anywhere, seeds, chunksize=8) for r in found])
                print(f"{first + PART} drives", flush=True)
            records += _read(part)
    seeds_asked = {seed_of(number) for number in range(drives)}
    return [r for r in records if r.seed in seeds_asked and (left_out is None or world_of(r.seed) is not left_out)]


def state_of_program() -> str:
    """Of all code that decides what a drive teaches: changed with any line of it."""
    rooms = [Path(str(resources.files("nodrek").joinpath(room))) for room in ("core", "simulate")]
    worlds = Path(str(resources.files("benchmarks")))
    written = [*(f for room in rooms for f in room.rglob("*.py")), *worlds.glob("*_world.py")]
    written += [worlds / "also_wrong.py", worlds / "smallest.py", Path(__file__)]
    digest = hashlib.sha256()
    for file in sorted(written):
        digest.update(file.read_bytes())
    return digest.hexdigest()[:12]


def _write(part: Path, records: Sequence[Record]) -> None:
    """Whole or not at all: a run may be stopped at any moment."""
    half = part.with_suffix(".half")
    with gzip.open(half, "wt", encoding="utf-8") as file:
        file.writelines(json.dumps(asdict(record)) + "\n" for record in records)
    half.replace(part)


def _read(part: Path) -> list[Record]:
    with gzip.open(part, "rt", encoding="utf-8") as file:
        return [Record(**json.loads(line)) for line in file]
