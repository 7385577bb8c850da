"""What coarse values, single periods and a steady speed make of a log, on kinematics worked out by hand."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from benchmarks import eighth_world, fifth_world, ninth_world, twelfth_world
from scipy.signal import lfilter

from conftest import drive, quiet
from nodrek.core.corners import map_corners
from nodrek.core.model import Array, Corner, Fault, RawChannel, RawLog, Vehicle
from nodrek.core.motion.crossing import find_crossing
from nodrek.core.motion.reference import Deviations
from nodrek.core.motion.usable import find_usable
from nodrek.core.verdict.held import held_values
from nodrek.core.verdict.judge import analyze_log, raw_findings
from nodrek.core.verdict.whole_edges import are_several_at_once
from nodrek.io.knowledge import shipped_calibration
from nodrek.simulate.faults import Cause, SimulatedFault

CIRCUMFERENCE, TEETH = 2.0, 48


def written(times: Array, speeds: dict[Corner, Array], step_kmh: float) -> RawLog:
    """Speeds in m/s, written in whole steps of `step_kmh`."""
    return RawLog(
        tuple(
            RawChannel(f"Wheel speed {c}", "km/h", times, np.round(np.round(3.6 * v / step_kmh) * step_kmh, 4))
            for c, v in speeds.items()
        ),
        "test",
    )


def said(raw: RawLog) -> dict[tuple[Fault, tuple[Corner, ...]], float]:
    analysis, _ = analyze_log(map_corners(raw), Vehicle(), quiet, shipped_calibration())
    return {(f.fault, f.corners): f.confidence for f in analysis.findings}


@pytest.mark.parametrize("lost", [1, 3, 4, 5])
@pytest.mark.parametrize("rate_hz", [10.0, 4.0])
def test_teeth_lost_before_single_periods_are_dips_however_deep(lost: int, rate_hz: float) -> None:
    """The period over the gap is that of `lost` + 1 pitches, and is shown for the pitch after it: a sixth of the
    speed, and still no break of the lead, in the few samples that meet it."""
    rng = np.random.default_rng(lost)
    times = np.arange(0.0, 240.0, 1.0 / rate_hz)
    speed = 9.0 + 4.0 * np.sin(times / 9.0) + np.sin(times / 2.3)
    way = 9.0 * times - 36.0 * np.cos(times / 9.0) - 2.3 * np.cos(times / 2.3)
    speeds = {c: speed * (1.0 + 0.002 * rng.standard_normal(times.size)) for c in Corner}
    shows = np.mod(way / CIRCUMFERENCE, 1.0) * TEETH < 1.0
    speeds[Corner.RL] = np.where(shows, speeds[Corner.RL] / (lost + 1), speeds[Corner.RL])
    found = said(written(times, speeds, 0.1))
    assert found.pop((Fault.RING_DAMAGE, (Corner.RL,))) > 0.9
    assert not found


@pytest.mark.parametrize("gone", [(2,), (1, 2), (3,), (1,)])
def test_as_many_edges_are_gone_each_time_as_a_ring_has_lost(gone: tuple[int, ...]) -> None:
    """A unit that shows its last period, and does not know the place: two in a row every time, or every second time,
    is no accident, one is. Asked of an encoder that loses edges one by one at the same rate, by the binomial law."""
    rng = np.random.default_rng(len(gone))
    ring, encoder = np.ones(TEETH * 400, dtype=bool), rng.random(TEETH * 400) > sum(gone) / TEETH
    for place, many in enumerate(gone):
        for k in range(many):
            ring[20 * place + k :: TEETH] = False
    assert are_several_at_once(_last_periods(ring, rng), 1e-3) is (max(gone) > 1)
    assert not are_several_at_once(_last_periods(encoder, rng), 1e-3)


def _last_periods(there: np.ndarray, rng: np.random.Generator) -> Deviations:
    """What a sample at any time finds of edges that are `there` or not, evenly spaced; 10 m/s."""
    edges = np.flatnonzero(there)
    at = np.sort(rng.uniform(10.0, edges[-1], 4_000))
    newest = np.searchsorted(edges, at, side="right") - 1
    periods = edges[newest] - edges[newest - 1]
    expected = np.full(at.size, 10.0)
    deviation = -np.log(periods) + 0.004 * rng.standard_normal(at.size)
    return Deviations(Corner.FL, 0.1 * at, 10.0 / periods, expected, deviation, np.full(at.size, 0.004))


def test_a_cruise_between_two_steps_freezes_no_quiet_corner() -> None:
    """Whole miles an hour, cut off: three corners flicker to the upper one for 22 s, the fourth is 0.4 % slower and
    does not; all slow down by one in the end."""
    rng = np.random.default_rng(3)
    times = np.arange(0.0, 90.0, 0.25)
    speed = 24.85 + np.clip(30.0 - times, 0.0, 8.0) - np.clip(times - 60.0, 0.0, 6.0)
    speeds = {c: speed * (1.0 + 3e-3 * rng.standard_normal(times.size)) for c in Corner}
    speeds[Corner.RL] = 0.996 * speed
    assert not said(written(times, {c: v - 0.5 * 1.609344 / 3.6 for c, v in speeds.items()}, 1.609344))


@pytest.mark.parametrize("off", [0.009, 0.03])
def test_the_tyre_of_a_corner_without_its_mate_may_be_its_axle(off: float) -> None:
    """Three corners: a worn axle differs by a per cent (common practice, no published source), a tyre of 3 % is odd."""
    rng = np.random.default_rng(5)
    times = np.arange(0.0, 180.0, 0.1)
    speed = 14.0 + 4.0 * np.sin(times / 11.0)
    there = (Corner.FR, Corner.RL, Corner.RR)
    speeds = {c: speed * (1.0 - off * c.is_front) * (1.0 + 1e-3 * rng.standard_normal(times.size)) for c in there}
    analysis, _ = analyze_log(map_corners(written(times, speeds, 0.05)), Vehicle(), quiet, shipped_calibration())
    named = [(f.fault, f.corners) for f in analysis.findings if f.confidence >= 0.5]
    assert named == ([(Fault.TYRE_SIZE, (Corner.FR,))] if off > 0.02 else [])
    seen = {c: r.could_see[Fault.TYRE_SIZE] for c, r in analysis.corners.items()}
    assert seen[Corner.FR] < 0.1 < min(seen[Corner.RL], seen[Corner.RR])


def test_what_trees_do_not_believe_hides_no_tyre() -> None:
    """A wheel 3.3 % off, and a ring that its finder thinks damaged and the trees do not."""
    analysis, exam = analyze_log(
        map_corners(ninth_world.draw(1_553_000, "wrong size", 10.0).log), Vehicle(), quiet, shipped_calibration()
    )
    raw = {f.fault: f.confidence for f in raw_findings(exam) if f.corners == (Corner.FR,)}
    assert raw[Fault.RING_DAMAGE] > 0.9
    assert raw[Fault.RING_COUNT] < 0.1
    assert [f.fault for f in analysis.findings if f.confidence >= 0.5] == [Fault.RING_COUNT]


def test_a_count_less_is_no_break_of_a_lead() -> None:
    """Edges of a short window, one of them worth 3 m/s: a slow wheel shows one, two or none."""
    rng = np.random.default_rng(4)
    times = np.arange(0.0, 200.0, 0.02)
    speed = np.maximum(0.0, 5.0 + 4.0 * np.sin(times / 7.0))
    counts = {c: np.floor(speed / 3.0 + rng.random(times.size)) for c in Corner}
    found = said(written(times, {c: 3.0 * n for c, n in counts.items()}, 0.01))
    assert not [kind for kind, _ in found if kind is Fault.INTERMITTENT]


@pytest.mark.parametrize("changes", [False, True])
def test_a_cruise_control_freezes_no_value(changes: bool) -> None:
    """The mates flicker between two half kilometres per hour and meet a hole each; a value that stands while they slow
    down by 5 km/h is frozen."""
    rng = np.random.default_rng(8)
    times = np.arange(0.0, 150.0, 0.1)
    speed = 33.0 + np.clip((60.0 - times) / 10.0, 0.0, 4.0) - (1.4 * np.clip(times / 30.0 - 3.0, 0.0, 1.0) * changes)
    speeds = {c: speed * (1.0 + 1e-3 * rng.standard_normal(times.size)) for c in Corner}
    for number, corner in enumerate((Corner.FL, Corner.FR, Corner.RR)):
        speeds[corner][900 + 60 * number] *= 0.96
    speeds[Corner.RL] = np.where(times > 61.0, 33.0, speeds[Corner.RL])
    assert (said(written(times, speeds, 0.5)).get((Fault.FROZEN, (Corner.RL,)), 0.0) > 0.5) is changes


@pytest.mark.parametrize(
    ("reads", "frozen"), [("one value", True), ("its own", False), ("the middle of a step", False)]
)
def test_one_value_of_many_kilometres_per_hour_is_frozen_where_no_other_corner_keeps_to_it(
    reads: str, frozen: bool
) -> None:
    """Steps of 2.5 km/h at a steady speed: all keep to one of them most of the time, and the mates visit both beside it
    again and again. Where they visit one only, a quiet corner in the middle of its step need not."""
    rng = np.random.default_rng(21)
    times = np.arange(0.0, 90.0, 0.1)
    speeds = {c: (120.0 + 0.75 * rng.standard_normal(times.size)) / 3.6 for c in Corner}
    if reads == "one value":
        speeds[Corner.RL] = np.where(times > 20.0, 120.0 / 3.6, speeds[Corner.RL])
    elif reads == "the middle of a step":
        speeds = {c: np.maximum(v, 119.9 / 3.6) for c, v in speeds.items()}
        speeds[Corner.RL] = np.full(times.size, 120.0 / 3.6)
    found = said(written(times, speeds, 2.5))
    assert (found.get((Fault.FROZEN, (Corner.RL,)), 0.0) > 0.5) is frozen
    assert {kind for kind, _ in found} <= {Fault.FROZEN}


def test_the_mate_of_a_broken_lead_is_not_frozen_where_nobody_else_drives() -> None:
    """Two corners at a steady speed in whole kilometres per hour, one of them silent for a second now and then."""
    rng = np.random.default_rng(12)
    times = np.arange(0.0, 180.0, 0.25)
    speed = np.clip(np.minimum(times, 180.0 - times) * 1.5, 0.0, 22.0)
    speeds = {c: speed * (1.0 + 5e-4 * rng.standard_normal(times.size)) for c in (Corner.RL, Corner.RR)}
    speeds[Corner.RR] = np.where(np.mod(times, 9.0) < 1.0, 0.0, speeds[Corner.RR])
    found = said(written(times, speeds, 1.0))
    assert found[Fault.INTERMITTENT, (Corner.RR,)] > 0.5
    assert not [corners for fault, corners in found if fault is Fault.FROZEN]


def test_one_of_two_corners_is_the_odd_one() -> None:
    """Wheels of a trailer's axle 5 % apart: either is too large or the other too small, and not both."""
    raw = drive(700, SimulatedFault(Corner.RR, Cause.WHEEL_SIZE, size=0.05), duration_s=150.0)
    found = said(replace(raw, channels=tuple(c for c in raw.channels if c.name[-2:] in ("RL", "RR"))))
    assert {corners for _, corners in found} == {(Corner.RL,), (Corner.RR,)}
    assert 0.9 < sum(found.values()) <= 1.0


