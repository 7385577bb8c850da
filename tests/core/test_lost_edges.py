"""How many edges a ring has lost, from the readings of a unit that shows single periods or counts edges."""

from __future__ import annotations

import numpy as np
import pytest

from nodrek.core.model import Array, Corner
from nodrek.core.model.learnt import Rivals
from nodrek.core.motion.reference import CornerMotion
from nodrek.core.turns.fold import find_arcs, fold
from nodrek.core.turns.lost import LEARNT, Dips, Losses, count_lost, measure_dips, told_marks
from nodrek.core.turns.lost_marks import MARKS, PERIODS
from nodrek.core.turns.search import find_scale, find_stretches
from nodrek.io.knowledge import shipped_calibration

TEETH, CIRCUMFERENCE, NOISE = 48, 2.0, 0.004
LAW, LEARNT_TREES = Rivals({}), shipped_calibration().lost


def reading(behind: Array, lost: int) -> Array:
    """Of the speed, `behind` pitches after the last tooth before a gap of `lost` teeth.

    The value sinks while the edge is awaited (1/x after x pitches) and is 1/(lost + 1) for the pitch after it.
    """
    waiting = np.where((behind > 1.0) & (behind < lost + 1), 1.0 / np.maximum(behind, 1.0), 1.0)
    return np.where((behind >= lost + 1) & (behind < lost + 2), 1.0 / (lost + 1), waiting)


def counted(lost: dict[float, int], teeth: int | None, hidden_from: float = np.inf, learnt: Rivals = LAW) -> Losses:
    """Edges found at each arc of `measured`."""
    return count_lost(measured(lost, hidden_from), teeth, learnt)


def measured(lost: dict[float, int], hidden_from: float = np.inf) -> Dips:
    """Dips where teeth are `lost` at places of the turn; they are held back from a speed on."""
    times = np.arange(0.0, 240.0, 0.01)
    speed = 6.0 + 4.4 * np.sin(times / 11.0)
    path = np.concatenate([[0.0], np.cumsum(0.5 * (speed[1:] + speed[:-1]) * 0.01)])
    deviation = NOISE * np.random.default_rng(5).standard_normal(times.size)
    for place, count in lost.items():
        behind = np.mod(path / CIRCUMFERENCE - place, 1.0) * TEETH
        deviation += np.where(speed < hidden_from, np.log(reading(behind, count)), 0.0)
    flat = np.full(times.size, NOISE)
    motion = CornerMotion(Corner.FL, times, speed, speed, deviation, flat, path, path.copy(), speed)
    stretches = find_stretches(motion)
    scale = find_scale(motion, stretches)
    assert scale is not None
    ring = fold(motion, stretches, scale)
    return measure_dips(motion, ring, find_arcs(ring), 0.0, 0.003)


@pytest.mark.parametrize("lost", [1, 2, 3, 4])
@pytest.mark.parametrize("teeth", [TEETH, None])
@pytest.mark.parametrize("learnt", [LAW, LEARNT_TREES], ids=["law", "learnt"])
def test_edges_of_one_gap_are_counted(lost: int, teeth: int | None, learnt: Rivals) -> None:
    """Area ∫(1 − 1/x) dx over the wait and 1 − 1/(k + 1) after it; depth 1/(k + 1)."""
    found = counted({0.3: lost}, teeth, learnt=learnt)
    assert found.at_arcs == (lost,)
    assert found.chance > 0.5


@pytest.mark.parametrize("lost", [2, 3])
def test_depth_counts_where_a_check_of_plausibility_keeps_most_dips_back(lost: int) -> None:
    assert counted({0.3: lost}, TEETH, hidden_from=3.5).total == lost


@pytest.mark.parametrize("lost", [1, 2, 3, 4])
def test_a_turn_is_told_by_its_lowest_reading(lost: int) -> None:
    """A period of k + 1 pitches reads 1/(k + 1), in every turn that has a sample in it."""
    marks = measured({0.3: lost}).marks
    assert max(PERIODS, key=lambda name: marks[name]) == f"periods_of_{lost + 1}"
    assert 1.0 + marks["lowest_20_all"] == pytest.approx(1.0 / (lost + 1), abs=0.03)


def test_two_gaps_are_counted_each() -> None:
    assert sorted(k or 0 for k in counted({0.2: 2, 0.62: 1}, TEETH).at_arcs) == [1, 2]


def test_what_was_learnt_knows_the_marks_and_the_numbers() -> None:
    """A mark that training named otherwise would weigh nothing, silently."""
    assert set(LEARNT_TREES.sums) == set(LEARNT)
    asked = {name for grown in LEARNT_TREES.sums.values() for name in grown.trees.names if name}
    assert asked <= set(MARKS)
    assert len(asked) > len(MARKS) // 2
    assert set(told_marks(measured({0.3: 1}), TEETH)) == set(MARKS)
