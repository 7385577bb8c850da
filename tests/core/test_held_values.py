"""A unit that shows its last value, or one made of the other corners, where it should show a dip or a break."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from itertools import pairwise
from types import MappingProxyType, ModuleType

import numpy as np
import pytest
from benchmarks import eighth_world, fifth_world, fourth_world, ninth_world, seventh_world

from nodrek.core.corners import map_corners
from nodrek.core.model import Array, Corner, Fault, RawChannel, RawLog, Vehicle
from nodrek.core.motion.waking import Waking
from nodrek.core.verdict.asleep import asleep_behind
from nodrek.core.verdict.breaks import find_breaks
from nodrek.core.verdict.bridged import held_breaks
from nodrek.core.verdict.examine import examine
from nodrek.core.verdict.held import USUAL_RUNS, as_often_were_they_as_quiet, held_values, longer
from nodrek.core.verdict.judge import analyze_log
from nodrek.core.verdict.made import made_of_others
from nodrek.core.verdict.stand_in import StandIn, own_and_mates
from nodrek.io.knowledge import shipped_calibration
from nodrek.simulate.chain import simulate
from nodrek.simulate.control_unit import SpanOfEdges
from nodrek.simulate.faults import Cause
from nodrek.simulate.nuisance import Nuisance
from nodrek.simulate.vary import draw_fault, draw_scenario

CIRCUMFERENCE, RATE_HZ = 2.05, 50.0


def held_log(
    where: str,
    seed: int = 0,
    step: float = 0.01,
    way: StandIn = StandIn.LAST,
    sides: Mapping[Corner, Array] = MappingProxyType({}),
    noise: float = 0.003,
    lasts: tuple[int, int] = (10, 21),
    usual_speed: float = 11.0,
    quiet: float = 1.0,
) -> RawLog:
    """Four corners in steps of `step` km/h; the rear left one shows a stand-in in some turns: at one angle of
    the ``ring``, there but only while ``slow``, at ``any`` angle, over nine ``breaks`` (each `lasts` so many samples)
    or nine ``slow breaks`` in the slower half, ``always``, or as often as its mates (``none``). `sides`: how much
    faster a corner runs; `usual_speed` m/s; `quiet`: noise of the rear left one over its mates'."""
    rng = np.random.default_rng(seed)
    times = np.arange(0.0, 180.0, 1.0 / RATE_HZ)
    speed = usual_speed + 3.0 * np.sin(times / 8.0) + np.sin(times / 2.1)
    turn = np.cumsum(speed) / RATE_HZ / CIRCUMFERENCE
    passes = np.flatnonzero(np.diff(np.floor(turn), prepend=0.0) > 0)
    comes = passes[rng.random(passes.size) < 0.5]
    if where == "slow":
        comes = passes[speed[passes] < np.quantile(speed, 0.3)]
    if where == "any":
        comes = np.sort(rng.choice(np.arange(1, times.size), comes.size, replace=False))
    if where in ("breaks", "slow breaks"):
        begins = np.linspace(500, times.size - 500, 9).astype(int) + rng.integers(0, 300, 9)
        if where == "slow breaks":
            slow = np.flatnonzero(speed < np.quantile(speed, 0.4))
            begins = slow[np.linspace(100, slow.size - 100, 9).astype(int)]
        comes = np.concatenate([np.arange(at, at + rng.integers(*lasts)) for at in begins])
    if where == "always":
        comes = np.arange(times.size)
    louder = {c: noise * (quiet if c is Corner.RL else 1.0) for c in Corner}
    raw = {c: 3.6 * speed * (1.0 + sides.get(c, 0.0) + louder[c] * rng.standard_normal(times.size)) for c in Corner}
    own, others = raw[Corner.RL], np.sort([raw[c] for c in Corner if c is not Corner.RL], axis=0)
    made = {
        StandIn.MIDDLE_OF_ALL: others[:2].mean(axis=0),
        StandIn.MEAN_OF_OTHERS: others.mean(axis=0),
        StandIn.MIDDLE_OF_OTHERS: others[1],
    }
    for at in comes.tolist() if where != "none" else ():
        own[at] = own[at - 1] if way is StandIn.LAST else made[way][at]
    shown = {c: np.round(values / step) * step for c, values in raw.items()}
    return RawLog(tuple(RawChannel(f"Wheel speed {c}", "km/h", times, shown[c]) for c in Corner), "test")


