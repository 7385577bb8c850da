"""A drive worked through in legs says what the same drive says whole."""

from __future__ import annotations

import numpy as np
import pytest

from conftest import analyze_raw, drive
from nodrek.core.model import Analysis, Corner, Fault, RawChannel, RawLog
from nodrek.core.motion import legs
from nodrek.simulate.faults import Cause, SimulatedFault


@pytest.fixture
def short_legs(monkeypatch: pytest.MonkeyPatch) -> None:
    """Legs of 24 s, and a third of the drive followed."""
    monkeypatch.setattr(legs, "WHOLE_UP_TO", 8_000)
    monkeypatch.setattr(legs, "LEG_SAMPLES", 1_200)
    monkeypatch.setattr(legs, "FOLLOWED_SAMPLES", 4_800)


@pytest.fixture(scope="module")
def raw() -> RawLog:
    faults = (
        SimulatedFault(Corner.RL, Cause.MISSING_TEETH),
        SimulatedFault(Corner.FR, Cause.BROKEN_LEAD, per_minute=4.0),
    )
    return drive(62, *faults, duration_s=300.0)


def test_legs_find_what_the_whole_finds(raw: RawLog, short_legs: None, monkeypatch: pytest.MonkeyPatch) -> None:
    cut, exam = analyze_raw(raw)
    monkeypatch.setattr(legs, "WHOLE_UP_TO", 10**9)
    whole, complete = analyze_raw(raw)
    assert isinstance(cut, Analysis)
    assert isinstance(whole, Analysis)
    for analysis in (cut, whole):
        found = {(f.fault, f.corners) for f in analysis.findings if f.confidence >= 0.5}
        assert found == {(Fault.RING_DAMAGE, (Corner.RL,)), (Fault.INTERMITTENT, (Corner.FR,))}
    # breaks are looked for in every sample, the wheel angle is followed in a part of them
    assert cut.corners[Corner.FR].dropouts == pytest.approx(whole.corners[Corner.FR].dropouts, abs=2)
    for corner in Corner:
        one, other = exam.motions[corner], complete.motions[corner]
        assert np.array_equal(one.times, other.times)
        # the seams between legs move a deviation by less than its noise does
        assert np.array_equal(np.isnan(one.deviation), np.isnan(other.deviation))
        apart = np.abs(one.deviation - other.deviation) / other.noise
        assert np.nanquantile(apart, 0.97) < 0.5
        assert exam.followed[corner].times.size <= legs.FOLLOWED_SAMPLES
        assert np.isin(exam.followed[corner].times, one.times).all()
        # samples that read low are left out by their deviation, which the seams move
        apart = np.log(cut.corners[corner].ratio / whole.corners[corner].ratio)
        assert abs(apart) < 0.01 * exam.ratios[corner].sigma


def test_legs_that_stand_are_not_followed(raw: RawLog, short_legs: None) -> None:
    """Ten minutes of standing before the drive take no part of what is followed."""
    standing = 600.0
    channels = []
    for channel in raw.channels:
        before = np.arange(0.0, standing, 0.02)
        times = np.concatenate([before, channel.times_s + standing])
        values = np.concatenate([np.zeros(before.size), channel.values])
        channels.append(RawChannel(channel.name, channel.unit, times, values))
    _, exam = analyze_raw(RawLog(tuple(channels), raw.format))
    assert exam.followed[Corner.FL].times.min() > standing - 2 * legs.LEG_SAMPLES * 0.02
    assert exam.motions[Corner.FL].times.size == channels[0].times_s.size
