"""Readings that fall short for turns on end, again and again, and are right in between: breaks, whatever comes through.

A damaged ring dips in each of its turns and a dirty encoder loses edges in every one of them (the meaning of both
kinds). A lead that parts for three tenths of a second at speed takes several turns on end, wholly or in part, and
leaves those before and after as they were. So two things tell breaks where the readings never reach silence: runs of
low readings that are longer than a turn, or that lack more edges in one go than single losses or a few teeth can; and
hardly anything low outside of them.
"""

from __future__ import annotations

import numpy as np

from nodrek.core.model import Array, Corner
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.noise import is_asked
from nodrek.core.verdict.weak_arc import DIP_DEPTH, DIP_SCORE

FALLS, MIDDLE_FALLS = -0.15, -0.09
"""ln deviation that the lowest reading of a run reaches, and the middle one."""
FROM_SPEED, ON_END_M = 4.0, 3.0
"""m/s at which a run begins at least, and metres that it lasts: one and a half turns of a usual wheel."""
LACKS_M, LEAST_SAMPLES = 0.5, 3
"""Metres that a shorter run lacks (a dozen teeth of 48, a quarter of a turn), and samples that it has: of fewer nobody
knows how long they lasted."""
HELD_SHARE = 0.6
"""Share of a run from which on one value is a value that the control unit holds: it took one low reading for good, and
says nothing of how long edges were lost."""
APART_S, AROUND_S = 1.0, 0.4
"""Seconds between two runs that are two breaks, and before and after a run that belong to it."""
LEAST_BREAKS = 3
MOST_OUTSIDE, MOST_OF_DIPS = 0.03, 0.7
"""Share of the driving outside of runs that may read low, and share of all low readings that may lie there. With these,
of 3,477 corners of 870 drives of eleven worlds and the simulator, at 50, 10 and 4 values a second, 66 of 186 with
breaks show at least three, one of 204 with noise, one of 282 with a damaged ring, none of 42 gaps, 75 rings out of
centre and 2,688 sound ones."""
LESS_LIKELY, LEAST_LIKELY = 3.0, 1e-3
"""By so many times each further break makes other laws less likely, down to so much (own estimate)."""


def breaks_between_right_turns(exam: Examination, corner: Corner) -> int:
    """How many such breaks `corner` shows; 0 for less than `LEAST_BREAKS`, or where not all else is right."""
    return exam.once(f"clean between {corner}", lambda: _count(exam, corner))


def less_likely(breaks: int) -> float:
    """Factor by which so many breaks make a ring or an encoder less likely."""
    return 1.0 if breaks < LEAST_BREAKS else float(max(LEAST_LIKELY, LESS_LIKELY ** (1 - breaks)))


def _count(exam: Examination, corner: Corner) -> int:
    if corner not in exam.motions:
        return 0
    motion, runs = exam.motions[corner], exam.dropouts[corner]
    samples, metres = runs.stop - runs.start, (runs.seconds - motion.step_s) * motion.expected[runs.start]
    long, some = (metres >= ON_END_M) & (samples > 1), (metres >= LACKS_M) & (samples >= LEAST_SAMPLES)
    low = (runs.depth < FALLS) & ~runs.braking & (motion.expected[runs.start] > FROM_SPEED)
    chosen = np.flatnonzero(low & (long | some))
    tells = []
    for k in chosen:
        part = motion.deviation[runs.start[k] : runs.stop[k]]
        falls = long[k] and np.median(part) < MIDDLE_FALLS
        lacks = some[k] and -np.expm1(part).mean() * metres[k] >= LACKS_M
        tells.append((falls or lacks) and not _is_held(motion.speed[runs.start[k] : runs.stop[k]]))
    chosen = chosen[np.array(tells, dtype=bool)]
    begins, ends = motion.times[runs.start[chosen]], motion.times[runs.stop[chosen] - 1]
    count = int(begins.size and 1 + np.count_nonzero(np.diff(begins) > APART_S))
    if count < LEAST_BREAKS:
        return 0
    belongs = np.zeros(motion.times.size + 1, dtype=np.int64)
    np.add.at(belongs, np.searchsorted(motion.times, begins - AROUND_S), 1)
    np.add.at(belongs, np.searchsorted(motion.times, ends + AROUND_S, side="right"), -1)
    inside = np.cumsum(belongs[:-1]) > 0
    driven = is_asked(motion) & np.isfinite(motion.deviation)
    dips = driven & motion.dips(DIP_SCORE, DIP_DEPTH)
    outside = driven & ~inside & (motion.expected > FROM_SPEED)
    strays = np.count_nonzero(dips & outside)
    few = strays <= MOST_OUTSIDE * np.count_nonzero(outside)
    return count if few and strays <= MOST_OF_DIPS * np.count_nonzero(dips) else 0


def _is_held(readings: Array) -> bool:
    """Whether most of a run is one value; two samples alike may be chance."""
    most = int(np.unique(readings, return_counts=True)[1].max())
    return most > 2 and most >= HELD_SHARE * readings.size
