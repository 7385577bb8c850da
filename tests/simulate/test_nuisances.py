"""What sound cars do: each nuisance does what its name says, and nothing more."""

from __future__ import annotations

import numpy as np
import pytest

from nodrek.core.model import Array, Corner
from nodrek.simulate.chain import simulate
from nodrek.simulate.drive import Drive, steady_drive
from nodrek.simulate.faults import Cause
from nodrek.simulate.nuisance import Nuisance, extra_slip, with_parking
from nodrek.simulate.truth import FAULT_OF, corners_of, is_right
from nodrek.simulate.vary import draw_fault, draw_scenario

FRONT = (Corner.FL, Corner.FR)


def stop_and_go(hard: float = 1.5) -> Drive:
    """Pull away, drive, brake with `hard` m/s², stand; three times."""
    t = np.arange(0.0, 120.0, 0.01)
    one = np.concatenate([np.linspace(0, 14, 800), np.full(1600, 14.0), np.linspace(14, 0, int(1400 / hard))])
    one = np.concatenate([one, np.zeros(4000 - one.size)])
    speed = np.tile(one, 3)[: t.size]
    return Drive(t, np.cumsum(speed) * 0.01, speed, np.gradient(speed, 0.01), np.zeros(t.size))


def worst(slip: Array) -> float:
    return float(np.abs(slip).max())


@pytest.mark.parametrize("seed", range(4))
def test_wheels_spin_only_where_they_are_driven_and_pull_away(seed: int) -> None:
    drive = stop_and_go()
    slips = extra_slip(Nuisance.WHEELSPIN, drive, FRONT, np.random.default_rng(seed))
    assert worst(slips.at(Corner.RL, drive.t)) == 0.0
    spinning = np.abs(slips.at(Corner.FL, drive.t)) + np.abs(slips.at(Corner.FR, drive.t))
    assert 0.05 < spinning.max() < 1.0
    since = drive.t % 40.0
    assert spinning[since > 4.0].max() == 0.0


def test_a_trailer_never_spins_its_wheels() -> None:
    slips = extra_slip(Nuisance.WHEELSPIN, stop_and_go(), (), np.random.default_rng(0))
    assert all(worst(slips.at(c, slips.t)) == 0.0 for c in Corner)


@pytest.mark.parametrize(("hard", "intervenes"), [(1.5, False), (7.0, True)])
def test_brakes_intervene_only_where_braking_is_hard(hard: float, intervenes: bool) -> None:
    drive = stop_and_go(hard)
    slips = extra_slip(Nuisance.HARD_BRAKING, drive, FRONT, np.random.default_rng(1))
    for corner in Corner:
        slip = slips.at(corner, drive.t)
        assert bool(slip.min() < -0.02) is intervenes
        assert slip.max() <= 0.0
        assert worst(slip[drive.acceleration > -3.0]) < 1e-9


def test_tyres_warm_up_slowly_and_by_tenths_of_a_per_cent() -> None:
    drive = steady_drive(20.0, 0.0, 600.0, step=0.1)
    slips = extra_slip(Nuisance.WARM_UP, drive, FRONT, np.random.default_rng(2))
    for corner in Corner:
        slip = slips.at(corner, drive.t)
        assert slip[0] == 0.0
        assert (np.diff(slip) <= 0).all()
        assert 0.0005 < -slip[-1] < 0.004


@pytest.mark.parametrize("seed", range(4))
def test_parking_reverses_where_the_car_stands(seed: int) -> None:
    before = stop_and_go()
    after = with_parking(before, np.random.default_rng(seed))
    assert after.t.size == before.t.size == after.speed.size == after.curvature.size
    assert after.speed.min() < -0.3
    assert np.abs(np.diff(after.speed)).max() < 0.2
    assert np.abs(after.curvature).max() <= 1 / 5.5
    assert np.diff(after.distance)[after.speed[1:] < -0.1].max() < 0.0


def test_logs_of_reversing_show_no_negative_speed() -> None:
    """A wheel speed has no sign: sensors count edges."""
    raw = simulate(draw_scenario(5, nuisance=Nuisance.PARKING, rates_hz=(50.0,), duration_s=60.0))
    assert min(float(np.nanmin(c.values)) for c in raw.channels) >= 0.0


@pytest.mark.parametrize("nuisance", list(Nuisance))
def test_a_scenario_with_a_nuisance_is_reproducible(nuisance: Nuisance) -> None:
    first, second = (simulate(draw_scenario(7, nuisance=nuisance, rates_hz=(20.0,), duration_s=40.0)) for _ in range(2))
    for a, b in zip(first.channels, second.channels, strict=True):
        assert np.array_equal(a.values, b.values, equal_nan=True)


@pytest.mark.parametrize("cause", list(Cause))
def test_the_truth_names_each_simulated_fault(cause: Cause) -> None:
    """Training and benchmark agree on what a log with this fault should be said to show."""
    for seed in range(12):
        fault = draw_fault(cause, seed)
        corners = corners_of(fault)
        assert fault.corner in corners
        assert is_right(FAULT_OF[cause], corners, fault)
        assert not is_right(FAULT_OF[cause], (fault.corner.mate,), fault)
        assert not is_right("no_such_fault", corners, fault)


def test_what_no_log_can_tell_apart_counts_as_right() -> None:
    crossed = draw_fault(Cause.CROSSED, 3)
    assert is_right("crossed", (Corner.FL, Corner.FR), crossed)
    assert is_right("crossed", (Corner.RL, Corner.RR), crossed)
    assert not is_right("crossed", (Corner.FL, Corner.RR), crossed)
    count = draw_fault(Cause.WRONG_COUNT, 3)
    assert is_right("tyre_size", (count.corner,), count)
    assert not is_right("ring_damage", (count.corner,), count)