def test_two_corners_may_both_be_odd_against_another_speed() -> None:
    rng = np.random.default_rng(13)
    times = np.arange(0.0, 240.0, 0.1)
    speed = 15.0 + 6.0 * np.sin(times / 9.0)
    speeds = {c: 1.05 * speed * (1.0 + 5e-4 * rng.standard_normal(times.size)) for c in (Corner.RL, Corner.RR)}
    raw = written(times, speeds, 0.01)
    raw = replace(raw, channels=(*raw.channels, RawChannel("Satellite", "km/h", times, 3.6 * speed)))
    log = map_corners(raw, reference="satellite")
    analysis, _ = analyze_log(log, Vehicle(), quiet, shipped_calibration())
    (both,) = [f for f in analysis.findings if f.corners == (Corner.RL, Corner.RR)]
    assert both.fault is Fault.TYRE_SIZE
    assert both.confidence > 0.9


@pytest.mark.parametrize(("value_kmh", "told"), [(30.0, True), (4.0, False)])
def test_a_value_that_stays_while_all_others_stand_is_frozen(value_kmh: float, told: bool) -> None:
    """Two short halts in a fast drive, behind a unit that shows the mean of the others in place of what is a quarter
    too low: the value is seen for some seconds only, at the halts too. A unit may keep the last of a slow wheel there.
    """
    rng = np.random.default_rng(9)
    times = np.arange(0.0, 180.0, 0.25)
    near = np.minimum(np.abs(times - 60.0), np.abs(times - 130.0))
    speed = np.clip(3.5 * (near - 1.5), 0.0, 19.0 + np.sin(times / 7.0))
    speeds = {c: speed * (1.0 + 3e-3 * rng.standard_normal(times.size)) for c in Corner}
    mean = np.mean([v for c, v in speeds.items() if c is not Corner.RL], axis=0)
    shown = np.full(times.size, value_kmh / 3.6)
    follows = speeds[Corner.RL] if value_kmh < 5.0 else mean
    speeds[Corner.RL] = np.where(mean > 1.33 * shown, follows, shown)
    analysis, _ = analyze_log(map_corners(written(times, speeds, 0.5)), Vehicle(), quiet, shipped_calibration())
    frozen = [f for f in analysis.findings if f.fault is Fault.FROZEN and f.confidence > 0.9]
    assert [f.corners for f in frozen] == [(Corner.RL,)] * told
    assert all("while all others stand" in f.summary for f in frozen)
    # what is shown in place of it says nothing of this ring, wire and tyre
    here = analysis.corners[Corner.RL]
    assert (max(here.could_see.values()) > 0.3) is not told
    assert np.isfinite(here.ratio) != told


