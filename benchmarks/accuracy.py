"""What is found, what is named wrongly, what is cried for nothing, on seeds nobody tuned on.

Development used seeds below 10,000 of `nodrek.simulate.vary`; the benchmark starts at
150,000. One row a question: fault × road or rate. Exact and corner are shares of the
visible faults (`benchmarks.visible`), "of all" of every one that was drawn.
"""

from __future__ import annotations

import argparse
import time
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from itertools import count
from typing import Any

import numpy as np

from benchmarks.reliability import reliability, share
from benchmarks.visible import is_visible
from nodrek.core.corners import map_corners
from nodrek.core.model import Corner, Finding, Vehicle
from nodrek.core.verdict.judge import analyze_log
from nodrek.errors import NeverMoves
from nodrek.io.knowledge import shipped_calibration
from nodrek.simulate.chain import simulate
from nodrek.simulate.faults import Cause, SimulatedFault
from nodrek.simulate.nuisance import Nuisance
from nodrek.simulate.truth import corners_of, is_right
from nodrek.simulate.vary import draw_fault, draw_scenario

FIRST_SEED = 150_000


@dataclass(frozen=True)
class Trial:
    """One drive: what was put in, what came out."""

    sound: bool
    visible: bool
    exact: bool
    corner: bool
    extra: bool
    alarm: bool
    confidences: tuple[tuple[float, bool], ...]
    ratio_errors: tuple[float, ...]
    covered: tuple[bool, ...]
    could_see: float
    seconds: float


def one_trial(seed: int, cause: str | None, settings: dict[str, Any]) -> Trial | None:
    """``None`` where the log is refused: a queue that never moves is no trial."""
    faults: tuple[SimulatedFault, ...] = () if cause is None else (draw_fault(Cause(cause), seed),)
    settings = dict(settings)
    roads = settings.pop("roads", None)
    if roads:
        settings["road"] = roads[seed % len(roads)]
    scenario = draw_scenario(seed, faults, **settings)
    raw = simulate(scenario)
    visible = bool(faults) and is_visible(scenario)
    log = map_corners(raw)
    began = time.process_time()
    try:
        analysis, _ = analyze_log(log, Vehicle(), lambda share, doing: None, shipped_calibration())
    except NeverMoves:
        return None
    seconds = time.process_time() - began
    found = {_key(f): f.confidence for f in analysis.findings}
    truth = {key for key in found if any(is_right(*key, f) for f in faults)}
    sure = {key for key, confidence in found.items() if confidence >= 0.5}
    bad = {c for f in faults for c in corners_of(f)}
    named = {c for _, corners in sure for c in corners}
    true_log = {c: -np.log(scenario.car.tyre(c).factor) for c in Corner}
    for fault in faults:
        if fault.cause is Cause.WHEEL_SIZE:
            true_log[fault.corner] += np.log1p(fault.size)
    mean = np.mean([true_log[c] for c in analysis.corners])
    errors, covered = [], []
    for corner, result in analysis.corners.items():
        if np.isfinite(result.ratio) and (not faults or faults[0].cause is Cause.WHEEL_SIZE):
            truth_here = np.exp(true_log[corner] - mean)
            errors.append(abs(result.ratio - truth_here))
            covered.append(bool(result.ratio_low <= truth_here <= result.ratio_high))
    exact = bool(faults) and bool(truth & sure)
    return Trial(
        sound=not faults,
        visible=visible,
        exact=exact,
        # crossed leads of one axle are the mirror image of the other's: either is right
        corner=exact or (bool(bad) and bad <= named),
        extra=bool(sure - truth) and bool(faults),
        alarm=not faults and bool(sure),
        confidences=tuple((p, key in truth) for key, p in found.items()),
        ratio_errors=tuple(errors),
        covered=tuple(covered),
        could_see=min(c.could_see["ring_damage"] for c in analysis.corners.values()),  # type: ignore[index]
        seconds=seconds,
    )


def _key(finding: Finding) -> tuple[str, tuple[Corner, ...]]:
    return finding.fault.value, finding.corners


