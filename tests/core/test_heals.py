"""Whether what a corner loses comes back with speed: lost edges never do, whatever a control unit makes of them."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from benchmarks import fifth_world, seventh_world, twelfth_world
from benchmarks.elsewhere import Drawn
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import binom, binomtest

from conftest import quiet
from nodrek.core.corners import map_corners
from nodrek.core.model import Corner, Fault, Vehicle
from nodrek.core.motion.reference import Deviations
from nodrek.core.turns.statistic import log_at_most
from nodrek.core.verdict.heals import LEFT, OF_CHOICE, SPEEDS, log_chance_of_staying
from nodrek.core.verdict.judge import analyze_log
from nodrek.io.knowledge import shipped_calibration

RATE_HZ, NOISE, TURN_M = 50.0, 0.004, 2.0


def corner_that_loses(law: str, heard: float = math.inf, seed: int = 0) -> Deviations:
    """Four pull-aways to 20 m/s and back. One place of the turn reads low up to `heard` m/s: by 0.4 (``period``), by a
    window of 0.05 s (``window``) or two of them one behind another (``filter``) for one edge of 48."""
    times = np.arange(0.0, 160.0, 1.0 / RATE_HZ)
    speed = 0.5 + 9.75 * (1.0 - np.cos(2.0 * np.pi * times / 40.0))
    angle = np.mod(np.cumsum(speed) / RATE_HZ / TURN_M, 1.0)
    covered = np.maximum(0.05 * speed / TURN_M, 0.03)
    depth, wide = {
        "period": (np.full(times.size, 0.4), 0.04),
        "window": (np.minimum(1.0 / 48.0 / covered, 0.7), covered),
        "filter": (np.minimum(0.6 * (3.0 / np.maximum(speed, 3.0)) ** 2, 0.7), covered),
    }[law]
    low = (angle < wide) & (speed < heard)
    noise = NOISE * np.random.default_rng(seed).standard_normal(times.size)
    return Deviations(
        Corner.FL, times, speed, speed, noise + np.where(low, np.log1p(-depth), 0.0), np.full(times.size, NOISE)
    )


@pytest.mark.parametrize("law", ["period", "window", "filter"])
def test_what_is_lost_at_any_speed_never_comes_back(law: str) -> None:
    assert log_chance_of_staying(corner_that_loses(law)) > -OF_CHOICE


@pytest.mark.parametrize("law", ["period", "window", "filter"])
@pytest.mark.parametrize("heard", [3.0, 8.0])
def test_what_is_heard_from_some_speed_on_does(law: str, heard: float) -> None:
    assert log_chance_of_staying(corner_that_loses(law, heard)) < -4.0


def test_what_a_unit_does_not_believe_at_some_speeds_has_not_healed() -> None:
    """Dips that are gone between 3 and 9 m/s only: no part of a ring is heard at a trot and lost at speed."""
    lost, heard = corner_that_loses("period"), corner_that_loses("period", 3.0)
    hidden = np.where(lost.expected > 9.0, lost.deviation, heard.deviation)
    assert log_chance_of_staying(replace(lost, deviation=hidden)) > -OF_CHOICE


def test_noise_alone_says_nothing() -> None:
    assert log_chance_of_staying(corner_that_loses("period", heard=0.0)) == 0.0


def test_the_chance_is_that_of_two_rates() -> None:
    """Four dips of 1,000 slow samples, none of as many fast ones: the conditional test of two rates (Przyborowski &
    Wilenski 1940), as scipy has it."""
    speed = np.concatenate([np.full(1000, 3.0), np.full(1000, 5.0)])
    deviation = np.zeros(2000)
    deviation[[100, 300, 500, 700]] = -0.5
    motion = Deviations(Corner.FL, np.arange(2000.0), speed, speed, deviation, np.full(2000, NOISE))
    exact = binomtest(0, 4, LEFT / (1.0 + LEFT), alternative="less").pvalue
    assert log_chance_of_staying(motion) == pytest.approx(math.log(exact))


@pytest.mark.parametrize("heard", SPEEDS.tolist())
def test_a_drive_that_is_hardly_ever_slower_is_asked_as_well(heard: float) -> None:
    """All that is slow are two dips at the very border of a class of speed."""
    times, speed, deviation = np.arange(400.0), np.full(400, 1.6 * heard), np.zeros(400)
    speed[[7, 207]] = 0.9999 * heard
    deviation[[7, 207]] = -0.5
    chance = log_chance_of_staying(Deviations(Corner.FL, times, speed, speed, deviation, np.full(speed.size, NOISE)))
    assert chance == pytest.approx(binom.logcdf(0, 2, LEFT * 398 / (2 + LEFT * 398)))


@given(st.integers(0, 40), st.integers(1, 200), st.floats(0.001, 0.999))
def test_the_tail_of_the_binomial_law_is_scipys(number: int, of: int, chance: float) -> None:
    exact = binom.logcdf(number, of, chance)
    assert log_at_most(number, of, chance) == pytest.approx(exact, abs=1e-9, rel=1e-7) or exact < -600.0


def said_of(drawn: Drawn) -> set[Fault]:
    findings = analyze_log(map_corners(drawn.log), Vehicle(), quiet, shipped_calibration())[0].findings
    return {f.fault for f in findings if f.confidence >= 0.5 and f.corners == drawn.corners}


@pytest.mark.parametrize("rate", [50.0, 10.0])
def test_a_part_that_is_heard_from_45_km_h_on_is_no_lost_tooth(rate: float) -> None:
    """Thirty dips up to 12 m/s, none in a thousand turns beyond: a bad ring with 0.81 by its dips alone."""
    assert said_of(twelfth_world.draw(636_600, "stands back", rate)) == {Fault.RING_RUNOUT}


def test_lost_teeth_stay_lost_teeth() -> None:
    assert said_of(seventh_world.draw(1_911_001, "tooth broken off", 50.0)) == {Fault.RING_DAMAGE}


def test_a_weak_arc_is_not_kept_back_as_a_swing_that_new_rings_have() -> None:
    """A wheel that swings by 0.014 % and dips 85 times in four of five pull-aways."""
    assert said_of(fifth_world.draw(1_986_001, "high spot", 50.0)) == {Fault.RING_RUNOUT}