@pytest.mark.parametrize("axle", [None, Corner.FL])
def test_whole_kilometres_per_hour_of_a_steady_speed_are_no_bends(axle: Corner | None) -> None:
    """Front left and rear right run 0.05 % faster: at a steady speed they stand a whole step above their mates for as
    long as the speed lies between them, and always to the same sides. Bends that are driven are told as before."""
    rng = np.random.default_rng(3)
    times = np.arange(0.0, 300.0, 0.1)
    speed = np.interp(times, [0, 60, 75, 130, 140, 200, 215, 300], [27.2, 27.2, 31.53, 31.53, 29.4, 29.4, 26.94, 26.94])
    curve = 0.015 * np.sin(times / 7.0) if axle else np.zeros(times.size)
    speeds = {}
    for corner in Corner:
        wheel = corner.mate if axle in (corner, corner.mate) else corner
        across = 1.0 + (-0.75 if wheel.is_left else 0.75) * curve
        faster = 5e-4 if corner in (Corner.FL, Corner.RR) else -5e-4
        speeds[corner] = speed * (1.0 + faster + 1e-4 * rng.standard_normal(times.size)) * across
    log = map_corners(written(times, speeds, 1.0))
    found = find_crossing(log.channels, find_usable(log.channels, log.duration), None)
    assert (found is not None and found.is_crossed) is (axle is not None)


