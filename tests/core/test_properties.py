"""Invariances: what must not change the answer, and what must mirror it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import analyze_raw
from nodrek.core.model import Analysis, Corner, RawChannel, RawLog, WheelLog
from nodrek.core.motion.blocks import block_median, half_sample_mode, mad_sigma, slow_part
from nodrek.core.motion.reference import median_of
from nodrek.errors import BadRequest
from nodrek.jobs.analyze import cut_log

MIRROR = {"FL": "FR", "FR": "FL", "RL": "RR", "RR": "RL"}


def told(raw: RawLog) -> dict[tuple[str, tuple[Corner, ...]], float]:
    analysis, _ = analyze_raw(raw)
    assert isinstance(analysis, Analysis)
    return {(f.fault.value, f.corners): round(f.confidence, 2) for f in analysis.findings}


def ratios(raw: RawLog) -> dict[Corner, float]:
    analysis, _ = analyze_raw(raw)
    assert isinstance(analysis, Analysis)
    return {c: r.ratio for c, r in analysis.corners.items()}


def renamed(raw: RawLog, swap: dict[str, str]) -> RawLog:
    channels = tuple(replace(c, name=c.name[:-2] + swap[c.name[-2:]]) for c in raw.channels)
    return replace(raw, channels=channels)


def test_mirrored_vehicle_gives_the_mirrored_answer(lost_tooth_raw: RawLog) -> None:
    mirrored = told(renamed(lost_tooth_raw, MIRROR))
    assert mirrored == {(f, tuple(c.mate for c in cs)): p for (f, cs), p in told(lost_tooth_raw).items()}


def test_order_of_columns_does_not_matter(lost_tooth_raw: RawLog) -> None:
    turned = replace(lost_tooth_raw, channels=lost_tooth_raw.channels[::-1])
    assert told(turned) == told(lost_tooth_raw)


def test_clock_that_starts_late_does_not_matter(lost_tooth_raw: RawLog) -> None:
    shifted = replace(
        lost_tooth_raw, channels=tuple(replace(c, times_s=c.times_s + 86000.0) for c in lost_tooth_raw.channels)
    )
    assert told(shifted) == told(lost_tooth_raw)


@pytest.mark.parametrize("factor", [0.93, 1.08])
def test_scaling_all_speeds_keeps_the_ratios(healthy_raw: RawLog, factor: float) -> None:
    """Speed enters the ratios only by where bends, pull and noise are cut off."""
    scaled = replace(healthy_raw, channels=tuple(replace(c, values=c.values * factor) for c in healthy_raw.channels))
    before, after = ratios(healthy_raw), ratios(scaled)
    for corner in Corner:
        assert after[corner] == pytest.approx(before[corner], abs=3e-4)


def test_channels_with_clocks_of_their_own_agree_with_one_clock(lost_tooth_raw: RawLog) -> None:
    """A log that drops other rows for each corner still names the same corner."""
    channels = []
    for k, channel in enumerate(lost_tooth_raw.channels):
        keep = np.arange(channel.times_s.size) % 9 != k
        channels.append(RawChannel(channel.name, channel.unit, channel.times_s[keep], channel.values[keep]))
    assert max(told(replace(lost_tooth_raw, channels=tuple(channels))).items(), key=lambda i: i[1])[0] == (
        "ring_damage",
        (Corner.RL,),
    )


@given(st.lists(st.floats(-1e3, 1e3) | st.just(float("nan")), min_size=1, max_size=60), st.integers(1, 9))
@settings(max_examples=100, deadline=None)
def test_block_median_is_the_median_of_each_block(values: list[float], size: int) -> None:
    array = np.array(values)
    for k, got in enumerate(block_median(array, size)):
        block = array[k * size : (k + 1) * size]
        known = block[~np.isnan(block)]
        assert np.isnan(got) if not known.size else got == pytest.approx(np.median(known))
    assert slow_part(array, size).shape == array.shape


@given(st.integers(1, 4), st.integers(0, 2**32 - 1))
@settings(max_examples=60, deadline=None)
def test_median_of_columns_is_the_median(count: int, seed: int) -> None:
    rng = np.random.default_rng(seed)
    table = rng.standard_normal((25, count))
    table[rng.random(table.shape) < 0.2] = np.nan
    got = median_of(list(table.T))
    for row, value in zip(table, got, strict=True):
        known = row[~np.isnan(row)]
        assert np.isnan(value) if not known.size else value == pytest.approx(np.median(known))


@given(st.floats(-50, 50), st.floats(0.01, 2), st.integers(0, 2**32 - 1))
@settings(max_examples=40, deadline=None)
def test_the_mode_is_found_among_outliers(centre: float, width: float, seed: int) -> None:
    """Sixty straight values in a narrow heap, forty bends on one side only: the mean would be off."""
    rng = np.random.default_rng(seed)
    heap = rng.normal(centre, 0.01 * width, 600)
    bends = centre + width * rng.uniform(1, 20, 400)
    found = half_sample_mode(np.concatenate([heap, bends]))
    assert found == pytest.approx(centre, abs=0.05 * width)
    assert abs(np.mean(np.concatenate([heap, bends])) - centre) > width


@given(st.floats(0.1, 10), st.integers(0, 2**32 - 1))
@settings(max_examples=30, deadline=None)
def test_robust_sigma_is_sigma_and_forgives_outliers(sigma: float, seed: int) -> None:
    """For a normal law 1.4826 × MAD is the standard deviation (Hampel 1974; from memory)."""
    rng = np.random.default_rng(seed)
    values = rng.normal(0, sigma, 4000)
    values[::20] = 1e6
    values[1::40] = np.nan
    assert mad_sigma(values) == pytest.approx(sigma, rel=0.15)
    assert mad_sigma(np.full(5, np.nan)) == 0.0


def test_parts_of_a_log_share_their_clock_and_keep_their_samples(healthy_log: WheelLog) -> None:
    part = cut_log(healthy_log, 10.0, 40.0)
    assert part.duration == pytest.approx(30.0)
    clocks = {id(c.times) for c in part.channels.values()}
    assert len(clocks) == 1
    for corner, channel in part.channels.items():
        whole = healthy_log.channels[corner]
        inside = (whole.times >= 10.0) & (whole.times < 40.0)
        np.testing.assert_allclose(channel.times, whole.times[inside] - 10.0)
        np.testing.assert_array_equal(channel.speed, whole.speed[inside])
    assert cut_log(healthy_log, None, None) is healthy_log


@pytest.mark.parametrize(("start", "stop"), [(50.0, 20.0), (1e4, None), (-5.0, -1.0), (10.0, 10.0)])
def test_parts_that_hold_nothing_are_refused(healthy_log: WheelLog, start: float, stop: float | None) -> None:
    with pytest.raises(BadRequest, match="holds"):
        cut_log(healthy_log, start, stop)
