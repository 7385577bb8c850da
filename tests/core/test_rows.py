"""Rows of low readings of a slow wheel: each law is told from the others by readings made after it alone."""

from __future__ import annotations

import numpy as np
import pytest

from nodrek.core.model import Array
from nodrek.core.verdict.dip_speeds import CENTRES, Looks
from nodrek.core.verdict.rows import weigh_rows

USUAL = np.full(CENTRES.size, 0.005)
LAWS = ("turn", "gap", "breaks", "noise")


def drive(step_s: float) -> tuple[Array, Array, Array]:
    """Five pull-aways to walking pace and a halt after each: times (s), speed (m/s) and way (m)."""
    times = np.arange(0.0, 150.0, step_s)
    speed = np.maximum(4.0 * np.sin(np.pi * np.mod(times, 30.0) / 24.0), 0.0)
    return times, speed, np.cumsum(speed) * step_s


def looks(law: str, step_s: float, seed: int, turn_m: float = 2.03) -> Looks:
    rng = np.random.default_rng(seed)
    times, speed, way = drive(step_s)
    low = rng.random(times.size) < 0.003
    if law == "turn":
        low |= (np.mod(way / turn_m + 0.3, 1.0) < 0.15) & (speed < 2.5)
    elif law == "gap":
        low |= speed < 2.2 * np.exp(0.02 * rng.standard_normal(times.size))
    elif law == "breaks":
        for begin in rng.uniform(0.0, 150.0, 16):
            low |= (times > begin) & (times < begin + 0.15 + rng.exponential(0.3))
    elif law == "noise":
        low |= rng.random(times.size) < 0.12
    seen = speed > 0.7
    weight = np.full(times.size, min(step_s / 0.2, 1.0))
    return Looks(times[seen], speed[seen], low[seen], weight[seen])


@pytest.mark.parametrize("seed", [1, 2, 3])
@pytest.mark.parametrize("step_s", [0.02, 0.1])
@pytest.mark.parametrize("law", LAWS)
def test_each_law_is_told_from_the_others(law: str, step_s: float, seed: int) -> None:
    margins = dict(zip(LAWS, weigh_rows(looks(law, step_s, seed), USUAL).margins(), strict=True))
    assert max(margins, key=lambda name: margins[name]) == law
    assert margins[law] > 6.0


@pytest.mark.parametrize("turn_m", [1.7, 2.03, 2.3, 3.3])
def test_an_arc_that_comes_back_with_speed_is_told_on_any_tyre(turn_m: float) -> None:
    """Circumferences of cars and of heavy vehicles (common practice, no published source)."""
    said = weigh_rows(looks("turn", 0.02, 4, turn_m), USUAL)
    assert said.margins()[0] > 6.0
    assert said.heals > 10.0


def test_a_sound_corner_speaks_for_no_law() -> None:
    said = weigh_rows(looks("sound", 0.02, 5), USUAL)
    assert max(said.margins()) <= 1.0


def test_no_look_no_word() -> None:
    nothing = Looks(np.zeros(0), np.zeros(0), np.zeros(0, dtype=bool), np.zeros(0))
    assert weigh_rows(nothing, USUAL).margins() == (0.0, 0.0, 0.0, 0.0)
