"""A gap in the ring, a ring out of centre and an encoder that loses edges anywhere are told apart by their shapes."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy.ndimage import median_filter
from scipy.signal import lfilter

from conftest import CIRCUMFERENCE, NOISE, motion_of, rolling
from nodrek.core.model import Array
from nodrek.core.motion.reference import CornerMotion
from nodrek.core.turns.pulse import GRID, Shapes, in_filter, in_window, weigh_shapes
from nodrek.core.turns.search import Scale, find_stretches
from nodrek.core.turns.track import looks_of

TEETH = 48
FINE_HZ = 200.0


def averaged(lost: Array, window_s: float) -> Array:
    """ln deviation of a unit that counts the edges of a window, from edges lost on a fine grid of time (as a share of
    all)."""
    steps = max(1, round(window_s * FINE_HZ))
    return np.log1p(np.maximum(-lfilter(np.full(steps, 1.0 / steps), [1.0], lost), -0.9))


def drive(
    kind: str, rate: float, window_s: float, seed: int, filter_s: float = 0.0, teeth: int = TEETH
) -> CornerMotion:
    """A slow log of a ring with a ``gap`` of one edge, one that ``swings``, or one that loses edges at ``random``."""
    rng = np.random.default_rng(seed)
    fine, speed, path = rolling(FINE_HZ, 240.0)
    turn = np.floor(path / CIRCUMFERENCE)
    rate_of_edges = speed / CIRCUMFERENCE * teeth
    lost = np.zeros(fine.size)
    if kind == "gap":
        lost[np.diff(turn, prepend=turn[0]) > 0] = 1.0
    elif kind == "random":
        lost[rng.random(fine.size) < speed / CIRCUMFERENCE / FINE_HZ] = 1.0
    deviation = averaged(lost * FINE_HZ / rate_of_edges, window_s)
    if kind == "swing":
        deviation = 0.008 * np.sin(2 * np.pi * path / CIRCUMFERENCE)
    if filter_s:
        forgets = 1.0 / (filter_s * FINE_HZ)
        deviation = lfilter([forgets], [1.0, forgets - 1.0], deviation)
    every = round(FINE_HZ / rate)
    part = deviation[::every] + NOISE * rng.standard_normal(fine[::every].size)
    # the comparison of corners takes the slow part out, by local medians
    part -= median_filter(part, size=round(6.0 * rate) | 1)
    return motion_of(fine[::every], speed[::every], path[::every], part)


def shapes_of(motion: CornerMotion) -> Shapes:
    near = Scale(1.001 / CIRCUMFERENCE, 0.0, False, 1, 100.0, 1, 1.0)
    found = weigh_shapes(motion, find_stretches(motion), near, ())
    assert found is not None
    return found


@pytest.mark.parametrize("rate", [4.0, 10.0, 50.0])
@pytest.mark.parametrize("window_s", [0.02, 0.1])
def test_a_gap_a_swing_and_edges_lost_anywhere(rate: float, window_s: float) -> None:
    gap = shapes_of(drive("gap", rate, window_s, 1))
    assert gap.pulse > max(12.0, gap.swing + 8.0)
    assert 1.0 / gap.best.frequency == pytest.approx(CIRCUMFERENCE, rel=4e-3)
    swing = shapes_of(drive("swing", rate, window_s, 2))
    assert swing.swing > max(12.0, swing.pulse + 8.0)
    anywhere = shapes_of(drive("random", rate, window_s, 3))
    assert max(anywhere.pulse, anywhere.swing) < 3.0


@pytest.mark.parametrize("rate", [4.0, 10.0])
def test_a_gap_before_a_window_and_a_filter(rate: float) -> None:
    """One edge of 90: little more than a swing is left of it, and a swing that is as smooth is still one."""
    gap = shapes_of(drive("gap", rate, 0.2, 1, filter_s=0.06, teeth=90))
    assert gap.pulse > max(12.0, gap.swing + 8.0)
    swing = shapes_of(drive("swing", rate, 0.2, 2, filter_s=0.06))
    assert swing.swing > max(12.0, swing.pulse + 8.0)


@pytest.mark.parametrize("steps", [0.0, 1.8, 2.3])
def test_the_bulk_of_rounded_deviations_is_as_wide_as_it_is(steps: float) -> None:
    """Standard deviation of a normal law, and of what is left of one by rounding, against the samples' own."""
    times, speed, path = rolling(10.0)
    deviation = NOISE * np.random.default_rng(5).standard_normal(times.size)
    motion = motion_of(times, speed, path, deviation)
    if steps:
        rounded = steps * NOISE * np.round(deviation / (steps * NOISE))
        # the 80 % point of what reads nothing or one whole step off is that step
        motion = replace(motion, deviation=rounded, noise=np.full(times.size, steps * NOISE / 1.2816))
    looks = looks_of(motion, find_stretches(motion), ((0.0, False),))
    assert looks is not None
    assert np.median(looks.noise) == pytest.approx(motion.deviation.std(), rel=0.12)


def test_noise_alone_has_no_shape() -> None:
    """By Markov's inequality a factor of 20 comes by chance in one log of twenty at most; here in none of twelve."""
    for seed in range(12):
        times, speed, path = rolling(10.0)
        noise = NOISE * np.random.default_rng(seed).standard_normal(times.size)
        found = shapes_of(motion_of(times, speed, path, noise))
        assert max(found.pulse, found.swing) < np.log(20.0)


def test_nothing_is_weighed_where_nothing_was_seen() -> None:
    motion = drive("gap", 10.0, 0.02, 1)
    assert weigh_shapes(motion, find_stretches(motion), Scale(0.5, 0.0, False, 1, 0.0, 1, 1.0), ()) is None


@pytest.mark.parametrize("width", [0.05, 0.3, 0.97, 1.0, 1.6, 3.0])
def test_a_window_has_as_many_gaps_in_it_as_it_covers_turns(width: float) -> None:
    """The mean over a whole turn is one; against the count of gaps in windows of that length, closed form."""
    assert in_window(np.array([width]))[0].mean() == pytest.approx(1.0, abs=1e-6)
    assert in_filter(np.array([width]))[0].mean() == pytest.approx(1.0, abs=1e-6)
    angle = (np.arange(GRID) + 0.5) / GRID
    counted = np.floor(width - angle) + 1.0
    off_edge = np.abs((width - angle + 0.5) % 1.0 - 0.5) > 1.0 / GRID
    np.testing.assert_allclose((in_window(np.array([width]))[0] * width)[off_edge], counted[off_edge], rtol=0.15)
