"""The fold's statistic against independent libraries on the same data."""

from __future__ import annotations

import math

import numpy as np
import pytest
from astropy.stats import circmoment, rayleightest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats
from stingray.pulse.pulsar import z_n
from stingray.stats import z2_n_detection_level, z2_n_probability

from nodrek.core.turns.statistic import detection_level, log_tail, probability, z2_statistic


@pytest.mark.parametrize("harmonics", [1, 2, 8])
def test_z2_agrees_with_stingray(harmonics: int) -> None:
    rng = np.random.default_rng(5)
    angles = np.concatenate([rng.random(400), rng.normal(0.3, 0.02, 60)])
    ours = z2_statistic(angles, np.ones_like(angles), harmonics)
    theirs = z_n(np.mod(angles, 1.0), harmonics, datatype="events")
    assert ours == pytest.approx(float(theirs), rel=1e-9)


@given(st.floats(0.01, 600.0), st.integers(1, 200))
@settings(max_examples=200, deadline=None)
def test_tail_agrees_with_scipy(half_sum: float, shape: int) -> None:
    # beyond 700 the reference underflows to minus infinity, ours does not
    theirs = float(stats.gamma.logsf(half_sum, shape))
    assert log_tail(half_sum, shape) == pytest.approx(theirs, rel=1e-9, abs=1e-9)


@pytest.mark.parametrize(("statistic", "harmonics", "trials"), [(30.0, 2, 1), (55.0, 4, 1000), (80.0, 8, 20)])
def test_probability_agrees_with_stingray(statistic: float, harmonics: int, trials: int) -> None:
    theirs = float(z2_n_probability(statistic, harmonics, ntrial=trials))
    assert probability(statistic / 2, harmonics, trials) == pytest.approx(theirs, rel=1e-5)


@pytest.mark.parametrize(("p", "harmonics", "trials"), [(0.01, 1, 1), (1e-3, 2, 50), (1e-6, 4, 3000)])
def test_detection_level_agrees_with_stingray(p: float, harmonics: int, trials: int) -> None:
    theirs = float(z2_n_detection_level(harmonics, epsilon=p, ntrial=trials))
    assert 2 * detection_level(p, harmonics, trials) == pytest.approx(theirs, rel=1e-6)


def test_first_harmonic_is_the_rayleigh_statistic_of_astropy() -> None:
    angles = np.random.default_rng(2).vonmises(0.0, 0.35, 300)
    strength = float(circmoment(angles)[1])
    ours = z2_statistic(angles / (2 * math.pi), np.ones_like(angles), 1)
    assert ours == pytest.approx(2 * angles.size * strength**2, rel=1e-9)
    assert probability(ours / 2, 1) == pytest.approx(float(rayleightest(angles)), rel=0.05)
