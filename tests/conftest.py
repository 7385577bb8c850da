"""Shared drives: simulated once a session, as most tests only look at them."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from nodrek.core.corners import map_corners
from nodrek.core.model import Array, Corner, RawLog, Vehicle, WheelLog
from nodrek.core.motion.reference import CornerMotion
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.judge import analyze_log
from nodrek.io.logs.write import write_csv
from nodrek.simulate.chain import simulate
from nodrek.simulate.faults import Cause, SimulatedFault
from nodrek.simulate.vary import draw_scenario

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

CIRCUMFERENCE, NOISE = 2.07, 0.006
"""Of corners made by `rolling` and `motion_of`: metres a turn, noise of their deviations."""


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


def rolling(rate: float, seconds: float = 180.0) -> tuple[Array, Array, Array]:
    """Times, speed, metres rolled: 6 to 14 m/s."""
    times = np.arange(0.0, seconds, 1 / rate)
    speed = 10.0 + 3.0 * np.sin(times / 9.0) + 1.0 * np.sin(times / 2.3)
    return times, speed, np.concatenate([[0.0], np.cumsum(0.5 * (speed[1:] + speed[:-1]) / rate)])


def motion_of(times: Array, speed: Array, path: Array, deviation: Array) -> CornerMotion:
    """A corner that is followed, with this deviation."""
    flat = np.full(times.size, NOISE)
    return CornerMotion(Corner.FL, times, speed, speed, deviation, flat, path, path.copy(), speed)
