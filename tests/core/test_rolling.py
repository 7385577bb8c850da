"""What wheels roll by whose corners lose edges, or read wrong for a moment."""

from __future__ import annotations

import numpy as np
import pytest
from benchmarks import tenth_world

from nodrek.core.corners import map_corners
from nodrek.core.model import Corner
from nodrek.core.motion.events import LostEdges
from nodrek.core.motion.ratios import RatioEstimate, centred, estimate_ratios, ratio_blocks
from nodrek.core.motion.rolling import as_rolling
from nodrek.core.motion.usable import find_usable


def test_one_reading_of_a_sensor_that_falls_asleep_is_no_bend() -> None:
    """One block in which a corner reads 9 % low on its way to sleep moved all four ratios by 0.3 %."""
    channels, sound = (
        map_corners(tenth_world.draw(917_000, "too far off", 50.0, faulty=faulty).log).channels
        for faulty in (True, False)
    )
    seen, known = (
        estimate_ratios(ratio_blocks(wheels, find_usable(wheels, 410.0)), tuple(Corner)) for wheels in (channels, sound)
    )
    assert {c: r.log_ratio for c, r in seen.items()} == pytest.approx(
        {c: r.log_ratio for c, r in known.items()}, abs=2e-4
    )


@pytest.mark.parametrize(
    ("apart", "change", "above", "true"),
    [
        (0.0, -0.02, 0.0, 0.0),  # a tooth is gone, the others are right
        (0.02, -0.02, 0.0, 0.0),  # torn open by one pitch: all teeth, closer together
        (-0.04, -0.02, 0.04, 0.0),  # every reading spans losses
        (-0.02, -0.02, 0.0, -0.02),  # a larger tyre, with a tooth gone
    ],
)
def test_wheels_of_corners_that_lose_edges_are_alike_where_the_losses_allow_it(
    apart: float, change: float, above: float, true: float
) -> None:
    between = centred({c: RatioEstimate(apart * (c is Corner.RL), 2e-4) for c in Corner})
    lost = {Corner.RL: LostEdges(np.zeros(1, dtype=bool), change, 1e-4, above)}
    found = as_rolling(between, lost)
    expected = centred({c: RatioEstimate(true * (c is Corner.RL), 0.0) for c in Corner})
    for corner, ratio in found.items():
        low, high = ratio.interval
        assert low <= expected[corner].ratio <= high
        assert ratio.sigma < 0.006
