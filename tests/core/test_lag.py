"""Lags of channels polled in turn but stamped once."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from conftest import analyze_raw
from nodrek.core.corners import map_corners
from nodrek.core.model import Array, Corner, RawChannel, RawLog
from nodrek.core.motion.lag import _likeliest, estimate_lags
from nodrek.simulate.chain import DEFAULT_NAMES, simulate
from nodrek.simulate.vary import draw_scenario


def polled(seed: int, rate: float, stagger: float) -> RawLog:
    scenario = draw_scenario(seed, rates_hz=(rate,), control_units=("span", "last", "smoothed"))
    logger = replace(scenario.logger, stagger=stagger, own_times=False)
    return simulate(replace(scenario, logger=logger, names=DEFAULT_NAMES))  # a trailer has two corners only


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


def stamped_apart(raw: RawLog) -> tuple[RawChannel, ...]:
    return tuple(replace(c, times_s=c.times_s + 0.02 * k) for k, c in enumerate(raw.channels))


def test_channels_with_clocks_of_their_own_have_the_lag_of_what_they_show() -> None:
    """Stamped when they were true: none. Values of one moment, stamped one after another: the later, the older."""
    errors, errors_in_sigmas = [], []
    for seed in (78, 82, 83, 84, 85):
        true, at_once = (
            estimate_lags(map_corners(replace(raw, channels=stamped_apart(raw))).channels)
            for raw in (polled(seed, 10.0, 0.02), polled(seed, 10.0, 0.0))
        )
        assert [lag.seconds for lag in true.values()] == [0.0] * 4
        off = [(abs(lag.seconds - 0.02 * (3 - k)), lag.sigma) for k, lag in enumerate(at_once.values())]
        errors.append(max(error for error, _ in off))
        errors_in_sigmas += [error / sigma for error, sigma in off[:-1]]
    assert np.median(errors) < 0.007
    assert max(errors_in_sigmas) < 3.0


@pytest.mark.parametrize("seconds", [3.0, 4.0, 9.0])
def test_some_seconds_of_many_samples_tell_no_lag(seconds: float) -> None:
    """As many samples as of a drive, and less time than a bend takes."""
    times = np.arange(0.0, seconds, 1e-3)
    noise = np.random.default_rng(5).standard_normal((4, times.size))
    channels = [
        RawChannel(c.value, "km/h", times, (60.0 + 8.0 * np.sin(2.0 * times)) * (1.0 + 1e-3 * noise[k]))
        for k, c in enumerate(Corner)
    ]
    _, exam = analyze_raw(RawLog(tuple(channels), "test"))
    assert all(channel.lag == 0.0 for channel in exam.log.channels.values())


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


def as_contrasts(lags: list[float]) -> Array:
    """Half differences front − rear, left − right and diagonal of four lags: the closed form."""
    fl, fr, rl, rr = lags
    return np.array([fl + fr - rl - rr, fl - fr + rl - rr, fl - fr - rl + rr]) / 4.0


@pytest.mark.parametrize("lags", [
    [0.0, 0.02, 0.04, 0.06], [0.06, 0.04, 0.02, 0.0], [0.03, 0.0, 0.06, 0.09], [0.0, 0.05, 0.01, 0.08],
])  # fmt: skip
def test_any_way_of_polling_is_recognised(lags: list[float]) -> None:
    """In any order, evenly or not; all are known against the earliest."""
    found = _likeliest(as_contrasts(lags), np.full(3, 0.001), 0.25)
    assert [lag.seconds for lag in found] == pytest.approx(lags, abs=1e-9)
    even = np.allclose(np.diff(sorted(lags)), np.diff(sorted(lags))[0])
    assert (max(lag.sigma for lag in found) < 0.003) or not even
    nothing = _likeliest(0.02 * as_contrasts(lags), np.full(3, 0.001), 0.25)
    assert [lag.seconds for lag in nothing] == [0.0] * 4


def test_whole_kilometres_an_hour_do_not_hide_a_lag() -> None:
    """Coarse values agree most of the time; that is no sign that they were read together."""
    errors = []
    for seed in (81, 82, 83, 84, 85, 86):
        scenario = draw_scenario(seed, rates_hz=(4.0,), control_units=("span",))
        logger = replace(scenario.logger, stagger=0.05, own_times=False, quantum=1.0, jitter=0.0)
        lags = estimate_lags(map_corners(simulate(replace(scenario, logger=logger))).channels)
        errors.append(abs(lags[Corner.RR].seconds - lags[Corner.FL].seconds - 0.15))
    assert np.median(errors) < 0.05


@pytest.mark.parametrize("step_kmh", [0.1, 0.5, 1.0])
@pytest.mark.parametrize("stagger", [0.01, 0.02, 0.03])
def test_lags_of_a_smooth_drive_are_what_they_were_made(stagger: float, step_kmh: float) -> None:
    """Closed form: one speed for all four, read at four moments; what tells is who steps first."""
    late = [k * stagger for k in range(4)]
    lags = estimate_lags(map_corners(smooth(10.0, late, step_kmh)).channels)
    assert [lag.seconds for lag in lags.values()] == pytest.approx(late, abs=0.012)


@pytest.mark.parametrize("late", [0.03, 0.1, 0.2])
@pytest.mark.parametrize("through", [(Corner.RR,), (Corner.RL, Corner.RR), (Corner.FL,)])
def test_a_message_through_a_gateway_is_late_by_more_than_a_row(through: tuple[Corner, ...], late: float) -> None:
    true = [0.0 if c in through else late for c in Corner]
    lags = estimate_lags(map_corners(smooth(50.0, true, 0.05)).channels)
    assert [lag.seconds for lag in lags.values()] == pytest.approx(true, abs=0.005)


def smooth(rate: float, late: list[float], step_kmh: float) -> RawLog:
    """One smooth speed for all four, of as many seconds after the stamp."""

    def speed_kmh(t: Array) -> Array:
        return 60.0 + 25.0 * np.sin(2.0 * np.pi * t / 37.0) + 8.0 * np.sin(2.0 * np.pi * t / 11.3 + 1.0)

    rows = np.arange(0.0, 240.0, 1.0 / rate)
    return RawLog(
        tuple(
            RawChannel(f"Wheel speed {c}", "km/h", rows, np.round(speed_kmh(rows + s) / step_kmh) * step_kmh)
            for c, s in zip(Corner, late, strict=True)
        ),
        "test",
    )
