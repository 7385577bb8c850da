"""How two axles go through bends at every scale of time: bends too gentle to stand out of the noise go on for long.

What left and right of each axle differ by changes from one stretch to the next (Haar 1910, Mathematische Annalen 69,
331; from memory), over seconds and over quarters of a minute. Both axles change alike where leads are right and against
each other where those of one are exchanged, and each scale says that as surely as so many changes with such a
correlation do: the sum of squared correlations times their numbers is what chance alone leaves near one.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner, WheelChannel
from nodrek.core.motion.bend_blocks import block_means, brakes_or_pulls_hard, free_of_pull, pull_of
from nodrek.core.motion.blocks import mad_sigma
from nodrek.core.motion.usable import Usable

BLOCK_S = 1.0
FROM_SPEEDS, LEAST_BLOCKS = (2.5, 1.2), 12
"""m/s from which wheels are asked, the second, a walk, where fewer blocks than that are faster."""
COARSEST = 0.05
"""Steps of the values, of the speed, from which the wheels of two axles pass the same step one after another, each axle
in an order of its own, and seem to bend against each other."""
SCALES = (1, 2, 4, 8, 16)
"""Blocks in each of the two stretches that are compared."""
LEAST_CHANGES, KNOWN = 4, 0.7
"""Changes that say anything about a scale; share of a stretch that must be known."""
LEAST_SPREAD = 2e-5
"""ln: two wheels that read the same are shown for one another, and say nothing of bends."""
MOST_SIGMAS, MOST_LIKE = 3.0, 0.8
"""What one change may say at most, and the squared correlation beyond which no more is believed."""


def axles_alike(channels: Mapping[Corner, WheelChannel], usable: Usable) -> float:
    """What all scales say together: positive where both axles turn the same way, 0 where too little is known.

    All four corners are asked.
    """
    for from_speed in FROM_SPEEDS:
        blocks = {c: block_means(channels[c], usable, from_speed, BLOCK_S) for c in Corner}
        front, rear = (blocks[left].means - blocks[left.mate].means for left in (Corner.FL, Corner.RL))
        known = ~np.isnan(front) & ~np.isnan(rear) & ~brakes_or_pulls_hard(usable, front.size, BLOCK_S)
        known &= np.max([np.nan_to_num(of.step, nan=1.0) for of in blocks.values()], axis=0) < COARSEST
        if np.count_nonzero(known) >= LEAST_BLOCKS:
            break
    else:
        return 0.0
    pull = pull_of(usable, known.size, BLOCK_S)
    pair = [free_of_pull(axle - np.median(axle[known]), pull, known) for axle in (front, rear)]
    # stretches that begin half-way between others tell half as much anew
    return sum(
        0.5 * _said([axle[begin:] for axle in pair], known[begin:], scale) for scale in SCALES for begin in (0, scale)
    )


def _said(pair: list[Array], known: npt.NDArray[np.bool_], scale: int) -> float:
    count = known.size // (2 * scale)
    if not count:
        return 0.0
    here = known[: 2 * count * scale].reshape(count, 2, scale)
    number = here.sum(axis=2)
    enough = (number >= max(1.0, KNOWN * scale)).all(axis=1)
    samples = int(np.count_nonzero(enough))
    if samples < LEAST_CHANGES:
        return 0.0
    changes = []
    for axle in pair:
        means = np.where(here, axle[: here.size].reshape(here.shape), 0.0).sum(axis=2) / np.maximum(number, 1)
        change = (means[:, 1] - means[:, 0])[enough]
        spread = mad_sigma(change)
        if spread < LEAST_SPREAD:
            return 0.0
        changes.append(np.clip(change / spread, -MOST_SIGMAS, MOST_SIGMAS))
    front, rear = changes
    sizes = [max(float(x @ x), samples) for x in changes]
    alike = float(front @ rear) / float(np.sqrt(sizes[0] * sizes[1]))
    return float(np.sign(alike)) * samples * min(alike**2, MOST_LIKE)