def test_values_that_stand_still_at_one_angle_convict_the_ring() -> None:
    analysis, exam = analyze_log(map_corners(held_log("ring")), Vehicle(), lambda share, doing: None)
    held = held_values(exam, Corner.RL)
    assert held is not None
    assert held.is_tied
    assert held.scale is not None
    assert 1.0 / held.scale.frequency == pytest.approx(CIRCUMFERENCE, rel=5e-3)
    first = analysis.findings[0]
    assert (first.fault, first.corners) == (Fault.RING_DAMAGE, (Corner.RL,))
    assert first.confidence > 0.9
    assert "shows its last value there" in first.summary
    assert analysis.corners[Corner.RL].turn.arcs == ()
    others = [held_values(exam, c) for c in Corner if c is not Corner.RL]
    assert not any(h.is_tied for h in others if h is not None)


@pytest.mark.parametrize("way", [way for way in StandIn if way is not StandIn.LAST])
def test_so_do_values_that_are_made_of_the_other_corners(way: StandIn) -> None:
    analysis, exam = analyze_log(map_corners(held_log("ring", 5, way=way)), Vehicle(), lambda share, doing: None)
    held = held_values(exam, Corner.RL)
    assert held is not None
    assert held.is_tied
    assert held.way is way
    first = analysis.findings[0]
    assert (first.fault, first.corners) == (Fault.RING_DAMAGE, (Corner.RL,))
    assert way.value in first.summary


@pytest.mark.parametrize("wakes", [0.8, 3.4])
def test_breaks_at_walking_pace_are_breaks_where_the_corner_is_known_to_read(wakes: float) -> None:
    """Four metres a second at most: a corner that reads at two has no gap; one that wakes at 3.4 is silent for that."""
    analysis, _ = analyze_log(map_corners(walking_log(wakes)), Vehicle(), lambda share, doing: None)
    told = {f.fault for f in analysis.findings if f.confidence >= 0.5 and f.corners == (Corner.RL,)}
    assert (Fault.INTERMITTENT in told) is (wakes < 1.0)


def walking_log(wakes: float) -> RawLog:
    times = np.arange(0.0, 180.0, 1.0 / RATE_HZ)
    speed = 2.9 + 1.1 * np.sin(times / 8.0)
    broken = np.zeros(times.size, dtype=bool)
    for at in np.flatnonzero(np.diff(np.sign(speed - 3.7)) > 0).tolist()[:6]:
        broken[at : at + 20] = True
    rng = np.random.default_rng(7)
    channels = []
    for corner in Corner:
        own = 3.6 * speed * (1.0 + 0.003 * rng.standard_normal(times.size))
        gone = (broken | (speed < wakes)) if corner is Corner.RL else speed < 0.8
        channels.append(RawChannel(f"Wheel speed {corner}", "km/h", times, np.round(np.where(gone, 0.0, own), 2)))
    return RawLog(tuple(channels), "test")


@pytest.mark.parametrize(("reads_below_s", "are_breaks"), [(15.0, True), (3.0, False)])
def test_a_break_on_a_pull_away_is_no_wake_up_of_a_corner_that_reads_below(
    reads_below_s: float, are_breaks: bool
) -> None:
    """The one change to reading that a log holds is the end of a break at 3 m/s; the corner reads below all the same,
    or it does not."""
    exam = examine(map_corners(walking_log(0.8)), Vehicle(), lambda share, doing: None)
    woke = Waking(np.array([2.6]), np.zeros(0), 3.4, 0.0, reads_below_s)
    no_dropout = exam.dropouts[Corner.FL]
    crawled = replace(exam, waking={**exam.waking, Corner.RL: woke}, dropouts={Corner.RL: no_dropout})
    found = find_breaks(crawled, frozenset(), {}, {})
    assert bool(found and found[0].confidence > 0.9) is are_breaks


def test_what_all_four_read_alike_is_made_of_none() -> None:
    """A sound car on a worn axle: three times in two and a half minutes one wheel reads the middle of the others for up
    to twelve samples, which lie within a step or two of each other then."""
    log = simulate(draw_scenario(472_133, (), rates_hz=(RATE_HZ,), worn_axle=True))
    analysis, exam = analyze_log(map_corners(log), Vehicle(), lambda share, doing: None)
    assert all(held_breaks(exam, c) is None for c in Corner)
    assert all(f.confidence < 0.5 for f in analysis.findings)


