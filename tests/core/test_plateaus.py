"""Rounded speeds that stand: how much a ratio may be off though all readings agree."""

from __future__ import annotations

import numpy as np
import pytest

from nodrek.core.corners import map_corners
from nodrek.core.model import Array, Corner, RawChannel, RawLog
from nodrek.core.motion.plateaus import rounding_of_sum, stands
from nodrek.core.motion.ratios import estimate_ratios, ratio_blocks
from nodrek.core.motion.usable import find_usable

SIZES = {Corner.FL: 0.011, Corner.FR: -0.002, Corner.RL: 0.001, Corner.RR: -0.001}
"""How much faster each corner turns (ln)."""


def errors_in_sigmas(step_kmh: float, speed: Array, hz: float = 10.0) -> Array:
    """Of the four ratios of a drive at `speed` (m/s, `hz` values a second) in steps of `step_kmh`."""
    times = np.arange(speed.size) / hz
    shown = {c: np.round(3.6 * speed * np.exp(size) / step_kmh) * step_kmh for c, size in SIZES.items()}
    log = map_corners(RawLog(tuple(RawChannel(f"Wheel speed {c}", "km/h", times, v) for c, v in shown.items()), "test"))
    usable = find_usable(log.channels, log.duration)
    found = estimate_ratios(ratio_blocks(log.channels, usable), tuple(log.corners))
    middle = np.mean(list(SIZES.values()))
    return np.array([(found[c].log_ratio - size + middle) / found[c].sigma for c, size in SIZES.items()])


def test_a_cruise_in_whole_steps_is_known_to_a_step() -> None:
    """However long four corners show the same, each of them may be anywhere within its step: intervals still hold."""
    rng, times = np.random.default_rng(0), np.arange(0.0, 180.0, 0.1)
    off = []
    for _ in range(60):
        cruise = rng.uniform(5.5, 33.0) + rng.uniform(0.01, 0.05) * np.sin(times / 5.0)
        # a brisk pull-away shows the steps, and nothing of ratios
        off.append(errors_in_sigmas(1.0, np.minimum(2.5 * times, cruise)))
    assert np.mean(np.abs(off) < 1.96) > 0.9
    assert np.max(np.abs(off)) < 6.0


def test_varying_speed_tells_more_than_steps() -> None:
    """The same steps, but another speed every moment: the ratios are known to a small part of a step."""
    times = np.arange(0.0, 180.0, 0.1)
    speed = 18.0 + 7.0 * np.sin(times / 9.0) + 2.0 * np.sin(times / 2.3)
    assert np.abs(errors_in_sigmas(1.0, speed)).max() < 3.0


@pytest.mark.parametrize(("runs", "share"), [(1, 1.0), (4, 0.5), (400, 0.0)])
def test_the_error_left_is_that_of_as_many_roundings_as_there_are_values(runs: int, share: float) -> None:
    """Uniform over a step: 1/√12 of it for one value, half of that for four (less what single blocks show)."""
    speed = 20.0 + np.repeat(np.arange(runs) % 4, 400 // runs)
    step = 0.5
    left = rounding_of_sum(speed, np.full(400, 1.0 / 400.0), step, 10)
    alone = step / np.sqrt(12.0) / np.mean(speed)
    assert left == pytest.approx(share * alone, rel=0.04, abs=0.02 * alone)
    assert np.count_nonzero(stands(speed, step)) == 400 - runs
