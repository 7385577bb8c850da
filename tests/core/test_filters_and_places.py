"""What a control unit's filter drags along is undone; few dips, and dips at two places, still know the wheel angle."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from benchmarks import eleventh_world
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.signal import butter, lfilter

from conftest import CIRCUMFERENCE, NOISE, motion_of, quiet, rolling
from nodrek.core.corners import map_corners
from nodrek.core.model import Array, Fault, Vehicle
from nodrek.core.motion.reference import CornerMotion
from nodrek.core.turns.carried import Carried, carried_by_filter, dip_memory, without_filter
from nodrek.core.turns.fold import Overtones, find_arcs, fold, overtones_by_speed
from nodrek.core.turns.search import Weighing, find_scale, find_stretches, fold_weights
from nodrek.core.turns.track import Track, follow_dips
from nodrek.core.verdict.judge import analyze_log
from nodrek.io.knowledge import shipped_calibration


def filtered_dips(tied: bool, seed: int = 0) -> CornerMotion:
    """50 samples a second of single periods through a filter of 0.1 s: a lost tooth is met in one turn of eight.

    Dips come with the wheel, or as often at any time where not `tied`.
    """
    rng = np.random.default_rng(seed)
    times, speed, path = rolling(50.0)
    turn = np.floor(path / CIRCUMFERENCE)
    comes = np.flatnonzero((np.diff(turn, prepend=turn[0]) > 0) & (rng.random(times.size) < 0.125))
    if not tied:
        comes = np.sort(rng.choice(times.size, comes.size, replace=False))
    raw = 0.2 * NOISE * rng.standard_normal(times.size)
    raw[comes] -= 0.6
    keep = np.exp(-0.02 / 0.1)
    late = lfilter([1.0 - keep], [1.0, -keep], path - path[0])
    return motion_of(times, speed, late, lfilter([1.0 - keep], [1.0, -keep], raw))


@settings(max_examples=30, deadline=None)
@given(st.floats(0.05, 0.96), st.integers(0, 2**31))
def test_undoing_a_filter_gives_what_it_was_given(keep: float, seed: int) -> None:
    """Against scipy's filter of first order."""
    given_to_it = np.random.default_rng(seed).standard_normal(200)
    shown = lfilter([1.0 - keep], [1.0, -keep], given_to_it)
    np.testing.assert_allclose(without_filter(shown, Carried(keep))[1:], given_to_it[1:], atol=1e-9)


def test_a_sample_after_an_unknown_one_stays_as_it_is() -> None:
    out = without_filter(np.array([0.1, np.nan, 0.3, 0.4]), Carried(0.5))
    assert np.isnan(out[1])
    assert list(out[[0, 2, 3]]) == pytest.approx([0.1, 0.3, 0.5])


def test_the_memory_of_a_filter_is_read_from_its_dips() -> None:
    assert dip_memory(filtered_dips(tied=True)) == pytest.approx(np.exp(-0.02 / 0.1), abs=0.05)
    times, speed, path = rolling(50.0)
    single = np.where(np.arange(times.size) % 37 == 0, -0.4, 0.0)
    assert dip_memory(motion_of(times, speed, path, single)) == 0.0


def held_dips(seed: int = 0) -> CornerMotion:
    """Single periods before a unit that takes half of a lost tooth for a value, and then half a second of sound ones
    for none: in one turn of forty the low one stays."""
    rng = np.random.default_rng(seed)
    times, speed, path = rolling(50.0)
    turn = np.floor(path / CIRCUMFERENCE)
    comes = np.flatnonzero((np.diff(turn, prepend=turn[0]) > 0) & (rng.random(times.size) < 0.025))
    shown = speed * np.exp(NOISE * rng.standard_normal(times.size))
    for at in comes.tolist():
        shown[at : at + 25] = 0.75 * shown[at]
    return replace(motion_of(times, speed, path, np.log(shown / speed)), speed=shown)


def test_a_unit_that_holds_values_is_no_filter() -> None:
    """A filter of half a second would come late by half a second; what is held begins at its place of the turn."""
    motion = held_dips()
    assert carried_by_filter(motion) == Carried()
    scale = find_scale(motion, find_stretches(motion))
    assert scale is not None
    assert scale.weighing.dips_only
    assert 1 / scale.frequency == pytest.approx(CIRCUMFERENCE, rel=3e-3)
    assert scale.log_p < -12