def test_a_wheel_whose_size_puts_it_between_the_others_agrees_with_their_middle_for_a_while() -> None:
    """A sound car: 621 times its rear left wheel reads the middle of the others, 279 of these for longer, three times
    for a fifth of a second; its mates do so 162 times at most."""
    drawn = eighth_world.draw(890_001, "healthy", 50.0)
    exam = examine(map_corners(drawn.log), Vehicle(), lambda share, doing: None)
    assert all(held_breaks(exam, c) is None for c in Corner)


@pytest.mark.parametrize("way", list(StandIn))
def test_breaks_that_a_unit_bridges_are_counted(way: StandIn) -> None:
    analysis, exam = analyze_log(map_corners(held_log("breaks", 3, way=way)), Vehicle(), lambda share, doing: None)
    first = analysis.findings[0]
    assert (first.fault, first.corners, first.evidence["breaks"]) == (Fault.INTERMITTENT, (Corner.RL,), 9)
    assert first.evidence["longest_s"] == pytest.approx(0.35, abs=0.1)
    assert way.value in first.summary
    assert all(f.confidence < 0.1 for f in analysis.findings[1:])
    assert all(held_breaks(exam, c) is None for c in Corner if c is not Corner.RL)


def test_a_faint_swing_of_a_mate_behind_a_smooth_filter_makes_no_lost_edges() -> None:
    """Four hundredths of a per cent carry a sound wheel through the middle of the others once a turn."""
    drawn = seventh_world.draw(2_125_000, "eccentric", 50.0)
    exam = examine(map_corners(drawn.log), Vehicle(), lambda share, doing: None)
    assert not any(held.is_tied for c in Corner if (held := held_values(exam, c)) is not None)


def test_a_drive_that_only_crawls_does_not_prove_lost_edges() -> None:
    """Three and a half metres a second at most: a part of the ring that stands back is silent as well."""
    log = map_corners(eighth_world.draw(1_486_000, "lifted by rust", 50.0).log)
    analysis, _ = analyze_log(log, Vehicle(), lambda share, doing: None)
    told = [f.confidence for f in analysis.findings if f.fault is Fault.RING_DAMAGE and f.corners == (Corner.FR,)]
    assert 0.5 <= told[0] < 0.7


@pytest.mark.parametrize(("least", "most", "are_breaks"), [(0.82, 0.84, False), (0.4, 0.95, True)])
def test_values_kept_equally_low_are_lost_edges(least: float, most: float, are_breaks: bool) -> None:
    """Lost teeth read as low every time; the begin of a break may read anything."""
    raw = held_log("breaks", 3)
    at = list(Corner).index(Corner.RL)
    own = raw.channels[at].values.copy()
    begins = np.flatnonzero(np.diff(own, prepend=0.0)).tolist()
    runs = [(a, b) for a, b in pairwise(begins) if b - a >= 10]
    for (first, last), share in zip(runs, np.random.default_rng(1).uniform(least, most, len(runs)), strict=True):
        own[first:last] *= share
    raw = replace(raw, channels=tuple(replace(c, values=own) if k == at else c for k, c in enumerate(raw.channels)))
    found = held_breaks(examine(map_corners(raw), Vehicle(), lambda share, doing: None), Corner.RL)
    assert len(runs) == 9
    assert (found is not None) is are_breaks


@pytest.mark.parametrize(("usual_speed", "breaks"), [(25.0, 9), (8.0, 0)])
def test_breaks_in_the_slower_half_are_breaks_where_that_is_fast(usual_speed: float, breaks: int) -> None:
    """On a motorway no weak arc and no wide gap is to blame; in a town either may be."""
    log = map_corners(held_log("slow breaks", 3, usual_speed=usual_speed))
    _, exam = analyze_log(log, Vehicle(), lambda share, doing: None)
    found = held_breaks(exam, Corner.RL)
    assert (0 if found is None else found.starts.size) == breaks


@pytest.mark.parametrize("way", [StandIn.MEAN_OF_OTHERS, StandIn.MIDDLE_OF_OTHERS])
def test_a_mate_that_loses_edges_hides_breaks_made_of_it(way: StandIn) -> None:
    """Where one corner dips all the time the others run in the middle of what is left: agreement proves nothing."""
    times = np.arange(0.0, 180.0, 1.0 / RATE_HZ)
    lost = np.where(np.random.default_rng(9).random(times.size) < 0.04, -0.3, 0.0)
    log = map_corners(held_log("breaks", 3, way=way, sides={Corner.FR: lost}))
    _, exam = analyze_log(log, Vehicle(), lambda share, doing: None)
    assert held_breaks(exam, Corner.RL) is None