@pytest.mark.parametrize("axle", [None, Corner.FL, Corner.RL])
def test_bends_to_the_other_side_are_sought_in_slower_driving(axle: Corner | None) -> None:
    """Steps of 0.9 km/h in a yard: right-hand bends at 3 m/s, left-hand ones at 1.8 m/s. What goes to one side only may
    be a step."""
    rng = np.random.default_rng(22)
    times = np.arange(0.0, 80.0, 0.1)
    speed = np.where(times < 40.0, 10.9, 6.4) / 3.6
    bend = np.where(np.mod(times, 20.0) > 10.0, np.where(times < 40.0, -0.074, 0.125), 0.0)
    speeds = {}
    for corner in Corner:
        wheel = corner.mate if axle in (corner, corner.mate) else corner
        across = 1.0 + (-0.5 if wheel.is_left else 0.5) * bend
        speeds[corner] = speed * across * (1.0 + 1e-3 * rng.standard_normal(times.size))
    log = map_corners(written(times, speeds, 0.9))
    found = find_crossing(log.channels, find_usable(log.channels, log.duration), None)
    assert found is not None
    assert found.is_crossed is (axle is not None)


def test_a_tyre_is_told_beside_a_corner_that_seems_to_break() -> None:
    """Readings that fall now and then take less from a ratio than sound tyres differ by, so that it has its say."""
    drawn = twelfth_world.draw(504_000, "tyre", 50.0)
    assert said(drawn.log)[Fault.TYRE_SIZE, drawn.corners] > 0.5


