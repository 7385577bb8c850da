"""What goes wrong on the way, and two things wrong at once, at corners and moments drawn anew."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from benchmarks import also_wrong, eleventh_world, fourth_world

from conftest import drive, quiet
from nodrek.core.corners import map_corners
from nodrek.core.model import Corner, Fault, RawChannel, RawLog, Vehicle, Verdict
from nodrek.core.verdict.judge import analyze_log
from nodrek.io.knowledge import shipped_calibration
from nodrek.simulate.faults import Cause, SimulatedFault

LASTING = [kind for kind, fault in also_wrong.FAULTS.items() if fault in (Fault.NO_SIGNAL, Fault.FROZEN)]


def sure(raw: RawLog) -> set[tuple[Fault, frozenset[Corner]]]:
    analysis, _ = analyze_log(map_corners(raw), Vehicle(), quiet, shipped_calibration())
    return {(f.fault, frozenset(f.corners)) for f in analysis.findings if f.confidence >= 0.5}


def as_ratio(found: set[tuple[Fault, frozenset[Corner]]]) -> set[tuple[Fault, frozenset[Corner]]]:
    """An odd ratio of a few per cent may be either."""
    return {(Fault.TYRE_SIZE if fault is Fault.RING_COUNT else fault, where) for fault, where in found}


def with_more(raw: RawLog, kind: str, at: Corner, seed: int) -> RawLog:
    added = also_wrong.add(raw, tuple(Corner), kind, at, np.random.default_rng(seed))
    assert added is not None
    return added.log


@pytest.mark.parametrize("rate", [50.0, 4.0])
@pytest.mark.parametrize("kind", LASTING)
def test_a_corner_that_fails_on_the_way_is_told(kind: str, rate: float) -> None:
    """Anyone who looks at the graph sees it: half a drive at zero is no healthy vehicle."""
    raw = drive(91, rates_hz=(rate,), duration_s=180.0)
    for seed, corner in enumerate((Corner.FR, Corner.RL)):
        assert sure(with_more(raw, kind, corner, seed)) == {(also_wrong.FAULTS[kind], frozenset({corner}))}


@pytest.mark.parametrize(("seed", "rate"), [(980_000, 50.0), (980_001, 50.0), (980_000, 4.0), (990_100, 10.0)])
def test_edges_that_are_no_teeth_are_told_from_readings_that_are_too_high(seed: int, rate: float) -> None:
    drawn = eleventh_world.draw(seed, "extra edges", rate)
    analysis, _ = analyze_log(map_corners(drawn.log), Vehicle(), quiet, shipped_calibration())
    first = analysis.findings[0]
    assert (first.fault, first.corners) == (Fault.ENCODER_NOISE, drawn.corners)
    assert first.confidence > 0.5
    assert first.evidence["rising_percent"] > 3.0 * first.evidence["dipping_percent"]
    assert "too high" in first.summary


@pytest.mark.parametrize("seed", range(3))
def test_edges_that_shake_are_no_breaks_and_leave_three_ratios(seed: int) -> None:
    """A unit that shows single periods reads up to fourteen times too much of them: no corner of a vehicle drives at
    900 km/h, and none of the others reads wrong for it."""
    rng = np.random.default_rng(seed)
    times = np.arange(0.0, 300.0, 0.25)
    speed = 60.0 + 20.0 * np.sin(times / 23.0) + 8.0 * np.sin(times / 5.0)
    columns = []
    for corner in Corner:
        own = speed * (1.03 if corner is Corner.RL else 1.0) * (1.0 + 1e-3 * rng.standard_normal(times.size))
        if corner is Corner.FR:
            own = own / np.maximum(1.0 + 0.35 * rng.standard_normal(times.size), 0.07)
        columns.append(RawChannel(f"Wheel speed {corner}", "km/h", times, np.round(own, 1)))
    analysis, exam = analyze_log(map_corners(RawLog(tuple(columns), "test")), Vehicle(), quiet, shipped_calibration())
    assert analysis.findings[0].fault is Fault.ENCODER_NOISE
    assert analysis.findings[0].corners == (Corner.FR,)
    # the odd tyre at the rear left is told as well
    assert {f.fault for f in analysis.findings if f.confidence > 0.3} <= {Fault.ENCODER_NOISE, Fault.TYRE_SIZE}
    assert all(f.fault is not Fault.INTERMITTENT for f in analysis.findings)
    assert set(exam.ratios) == set(Corner) - {Corner.FR}
    low, high = exam.ratios[Corner.RL].interval
    assert low < 1.03 ** (2 / 3) < high < low * 1.01


@pytest.mark.parametrize("kind", ["not sampled", "not there"])
def test_missing_readings_are_no_fault(kind: str) -> None:
    for seed in range(2):
        assert not sure(with_more(drive(91, duration_s=180.0), kind, Corner.FR, seed))


@pytest.mark.parametrize("cause", [Cause.MISSING_TEETH, Cause.WIDE_GAP, Cause.BROKEN_LEAD])
@pytest.mark.parametrize("kind", ["odd tyre", "goes dead", "stands"])
def test_a_second_fault_hides_neither(cause: Cause, kind: str) -> None:
    size = {"size": 12.0 / 3.6} if cause is Cause.WIDE_GAP else {}
    raw = drive(95, SimulatedFault(Corner.RL, cause, **size), duration_s=240.0)  # type: ignore[arg-type]
    (first,) = sure(raw)
    assert as_ratio(sure(with_more(raw, kind, Corner.FR, 7))) == {
        first,
        (also_wrong.FAULTS[kind], frozenset({Corner.FR})),
    }


def test_a_gap_that_sleeps_for_half_of_the_drive_is_not_dead() -> None:
    """Silent up to a speed is a gap, silent above it as well is none."""
    raw = drive(93, SimulatedFault(Corner.FL, Cause.WIDE_GAP, size=24.0 / 3.6), duration_s=240.0)
    assert sure(raw) == {(Fault.AIR_GAP, frozenset({Corner.FL}))}


@pytest.mark.parametrize("factor", [0.5, 1.0 / 1.609344, 1.45, 2.0])
def test_a_corner_of_another_scale_hides_nothing(factor: float) -> None:
    """48 poles where 96 are expected read half; miles among kilometres look like a ring as well, and that is said."""
    raw = drive(95, SimulatedFault(Corner.RL, Cause.MISSING_TEETH), duration_s=180.0)
    place = [str(c.name).split()[-1] for c in raw.channels].index("FR")
    channels = list(raw.channels)
    channels[place] = replace(channels[place], values=channels[place].values * factor)
    scaled = replace(raw, channels=tuple(channels))
    assert sure(scaled) == {
        (Fault.RING_DAMAGE, frozenset({Corner.RL})), (Fault.RING_COUNT, frozenset({Corner.FR}))
    }  # fmt: skip
    analysis, _ = analyze_log(map_corners(scaled), Vehicle(), quiet, shipped_calibration())
    told = np.log(analysis.corners[Corner.FR].ratio / analysis.corners[Corner.RR].ratio)
    assert told == pytest.approx(np.log(factor), abs=0.01)
    (summary,) = (f.summary for f in analysis.findings if f.fault is Fault.RING_COUNT)
    assert ("another unit" in summary) is (abs(factor * 1.609344 - 1.0) < 0.01)


def test_a_ring_that_halves_most_readings_is_no_wrong_count() -> None:
    """A unit that repeats its last period reads half for two thirds of each turn: in whole mm/s that was a wrong number
    of teeth beside the ring, at 0.94."""
    raw = fourth_world.draw(71003, "lost tooth", 10.0).log
    fine = tuple(replace(c, values=np.round(c.values / 3.6, 3), unit="m/s") for c in raw.channels)
    assert sure(replace(raw, channels=fine)) == {(Fault.RING_DAMAGE, frozenset({Corner.RR}))}


@pytest.mark.parametrize("rate", [50.0, 4.0])
@pytest.mark.parametrize("later_s", [0.0, 3.0])
def test_breaks_at_two_corners_at_once_have_one_cause(rate: float, later_s: float) -> None:
    """One connector opens for both; leads that open at moments of their own share nothing."""
    raw = drive(91, rates_hz=(rate,), duration_s=180.0)
    times, speed = raw.channels[0].times_s, raw.channels[0].values
    fast = times[speed > np.quantile(speed, 0.4)]
    opens = fast[(np.linspace(0.05, 0.9, 6) * fast.size).astype(int)]
    broken = list(raw.channels)
    for at, late in ((2, 0.0), (3, later_s)):
        channel = broken[at]
        gone = np.abs(channel.times_s[:, None] - opens - late - 0.4).min(axis=1) < 0.4
        broken[at] = replace(channel, values=np.where(gone, 0.0, channel.values))
    analysis, _ = analyze_log(
        map_corners(replace(raw, channels=tuple(broken))), Vehicle(), quiet, shipped_calibration()
    )
    told = {f.corners[0]: f for f in analysis.findings if f.fault is Fault.INTERMITTENT}
    assert set(told) == {Corner.RL, Corner.RR}
    for corner, finding in told.items():
        assert finding.evidence["trigger"] == "none"
        assert finding.evidence.get("together_with") == (None if later_s else [corner.mate.value])
        assert ("what they share" in finding.summary) is not bool(later_s)


@pytest.mark.parametrize("corner", [Corner.FL, Corner.RR])
@pytest.mark.parametrize("rate", [50.0, 4.0])
def test_a_tyre_that_loses_air_on_the_way_is_said(corner: Corner, rate: float) -> None:
    """A rolling radius 1.5 % smaller at the end; and no word of it in a sound drive, nor with an odd tyre all along."""
    raw = drive(91, rates_hz=(rate,), duration_s=480.0)

    def notes(change: object) -> list[str]:
        channels = tuple(
            replace(c, values=c.values * (change if c.name.endswith(corner.value) else 1.0)) for c in raw.channels
        )
        analysis, _ = analyze_log(map_corners(replace(raw, channels=channels)), Vehicle(), quiet, shipped_calibration())
        return [w for w in analysis.warnings if "end of this log" in w]

    share = raw.channels[0].times_s / raw.channels[0].times_s[-1]
    for change, words in ((0.015 * share, "losing air"), (-0.02 * (share > 0.5), "changed or pumped")):
        (said,) = notes(1.0 + change)
        assert said.startswith(f"The {corner.words} wheel")
        assert words in said
    assert not notes(1.0)
    assert not notes(1.02)


@pytest.mark.parametrize("rate", [50.0, 4.0])
@pytest.mark.parametrize("marker_kmh", [655.35, -1.0])
def test_a_unit_that_declares_breaks_itself_is_believed(rate: float, marker_kmh: float) -> None:
    """For 0.8 s now and then, at one corner; at all of them it is the unit that starts anew, and a single sample of
    many a second is the logger's."""
    raw = drive(91, rates_hz=(rate,), duration_s=180.0)
    times, speed = raw.channels[0].times_s, raw.channels[0].values
    fast = times[speed > np.quantile(speed, 0.4)]
    begins = fast[(np.linspace(0.05, 0.9, 4) * fast.size).astype(int)]

    def marked(lasts_s: float, *corners: str) -> RawLog:
        gone = np.abs(times[:, None] - begins - 0.5 * lasts_s).min(axis=1) < 0.5 * lasts_s
        return replace(raw, channels=tuple(
            replace(c, values=np.where(gone & c.name.endswith(corners), marker_kmh, c.values)) for c in raw.channels
        ))  # fmt: skip

    assert sure(marked(0.8, "FL")) == {(Fault.INTERMITTENT, frozenset({Corner.FL}))}
    assert not sure(marked(0.8, "FL", "FR", "RL", "RR"))
    if rate > 10.0:
        assert not sure(marked(1.1 / rate, "FL"))


@pytest.mark.parametrize("rate", [50.0, 4.0])
def test_what_no_fault_explains_is_not_called_sound(rate: float) -> None:
    """Edges counted twice while slow: no kind of fault that is known, but far from what the others read."""
    raw = drive(91, rates_hz=(rate,), duration_s=300.0)
    slow = raw.channels[0].values < 30.0
    channels = tuple(
        replace(c, values=np.where(slow & c.name.endswith("FR"), 2.0 * c.values, c.values)) for c in raw.channels
    )
    analysis, _ = analyze_log(map_corners(replace(raw, channels=channels)), Vehicle(), quiet, shipped_calibration())
    if not analysis.findings:
        assert analysis.verdict is Verdict.NOT_ENOUGH_DATA
        (note,) = [w for w in analysis.warnings if "no fault that Nodrek knows" in w]
        assert note.startswith("The front right corner reads")
    assert {c for f in analysis.findings for c in f.corners} <= {Corner.FR}
    sound, _ = analyze_log(map_corners(raw), Vehicle(), quiet, shipped_calibration())
    assert not any("no fault that Nodrek knows" in w for w in sound.warnings)
