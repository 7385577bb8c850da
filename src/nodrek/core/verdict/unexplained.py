"""What no finding explains: a corner that reads far from the others for seconds of steady driving."""

from __future__ import annotations

import math
from collections.abc import Collection

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner
from nodrek.core.verdict.examine import Examination

FAR, FROM_SPEED, STEADY = 0.1, 4.0, 1.5
"""ln deviation, m/s and m/s²: slip, bends and a walk make less while neither pull nor brakes are at work."""
RUN_S, ALTOGETHER_S, BEFORE_S, LOOK_S = 0.7, 4.0, 0.5, 0.1
"""Seconds that it lasts at a time and in all, at least; seconds to both sides over which driving is to be steady, and
from look to look."""


def find_unexplained(exam: Examination, explained: Collection[Corner]) -> tuple[Corner, str] | None:
    """The corner that is far off for longest, and one sentence; ``None`` where each is `explained` or near."""
    longest, worst = ALTOGETHER_S, None
    for corner in exam.compared:
        seconds, off = _far_off(exam, corner) if corner in exam.motions and corner not in explained else (0.0, 0.0)
        if seconds >= longest:
            longest, worst = seconds, (corner, off)
    if worst is None:
        return None
    corner, off = worst
    by = f"{100.0 * abs(math.expm1(off)):.0f} % {'faster' if off > 0.0 else 'slower'}"
    return corner, (
        f"The {corner.words} corner reads {by} than the others for {longest:.0f} s of steady driving now and then, and "
        "no fault that Nodrek knows explains it: look at its trace."
    )


def _far_off(exam: Examination, corner: Corner) -> tuple[float, float]:
    """Seconds for which the corner is far off while the vehicle drives steadily, and the usual ln deviation there."""
    motion, usable = exam.motions[corner], exam.usable
    if motion.times.size < 2:
        return 0.0, 0.0
    # seconds are asked for: a hundred values of each say no more than ten, and of eight hours they are many
    every = max(1, round(LOOK_S * exam.log.channels[corner].rate))
    times, deviation = motion.times[::every], motion.deviation[::every]
    before, after = (np.interp(times + s, usable.grid, usable.vehicle) for s in (-BEFORE_S, BEFORE_S))
    steady = (np.abs(after - before) < 2.0 * BEFORE_S * STEADY) & (np.minimum(before, after) > FROM_SPEED)
    with np.errstate(invalid="ignore"):
        off = steady & (np.abs(deviation) > FAR)
    lasts = _kept(off, times)
    if not lasts.any():
        return 0.0, 0.0
    seconds = float(np.count_nonzero(lasts)) * float(np.median(np.diff(times)))
    return seconds, float(np.median(deviation[lasts]))


def _kept(mask: npt.NDArray[np.bool_], times: Array) -> npt.NDArray[np.bool_]:
    """The mask without runs shorter than `RUN_S`."""
    edges = np.flatnonzero(np.diff(mask.astype(np.int8), prepend=0, append=0))
    out = np.zeros(mask.size, dtype=bool)
    for start, stop in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
        if times[stop - 1] - times[start] >= RUN_S:
            out[start:stop] = True
    return out
