"""What slow samples of a steady wheel make of noise: checked against simulation and against SciPy's laws."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats
from scipy.signal import lfilter

from nodrek.core.model import Array, Corner
from nodrek.core.motion.reference import CornerMotion
from nodrek.core.turns.search import BIN_M, find_scale, find_stretches
from nodrek.core.turns.statistic import log_tail
from nodrek.core.turns.stroboscope import colour, expected_floor, likenesses, log_tail_of_parts
from nodrek.core.turns.swing import follow_swing
from nodrek.core.turns.track import follow_dips, log_clumping

NOISE = 0.004


def steady(seed: int, rate: float = 4.0, carried: float = 0.5, seconds: float = 240.0) -> CornerMotion:
    """Near 25 m/s all along, and noise of which each sample keeps a part of the one before."""
    rng = np.random.default_rng(seed)
    times = np.arange(0.0, seconds, 1.0 / rate)
    speed = 25.0 + 0.4 * np.sin(times / 30.0 + rng.uniform(0.0, 6.0))
    path = np.cumsum(speed) / rate
    noise = lfilter([np.sqrt(1.0 - carried**2)], [1.0, -carried], rng.standard_normal(times.size))
    flat = np.full(times.size, NOISE)
    return CornerMotion(Corner.RL, times, speed, speed, NOISE * noise, flat, path, path.copy(), speed)


@pytest.mark.parametrize(("rate", "carried"), [(4.0, 0.0), (4.0, 0.6), (10.0, 0.7), (50.0, 0.9)])
def test_coloured_noise_of_a_steady_wheel_is_no_ring(rate: float, carried: float) -> None:
    """Of twenty looks one or two may be rarer than one in twenty, and none than one in ten thousand (they came to 1e-22
    where noise passed for white and all harmonics for witnesses of their own). Nor is it a swing."""
    chances, swings = [], []
    for seed in range(20):
        motion = steady(seed, rate, carried, seconds=min(240.0, 6_000.0 / rate))
        stretches = find_stretches(motion)
        scale = find_scale(motion, stretches)
        assert scale is not None
        chances.append(scale.log_p)
        if rate < 20.0 and seed < 8:
            swing = follow_swing(motion, stretches)
            assert swing is not None
            swings.append(swing.log_factor)
    assert min(chances) > np.log(1e-4)
    assert np.mean(np.array(chances) < np.log(1.0 / 20.0)) < 0.15
    assert max(swings, default=0.0) < 3.0


def test_a_ring_is_found_in_the_same_noise_where_the_speed_varies() -> None:
    motion = steady(3)
    speed = 14.0 + 8.0 * np.sin(motion.times / 17.0)
    path = np.cumsum(speed) / 4.0
    dips = np.where(np.mod(path / 1.93, 1.0) < 0.15, 4.0 * NOISE, 0.0)
    motion = replace(
        motion, speed=speed, expected=speed, vehicle=speed, path=path, path_by_mates=path,
        deviation=motion.deviation - dips,
    )  # fmt: skip
    scale = find_scale(motion, find_stretches(motion))
    assert scale is not None
    assert 1.0 / scale.frequency == pytest.approx(1.93, rel=2e-3)
    assert scale.log_p < -25.0


def test_the_floor_is_the_mean_power_of_such_noise() -> None:
    """300 series of noise that keeps 0.5 of itself, each 5 m after the last: their mean spectrum over distance."""
    rng, count, size = np.random.default_rng(1), 200, 1 << 15
    path = 5.0 * np.arange(count) + 0.3 * np.sin(np.arange(count) / 9.0)
    noise = lfilter([np.sqrt(0.75)], [1.0, -0.5], rng.standard_normal((300, count + 50)), axis=1)[:, 50:]
    place = (path / BIN_M).astype(int)
    bins = 2000
    power = np.zeros(bins)
    for series in noise:
        laid = np.zeros(size)
        laid[place] = series
        power += np.abs(np.fft.rfft(laid)[:bins]) ** 2 / count / len(noise)
    expected = expected_floor(path, np.ones(count, dtype=bool), np.array([0.5, 0.25, 0.125]), BIN_M, size, bins)
    smooth = np.ones(25) / 25.0
    ratio = np.convolve(power, smooth, "valid") / np.convolve(expected, smooth, "valid")
    assert float(ratio.min()) > 0.8
    assert float(ratio.max()) < 1.3
    # that is a shape: it rises to five times what it falls to
    assert float(expected.max() / expected.min()) > 4.0
    colours = np.mean([colour(series) for series in noise[:60]], axis=0)
    assert colours == pytest.approx([0.5, 0.25, 0.125], abs=0.05)


@given(st.integers(1, 12), st.floats(5.0, 12.0))
def test_parts_that_are_all_alike_have_the_tail_of_the_gamma_law(shape: int, times: float) -> None:
    ours = log_tail_of_parts(times * shape, np.full(2 * shape, 0.5))
    assert ours == pytest.approx(stats.gamma(shape).logsf(times * shape), rel=0.03, abs=0.35)
    assert ours == pytest.approx(log_tail(times * shape, shape), rel=0.03, abs=0.35)


@pytest.mark.parametrize("part", [0.5, 2.0])
def test_one_part_has_the_tail_of_its_square(part: float) -> None:
    value = 40.0 * part
    assert log_tail_of_parts(value, np.array([part])) == pytest.approx(stats.chi2(1).logsf(40.0), abs=0.4)
    # beside small ones it is the large one that reaches far
    beside = log_tail_of_parts(value, np.array([part, *np.full(6, 0.01 * part)]))
    assert beside == pytest.approx(stats.chi2(1).logsf(40.0), abs=0.6)


def test_harmonics_that_look_alike_count_once() -> None:
    """Five samples a turn: the sixth harmonic is the first one and the fourth its mirror image, over again."""
    turns = np.arange(500) / 5.0 + 0.003 * np.sin(np.arange(500) / 50.0)
    parts = likenesses(turns, 8)
    anyhow = likenesses(np.random.default_rng(2).random(500), 8)
    assert parts.sum() <= anyhow.sum() + 0.1
    assert np.sum(parts > 0.1) < 6
    assert anyhow == pytest.approx(np.full(16, 0.5), abs=0.2)


@given(st.integers(0, 1_000))
def test_dips_that_fall_anywhere_do_not_clump(seed: int) -> None:
    dip = np.random.default_rng(seed).random(800) < 0.05
    none: Array = np.zeros(800)
    assert log_clumping(dip, none > 0.0) < 4.0


def test_dips_in_clumps_are_tied_to_no_wheel() -> None:
    """Twelve dips within two bursts of some seconds at a steady speed: any scale that repeats with the samples fits."""
    dip = np.zeros(900, dtype=bool)
    dip[[300, 301, 303, 304, 306, 307, 700, 702, 703, 705, 706, 708]] = True
    assert log_clumping(dip, np.zeros(900, dtype=bool)) > 15.0
    motion = steady(1, carried=0.0, seconds=225.0)
    motion = replace(motion, deviation=np.where(dip, -0.05, motion.deviation))
    track = follow_dips(motion, find_stretches(motion))
    assert track is not None
    assert track.log_factor < 0.0
