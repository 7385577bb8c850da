"""Breaks that come at two corners at once: one cause for both, or wheels that really stood."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from nodrek.core.model import Array, Corner, Finding

AT_ONCE_S, LEAST, SHARE, OVER_CHANCE = 0.3, 2, 0.7, 0.5
"""Seconds within which breaks are one; how many of them at least; the share of either corner's, and by how much that
is more than chance makes."""


def tell_simultaneous(breaks: Sequence[Finding], driving_s: float) -> list[Finding]:
    """The findings of breaks (one corner each), with what they share said at those that come with another's."""
    times = {f.corners[0]: np.array(f.evidence["times_s"]) for f in breaks}
    out = []
    for finding in breaks:
        corner = finding.corners[0]
        mates = [c for c in times if c is not corner and _at_once(times[corner], times[c], driving_s)]
        if not mates:
            out.append(finding)
            continue
        stood = " Or the wheels really stood, as under the parking brake." if mates == [corner.mate] else ""
        summary = (
            f"{finding.summary} It breaks together with {_words(mates)}: look first for what they share (connector, "
            f"earth, supply).{stood}"
        )
        told = {**finding.evidence, "together_with": [c.value for c in mates]}
        out.append(replace(finding, summary=summary, evidence=told))
    return out


def _at_once(one: Array, other: Array, driving_s: float) -> bool:
    """Whether most breaks at `one` have one at the `other` beside them, and the other way round."""
    if min(one.size, other.size) < LEAST:
        return False
    for these, those in ((one, other), (other, one)):
        share = float(np.mean(np.abs(these[:, None] - those).min(axis=1) < AT_ONCE_S))
        by_chance = 1.0 - math.exp(-2.0 * AT_ONCE_S * those.size / max(driving_s, 1.0))
        if share < max(SHARE, by_chance + OVER_CHANCE):
            return False
    return True


def _words(corners: Sequence[Corner]) -> str:
    return " and ".join(f"the {c.words}" for c in corners)
