"""Low readings by speed: a gap loses all up to one speed, an arc a part, a bad encoder a part at all speeds."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from nodrek.core.corners import map_corners
from nodrek.core.model import Array, Corner, RawChannel, RawLog, Vehicle
from nodrek.core.verdict.dip_speeds import DipSpeeds, dip_speeds
from nodrek.core.verdict.judge import analyze_log

RATE_HZ = 4.0
Loses = Callable[[Array, np.random.Generator], Array]


def seen(loses: Loses, seed: int = 0, stops: int = 6) -> dict[Corner, DipSpeeds]:
    """Stop and go; `loses`: by speed (m/s), share of its reading that the front right corner loses."""
    rng = np.random.default_rng(seed)
    times = np.arange(0.0, 30.0 * stops, 1.0 / RATE_HZ)
    speed = np.interp(times % 30.0, [0.0, 3.0, 13.0, 20.0, 28.0, 30.0], [0.0, 0.0, 12.0, 12.0, 0.0, 0.0])
    channels = []
    for corner in Corner:
        kmh = 3.6 * speed * (1.0 + 0.004 * rng.standard_normal(times.size))
        if corner is Corner.FR:
            kmh = kmh * (1.0 - loses(speed, rng))
        channels.append(RawChannel(f"Wheel speed {corner}", "km/h", times, np.round(kmh, 2)))
    _, exam = analyze_log(map_corners(RawLog(tuple(channels), "test")), Vehicle(), lambda share, doing: None)
    return {corner: dip_speeds(exam, corner) for corner in Corner}


def gap(speed: Array, rng: np.random.Generator) -> Array:
    return np.where(speed < 3.5, 1.0, 0.0)


def arc(speed: Array, rng: np.random.Generator) -> Array:
    return np.where((speed < 4.5) & (rng.random(speed.size) < 0.35), 0.5, 0.0)


def dirt(speed: Array, rng: np.random.Generator) -> Array:
    return np.where(rng.random(speed.size) < 0.15, 0.3, 0.0)


@pytest.mark.parametrize("seed", range(3))
def test_each_is_told_from_the_others(seed: int) -> None:
    wide, weak, dirty = (seen(loses, seed)[Corner.FR] for loses in (gap, arc, dirt))
    assert wide.gap_over_sound > 10.0
    assert wide.arc_over_gap < 0.0
    assert min(weak.arc_over_sound, weak.arc_over_noise) > 8.0
    assert weak.arc_over_gap > 5.0
    assert dirty.arc_over_noise < -2.0


@pytest.mark.parametrize("seed", range(3))
def test_sound_corners_speak_for_nothing(seed: int) -> None:
    for corner, said in seen(arc, seed).items():
        if corner is not Corner.FR:
            assert max(said.arc_over_sound, said.gap_over_sound) < 0.5


def test_twice_the_drive_is_twice_the_evidence() -> None:
    """Independent looks: nats of a binomial law add up (by its definition), less what the averaging costs once."""
    one, two = (seen(arc, 1, stops)[Corner.FR].arc_over_sound for stops in (6, 12))
    assert two == pytest.approx(2.0 * one, rel=0.3)