@pytest.mark.parametrize("seed", [10, 14, 15])
def test_slow_wheels_stand_still_where_the_pitch_of_a_sound_ring_does(seed: int) -> None:
    """A sample a tooth: values of neighbours that are alike repeat, every turn, at no ring's fault."""
    rng = np.random.default_rng(seed)
    times = np.arange(0.0, 240.0, 0.02)
    speed = 3.4 + 1.2 * np.sin(times / 13.0) + 0.5 * np.sin(times / 3.7)
    speeds = {}
    for corner in Corner:
        turn = np.cumsum(speed) * 0.02 / 1.75 * (1.0 + 1e-3 * rng.standard_normal()) + rng.random()
        pitch = 0.008 * rng.standard_normal(30)
        speeds[corner] = speed * (1.0 + pitch[(turn * 30).astype(int) % 30])
    _, exam = analyze_log(map_corners(written(times, speeds, 0.16)), Vehicle(), quiet)
    held = (held_values(exam, corner) for corner in Corner)
    assert not any(h.is_tied for h in held if h is not None)


@pytest.mark.parametrize("seed", range(2, 8))
def test_lost_edges_that_a_filter_spreads_are_noise_and_no_other_ring(seed: int) -> None:
    """One edge in seven is lost at random: the filter shows 14 % less, and swings about that as far up as down. (That
    the loss sits on the ring may stay in doubt.)"""
    rng = np.random.default_rng(seed)
    times = np.arange(0.0, 300.0, 0.25)
    speed = 17.0 + 5.0 * np.sin(times / 14.0)
    speeds = {c: speed * (1.0 + 1e-3 * rng.standard_normal(times.size)) for c in Corner}
    speeds[Corner.FR] = speeds[Corner.FR] * (0.86 + lfilter([0.028], [1.0, -0.5], rng.standard_normal(times.size)))
    findings = said(written(times, speeds, 0.05))
    assert findings[Fault.ENCODER_NOISE, (Corner.FR,)] > 0.5
    assert set(findings) <= {(Fault.ENCODER_NOISE, (Corner.FR,)), (Fault.RING_DAMAGE, (Corner.FR,))}


def test_a_ring_is_told_where_no_arc_of_it_stands_out() -> None:
    """Four teeth of 63 gone before a unit that counts over most of a turn: the mean falls, and little swings."""
    drawn = fifth_world.draw(242002, "two to four", 50.0)
    found = said(drawn.log)
    assert found[Fault.RING_DAMAGE, drawn.corners] > 0.9


def test_breaks_of_a_wire_are_told_from_a_drive_that_is_never_faster_than_four_metres_a_second() -> None:
    """Fifteen breaks, up to 1.4 s long, in 460 m at 12 km/h: nothing was fast enough to be asked for noise."""
    drawn = eighth_world.draw(455001, "loose pin", 10.0)
    found = said(drawn.log)
    assert found.pop((Fault.INTERMITTENT, drawn.corners)) > 0.9
    assert not found
