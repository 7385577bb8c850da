"""Who keeps to the middle of the other corners: one that shows their middle, where it has nothing to show of its own.

A copy agrees with its originals, and each of them with it, as the middle of what they all read. But every corner that
is not the middle is off it, and the copy never is, however coarse the values are and however rare the bends.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Corner
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.stand_in import StandIn, agrees, made_of

ALL_READ = 0.5
"""Part of the vehicle's speed that the lowest of the others reads at least."""
ODD = 5.0
"""Times the share of the least of its mates that one is off the middle which is no mate to ask."""
COPIES, COARSE, COPIES_COARSE = 0.4, 0.1, 0.2
"""Times the share of the least of its mates that a copy is off the middle (some 1,000 sound corners of 250 drives came
to 0.77 times and more, of 290 drives with something else wrong, but for odd mates, to 0.71, copies polled with their
originals to 0.17 and less); share of that mate under which hardly any corner is off it, and the same there: in a queue
in coarse values one sound corner came to 0.36."""


@dataclass(frozen=True, order=True)
class Off:
    """Share of so many samples in which a corner is not the middle of the others."""

    share: float
    samples: int


def off_the_middle(exam: Examination, corner: Corner, asked: npt.NDArray[np.bool_]) -> Off:
    """Of those samples `asked` in which all others read; there must be four corners."""
    own, way = exam.followed[corner], StandIn.MIDDLE_OF_OTHERS
    # one that reads nothing is far from the others, whoever they are
    seen = asked & (made_of(exam, corner, way)[0][0] > ALL_READ * own.vehicle)
    count = int(np.count_nonzero(seen))
    return Off(float(np.count_nonzero(seen & ~agrees(exam, corner, way)) / max(count, 1)), count)


def least_of_mates(corner: Corner, off: Mapping[Corner, Off]) -> Off | None:
    """The mate of the corner that is off the middle least; ``None`` beside an odd one, where the faster, or the slower,
    of two alike is in the middle for most of the time."""
    mates = [of for c, of in off.items() if c is not corner]
    least = min(mates)
    return None if max(mates).share > ODD * least.share else least


def is_copy(own: Off, least: Off) -> bool:
    """Whether one is off the middle so much more rarely than the `least` of its mates as only a copy is."""
    return own.share <= (COPIES if least.share >= COARSE else COPIES_COARSE) * least.share
