"""A gap behind stand-ins, told by dips at one speed; silence that ends; two corners of which one stands still."""

from __future__ import annotations

import numpy as np
import pytest

from conftest import quiet
from nodrek.core.corners import map_corners
from nodrek.core.model import Analysis, Array, Corner, Fault, Finding, RawChannel, RawLog, Vehicle
from nodrek.core.verdict.examine import examine
from nodrek.core.verdict.judge import analyze_log
from nodrek.core.verdict.one_speed import dips_at_one_speed
from nodrek.io.knowledge import shipped_calibration

RATE_HZ, BAD, WAKE = 10.0, Corner.FR, 5.5
TIMES = np.arange(0.0, 240.0, 1.0 / RATE_HZ)
SPEED = np.clip(9.0 + 9.0 * np.sin(TIMES / 11.0), 0.0, 15.0)


def log_of(
    changed: Array, speed: Array = SPEED, corners: tuple[Corner, ...] = tuple(Corner), step: float = 0.1
) -> RawLog:
    """Corners with 0.3 % of noise, in steps of `step` km/h; `changed`: what `BAD` reads of its true speed."""
    rng = np.random.default_rng(1)
    shown = {c: 3.6 * speed * (1.0 + 0.003 * rng.standard_normal(speed.size)) for c in corners}
    shown[BAD] = shown[BAD] * changed
    told = {c: np.round(values / step) * step for c, values in shown.items()}
    return RawLog(tuple(RawChannel(f"Wheel speed {c}", "km/h", TIMES, told[c]) for c in corners), "test")


def analyzed(raw: RawLog) -> Analysis:
    return analyze_log(map_corners(raw), Vehicle(), quiet, shipped_calibration())[0]


def found(raw: RawLog) -> list[Finding]:
    return [f for f in analyzed(raw).findings if f.confidence >= 0.5]


def passing(speed: float) -> Array:
    """Samples next to each moment at which the vehicle passes `speed` (m/s)."""
    return np.flatnonzero(np.diff(np.sign(SPEED - speed)))


def test_dips_that_all_come_at_one_speed_are_a_gap_that_the_unit_hides() -> None:
    """Below 20 km/h the log shows the others; what is left are the moments before the unit notices."""
    changed = np.ones(TIMES.size)
    changed[passing(WAKE)] = 0.6
    raw = log_of(changed)
    (finding,) = found(raw)
    assert (finding.fault, finding.corners) == (Fault.AIR_GAP, (BAD,))
    assert finding.evidence["wake_up_kmh"] == pytest.approx(3.6 * WAKE, abs=1.5)
    assert analyzed(raw).corners[BAD].wake_up == pytest.approx(WAKE, abs=0.4)


@pytest.mark.parametrize("where", ["any speed", "a mate as well", "below what any gap wakes at", "silent below"])
def test_what_other_dips_say(where: str) -> None:
    changed = np.ones(TIMES.size)
    at = passing(1.9 if where.startswith("below") else WAKE)
    if where == "any speed":
        at = np.random.default_rng(2).choice(np.flatnonzero(SPEED > 2.0), at.size, replace=False)
    changed[at] = 0.6
    if where == "silent below":
        changed[SPEED < WAKE] = 0.0
    raw = log_of(changed)
    if where == "a mate as well":
        mate = raw.channels[list(Corner).index(BAD.mate)]
        mate.values[at] = np.round(6.0 * mate.values[at]) / 10.0
    assert dips_at_one_speed(examine(map_corners(raw), Vehicle(), quiet), BAD) is None


def test_long_silence_that_ends_is_a_break_and_one_that_does_not_is_a_dead_corner() -> None:
    steady = 14.0 + np.sin(TIMES / 5.0)
    gone = (TIMES > 60.0) & (TIMES < 75.0) | (TIMES > 140.0) & (TIMES < 152.0)
    (finding,) = found(log_of(1.0 * ~gone, steady))
    assert (finding.fault, finding.corners) == (Fault.INTERMITTENT, (BAD,))
    assert (finding.evidence["silences_that_ended"], finding.evidence["longest_s"]) == (2, pytest.approx(15.0, abs=0.5))
    assert finding.evidence["times_s"] == pytest.approx([60.0, 140.0], abs=0.5)
    for silent in (TIMES > 140.0, TIMES < 100.0, TIMES > 0.0):
        (finding,) = found(log_of(1.0 * ~silent, steady))
        assert (finding.fault, finding.corners) == (Fault.NO_SIGNAL, (BAD,))


def test_of_two_corners_the_one_that_stands_still_is_frozen() -> None:
    """On the motorway, where the other changes little at a time; a value in whole steps stands for long by itself."""
    speed = 33.0 + 0.8 * np.sin(TIMES / 3.0)
    pair = (BAD, BAD.mate)
    raw = log_of(22.0 / speed, speed, pair, step=0.01)
    raw.channels[0].values[:] = 80.0
    (finding,) = found(raw)
    assert (finding.fault, finding.corners) == (Fault.FROZEN, (BAD,))
    assert not found(log_of(np.ones(TIMES.size), 33.0 + 0.0 * speed, pair, step=1.0))


def test_dips_over_and_over_while_the_vehicle_keeps_to_one_speed_are_one_passage() -> None:
    held = (TIMES > 100.0) & (TIMES < 110.0)
    cruise = np.where(held, 7.0 + 0.02 * np.sin(TIMES), SPEED)
    changed = np.ones(TIMES.size)
    changed[np.flatnonzero(held)[5:-5:8]] = 0.8
    assert dips_at_one_speed(examine(map_corners(log_of(changed, cruise)), Vehicle(), quiet), BAD) is None
