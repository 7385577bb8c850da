"""A corner that is made of the others at moments of its own: none of its values agrees, and no bend moves it."""

from __future__ import annotations

from types import ModuleType

import numpy as np
import pytest
from benchmarks import eleventh_world, twelfth_world

from conftest import analyze_raw, quiet
from nodrek.core.corners import map_corners
from nodrek.core.model import Analysis, Array, Corner, Fault, RawChannel, RawLog, Vehicle
from nodrek.core.verdict.bend_answers import MADE_OF, made_in_bends
from nodrek.core.verdict.examine import examine

TRACK_M, BASE_M, NOISE, STEP_KMH, SECONDS = 1.55, 2.8, 0.006, 0.1, 240.0
WAYS = {
    "middle of all": lambda others: others[:2].mean(axis=0),
    "mean of the others": lambda others: others.mean(axis=0),
}


def unit(times: Array, rng: np.random.Generator, turns_at: float, one_way: bool) -> dict[Corner, Array]:
    """km/h of four wheels as a unit knows them at `times` (s), noise anew: each on its circle round one centre, which
    lies on the rear axle's line (kinematics of a rectangle, closed form)."""
    speed = 32.0 + 16.0 * np.sin(times / 11.0) + 5.0 * np.sin(times / 2.7)
    curve = np.sin(times / 4.3) * np.sin(times / 23.0)
    # half of all driving is straight
    curve = turns_at * np.sign(curve) * np.maximum(np.abs(curve) - 0.35, 0.0) / 0.65
    out = {}
    for corner in Corner:
        side = 0.5 * TRACK_M * (1.0 if corner.is_left else -1.0)
        bend = np.abs(curve) if one_way else curve
        own = np.hypot(1.0 - side * bend, BASE_M * bend if corner.is_front else 0.0)
        out[corner] = speed * own * (1.0 + NOISE * rng.standard_normal(times.size))
    return out


def polled(hz: float, dead: Corner | None, way: str = "middle of all", turns_at: float = 0.02, one_way: bool = False,
           seed: int = 0) -> RawLog:  # fmt: skip
    """A log of corners that are asked one after another; `dead` shows what the unit makes of the others just then."""
    rng = np.random.default_rng(seed)
    channels = []
    for place, corner in enumerate(Corner):
        times = np.arange(0.0, SECONDS, 1.0 / hz) + 0.2 * place / hz
        known = unit(times, rng, turns_at, one_way)
        values = known[corner]
        if corner is dead:
            values = WAYS[way](np.sort([v for c, v in known.items() if c is not corner], axis=0))
        channels.append(RawChannel(f"Wheel speed {corner}", "km/h", times, np.round(values / STEP_KMH) * STEP_KMH))
    return RawLog(tuple(channels), "test")


@pytest.mark.parametrize("corner", list(Corner))
@pytest.mark.parametrize(("hz", "way"), [(4.0, "middle of all"), (10.0, "middle of all"), (10.0, "mean of the others")])
def test_who_never_answers_a_bend_is_silent(corner: Corner, hz: float, way: str) -> None:
    analysis, _ = analyze_raw(polled(hz, corner, way))
    assert isinstance(analysis, Analysis)
    assert [(f.fault, f.corners) for f in analysis.findings if f.confidence >= 0.5] == [(Fault.NO_SIGNAL, (corner,))]
    assert MADE_OF in analysis.findings[0].summary
    # the others are compared without it
    assert np.isnan(analysis.corners[corner].ratio)


@pytest.mark.parametrize("hz", [4.0, 10.0])
@pytest.mark.parametrize(
    ("turns_at", "one_way"), [(0.0, False), (0.004, False), (0.02, False), (0.06, False), (0.06, True)]
)
def test_wheels_of_their_own_answer_or_are_not_asked(hz: float, turns_at: float, one_way: bool) -> None:
    """On a straight road, in bends as tight as those round a block, and in those to one side only."""
    for seed in range(3):
        raw = polled(hz, None, turns_at=turns_at, one_way=one_way, seed=seed)
        exam = examine(map_corners(raw), Vehicle(), lambda share, doing: None)
        assert not [c for c in Corner if made_in_bends(exam, c)]


@pytest.mark.parametrize("corner", [Corner.FL, Corner.RR])
def test_on_a_straight_road_nothing_is_said(corner: Corner) -> None:
    exam = examine(map_corners(polled(10.0, corner, turns_at=0.0)), Vehicle(), lambda share, doing: None)
    assert not [c for c in Corner if made_in_bends(exam, c)]


@pytest.mark.parametrize(
    ("world", "seed", "kind", "rate"),
    [(twelfth_world, 540_001, "healthy", 4.0), (eleventh_world, 1_270_000, "extra edges", 50.0)],
)
def test_seven_blocks_of_bends_prove_nothing(world: ModuleType, seed: int, kind: str, rate: float) -> None:
    """A minute in whole kilometres per hour, and edges that are none at a wheel of the other axle."""
    exam = examine(map_corners(world.draw(seed, kind, rate).log), Vehicle(), lambda share, doing: None)
    assert not [c for c in Corner if made_in_bends(exam, c)]


def test_wheels_that_slip_under_hard_braking_answer_no_bend() -> None:
    """A sound car on the motorway at 10 values a second, in whole half km/h: three hard stops part its wheels by 8 %,
    and the one that slips least reads the mean of the others there."""
    exam = examine(map_corners(twelfth_world.draw(5_400_003, "healthy", 10.0).log), Vehicle(), quiet)
    assert not any(made_in_bends(exam, c) for c in Corner)