def run(
    name: str, cause: Cause | None, trials: int, first_seed: int, pool: ProcessPoolExecutor, **settings: Any
) -> list[Trial]:
    seeds = range(first_seed, first_seed + trials)
    futures = [pool.submit(one_trial, seed, cause.value if cause else None, settings) for seed in seeds]
    done = [trial for future in futures if (trial := future.result()) is not None]
    seen = [t for t in done if t.visible]
    line = f"{name:44s} {len(done):4d}"
    if cause is None:
        line += f" {'':4s} {'':6s} {'':6s} {'':6s} {'':6s} {share('alarm', done):6.1f}"
    else:
        line += f" {len(seen):4d} {share('exact', seen):6.1f} {share('corner', seen):6.1f}"
        line += f" {share('exact', done):6.1f} {share('extra', done):6.1f} {'':6s}"
    errors = [e for t in done for e in t.ratio_errors]
    if errors:
        covered = 100.0 * float(np.mean([c for t in done for c in t.covered]))
        within = 100.0 * float(np.mean(np.array(errors) < 1e-3))
        line += f" {100 * np.median(errors):8.3f} {within:6.1f} {covered:6.1f}"
    else:
        line += f" {'':8s} {'':6s} {'':6s}"
    line += f" {np.mean([t.could_see for t in done]):6.2f} {np.median([t.seconds for t in done]):6.2f}"
    print(line, flush=True)
    return done


def calibration(trials: list[Trial]) -> None:
    """Of all findings given as p, how many were right."""
    pairs = np.array([pair for t in trials for pair in t.confidences], dtype=float)
    if not pairs.size:
        return
    seen = reliability(pairs[:, 0], pairs[:, 1])
    print("\nReliability of all findings of 0.2 and more (stated, right, number)")
    for band in seen.bands:
        print(f"  {band.stated:5.2f}  {band.right:5.2f}  {band.number:5d}")
    print(f"  expected calibration error {seen.error:.3f}, Brier score {seen.brier:.3f}")


NUISANCES: dict[str, dict[str, Any]] = {
    **{road: {"road": road} for road in ("town", "country", "motorway", "gravel", "roundabouts", "queue", "potholes")},
    **{kind.value.replace("_", " "): {"nuisance": kind} for kind in Nuisance if kind is not Nuisance.NONE},
    "worn axle": {"worn_axle": True},
}
LOGGERS = {"50-100 Hz": (50.0, 100.0), "10 Hz": (10.0,), "4 Hz": (4.0,)}
ROADS_OF_FAULTS = ("town", "country")


def main(trials: int, first_seed: int) -> None:
    print(f"Seeds from {first_seed} on, {trials} a row; per cent; 180 s drives, 29-100 teeth, "
          "eight kinds of control unit")  # fmt: skip
    print(f"{'':44s} {'n':>4s} {'vis.':>4s} {'exact':>6s} {'corner':>6s} {'of all':>6s} {'extra':>6s} {'alarm':>6s} "
          f"{'ratio':>8s} {'<0.1%':>6s} {'95%':>6s} {'c.see':>6s} {'s':>6s}")  # fmt: skip
    everything: list[Trial] = []
    # every row drives vehicles of its own: a difficult one shall not count in all of them
    rows = count(first_seed, trials)
    with ProcessPoolExecutor(max_workers=2) as pool:
        for logger, rates in LOGGERS.items():
            of_logger: list[Trial] = []
            for name, settings in NUISANCES.items():
                label = f"healthy, {name}, {logger}"
                of_logger += run(label, None, trials, next(rows), pool, rates_hz=rates, **settings)
            for cause in Cause:
                label = f"{cause.value.replace('_', ' ')}, {logger}"
                of_logger += run(label, cause, trials, next(rows), pool, rates_hz=rates, roads=ROADS_OF_FAULTS)
            seen, sound = [t for t in of_logger if t.visible], [t for t in of_logger if t.sound]
            print(
                f"All of {logger}: {len(seen)} visible, exact {share('exact', seen):.1f}, corner "
                f"{share('corner', seen):.1f}; {len(sound)} healthy, alarms {share('alarm', sound):.1f}"
            )
            everything += of_logger
    calibration(everything)


if __name__ == "__main__":
    asked = argparse.ArgumentParser(description=__doc__)
    asked.add_argument("trials", type=int, nargs="?", default=30, help="drives a row")
    asked.add_argument("first_seed", type=int, nargs="?", default=FIRST_SEED)
    main(**vars(asked.parse_args()))
