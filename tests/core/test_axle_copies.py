"""A corner that shows the other wheel of its axle: all the time, or while its sensor sleeps."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
import pytest

from conftest import analyze_raw
from nodrek.core.corners import map_corners
from nodrek.core.model import Analysis, Array, Corner, Fault, RawChannel, RawLog, Vehicle
from nodrek.core.verdict.axle_copy import copied_from_mate
from nodrek.core.verdict.examine import examine

TRACK_M, BASE_M = 1.55, 2.8


def winding(
    hz: float = 20.0,
    noise: float = 0.002,
    step_kmh: float = 0.01,
    seed: int = 0,
    curve_sign: Callable[[Array], Array] = np.array,
) -> dict[Corner, Array]:
    """km/h of four wheels over five minutes of bends to both sides, 3 to 55 km/h: each on its circle round one centre,
    which lies on the rear axle's line (kinematics of a rectangle, closed form). `curve_sign`: what becomes of the
    curvature (1/m), to one side only, or none."""
    rng, times = np.random.default_rng(seed), np.arange(0.0, 300.0, 1.0 / hz)
    speed = 29.0 + 26.0 * np.sin(times / 11.0)
    curve = curve_sign(0.035 * np.sin(times / 4.3) * np.sin(times / 23.0))
    out = {}
    for corner in Corner:
        side = 0.5 * TRACK_M * (1.0 if corner.is_left else -1.0)
        own = np.hypot(1.0 - side * curve, BASE_M * curve if corner.is_front else 0.0)
        out[corner] = np.round(speed * own * (1.0 + noise * rng.standard_normal(times.size)) / step_kmh) * step_kmh
    return out


def as_log(values: dict[Corner, Array], hz: float = 20.0) -> RawLog:
    times = np.arange(next(iter(values.values())).size) / hz
    return RawLog(tuple(RawChannel(f"Wheel speed {c}", "km/h", times, v) for c, v in values.items()), "test")


def told(raw: RawLog) -> list[tuple[Fault, tuple[Corner, ...]]]:
    analysis, _ = analyze_raw(raw)
    assert isinstance(analysis, Analysis)
    return [(f.fault, f.corners) for f in analysis.findings if f.confidence >= 0.5]


@pytest.mark.parametrize("corner", list(Corner))
@pytest.mark.parametrize(("hz", "step_kmh"), [(20.0, 0.01), (4.0, 0.1)])
def test_who_is_its_mate_all_the_time_is_silent(corner: Corner, hz: float, step_kmh: float) -> None:
    """The axle runs as fast as the wheel that is shown twice, so it is known which of the two is not itself."""
    values = winding(hz, step_kmh=step_kmh)
    values[corner] = values[corner.mate]
    raw = as_log(values, hz)
    assert told(raw) == [(Fault.NO_SIGNAL, (corner,))]
    analysis, _ = analyze_raw(raw)
    assert "the other wheel of its axle" in analysis.findings[0].summary
    # the others are compared without it
    assert np.isnan(analysis.corners[corner].ratio)
    assert all(r.ratio_low < 1.0 < r.ratio_high for c, r in analysis.corners.items() if c is not corner)


@pytest.mark.parametrize("corner", list(Corner))
def test_bends_to_one_side_and_whole_kilometres_are_enough_where_nothing_differs(corner: Corner) -> None:
    values = {c: np.round(v) for c, v in winding(10.0, curve_sign=abs).items()}
    assert told(as_log(values, 10.0)) == []
    values[corner] = values[corner.mate]
    assert told(as_log(values, 10.0)) == [(Fault.NO_SIGNAL, (corner,))]


@pytest.mark.parametrize("corner", [Corner.FL, Corner.RR])
def test_who_becomes_its_mate_on_the_way_is_silent_from_then_on(corner: Corner) -> None:
    values = winding(10.0, step_kmh=0.1)
    values[corner] = np.where(np.arange(values[corner].size) < 1100, values[corner], values[corner.mate])
    analysis, _ = analyze_raw(as_log(values, 10.0))
    first = analysis.findings[0]
    assert (first.fault, first.corners) == (Fault.NO_SIGNAL, (corner,))
    assert first.evidence["since_s"] == pytest.approx(110.0, abs=3.0)


def test_straight_ahead_nobody_knows_which_of_two_is_the_copy() -> None:
    values = winding(10.0, step_kmh=0.1, curve_sign=np.zeros_like)
    values[Corner.FL] = values[Corner.FR]
    exam = examine(map_corners(as_log(values, 10.0)), Vehicle(), lambda share, doing: None)
    assert all(copied_from_mate(exam, c) is None for c in Corner)


@pytest.mark.parametrize("corner", [Corner.FR, Corner.RL])
def test_a_gap_behind_its_mate_is_found_at_its_wake_up_speed(corner: Corner) -> None:
    values = winding()
    values[corner] = np.where(values[corner.mate] < 21.0, values[corner.mate], values[corner])
    analysis, _ = analyze_raw(as_log(values))
    first = analysis.findings[0]
    assert (first.fault, first.corners) == (Fault.AIR_GAP, (corner,))
    assert analysis.corners[corner].wake_up * 3.6 == pytest.approx(21.0, abs=2.0)


@pytest.mark.parametrize("seed", range(4))
def test_sound_wheels_and_one_that_only_reads_low_copy_nobody(seed: int) -> None:
    """A ring that reads low makes the wheels of its axle differ, to one side only, while the others run alike."""
    values = winding(seed=seed)
    straight = as_log({c: np.round(values[Corner.RL] * (1.0 + 1e-5 * k), 2) for k, c in enumerate(Corner)})
    low = [replace(c, values=c.values * (0.9 if c.name.endswith("FL") else 1.0)) for c in straight.channels]
    for raw in (as_log(values), straight, RawLog(tuple(low), "test")):
        exam = examine(map_corners(raw), Vehicle(), lambda share, doing: None)
        assert all(copied_from_mate(exam, c) is None for c in Corner)
