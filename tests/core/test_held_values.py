"""A unit that holds its last value over a lost edge: readings stand still where they should dip."""

from __future__ import annotations

import numpy as np
import pytest

from nodrek.core.corners import map_corners
from nodrek.core.model import Array, Corner, Fault, RawChannel, RawLog, Vehicle
from nodrek.core.verdict.held import held_values
from nodrek.core.verdict.judge import analyze_log

CIRCUMFERENCE, RATE_HZ = 2.05, 50.0


def held_log(where: str, seed: int = 0, step: float = 0.01) -> RawLog:
    """Four corners in steps of `step` km/h; the rear left one repeats its last value in some turns: at one angle of
    the ``ring``, there but only while ``slow``, at ``any`` angle, or as often as its mates (``none``)."""
    rng = np.random.default_rng(seed)
    times = np.arange(0.0, 180.0, 1.0 / RATE_HZ)
    speed = 11.0 + 3.0 * np.sin(times / 8.0) + np.sin(times / 2.1)
    turn = np.cumsum(speed) / RATE_HZ / CIRCUMFERENCE
    passes = np.flatnonzero(np.diff(np.floor(turn), prepend=0.0) > 0)
    comes = passes[rng.random(passes.size) < 0.5]
    if where == "slow":
        comes = passes[speed[passes] < np.quantile(speed, 0.3)]
    if where == "any":
        comes = np.sort(rng.choice(np.arange(1, times.size), comes.size, replace=False))

    def shown(corner: Corner) -> Array:
        values = np.round(3.6 / step * speed * (1.0 + 0.003 * rng.standard_normal(times.size))) * step
        if corner is Corner.RL and where != "none":
            for at in comes.tolist():
                values[at] = values[at - 1]
        return values

    return RawLog(tuple(RawChannel(f"Wheel speed {c}", "km/h", times, shown(c)) for c in Corner), "test")


def test_values_that_stand_still_at_one_angle_convict_the_ring() -> None:
    analysis, exam = analyze_log(map_corners(held_log("ring")), Vehicle(), lambda share, doing: None)
    held = held_values(exam, Corner.RL)
    assert held is not None
    assert held.is_tied
    assert held.scale is not None
    assert 1.0 / held.scale.frequency == pytest.approx(CIRCUMFERENCE, rel=5e-3)
    first = analysis.findings[0]
    assert (first.fault, first.corners) == (Fault.RING_DAMAGE, (Corner.RL,))
    assert first.confidence > 0.9
    assert "stands still" in first.summary
    assert analysis.corners[Corner.RL].turn.arcs == ()
    assert all(held_values(exam, c) is None for c in Corner if c is not Corner.RL)


def test_so_they_do_where_coarse_values_repeat_at_every_corner() -> None:
    """Not twice as many as at the mates, but the odd ones know the wheel."""
    analysis, exam = analyze_log(map_corners(held_log("ring", 7, 0.05)), Vehicle(), lambda share, doing: None)
    held = held_values(exam, Corner.RL)
    assert held is not None
    assert held.is_tied
    assert 1.1 * held.mates < held.count < 2 * held.mates
    assert (analysis.findings[0].fault, analysis.findings[0].corners) == (Fault.RING_DAMAGE, (Corner.RL,))
    assert all(f.confidence < 0.1 for f in analysis.findings[1:])


def test_an_arc_that_is_held_while_slow_only_is_no_lost_tooth() -> None:
    analysis, exam = analyze_log(map_corners(held_log("slow")), Vehicle(), lambda share, doing: None)
    held = held_values(exam, Corner.RL)
    assert held is not None
    assert not held.is_tied
    assert not [f for f in analysis.findings if f.fault is Fault.RING_DAMAGE and f.confidence >= 0.5]


@pytest.mark.parametrize("seed", range(4))
def test_as_many_at_any_angle_do_not(seed: int) -> None:
    analysis, exam = analyze_log(map_corners(held_log("any", seed)), Vehicle(), lambda share, doing: None)
    held = held_values(exam, Corner.RL)
    assert held is not None
    assert not held.is_tied
    assert not [f for f in analysis.findings if f.fault is Fault.RING_DAMAGE and f.confidence >= 0.5]


def test_values_that_repeat_as_those_of_the_mates_say_nothing() -> None:
    _, exam = analyze_log(map_corners(held_log("none")), Vehicle(), lambda share, doing: None)
    assert all(held_values(exam, c) is None for c in Corner)