@pytest.mark.parametrize("way", list(StandIn))
def test_a_tenth_of_a_second_is_the_patience_of_a_unit_and_no_break(way: StandIn) -> None:
    log = map_corners(held_log("breaks", 3, way=way, lasts=(5, 7)))
    _, exam = analyze_log(log, Vehicle(), lambda share, doing: None)
    assert all(held_breaks(exam, c) is None for c in Corner)


@pytest.mark.parametrize("seed", [90_034, 90_087])
def test_a_sound_wheel_in_the_middle_of_the_others_is_its_own(seed: int) -> None:
    """Behind a smooth filter it agrees with what is made of them for a second at a time, in half of all bends."""
    drawn = fifth_world.draw(seed, "healthy", 50.0)
    _, exam = analyze_log(map_corners(drawn.log), Vehicle(), lambda share, doing: None)
    assert all(held_breaks(exam, c) is None for c in Corner)
    assert all(made_of_others(exam, c) is None for c in Corner)


@pytest.mark.parametrize("way", [way for way in StandIn if way is not StandIn.LAST])
def test_a_corner_that_is_made_of_the_others_all_the_time_is_silent(way: StandIn) -> None:
    bends = 0.02 * np.sin(np.arange(0.0, 180.0, 1.0 / RATE_HZ) / 11.0)
    sides = {Corner.FL: -bends, Corner.FR: bends, Corner.RL: -0.9 * bends, Corner.RR: 0.9 * bends}
    log = map_corners(held_log("always", 4, way=way, sides=sides))
    analysis, _ = analyze_log(log, Vehicle(), lambda share, doing: None)
    first = analysis.findings[0]
    assert (first.fault, first.corners) == (Fault.NO_SIGNAL, (Corner.RL,))
    assert way.value in first.summary
    assert np.isnan(analysis.corners[Corner.RL].ratio)
    assert not any(analysis.corners[Corner.RL].could_see.values())
    sound = map_corners(held_log("none", 4, sides=sides))
    analysis, _ = analyze_log(sound, Vehicle(), lambda share, doing: None)
    assert not [f for f in analysis.findings if f.fault is Fault.NO_SIGNAL]


@pytest.mark.parametrize("way", [way for way in StandIn if way is not StandIn.LAST])
def test_so_it_is_from_the_moment_on_at_which_it_dies(way: StandIn) -> None:
    bends = 0.02 * np.sin(np.arange(0.0, 180.0, 1.0 / RATE_HZ) / 11.0)
    sides = {Corner.FL: -bends, Corner.FR: 0.95 * bends, Corner.RL: -0.9 * bends, Corner.RR: 0.9 * bends}
    dead, alive = (held_log(where, 4, way=way, sides=sides) for where in ("always", "none"))
    channels = [
        replace(d, values=np.where(d.times_s < 70.0, a.values, d.values))
        for d, a in zip(dead.channels, alive.channels, strict=True)
    ]
    analysis, _ = analyze_log(map_corners(RawLog(tuple(channels), "test")), Vehicle(), lambda share, doing: None)
    first = analysis.findings[0]
    assert (first.fault, first.corners) == (Fault.NO_SIGNAL, (Corner.RL,))
    assert first.evidence["since_s"] == pytest.approx(70.0, abs=3.0)
    assert f"from {first.evidence['since_s']:.0f} s into the log on" in first.summary


@pytest.mark.parametrize("every", [5, 12])
def test_so_it_is_in_slow_logs_with_the_middle_of_the_others(every: int) -> None:
    """Ten and four values a second in tenths: each original agrees with its copy for as long as it is the middle, and
    is told from it where it is not."""
    times = np.arange(0.0, 180.0, 1.0 / RATE_HZ)
    bends = 0.02 * np.sin(times / 11.0)
    sides = {Corner.FL: -bends, Corner.FR: 0.95 * bends, Corner.RL: -0.9 * bends, Corner.RR: 0.9 * bends}
    for where, silent in (("always", [(Corner.RL,)]), ("none", [])):
        fast = held_log(where, 4, step=0.1, way=StandIn.MIDDLE_OF_OTHERS, sides=sides, noise=0.002)
        slow = [replace(c, times_s=c.times_s[::every], values=c.values[::every]) for c in fast.channels]
        analysis, _ = analyze_log(map_corners(RawLog(tuple(slow), "test")), Vehicle(), lambda share, doing: None)
        assert [f.corners for f in analysis.findings if f.fault is Fault.NO_SIGNAL] == silent


