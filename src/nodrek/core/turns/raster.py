"""The turn raster: one row a turn, the place on the ring across."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from nodrek.core.model import Array
from nodrek.core.motion.reference import CornerMotion
from nodrek.core.turns.fold import PROFILE_BINS, RingFold, at_its_place
from nodrek.core.turns.phase import within_turn


@dataclass(frozen=True, eq=False)
class Raster:
    """``cells`` (rows, PROFILE_BINS): mean ln deviation, NaN where the log did not look.

    Row r covers turns from ``begins + first_turn + r·turns_per_row`` on.
    """

    cells: Array
    first_turn: int
    turns_per_row: float
    begins: float = 0.0
    """Place on the ring (turns) at which each row begins."""


def turn_raster(motion: CornerMotion, ring: RingFold, most_rows: int, begins: float = 0.0) -> Raster | None:
    """Lay the deviations out by turn, each row from the place `begins` on; several turns share a row where there are
    too many.

    ``None`` where no sample has an angle.
    """
    used = np.flatnonzero(~np.isnan(ring.turns) & ~np.isnan(motion.deviation))
    if not used.size:
        return None
    turns = ring.turns[used] - begins
    first = int(np.floor(turns.min()))
    count = int(np.floor(turns.max())) - first + 1
    rows = min(count, most_rows)
    per_row = count / rows
    row = np.minimum(((np.floor(turns) - first) / per_row).astype(np.int64), rows - 1)
    column = np.minimum((within_turn(turns) * PROFILE_BINS).astype(np.int64), PROFILE_BINS - 1)
    cell = row * PROFILE_BINS + column
    hits = np.bincount(cell, minlength=rows * PROFILE_BINS)
    deviation = np.clip(at_its_place(motion, ring.carried)[used], -1.0, 0.5)
    total = np.bincount(cell, weights=deviation, minlength=rows * PROFILE_BINS)
    with np.errstate(invalid="ignore", divide="ignore"):
        cells = np.where(hits > 0, total / hits, np.nan).reshape(rows, PROFILE_BINS)
    return Raster(cells, first, per_row, begins)
