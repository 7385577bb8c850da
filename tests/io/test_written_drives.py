"""Drives written as text in each dialect of the benchmarks come back as they were."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from benchmarks import tenth_world
from benchmarks.text_dialects import READINGS, ROWS

from nodrek.core.corners import map_corners
from nodrek.core.model import Corner
from nodrek.io.logs.read import read_log


@pytest.mark.parametrize("form", range(len(ROWS) + len(READINGS)))
@pytest.mark.parametrize(("seed", "rate_hz", "rests_s"), [(5001, 10.0, 0.0), (5043, 4.0, 0.0), (5001, 10.0, 15.0)])
def test_a_drive_comes_back_from_its_text(tmp_path: Path, form: int, seed: int, rate_hz: float, rests_s: float) -> None:
    """Over midnight, with missing and repeated stamps (seed 5043), in stamps of whole seconds at worst;
    and after a rest, in which a value is written without a decimal sign."""
    drawn = tenth_world.draw(seed, "healthy", rate_hz).log
    for channel in drawn.channels:
        channel.values[channel.times_s < channel.times_s[0] + rests_s] = 0.0
    path = tmp_path / "drive.csv"
    path.write_text("\n".join((*ROWS, *READINGS)[form](drawn, np.random.default_rng(form))) + "\n", encoding="utf-8")
    back, was = map_corners(read_log(path)), map_corners(drawn)
    for corner in Corner:
        ours, theirs = back.channels[corner], was.channels[corner]
        assert abs(ours.times.size - theirs.times.size) <= 0.02 * theirs.times.size
        again = np.interp(theirs.times - theirs.times[0], ours.times - ours.times[0], ours.speed)
        assert np.median(np.abs(again - theirs.speed)) < 0.1
        assert abs(float(ours.times[-1] - ours.times[0]) - float(theirs.times[-1] - theirs.times[0])) < 1.5
