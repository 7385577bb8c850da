"""Breaks that let a part of the edges through, told by how long they last and by right turns in between."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
from benchmarks import fourth_world

from conftest import quiet
from nodrek.core.corners import map_corners
from nodrek.core.model import Corner, Fault, RawChannel, RawLog, Vehicle
from nodrek.core.verdict.clean_between import LEAST_BREAKS, breaks_between_right_turns, less_likely
from nodrek.core.verdict.examine import examine
from nodrek.core.verdict.judge import analyze_log
from nodrek.io.knowledge import shipped_calibration
from nodrek.simulate.chain import simulate
from nodrek.simulate.faults import Cause
from nodrek.simulate.vary import draw_fault, draw_scenario

RATE_HZ, BAD = 50.0, Corner.RL


def log_of(where: str, seed: int = 0, many: int = 12, lasts_s: float = 0.3) -> RawLog:
    """Three minutes at 15 m/s. The rear left corner reads low by half and more: in `many` spells of `lasts_s`
    (``spells``), held at one low value meanwhile (``held``), once in each turn (``turns``), as often but edge by edge
    (``edges``), or in spells with single losses in between (``both``)."""
    rng = np.random.default_rng(seed)
    times = np.arange(0.0, 180.0, 1.0 / RATE_HZ)
    speed = 15.0 + 2.0 * np.sin(times / 9.0)
    shown = {c: 3.6 * speed * (1.0 + 0.003 * rng.standard_normal(times.size)) for c in Corner}
    own = shown[BAD]
    spell = max(1, round(lasts_s * RATE_HZ))
    for at in np.linspace(400, times.size - 400, many).astype(int):
        part = slice(at, at + spell)
        if where in ("spells", "both"):
            own[part] *= rng.uniform(0.2, 0.6, spell)
        elif where == "held":
            own[part] = 0.7 * own[at]
    if where == "turns":
        own[np.diff(np.floor(np.cumsum(speed) / RATE_HZ / 2.0), prepend=0.0) > 0.0] *= 0.5
    if where in ("edges", "both"):
        own[rng.random(times.size) < 0.06] *= 0.6
    return RawLog(tuple(RawChannel(f"Wheel speed {c}", "km/h", times, np.round(shown[c], 2)) for c in Corner), "test")


def breaks_in(raw: RawLog) -> dict[Corner, int]:
    exam = examine(map_corners(raw), Vehicle(), quiet)
    return {c: breaks_between_right_turns(exam, c) for c in Corner}


@pytest.mark.parametrize("many", [2, 3, 12, 25])
def test_low_spells_that_are_longer_than_a_turn_are_counted_where_all_else_is_right(many: int) -> None:
    counted = breaks_in(log_of("spells", many=many))
    assert counted == {c: many if c is BAD and many >= LEAST_BREAKS else 0 for c in Corner}


@pytest.mark.parametrize("where", ["turns", "edges", "held", "both"])
def test_rings_dirt_and_held_values_are_none(where: str) -> None:
    assert breaks_in(log_of(where))[BAD] == 0


def test_spells_of_one_sample_last_nobody_knows_how_long() -> None:
    assert breaks_in(log_of("spells", lasts_s=0.02))[BAD] == 0


def surely_broken(raw: RawLog) -> set[Corner]:
    findings = analyze_log(map_corners(raw), Vehicle(), quiet, shipped_calibration())[0].findings
    return {f.corners[0] for f in findings if f.fault is Fault.INTERMITTENT and f.confidence >= 0.5}


@pytest.mark.parametrize("rate", [50.0, 10.0, 4.0])
def test_partial_breaks_are_called_breaks_whatever_trees_make_of_them(rate: float) -> None:
    """Three leads that let three tenths of the edges through, for 0.16 to 0.4 s on end: a ring or dirt, said trees of
    eight of these nine drives."""
    for seed in (720_601, 720_603, 720_607):
        fault = draw_fault(Cause.BROKEN_LEAD, seed)
        raw = simulate(draw_scenario(seed, (fault,), rates_hz=(rate,), road="country"))
        assert surely_broken(raw) == {fault.corner}


def test_all_breaks_are_listed_where_slow_turns_show_some_of_them() -> None:
    """Of some twenty dips the row of slow turns lists two, and is the surer proof."""
    fault = draw_fault(Cause.BROKEN_LEAD, 723_000)
    raw = simulate(draw_scenario(723_000, (fault,), rates_hz=(50.0,), road="town"))
    (finding,) = analyze_log(map_corners(raw), Vehicle(), quiet, shipped_calibration())[0].findings
    assert (finding.fault, finding.corners) == (Fault.INTERMITTENT, (fault.corner,))
    assert finding.evidence["breaks"] > 10


def test_a_lost_tooth_that_a_unit_now_and_then_holds_is_not_called_a_break() -> None:
    """Now and then the unit takes a low value for good, for 0.4 s: breaks with 0.96 if that were counted."""
    assert not surely_broken(fourth_world.draw(1_931_000, "lost tooth", 50.0).log)


def test_a_further_break_never_makes_a_ring_likelier() -> None:
    factors = [less_likely(n) for n in range(40)]
    assert factors[:LEAST_BREAKS] == [1.0] * LEAST_BREAKS
    assert all(a >= b > 0.0 for a, b in pairwise(factors))
