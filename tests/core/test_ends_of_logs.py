"""Rows that a logger writes before the first message of a corner is there, and after the last: no break."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np
import pytest
from benchmarks import seventh_world, tenth_world

from conftest import quiet
from nodrek.core.corners import map_corners
from nodrek.core.model import Corner, Fault, RawLog, Vehicle
from nodrek.core.verdict.judge import analyze_log
from nodrek.io.knowledge import shipped_calibration


def driven(log: RawLog, zero: Mapping[int, tuple[float, float]]) -> RawLog:
    """The part of `log` from its full speed on; zeros in channel ``k`` from and to seconds, negative ones from the
    end."""
    first = int(np.argmax(log.channels[0].values > 0.6 * log.channels[0].values.max()))
    channels = []
    for k, channel in enumerate(log.channels):
        times, values = channel.times_s[first:], channel.values[first:].copy()
        if k in zero:
            low, high = (times[0] + s if s >= 0.0 else times[-1] + s + 1e-9 for s in zero[k])
            values[(times >= low) & (times <= high)] = 0.0
        channels.append(replace(channel, times_s=times, values=values))
    return replace(log, channels=tuple(channels))


def broken(log: RawLog) -> set[Corner]:
    findings = analyze_log(map_corners(log), Vehicle(), quiet, shipped_calibration())[0].findings
    assert {f.fault for f in findings if f.confidence >= 0.5} <= {Fault.INTERMITTENT}
    return {f.corners[0] for f in findings if f.confidence >= 0.5}


@pytest.mark.parametrize("rate", [50.0, 10.0, 4.0])
@pytest.mark.parametrize(
    "zero",
    [{2: (0.0, 0.1)}, {1: (0.0, 3.0)}, {0: (0.0, 0.5), 1: (0.0, 0.5)}, {3: (-0.3, -1e-9)}, {3: (-3.0, -1e-9)}],
    ids=["first", "three seconds", "an axle", "last", "last three seconds"],
)
def test_a_corner_that_is_not_there_yet_or_no_more_is_not_broken(
    rate: float, zero: dict[int, tuple[float, float]]
) -> None:
    """24 of 27 sound logs had a break with up to 0.99."""
    assert not broken(driven(seventh_world.draw(1_820_201, "healthy", rate).log, zero))


def test_silences_in_between_are_breaks_all_the_same() -> None:
    log = tenth_world.draw(1_540_103, "healthy", 50.0).log
    assert not broken(driven(log, {}))
    assert broken(driven(driven(log, {1: (20.0, 20.4)}), {1: (30.0, 30.4)})) == {Corner.FR}
