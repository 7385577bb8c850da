"""What the benchmarks count as visible, what the other worlds teach, and what they hide."""

from __future__ import annotations

from dataclasses import replace
from itertools import islice
from types import ModuleType

import numpy as np
import pytest
from benchmarks import (
    eighth_world,
    fifth_world,
    fourth_world,
    ninth_world,
    seventh_world,
    sixth_world,
    tenth_world,
    third_world,
)
from benchmarks.elsewhere import _times_shown
from benchmarks.second_world import counted
from benchmarks.visible import is_visible
from tools.gather import ELSEWHERE, drawn_elsewhere, records_anywhere, with_more

from nodrek.core.model import Array, Corner, Fault, RawChannel
from nodrek.simulate.chain import Scenario, simulate
from nodrek.simulate.faults import Cause, SimulatedFault
from nodrek.simulate.sensor import CoilSensor

MOTORWAY = Scenario(seed=5, duration_s=90.0, road="motorway")


def test_a_gap_is_invisible_to_one_who_never_drives_slowly() -> None:
    """A wide gap that wakes at 10 km/h, on a drive that never comes near."""
    fast = replace(MOTORWAY, driver=replace(MOTORWAY.driver, starts_standing=False))
    assert min(float(c.values.min()) for c in simulate(fast).channels) > 30.0
    assert not is_visible(replace(fast, faults=(SimulatedFault(Corner.FR, Cause.WIDE_GAP, size=10.0 / 3.6),)))
    town = replace(fast, road="town", driver=MOTORWAY.driver)
    assert is_visible(replace(town, faults=(SimulatedFault(Corner.FR, Cause.WIDE_GAP, size=15.0 / 3.6),)))


def test_exact_edges_leave_only_the_fault_between_twins() -> None:
    """Another kind of sensor at the same corner changes nothing while the wheel is fast."""
    fast = replace(MOTORWAY, driver=replace(MOTORWAY.driver, starts_standing=False), exact_edges=True)
    loud = simulate(replace(fast, sensor=CoilSensor(wake_rate=1.0)))
    other = simulate(fast)
    for one, two in zip(loud.channels, other.channels, strict=True):
        np.testing.assert_allclose(one.values, two.values, atol=1e-9)


@pytest.mark.parametrize("first", list(ELSEWHERE))
@pytest.mark.parametrize("fault", [None, Fault.CROSSED, Fault.RING_DAMAGE])
def test_other_worlds_teach_what_they_put_in(fault: Fault | None, first: int) -> None:
    """The labels of the first two drives with this fault, against what was drawn for them and put in besides."""
    world = ELSEWHERE[first]
    drives = ((s, d) for s in range(first, first + 200) if (d := drawn_elsewhere(s, world)).fault is fault)
    for seed, drawn in islice(drives, 2):
        also = with_more(seed, drawn.log, tuple(Corner), drawn.corners)
        expected: dict[Corner, set[str]] = {c: set() for c in Corner}
        for corner in (Corner if fault is Fault.CROSSED else drawn.corners) if fault else ():
            expected[corner].add(fault.value)
        if also.fault is not None and len(also.corners) == 1:
            expected[also.corners[0]].add(also.fault.value)
        told = [set(r.faults) for r in records_anywhere(seed) if not r.kind]
        assert told == [expected[c] for c in Corner if any(str(c) in channel.name for channel in also.log.channels)]


@pytest.mark.parametrize(
    ("world", "seed", "kind"),
    [
        (third_world, 12, "tooth gone"),
        (fourth_world, 5, "lost tooth"),
        (fifth_world, 9, "one tooth"),
        (sixth_world, 4, "missing"),
        (seventh_world, 3, "tooth broken off"),
        (eighth_world, 2, "one tooth out"),
        (ninth_world, 4, "tooth gone"),
        (tenth_world, 4, "one off"),
    ],
)
def test_other_worlds_hide_a_tooth_where_they_say(world: ModuleType, seed: int, kind: str) -> None:
    """Against the same drive without it: one corner differs, by one edge of the ring in the mean."""
    drawn = world.draw(seed, kind, 50.0)
    sound = world.draw(seed, kind, 50.0, faulty=False)
    assert drawn.unit not in ("plausible", "compare", "doubt and stand in", "guard", "hold")
    assert (drawn.fault, sound.fault, sound.corners) == (Fault.RING_DAMAGE, None, ())
    for corner, bad, good in zip(Corner, drawn.log.channels, sound.log.channels, strict=True):
        short = 1.0 - bad.values.mean() / good.values.mean()
        if corner not in drawn.corners:
            np.testing.assert_array_equal(bad.values, good.values)
        else:
            assert 0.4 / 100 < short < 1.1 / 29


def test_smooth_counts_of_a_window_are_what_whole_ones_come_to_at_any_phase() -> None:
    pitch, window = 0.013, 0.1
    times = np.linspace(2.0, 3.0, 40)

    def counts(start: float, smoothly: bool) -> Array:
        edges = start + pitch * np.arange(400.0)
        return counted(edges, times, smoothly) - counted(edges, times - window, smoothly)

    starts = pitch * (np.arange(500) + 0.5) / 500.0
    whole = np.mean([counts(start, smoothly=False) for start in starts], axis=0)
    np.testing.assert_allclose(whole, window / pitch, atol=0.01)
    np.testing.assert_allclose(counts(0.4 * pitch, smoothly=True), whole, atol=0.01)


def test_edges_that_do_not_come_count_as_none_in_smooth_counts_either() -> None:
    edges = np.delete(np.arange(50.0), slice(20, 24))
    np.testing.assert_allclose(
        counted(edges, np.array([19.5, 20.5, 22.0, 23.9, 24.25]), True), [20.5, 21, 21, 21, 21.25]
    )


def test_a_value_that_is_shown_again_tells_nothing_new() -> None:
    held = RawChannel("x", "km/h", np.arange(7.0), np.array([5.0, 5.0, 5.0, 4.0, 3.0, 3.0, 5.0]))
    np.testing.assert_array_equal(_times_shown(held), [3.0, 3.0, 3.0, 1.0, 2.0, 2.0, 1.0])