def test_few_dips_dragged_along_by_a_filter_give_the_circumference() -> None:
    motion = filtered_dips(tied=True)
    scale = find_scale(motion, find_stretches(motion))
    assert scale is not None
    assert 1 / scale.frequency == pytest.approx(CIRCUMFERENCE, rel=3e-3)
    assert scale.log_p < -30
    assert scale.weighing.carried.lasting > 0.7
    # speed comes late through the filter, the dips do not
    assert scale.delay == pytest.approx(-0.1, abs=0.03)


SWINGING = (1.65, -0.7)
"""What a filter of second order at 2 Hz carries over, 50 times a second (Butterworth's; scipy)."""


def swinging_dips(tied: bool, seed: int = 0) -> CornerMotion:
    """The same through a filter of second order that swings back: each dip lasts for several turns."""
    raw = filtered_dips(tied, seed)
    keep = np.exp(-0.02 / 0.1)
    given_to_it = lfilter([1.0, -keep], [1.0 - keep], raw.deviation)
    shown = lfilter([1.0 - sum(SWINGING)], [1.0, -SWINGING[0], -SWINGING[1]], given_to_it)
    return replace(raw, deviation=shown, path=raw.path_by_mates)


def test_a_filter_of_second_order_is_undone_as_well() -> None:
    """Its two parts are found; the dip, which lasted for turns, is an arc at one place again."""
    motion = swinging_dips(tied=True)
    assert carried_by_filter(motion) == pytest.approx(SWINGING, abs=0.06)
    scale = find_scale(motion, find_stretches(motion))
    assert scale is not None
    assert scale.log_p < -30
    assert 1 / scale.frequency == pytest.approx(CIRCUMFERENCE, rel=3e-3)
    (arc,) = find_arcs(fold(motion, find_stretches(motion), scale))
    assert arc.width < 0.25
    for seed in range(5):
        loose = swinging_dips(tied=False, seed=seed)
        scale = find_scale(loose, find_stretches(loose))
        assert scale is not None
        assert scale.log_p > np.log(1e-3)


@pytest.mark.parametrize("seed", range(3))
def test_a_rough_road_that_fades_in_two_paces_is_no_filter(seed: int) -> None:
    """Jolts that die away by 0.92 a sample, behind a window that halves: undone, small swings grow 40-fold."""
    times, speed, path = rolling(50.0)
    jolts = np.random.default_rng(seed).standard_normal(times.size)
    road = NOISE * lfilter([0.2], [1.0, -0.92 - 0.5, 0.92 * 0.5], jolts)
    assert carried_by_filter(motion_of(times, speed, path, road)) == Carried()


@pytest.mark.parametrize("seed", range(5))
def test_as_many_dips_at_any_time_give_none(seed: int) -> None:
    motion = filtered_dips(tied=False, seed=seed)
    scale = find_scale(motion, find_stretches(motion))
    assert scale is not None
    assert scale.log_p > np.log(1e-3)


def test_each_dip_is_laid_on_the_turn_once() -> None:
    motion = filtered_dips(tied=True)
    begins = fold_weights(motion, Weighing(Carried(np.exp(-0.2)), dips_only=True))
    assert set(np.unique(begins)) == {-1.0, 0.0}
    turns = motion.path[-1] / CIRCUMFERENCE
    assert -begins.sum() == pytest.approx(turns / 8, rel=0.2)


def slow_dips(places: tuple[float, ...], seed: int) -> CornerMotion:
    """Four looks a second at a ring that reads low round each of `places`."""
    rng = np.random.default_rng(seed)
    times, speed, path = rolling(4.0, 240.0)
    angle = np.mod(path / CIRCUMFERENCE, 1.0)
    deviation = NOISE * rng.standard_normal(times.size)
    for place in places:
        deviation -= 0.3 * (np.abs(np.mod(angle - place + 0.5, 1.0) - 0.5) < 0.04)
    return motion_of(times, speed, path, deviation)


