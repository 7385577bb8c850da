"""Corners behind the middle of the others: a sensor that sleeps while slow, a value that stands still."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from benchmarks import eleventh_world, sixth_world, tenth_world, third_world

from conftest import quiet
from nodrek.core.corners import map_corners
from nodrek.core.model import Corner, Fault, Finding, RawChannel, RawLog, Vehicle
from nodrek.core.verdict.asleep import asleep_behind
from nodrek.core.verdict.examine import Examination, examine
from nodrek.core.verdict.judge import analyze_log
from nodrek.core.verdict.one_value import keeps_to_one_value
from nodrek.core.verdict.stopgap import stopgap_s
from nodrek.io.knowledge import shipped_calibration

TRIP_S = 30.0
WAKE_KMH, STUCK_KMH, BELIEVED = 18.0, 30.0, 0.2
"""Of the sensor that sleeps; the value that is stuck, and how far from the others it is believed, as a part of them."""


def pull_aways(
    rate_hz: float, step_kmh: float, seed: int, asleep: Corner | None = None, stuck: Corner | None = None
) -> RawLog:
    """Six trips from rest to 50 km/h and back in a straight line, wheels that scatter by half a km/h at all speeds.

    The middle of its others is shown by the corner that is `asleep` below `WAKE_KMH`, and by the one that is `stuck` at
    `STUCK_KMH` where that is not believed.
    """
    rng = np.random.default_rng(seed)
    times = np.arange(0.0, 6.0 * TRIP_S, 1.0 / rate_hz)
    vehicle = 50.0 * np.clip(4.0 * np.sin(np.pi * times / TRIP_S) ** 2, 0.0, 1.0)
    shown = {c: np.maximum(vehicle + 0.5 * rng.standard_normal(times.size) * (vehicle > 0.5), 0.0) for c in Corner}
    if asleep is not None:
        middle = np.median([shown[c] for c in Corner if c is not asleep], axis=0)
        shown[asleep] = np.where(vehicle < WAKE_KMH, middle, shown[asleep])
    if stuck is not None:
        middle = np.median([shown[c] for c in Corner if c is not stuck], axis=0)
        shown[stuck] = np.where(np.abs(STUCK_KMH - middle) < BELIEVED * middle, STUCK_KMH, middle)
    return RawLog(
        tuple(
            RawChannel(f"Wheel speed {c}", "km/h", times, np.round(v / step_kmh) * step_kmh) for c, v in shown.items()
        ),
        "test",
    )


def judged(raw: RawLog) -> tuple[list[Finding], Examination]:
    """What is said with a half and more, as the program ships."""
    analysis, exam = analyze_log(map_corners(raw), Vehicle(), quiet, shipped_calibration())
    return [f for f in analysis.findings if f.confidence >= 0.5], exam


@pytest.mark.parametrize("corner", Corner)
@pytest.mark.parametrize(("rate_hz", "step_kmh"), [(50.0, 0.1), (10.0, 0.1), (10.0, 0.5)])
def test_one_that_is_never_off_the_middle_while_slow_sleeps(corner: Corner, rate_hz: float, step_kmh: float) -> None:
    """By construction, and no bend is needed: the wake-up speed within 1 km/h, and nobody else."""
    exam = examine(map_corners(pull_aways(rate_hz, step_kmh, 7, corner)), Vehicle(), quiet)
    found = {c: told for c in Corner if (told := asleep_behind(exam, c)) is not None}
    assert list(found) == [corner]
    assert found[corner].wake * 3.6 == pytest.approx(WAKE_KMH, abs=1.0)


@pytest.mark.parametrize("rate_hz", [50.0, 10.0])
def test_wheels_that_are_merely_alike_do_not_sleep(rate_hz: float) -> None:
    for seed in range(6):
        exam = examine(map_corners(pull_aways(rate_hz, 0.5, seed)), Vehicle(), quiet)
        assert not any(asleep_behind(exam, c) for c in Corner)


@pytest.mark.parametrize("corner", Corner)
@pytest.mark.parametrize(("rate_hz", "step_kmh"), [(50.0, 0.1), (10.0, 1.0), (4.0, 0.1)])
def test_one_value_whenever_the_others_are_near_it_is_frozen(corner: Corner, rate_hz: float, step_kmh: float) -> None:
    """By construction: it is neither silent nor asleep, though it shows the others for most of the drive."""
    sure, exam = judged(pull_aways(rate_hz, step_kmh, 5, stuck=corner))
    assert [(f.fault, f.corners, f.evidence["value_kmh"]) for f in sure] == [(Fault.FROZEN, (corner,), STUCK_KMH)]
    assert [c for c in Corner if keeps_to_one_value(exam, c) is not None] == [corner]


@pytest.mark.filterwarnings("error")
def test_where_two_others_do_not_read_no_value_is_out_of_their_range() -> None:
    """One stands at 12 km/h for two seconds, twice, while two have no valid value and the fourth goes faster."""
    raw = pull_aways(10.0, 0.1, 5)
    times = raw.channels[0].times_s
    fast = np.flatnonzero(raw.channels[2].values > 25.0)
    spells = (times > times[fast[0]]) & (times < times[fast[0]] + 2.0)
    spells |= (times > times[fast[-1]] - 2.0) & (times < times[fast[-1]])
    shown = (655.35, 655.35, None, 12.0)
    channels = tuple(
        c if value is None else replace(c, values=np.where(spells, value, c.values))
        for c, value in zip(raw.channels, shown, strict=True)
    )
    exam = examine(map_corners(replace(raw, channels=channels)), Vehicle(), quiet)
    assert keeps_to_one_value(exam, Corner.RR) is None


def test_one_that_keeps_to_the_middle_in_a_queue_is_sound() -> None:
    """Never faster than 23 km/h, in steps of 0.8 km/h: one is off the middle in 2 samples of 100, the others in 5.5 to
    6.6."""
    sure, _ = judged(tenth_world.draw(1_570_000, "healthy", 10.0).log)
    assert not sure


def test_beside_an_odd_ring_nobody_sleeps_in_the_middle() -> None:
    """A ring of another number of teeth reads 5 % low, and the faster of two alike is in the middle while slow."""
    sure, _ = judged(sixth_world.draw(2_167_000, "other ring", 10.0).log)
    assert [f.fault for f in sure] == [Fault.RING_COUNT]


def test_one_value_of_a_coarse_unit_at_one_speed_is_not_frozen() -> None:
    """A ring that has lost many teeth reads 10 % low, and one value while the vehicle keeps to its speed."""
    sure, _ = judged(third_world.draw(1_182_000, "some teeth gone", 10.0).log)
    assert Fault.FROZEN not in {f.fault for f in sure}


@pytest.mark.parametrize("rate", [10.0, 4.0])
def test_a_quiet_corner_that_keeps_to_many_coarse_values_is_not_frozen(rate: float) -> None:
    """Half a minute at 54 km/h while the others read 53 to 55, twenty seconds at 55, six at 56."""
    sure, _ = judged(eleventh_world.draw(1_410_007, "healthy", rate).log)
    assert not sure


def test_wheels_that_a_smooth_filter_keeps_together_do_not_sleep() -> None:
    """A sound car: its front left wheel runs in the middle of all in some pull-aways, for a second each."""
    exam = examine(map_corners(third_world.draw(1_440_005, "healthy", 50.0).log), Vehicle(), quiet)
    assert not any(asleep_behind(exam, c) for c in Corner)


@pytest.mark.parametrize("rate_hz", [50.0, 10.0, 4.0])
@pytest.mark.parametrize(("shown_s", "fault"), [
    ((5.0,) * 6, Fault.NO_SIGNAL), ((5.0, 3.0, 7.5, 4.0, 9.0, 6.0), Fault.INTERMITTENT),
])  # fmt: skip
def test_a_unit_that_gives_up_after_each_pull_away_hides_a_dead_corner(
    rate_hz: float, shown_s: tuple[float, ...], fault: Fault
) -> None:
    """For as long each time, and no lead breaks by the clock; one that breaks whenever it likes is told as that."""
    raw = pull_aways(rate_hz, 0.1, 3)
    own = raw.channels[0].times_s % TRIP_S < np.repeat(shown_s, raw.channels[0].times_s.size // 6)
    shown = np.where(own, np.mean([c.values for c in raw.channels[1:]], axis=0), 0.0)
    found, exam = judged(replace(raw, channels=(replace(raw.channels[0], values=shown), *raw.channels[1:])))
    assert [(f.fault, f.corners) for f in found] == [(fault, (Corner.FL,))]
    assert (stopgap_s(exam, Corner.FL) or 0.0) == pytest.approx(5.0 * (fault is Fault.NO_SIGNAL), abs=0.5)
