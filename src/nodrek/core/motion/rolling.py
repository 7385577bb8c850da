"""The two ratios of a corner that loses edges: how fast it reads, and how fast its wheel rolls.

What is counted too little lowers the mean of a corner's readings, and that is part of what its ring is judged by. The
wheel rolls as it did: between the losses it reads what it should, and its ratio tells of its tyre.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from nodrek.core.model import Corner
from nodrek.core.motion.events import LostEdges
from nodrek.core.motion.ratios import RatioEstimate, centred, unless_wild

ALIKE, WORN, WORN_BY = 0.0025, 0.03, 0.03
"""How far (ln) wheels of a sound set are apart; how often one is new among worn ones, and how far that takes it at most
(own estimates)."""
WHOLE, HIDDEN, UNSEEN = 0.25, 0.25, 0.002
"""How often the turn of a ring is whole though a part of it reads low: one that is torn open has all of its teeth, a
little closer together; and how often every reading spans losses, where the highest readings of a corner reach up to
the others, and where they do not (own estimates)."""
REACHES_UP = 0.6
"""Part of what a corner reads too low that its highest readings make up for where others span losses."""
FLAT = 0.1
"""ln over which losses that all readings span are spread."""


def as_reported(
    between: Mapping[Corner, RatioEstimate], lost: Mapping[Corner, LostEdges]
) -> dict[Corner, RatioEstimate]:
    """Ratios of all that is read, from those ``between`` the losses: a corner that loses edges reports that much less,
    whatever it shows of the drive. Empty where they are nonsense."""
    told = {
        c: replace(r, log_ratio=r.log_ratio + lost[c].change, sigma=float(np.hypot(r.sigma, lost[c].sigma)))
        if c in lost
        else r
        for c, r in between.items()
    }
    return unless_wild(centred(told) if lost else told)


def as_rolling(
    between: Mapping[Corner, RatioEstimate], lost: Mapping[Corner, LostEdges]
) -> dict[Corner, RatioEstimate]:
    """Ratios of the wheels, from those ``between`` the losses. Empty where they are nonsense.

    Of a corner that loses edges, either the rest of its readings is right; or nothing is lost, and the rest reads as
    much too fast as the gap reads slow; or every reading spans losses, and all that is known of the wheel is that
    wheels are alike. Each is weighed by how alike it makes them, and what they differ by is in the error of all.
    """
    told, unsure = dict(between), {}
    for corner, losses in lost.items():
        others = [r.log_ratio for c, r in between.items() if c is not corner]
        if corner not in between or not others:
            continue
        own = between[corner]
        apart = own.log_ratio - float(np.median(others))
        hidden = HIDDEN if losses.above > -REACHES_UP * apart > 0.0 else UNSEEN
        weights = np.array(
            [(1.0 - WHOLE - hidden) * _alike(apart), WHOLE * _alike(apart + losses.change), hidden / FLAT]
        )
        weights[2] *= apart < 0.0
        shares = weights / weights.sum()
        moves = np.array([0.0, losses.change, -apart])
        move = float(shares @ moves)
        spread = float(shares @ (moves - move) ** 2 + shares[1] * losses.sigma**2 + shares[2] * ALIKE**2)
        told[corner] = replace(own, log_ratio=own.log_ratio + move)
        unsure[corner] = spread
    if not unsure:
        return unless_wild(told)
    # what nobody knows of one wheel is in the middle of all
    shared = sum(unsure.values()) / len(told) ** 2
    return unless_wild(
        {
            c: replace(r, sigma=float(np.sqrt(r.sigma**2 + unsure.get(c, 0.0) + shared)))
            for c, r in centred(told).items()
        }
    )


def _alike(apart: float) -> float:
    """Density (1/ln) of a wheel's distance from the others."""
    sound = 2.0 / (np.pi * ALIKE) * (1.0 + (apart / ALIKE) ** 2) ** -2
    return (1.0 - WORN) * sound + WORN / (2.0 * WORN_BY) * (abs(apart) < WORN_BY)