@pytest.mark.parametrize("places", [(0.2,), (0.2, 0.59), (0.2, 0.45)])
@pytest.mark.parametrize("seed", [1, 2])
def test_dips_at_one_place_and_at_two_are_followed_in_slow_logs(places: tuple[float, ...], seed: int) -> None:
    motion = slow_dips(places, seed)
    track = follow_dips(motion, find_stretches(motion))
    assert track is not None
    assert track.log_factor > 15
    assert 1 / track.frequency == pytest.approx(CIRCUMFERENCE, rel=6e-3)
    assert _scattered(motion, seed).log_factor < 2.5


def _scattered(motion: CornerMotion, seed: int) -> Track:
    """The same dips, dealt out to other samples."""
    dealt = np.random.default_rng(seed).permutation(motion.deviation)
    moved = replace(motion, deviation=dealt)
    track = follow_dips(moved, find_stretches(moved))
    assert track is not None
    return track


def overtones_of(wave: Array, late_s: float) -> Overtones:
    """Of a ring whose reading is `wave` round the turn, shown `late_s` later than it was."""
    times, speed, path = rolling(100.0)
    angle = np.mod((path - late_s * speed) / CIRCUMFERENCE, 1.0)
    noise = 0.5 * NOISE * np.random.default_rng(3).standard_normal(times.size)
    motion = motion_of(times, speed, path, wave[(angle * wave.size).astype(int)] + noise)
    stretches = find_stretches(motion)
    scale = find_scale(motion, stretches)
    assert scale is not None
    return overtones_by_speed(motion, fold(motion, stretches, scale))


@pytest.mark.parametrize("late_s", [0.0, 0.12])
def test_overtones_of_a_pulse_are_seen_however_late_it_is_shown(late_s: float) -> None:
    """Fourier: the first four harmonics of a short pulse are alike, so three over one is √3; a swing has none."""
    at = np.arange(100) / 100
    pulse, swing = np.where(at < 0.03, -0.2, 0.0), 0.01 * np.sin(2 * np.pi * at)
    assert overtones_of(pulse, late_s).share == pytest.approx(np.sqrt(3.0), rel=0.15)
    assert overtones_of(pulse, late_s).sure > 10
    assert overtones_of(swing, late_s).share < 0.1


def swing_of(size: float, filtered: bool) -> float:
    """Of a ring that swings by `size`, pulled away to 30 m/s and kept there for three minutes; before a unit that
    filters twice, from two hertz on, or before none."""
    times = np.arange(0.0, 200.0, 0.02)
    speed = np.clip(1.0 + 1.5 * times, 1.0, 30.0) + 0.5 * np.sin(times / 3.0)
    path = np.concatenate([[0.0], np.cumsum(0.5 * (speed[1:] + speed[:-1]) * 0.02)])
    wave = size * np.sin(2.0 * np.pi * path / CIRCUMFERENCE)
    if filtered:
        wave = lfilter(*butter(2, 2.0, fs=50.0), wave)
    noise = 5e-4 * np.random.default_rng(4).standard_normal(times.size)
    motion = replace(motion_of(times, speed, path, wave + noise), noise=np.full(times.size, 5e-4))
    stretches = find_stretches(motion)
    scale = find_scale(motion, stretches)
    assert scale is not None
    return fold(motion, stretches, scale).swing


def test_a_swing_that_a_unit_hides_at_speed_is_measured_while_slow() -> None:
    """By the filter's own law, (f/f₀)² beyond f₀, 15 turns a second leave a fiftieth of it."""
    assert swing_of(0.02, filtered=False) == pytest.approx(0.02, rel=0.1)
    assert 0.004 < swing_of(0.02, filtered=True) < 0.02
    assert swing_of(0.0005, filtered=True) < 0.0005


@pytest.mark.parametrize("rate", [50.0, 10.0, 4.0])
def test_a_ring_out_of_centre_is_told_though_the_motorway_hides_it(rate: float) -> None:
    """±0.03 % above 90 km/h: less than new rings have, and said of none."""
    drawn = eleventh_world.draw(1_446_001, "wobbles", rate)
    findings = analyze_log(map_corners(drawn.log), Vehicle(), quiet, shipped_calibration())[0].findings
    (found,) = [f for f in findings if f.confidence >= 0.5]
    assert (found.fault, found.corners) == (Fault.RING_RUNOUT, drawn.corners)
    assert found.evidence["swing_percent"] > 0.1