@pytest.mark.parametrize("rate", [10.0, 4.0])
def test_beside_an_odd_wheel_who_is_mostly_in_the_middle_is_not_made_of_it(rate: float) -> None:
    """Whole km/h and a ring with other teeth: of two wheels that are alike, the faster is what the others make."""
    log = map_corners(eighth_world.draw(1_233_600, "wheel of another", rate).log)
    _, exam = analyze_log(log, Vehicle(), lambda share, doing: None)
    assert all(made_of_others(exam, c) is None for c in Corner)


def test_a_front_wheel_between_the_rear_ones_of_a_bend_has_a_reading_of_its_own() -> None:
    """Nearly all bends to the left, where the inner front wheel runs half-way between the rear ones."""
    times = np.arange(0.0, 180.0, 1.0 / RATE_HZ)
    left = 0.1 * np.abs(np.sin(times / 11.0)) * np.where(times < 153.0, 1.0, -1.0)
    sides = {
        Corner.FL: np.maximum(-2.0 * left, 0.0), Corner.FR: np.maximum(2.0 * left, 0.0),
        Corner.RL: -left, Corner.RR: left,
    }  # fmt: skip
    log = map_corners(held_log("none", 4, step=0.5, sides=sides))
    analysis, _ = analyze_log(log, Vehicle(), lambda share, doing: None)
    assert not [f for f in analysis.findings if f.fault is Fault.NO_SIGNAL]


def test_a_smooth_swing_that_crosses_the_mean_of_the_others_is_no_lost_tooth() -> None:
    """However small: what swings agrees with them twice a turn, where no mate does."""
    times = np.arange(0.0, 180.0, 1.0 / RATE_HZ)
    turn = np.cumsum(11.0 + 3.0 * np.sin(times / 8.0) + np.sin(times / 2.1)) / RATE_HZ / CIRCUMFERENCE
    sides = {Corner.RL: 0.0022 * np.sin(2.0 * np.pi * turn)}
    sides |= {c: np.full(times.size, by) for c, by in ((Corner.FL, 0.006), (Corner.FR, -0.002), (Corner.RR, -0.004))}
    log = map_corners(held_log("none", 5, sides=sides, noise=2e-4))
    analysis, exam = analyze_log(log, Vehicle(), lambda share, doing: None)
    held = held_values(exam, Corner.RL)
    assert held is None or not held.is_tied
    assert not [f for f in analysis.findings if f.fault is Fault.RING_DAMAGE and f.confidence >= 0.5]


def test_the_original_of_a_copy_is_not_accused_with_it() -> None:
    """The front right ring lost a tooth, and the unit shows the front left value there: these two agree once a turn."""
    log = map_corners(fifth_world.draw(782_003, "one tooth", RATE_HZ).log)
    analysis, exam = analyze_log(log, Vehicle(), lambda share, doing: None)
    tied = [c for c in Corner if (held := held_values(exam, c)) is not None and held.is_tied]
    assert tied == [Corner.FR]
    assert [f.corners for f in analysis.findings if f.confidence >= 0.5] == [(Corner.FR,)]


def test_often_at_one_length_of_run_proves_nothing_at_another() -> None:
    """A sound car that parks, before a unit that limits the slope: 14 long standstills, mates 6 at most, and 275 of any
    length, mates 201, which line up with the wheel."""
    log = simulate(draw_scenario(482_111, (), rates_hz=(RATE_HZ,), nuisance=Nuisance.PARKING))
    analysis, exam = analyze_log(map_corners(log), Vehicle(), lambda share, doing: None)
    assert not any(held.is_tied for c in Corner if (held := held_values(exam, c)) is not None)
    assert all(f.confidence < 0.5 for f in analysis.findings)


