"""Shared drives: simulated once a session, as most tests only look at them."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

import pytest

from nodrek.core.corners import map_corners
from nodrek.core.model import Corner, RawLog, Vehicle, WheelLog
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.judge import analyze_log
from nodrek.io.logs.write import write_csv
from nodrek.simulate.chain import simulate
from nodrek.simulate.faults import Cause, SimulatedFault
from nodrek.simulate.vary import draw_scenario

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")


def quiet(share: float, doing: str) -> None:
    """A progress that tells nobody."""


def analyze_raw(raw: RawLog, vehicle: Vehicle | None = None) -> tuple[object, Examination]:
    return analyze_log(map_corners(raw), vehicle or Vehicle(), quiet)


def drive(seed: int, *faults: SimulatedFault, **settings: object) -> RawLog:
    """A drawn scenario at 50 Hz, two minutes in town unless said otherwise."""
    usual: dict[str, object] = {"rates_hz": (50.0,), "duration_s": 120.0, "control_units": ("span",)}
    return simulate(draw_scenario(seed, faults, **{**usual, **settings}))  # type: ignore[arg-type]


@pytest.fixture(scope="session")
def healthy_raw() -> RawLog:
    return drive(11)


@pytest.fixture(scope="session")
def lost_tooth_raw() -> RawLog:
    return drive(11, SimulatedFault(Corner.RL, Cause.MISSING_TEETH))


@pytest.fixture(scope="session")
def healthy_log(healthy_raw: RawLog) -> WheelLog:
    return map_corners(healthy_raw)


@pytest.fixture
def log_file(tmp_path: Path) -> Callable[[RawLog], Path]:
    """Writes a raw log as plain CSV and gives its path."""

    def write(raw: RawLog, name: str = "drive.csv") -> Path:
        path = tmp_path / name
        write_csv(raw, path)
        return path

    return write
