"""The fold on made-up turning: where the dip is put, there it is found."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import drive
from nodrek.core.corners import map_corners
from nodrek.core.model import Array, Corner, Fault, RawChannel, RawLog, Vehicle
from nodrek.core.motion.reference import SLOWEST, CornerMotion, compare_corners
from nodrek.core.motion.usable import find_usable
from nodrek.core.turns.fold import PROFILE_BINS, explained_deviation, find_arcs, fold
from nodrek.core.turns.lost import is_moved, measure_dips
from nodrek.core.turns.phase import ring_angle
from nodrek.core.turns.raster import turn_raster
from nodrek.core.turns.search import (
    Stretch,
    find_scale,
    find_scale_of_events,
    find_stretches,
    fold_weights,
    some_stretches,
    whitened,
)
from nodrek.core.verdict.judge import analyze_log
from nodrek.simulate.chain import simulate
from nodrek.simulate.faults import Cause, SimulatedFault
from nodrek.simulate.vary import draw_fault, draw_scenario

CIRCUMFERENCE = 2.07
NOISE = 0.004


def motion_with(
    dip: Array | float, seconds: float = 150.0, rate: float = 50.0, drift: float = 0.0, times_slower: float = 1.0
) -> CornerMotion:
    """A wheel turning at 4 to 12 m/s, or so many times slower, whose deviation is `dip` as a function of its angle, in
    noise.

    `dip`: depth of a dip over angles 0.30 to 0.36 of the turn, or amplitudes of a profile.
    """
    rng = np.random.default_rng(8)
    times = np.arange(0.0, seconds, 1 / rate)
    speed = (8.0 + 3.0 * np.sin(times / 9.0) + 1.0 * np.sin(times / 2.3)) / times_slower
    path = np.concatenate([[0.0], np.cumsum(0.5 * (speed[1:] + speed[:-1]) / rate)])
    angle = np.mod(path * (1 + drift * np.sin(path / 400)) / CIRCUMFERENCE, 1.0)
    deviation = NOISE * rng.standard_normal(times.size)
    if isinstance(dip, float):
        deviation -= dip * ((angle > 0.30) & (angle < 0.36))
    else:
        deviation += dip[(angle * dip.size).astype(int)]
    flat = np.full(times.size, NOISE)
    return CornerMotion(Corner.FL, times, speed, speed, deviation, flat, path, path.copy(), speed)


@pytest.mark.parametrize("depth", [0.3, 0.08, 0.02])
def test_scale_and_place_of_a_dip_are_found(depth: float) -> None:
    motion = motion_with(depth)
    stretches = find_stretches(motion)
    scale = find_scale(motion, stretches)
    assert scale is not None
    assert 1 / scale.frequency == pytest.approx(CIRCUMFERENCE, rel=2e-3)
    assert scale.log_p < -30
    ring = fold(motion, stretches, scale)
    arcs = find_arcs(ring)
    assert len(arcs) == 1
    assert arcs[0].width == pytest.approx(0.06, abs=0.04)
    assert arcs[0].area == pytest.approx(0.06 * -np.expm1(-depth), rel=0.15)
    assert not is_moved(ring, arcs[0], measure_dips(motion, ring, arcs, 0.0, 0.003).areas[0])


@pytest.mark.parametrize("moved", [0.35, -0.35])
def test_a_tooth_that_is_moved_reads_low_beside_where_it_reads_high(moved: float) -> None:
    """48 teeth, single periods: one is longer by `moved` of a pitch, the next one shorter, and nothing is lost."""
    profile = np.repeat(np.zeros(48), 20)
    profile[400:420], profile[420:440] = -np.log1p(moved), -np.log1p(-moved)
    motion = motion_with(profile)
    stretches = find_stretches(motion)
    scale = find_scale(motion, stretches)
    assert scale is not None
    ring = fold(motion, stretches, scale)
    arcs = find_arcs(ring)
    assert arcs
    assert arcs[0].area == pytest.approx(0.35 / 1.35 / 48, rel=0.4)
    dips = measure_dips(motion, ring, arcs, 0.0, 0.003)
    assert is_moved(ring, arcs[0], dips.areas[0])


def test_a_drive_that_only_crawls_is_followed_at_a_walk() -> None:
    """At 1.3 to 4 m/s, mostly under 2.5: the same turns are as good as faster ones. Of a drive with both the slow ones
    are left out."""
    crawl, fast = motion_with(0.08, times_slower=4.0, seconds=100.0), motion_with(0.08)
    assert (crawl.only_crawls, fast.only_crawls) == (True, False)
    scale = find_scale(crawl, find_stretches(crawl))
    assert scale is not None
    assert scale.log_p < -30.0
    assert 1 / scale.frequency == pytest.approx(CIRCUMFERENCE, rel=5e-3)
    assert np.all(fold_weights(crawl)[crawl.expected > SLOWEST] != 0.0)
    slowed = replace(fast, expected=np.where(fast.times < 10.0, 2.0, fast.expected))
    assert not fold_weights(slowed)[fast.times < 10.0].any()


def test_noise_alone_is_not_locked() -> None:
    """False-alarm chance of the search on noise: uniform, so hardly ever under a thousandth."""
    low = 0
    for seed in range(12):
        motion = motion_with(0.0)
        rng = np.random.default_rng(seed)
        motion = replace(motion, deviation=NOISE * rng.standard_normal(motion.times.size))
        scale = find_scale(motion, find_stretches(motion))
        assert scale is not None
        low += scale.log_p < np.log(1e-3)
    assert low == 0


@pytest.mark.parametrize("seed", range(6))
def test_a_steady_speed_lines_nothing_up(seed: int) -> None:
    """At ten samples a second and 15 m/s every sample is 1.5 m after the last: so is whatever happens in some."""
    rng = np.random.default_rng(seed)
    times = np.arange(0.0, 150.0, 0.1)
    speed = np.full(times.size, 15.0)
    path = np.cumsum(speed) / 10.0
    quiet, flat = np.zeros(times.size), np.full(times.size, NOISE)
    motion = CornerMotion(Corner.FL, times, speed, speed, quiet, flat, path, path.copy(), speed)
    # some parts of the log have many, others few
    events = -(rng.random(times.size) < 0.1 * (1.0 + np.sin(times / 20.0))).astype(float)
    scale = find_scale_of_events(motion, find_stretches(motion), events)
    assert scale is not None
    assert scale.log_p > -10.0


def test_slow_drift_of_the_scale_is_followed() -> None:
    """Half a turn of drift over the log leaves one sharp arc, not a smear."""
    motion = motion_with(0.2, drift=8e-4)
    stretches = find_stretches(motion)
    scale = find_scale(motion, stretches)
    assert scale is not None
    ring = fold(motion, stretches, scale)
    arcs = find_arcs(ring)
    assert arcs[0].width < 0.12
    assert arcs[0].area == pytest.approx(0.06 * 0.18, rel=0.2)


def test_a_smooth_swing_has_no_overtones() -> None:
    profile = 0.01 * np.cos(2 * np.pi * (np.arange(360) + 0.5) / 360)
    motion = motion_with(profile)
    stretches = find_stretches(motion)
    scale = find_scale(motion, stretches)
    assert scale is not None
    ring = fold(motion, stretches, scale)
    assert ring.harmonics[0] == pytest.approx(0.01, rel=0.1)
    assert ring.harmonics[1:].max() < 0.1 * ring.harmonics[0]


@given(st.integers(2, 6), st.floats(0.02, 0.3))
@settings(max_examples=15, deadline=None)
def test_harmonics_of_a_pulse_are_those_of_fourier(width_bins: int, depth: float) -> None:
    """Amplitude of harmonic k of a pulse of width w: 2·depth·sin(πkw)/(πk), by its Fourier series."""
    profile = np.zeros(72)
    profile[10 : 10 + width_bins] = -depth
    motion = motion_with(profile)
    stretches = find_stretches(motion)
    scale = find_scale(motion, stretches)
    assert scale is not None
    ring = fold(motion, stretches, scale)
    k = np.arange(1, 4)
    expected = 2 * depth * np.abs(np.sin(np.pi * k * width_bins / 72)) / (np.pi * k)
    np.testing.assert_allclose(ring.harmonics[:3], expected, rtol=0.12, atol=3e-4)


def test_explained_deviation_takes_the_pattern_away() -> None:
    motion = motion_with(0.1)
    stretches = find_stretches(motion)
    scale = find_scale(motion, stretches)
    assert scale is not None
    ring = fold(motion, stretches, scale)
    left = motion.deviation - explained_deviation(ring)
    assert np.nanstd(left) < 0.6 * np.nanstd(motion.deviation)


def test_angle_counts_on_from_stretch_to_stretch() -> None:
    motion = motion_with(0.1)
    half = motion.times.size // 2
    stretches = [Stretch(0, half - 200, 1.0), Stretch(half + 200, motion.times.size, 1.0)]
    stretches = [Stretch(s.start, s.stop, float(motion.path[s.stop - 1] - motion.path[s.start])) for s in stretches]
    weights = np.where(np.isnan(motion.score), 0.0, motion.score)
    angle = ring_angle(motion.path, weights, stretches, 1 / CIRCUMFERENCE)
    assert np.isnan(angle[half - 150 : half + 150]).all()
    known = angle[~np.isnan(angle)]
    assert (np.diff(known) > -0.2).all()
    turned = sum(s.metres for s in stretches) / CIRCUMFERENCE
    assert known[-1] - known[0] == pytest.approx(turned, abs=2.0)


def test_stretches_end_where_the_vehicle_stands_or_the_log_has_a_hole() -> None:
    motion = motion_with(0.0, seconds=200.0)
    speed = motion.speed.copy()
    speed[4000:4300] = 0.0
    times = motion.times.copy()
    times[7000:] += 5.0
    path = np.concatenate([[0.0], np.cumsum(0.5 * (speed[1:] + speed[:-1]) * np.diff(motion.times))])
    broken = replace(motion, times=times, speed=speed, expected=speed, vehicle=speed, path=path, path_by_mates=path)
    stretches = find_stretches(broken)
    assert all(s.stop <= 4001 or s.start >= 4299 for s in stretches)
    assert all(s.stop <= 7001 or s.start >= 7000 for s in stretches)
    assert all(s.metres <= 800.0 for s in stretches)


def test_an_even_choice_of_stretches_keeps_the_ends() -> None:
    stretches = [Stretch(k * 1000, k * 1000 + 1000, 500.0) for k in range(60)]
    some = some_stretches(stretches, 10_000)
    assert 8 <= len(some) <= 12
    assert (some[0], some[-1]) == (stretches[0], stretches[-1])
    assert some_stretches(stretches, 10**6) is stretches


def test_whitened_noise_is_exponential() -> None:
    """Powers over their local floor have mean one, also where the noise is coloured."""
    rng = np.random.default_rng(1)
    white = rng.standard_normal(2**15).astype(np.float32)
    coloured = np.convolve(white, np.ones(3) / 3, mode="same").astype(np.float32)
    for series in (white, coloured):
        power = whitened(series)[200:-200]
        assert power.mean() == pytest.approx(1.0, abs=0.08)
        assert np.mean(power > 3.0) == pytest.approx(np.exp(-3.0), rel=0.25)


def test_raster_lays_every_sample_into_its_cell() -> None:
    motion = motion_with(0.2)
    stretches = find_stretches(motion)
    scale = find_scale(motion, stretches)
    assert scale is not None
    ring = fold(motion, stretches, scale)
    whole = turn_raster(motion, ring, 10**6)
    few = turn_raster(motion, ring, 50)
    assert whole is not None
    assert few is not None
    assert whole.turns_per_row == 1.0
    assert few.cells.shape == (50, PROFILE_BINS)
    assert few.turns_per_row * 50 == pytest.approx(whole.cells.shape[0])
    later = turn_raster(motion, ring, 10**6, begins=0.75)
    assert later is not None
    lowest = [int(np.argmin(np.nanmean(r.cells, axis=0))) for r in (few, whole, later)]
    assert abs(lowest[0] - lowest[1]) <= 1
    assert lowest[2] == (lowest[1] + PROFILE_BINS // 4) % PROFILE_BINS
    # a cell still is one passage of one place
    known = np.isfinite(later.cells).sum()
    assert known == np.isfinite(whole.cells).sum()


@pytest.mark.parametrize("teeth", [40, 60, 96])
def test_a_lost_tooth_gives_harmonics_of_two_over_n(teeth: int) -> None:
    """At low speed all low harmonics of one lost edge of N are 2/N (Fourier series of a short pulse)."""
    raw = drive(62, SimulatedFault(Corner.RR, Cause.MISSING_TEETH), teeth=(teeth, teeth), duration_s=180.0)
    log = map_corners(raw)
    motion = compare_corners(log.channels, find_usable(log.channels, log.duration))[Corner.RR]
    stretches = find_stretches(motion)
    scale = find_scale(motion, stretches)
    assert scale is not None
    ring = fold(motion, stretches, scale)
    assert ring.harmonics[0] == pytest.approx(2 / teeth, rel=0.3)
    assert ring.harmonics[1] == pytest.approx(2 / teeth, rel=0.35)


@pytest.mark.parametrize("period_s", [20.0, 50.0, 120.0])
def test_a_log_with_a_value_a_minute_is_read_and_says_little(period_s: float) -> None:
    """Between two values lie whole stretches of road: nothing can repeat, and nothing breaks."""
    times = np.arange(0.0, 120 * period_s, period_s)
    speeds = 40.0 + 10.0 * np.sin(times / 700.0)
    channels = tuple(RawChannel(c.value, "km/h", times, np.round(speeds, 1)) for c in Corner)
    analysis = analyze_log(map_corners(RawLog(channels, "csv")), Vehicle(), lambda share, doing: None)[0]
    assert not [f for f in analysis.findings if f.confidence >= 0.5]
    assert all(c.could_see[Fault.RING_DAMAGE] < 0.5 for c in analysis.corners.values())


@pytest.mark.parametrize("seed", [6409, 6486])
def test_one_turn_is_not_taken_for_two(seed: int) -> None:
    """Folded at twice the circumference a dip stands twice, half a turn apart."""
    scenario = draw_scenario(seed, (draw_fault(Cause.MISSING_TEETH, seed),), road=("town", "country")[seed % 2])
    analysis, exam = analyze_log(map_corners(simulate(scenario)), Vehicle(), lambda share, doing: None)
    ring = exam.rings[scenario.faults[0].corner]
    assert ring.scale is not None
    # what is lost shortens the way that the corner itself reports
    lost = (scenario.faults[0].count + 1) / scenario.teeth
    assert 1.0 / ring.scale.frequency == pytest.approx(scenario.believed_circumference_m, rel=0.02 + lost)
    assert len(analysis.corners[scenario.faults[0].corner].turn.arcs) == 1