@pytest.mark.parametrize("mirrored", [False, True])
def test_an_inner_front_wheel_of_tight_bends_does_not_sleep(mirrored: bool) -> None:
    """Half-way between the rear ones while the queue crawls round one way, elsewhere when it drives: no gap."""
    log = map_corners(fifth_world.draw(800_031, "healthy", 10.0).log)
    if mirrored:
        log = replace(log, channels={c: replace(log.channels[c.mate], corner=c) for c in log.channels})
    analysis, exam = analyze_log(log, Vehicle(), lambda share, doing: None)
    assert all(asleep_behind(exam, c) is None for c in Corner)
    assert not [f for f in analysis.findings if f.fault is Fault.AIR_GAP and f.confidence >= 0.5]


@pytest.mark.parametrize("seed", [54002, 54006, 55003])
def test_a_gap_that_a_unit_hides_behind_the_middle_of_all_is_found_at_its_wake_up_speed(seed: int) -> None:
    gap = draw_fault(Cause.WIDE_GAP, seed)
    scenario = replace(draw_scenario(seed, (gap,)), control_unit=SpanOfEdges(), substitutes=0.3)
    analysis, _ = analyze_log(map_corners(simulate(scenario)), Vehicle(), lambda share, doing: None)
    first = analysis.findings[0]
    assert (first.fault, first.corners) == (Fault.AIR_GAP, (gap.corner,))
    assert 3.6 * analysis.corners[gap.corner].wake_up == pytest.approx(3.6 * gap.size, abs=1.5)
    assert StandIn.MIDDLE_OF_ALL.value in first.summary


def test_dips_of_a_ring_that_agree_with_the_others_by_accident_hide_no_gap() -> None:
    """Two teeth less, e^-1900 by accident; two dozen values that agreed were a gap below 25 km/h with 0.95."""
    fault = draw_fault(Cause.MISSING_TEETH, 723_208)
    log = simulate(draw_scenario(723_208, (fault,), rates_hz=(RATE_HZ,), road="town"))
    analysis = analyze_log(map_corners(log), Vehicle(), lambda share, doing: None, shipped_calibration())[0]
    assert [(f.fault, f.corners) for f in analysis.findings] == [(Fault.RING_DAMAGE, (fault.corner,))]
    assert not analysis.corners[fault.corner].wake_up > 3.0


def test_polls_that_beat_with_a_unit_are_no_ring() -> None:
    """On a motorway a turn takes as long as some beats: what repeats by the clock lines up with the wheel as well."""
    drawn = fifth_world.draw(800_030, "healthy", 50.0)
    analysis, exam = analyze_log(map_corners(drawn.log), Vehicle(), lambda share, doing: None)
    held = held_values(exam, Corner.FL)
    assert held is not None
    assert held.count > 1.9 * held.mates
    assert not held.is_tied
    assert not [f for f in analysis.findings if f.confidence >= 0.5]


@pytest.mark.parametrize(("log", "corner"), [
    (fourth_world.draw(905_000, "healthy", 50.0).log, Corner.RL),
    (seventh_world.draw(980_003, "healthy", 50.0).log, Corner.FL),
])  # fmt: skip
def test_the_pattern_of_a_sound_ring_is_no_proof(log: RawLog, corner: Corner) -> None:
    """Values stand still where it turns, and run through the middle of the others, at the same places of every turn."""
    analysis, exam = analyze_log(map_corners(log), Vehicle(), lambda share, doing: None)
    held = held_values(exam, corner)
    assert held is None or not held.is_tied
    assert not [f for f in analysis.findings if f.confidence >= 0.5]


def test_a_quiet_corner_repeats_more_often_and_holds_nothing() -> None:
    """Half as loud as its mates: four in a row alike come far oftener, as often as the mates foretell."""
    log = held_log("none", step=0.05, noise=0.003, quiet=0.5)
    _, exam = analyze_log(map_corners(log), Vehicle(), lambda share, doing: None)
    own, mates = own_and_mates(exam, Corner.RL, StandIn.LAST)
    foretold = as_often_were_they_as_quiet(exam, Corner.RL, StandIn.LAST, mates)
    place = USUAL_RUNS.index(3)
    assert longer(own)[place] > 3.0 * max(longer(runs)[place] for runs in mates.values())
    assert longer(own)[place] < 2.0 * max(runs[place] for runs in foretold.values())
    held = held_values(exam, Corner.RL)
    assert held is None or held.way is not StandIn.LAST


