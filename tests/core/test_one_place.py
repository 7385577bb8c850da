"""Few dips that all begin at one place of the turn: a ring, whatever trees make of so few."""

from __future__ import annotations

import numpy as np
import pytest
from benchmarks import third_world

from conftest import quiet
from nodrek.core.corners import map_corners
from nodrek.core.model import Corner, Fault, RawChannel, RawLog, Vehicle
from nodrek.core.verdict.examine import examine
from nodrek.core.verdict.judge import analyze_log
from nodrek.core.verdict.ring import dips_at_one_place
from nodrek.io.knowledge import shipped_calibration

RATE_HZ, CIRCUMFERENCE, BAD = 50.0, 2.0, Corner.FR


def log_of(tied: bool, dips: int, seed: int = 0) -> RawLog:
    """Four minutes at 8 to 16 m/s; the front right corner reads a third low `dips` times, in turns that are drawn:
    at one angle of the ring where `tied`, else at any."""
    rng = np.random.default_rng(seed)
    times = np.arange(0.0, 240.0, 1.0 / RATE_HZ)
    speed = 12.0 + 4.0 * np.sin(times / 13.0)
    turn = np.cumsum(speed) / RATE_HZ / CIRCUMFERENCE
    passes = np.flatnonzero(np.diff(np.floor(turn), prepend=0.0) > 0.0)
    comes = rng.choice(passes if tied else times.size, dips, replace=False)
    # placement errors of its teeth, small as they are, tell the angle of each wheel
    shown = {
        c: speed * (1.0 + 0.002 * np.sin(2.0 * np.pi * (k + 2) * turn) + 0.002 * rng.standard_normal(times.size))
        for k, c in enumerate(Corner)
    }
    shown[BAD][comes] *= 0.67
    return RawLog(tuple(RawChannel(f"Wheel speed {c}", "km/h", times, 3.6 * v) for c, v in shown.items()), "test")


@pytest.mark.parametrize(
    ("tied", "dips", "told"), [(True, 12, True), (True, 60, True), (True, 5, False), (False, 60, False)]
)
def test_so_many_agree_by_no_accident(tied: bool, dips: int, told: bool) -> None:
    exam = examine(map_corners(log_of(tied, dips)), Vehicle(), quiet)
    assert {c for c in Corner if dips_at_one_place(exam, c)} == ({BAD} if told else set())


@pytest.mark.parametrize("rate", [50.0, 10.0])
def test_a_ring_that_a_unit_shows_in_one_turn_of_thirty_is_damaged(rate: float) -> None:
    """63 of 69 dips in line were damage with 0.36, and sound with more."""
    log = map_corners(third_world.draw(1_121_000, "tooth gone", rate).log)
    first = analyze_log(log, Vehicle(), quiet, shipped_calibration())[0].findings[0]
    assert (first.fault, first.corners) == (Fault.RING_DAMAGE, (Corner.RR,))
    assert first.confidence >= 0.5
