"""Lags of channels polled in turn but stamped once."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from conftest import analyze_raw
from nodrek.core.corners import map_corners
from nodrek.core.model import Corner, RawChannel, RawLog
from nodrek.core.motion.lag import estimate_lags
from nodrek.simulate.chain import simulate
from nodrek.simulate.vary import draw_scenario


def polled(seed: int, rate: float, stagger: float) -> RawLog:
    scenario = draw_scenario(seed, rates_hz=(rate,), control_units=("span", "last", "smoothed"))
    return simulate(replace(scenario, logger=replace(scenario.logger, stagger=stagger, own_times=False)))


@pytest.mark.parametrize(("rate", "stagger"), [(10.0, 0.02), (4.0, 0.05), (4.0, 0.02)])
def test_lags_of_slow_logs_are_found(rate: float, stagger: float) -> None:
    """Median over drives within 10 ms or a fifth of the poll, whichever is more."""
    errors = []
    for seed in (71, 72, 73, 74):
        lags = estimate_lags(map_corners(polled(seed, rate, stagger)).channels)
        errors += [abs(lags[c].seconds - k * stagger) for k, c in enumerate(Corner)]
    assert np.median(errors) < max(0.010, 0.2 * stagger)


@pytest.mark.parametrize("rate", [50.0, 10.0, 4.0])
def test_what_cannot_be_told_from_zero_is_zero(rate: float) -> None:
    for seed in (75, 76, 77):
        lags = estimate_lags(map_corners(polled(seed, rate, 0.0)).channels)
        assert [lag.seconds for lag in lags.values()] == [0.0] * 4


def test_channels_with_clocks_of_their_own_have_no_lag() -> None:
    raw = polled(78, 10.0, 0.0)
    own = RawLog(
        tuple(RawChannel(c.name, c.unit, c.times_s + 0.01 * k, c.values) for k, c in enumerate(raw.channels)), "test"
    )
    lags = estimate_lags(map_corners(own).channels)
    assert [lag.seconds for lag in lags.values()] == [0.0] * 4


def test_a_stuck_corner_is_no_lag() -> None:
    raw = polled(79, 50.0, 0.0)
    stuck = RawLog(
        (
            *raw.channels[:3],
            RawChannel("Wheel speed RR", "km/h", raw.channels[3].times_s, np.full_like(raw.channels[3].values, 30.0)),
        ),
        "test",
    )
    lags = estimate_lags(map_corners(stuck).channels)
    assert [lag.seconds for lag in lags.values()] == [0.0] * 4


def test_the_lag_is_reported_and_used() -> None:
    _, exam = analyze_raw(polled(72, 4.0, 0.05))
    channels = exam.log.channels
    assert channels[Corner.FL].lag == 0.0
    assert channels[Corner.RR].lag == pytest.approx(0.15, abs=0.03)
    assert channels[Corner.RR].times[0] - channels[Corner.FL].times[0] == pytest.approx(channels[Corner.RR].lag)