@pytest.mark.parametrize(
    ("world", "seed", "kind", "rate"),
    [(eighth_world, 86_017, "healthy", 4.0), (ninth_world, 1_136_000, "hollow", 50.0)],
)
def test_an_even_speed_on_a_smooth_road_is_no_break(world: ModuleType, seed: int, kind: str, rate: float) -> None:
    """Hundredths of km/h repeat there at every corner, three or forty times in a row at one, while none drifts."""
    log = world.draw(seed, kind, rate).log
    exam = analyze_log(map_corners(log), Vehicle(), lambda share, doing: None)[1]
    assert all(held_breaks(exam, corner) is None for corner in Corner)


@pytest.mark.parametrize("way", list(StandIn))
def test_short_runs_at_any_angle_are_no_breaks(way: StandIn) -> None:
    _, exam = analyze_log(map_corners(held_log("any", 2, way=way)), Vehicle(), lambda share, doing: None)
    assert all(held_breaks(exam, c) is None for c in Corner)


def test_so_they_do_where_coarse_values_repeat_at_every_corner() -> None:
    """Not twice as many as at the mates, but the odd ones know the wheel."""
    analysis, exam = analyze_log(map_corners(held_log("ring", 7, 0.05)), Vehicle(), lambda share, doing: None)
    held = held_values(exam, Corner.RL)
    assert held is not None
    assert held.is_tied
    assert 1.1 * held.mates < held.count < 2 * held.mates
    assert (analysis.findings[0].fault, analysis.findings[0].corners) == (Fault.RING_DAMAGE, (Corner.RL,))
    assert all(f.confidence < 0.1 for f in analysis.findings[1:])


def test_an_arc_that_is_held_while_slow_only_is_no_lost_tooth() -> None:
    analysis, exam = analyze_log(map_corners(held_log("slow")), Vehicle(), lambda share, doing: None)
    held = held_values(exam, Corner.RL)
    assert held is not None
    assert not held.is_tied
    assert not [f for f in analysis.findings if f.fault is Fault.RING_DAMAGE and f.confidence >= 0.5]


@pytest.mark.parametrize("seed", range(4))
def test_as_many_at_any_angle_do_not(seed: int) -> None:
    analysis, exam = analyze_log(map_corners(held_log("any", seed)), Vehicle(), lambda share, doing: None)
    held = held_values(exam, Corner.RL)
    assert held is not None
    assert not held.is_tied
    assert not [f for f in analysis.findings if f.fault is Fault.RING_DAMAGE and f.confidence >= 0.5]


def test_a_wheel_that_passes_through_the_middle_of_all_is_not_made_of_them() -> None:
    """Quiet wheels of unlike size on a motorway: slip carries one through, as slowly as through what lies beside."""
    log = eighth_world.draw(520_053, "healthy", 50.0).log
    exam = analyze_log(map_corners(log), Vehicle(), lambda share, doing: None)[1]
    assert all(held_breaks(exam, corner) is None for corner in Corner)


def test_what_is_left_of_lost_edges_tells_nothing_of_bends() -> None:
    """A ring that lost three of 56 teeth reads 6 % low at four values a second: it is the odd one, and not its mate,
    which the same reading moved to the other side of a bend would make 6 % fast."""
    log = map_corners(eighth_world.draw(563_002, "teeth out twice", 4.0).log)
    analysis, exam = analyze_log(log, Vehicle(), lambda share, doing: None)
    reads = {c: r.ratio for c, r in exam.ratios.items()}
    assert reads[Corner.RR] < 0.97
    assert reads[Corner.FR] == pytest.approx(reads[Corner.FL], abs=0.005)
    # its wheel rolls like the others
    assert all(r.ratio_low < 1.0 < r.ratio_high for r in analysis.corners.values())


def test_values_that_repeat_as_those_of_the_mates_say_nothing() -> None:
    _, exam = analyze_log(map_corners(held_log("none")), Vehicle(), lambda share, doing: None)
    assert all(held_values(exam, c) is None for c in Corner)


def test_who_reads_like_a_sound_mate_is_not_made_of_it_beside_an_odd_one() -> None:
    """One wheel reads 2.7 % low, so the middle of any three with it is a sound wheel's reading, for long the same."""
    log = seventh_world.draw(27_003, "wrong ring", 50.0).log
    exam = analyze_log(map_corners(log), Vehicle(), lambda share, doing: None)[1]
    assert all(held_breaks(exam, corner) is None for corner in Corner)
