"""A weak arc: part of the ring is too far from the sensor to be seen while the wheel is slow.

A coil's voltage grows with speed, so teeth that stand back are lost on every pull-away and
every stop, once a turn, and come back with speed; the rest of the ring reads all the time.
That tells it from a wide gap (nothing at all is read until the wheel is fast enough), from
lost teeth (missing at any speed) and from a broken lead (any speed, or a trigger).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner
from nodrek.core.motion.events import HARD_BRAKING
from nodrek.core.motion.waking import wakes_of
from nodrek.core.turns.track import SILENT
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.odds import ratio_odds

LOW = (1.3, 7.0)
HIGH_FROM = 8.0
"""m/s: weak arcs lose teeth between, and none above (common practice: coils wake at 2 to 8 km/h,
an arc of a third of the field at three times that)."""
DIP_SCORE, DIP_DEPTH = -4.0, -0.08
HEALED_FROM = 2.5
"""m/s under which no arc is said to heal: a crawling wheel dips for other reasons as well."""
EVEN_LASTS_S = 0.07
"""Seconds of dips in a spell at which it is as likely the moment of waking up, which has no arc."""
TOGETHER_S = 3.0
LEAST_SAMPLES, LEAST_DIPS = 4, 4
EVEN_SPELLS, EVEN_SHARE, EVEN_BETWEEN = 2.2, 0.07, 0.35
"""Pull-aways and stops that dip, share of samples as slow as those that dips, and share of sound readings among
them, at which a weak arc and something else are equally likely."""


ABOUT_WAKING, LIKE_MATES = 1.3, 1.6
"""Times its own wake-up speed that the dips of a corner reach at most, and times its mates' that it wakes at, where
nothing but waking up is seen: coils of one vehicle differ by half (common practice, no published source)."""


@dataclass(frozen=True)
class WeakArc:
    """What a corner loses while slow; all zero where nothing is seen.

    ``share`` of samples as slow as its dips that dip (mates: ``mates_share``), on ``spells`` pull-aways and stops of
    ``looked`` ones; ``fast_share`` of the fast samples dips; ``between``: of the samples slower than the
    dips, the share that reads properly; ``silent``: share of the dips that read nothing; ``lasts``: seconds of dips
    in each of those spells; ``reaches``: m/s up to which nine tenths of them come.
    """

    dips: int = 0
    share: float = 0.0
    mates_share: float = 0.0
    spells: int = 0
    looked: int = 0
    fast_share: float = 0.0
    between: float = 0.0
    silent: float = 0.0
    lasts: float = 0.0
    reaches: float = 0.0


def weak_arc(exam: Examination, corner: Corner) -> WeakArc:
    """Dips at low speed only, once the corner is awake."""
    return exam.once(f"weak arc {corner}", lambda: _weak_arc(exam, corner))


def _weak_arc(exam: Examination, corner: Corner) -> WeakArc:
    if corner not in exam.motions:
        return WeakArc()
    slow = exam.once("slow samples", lambda: {c: _slow_samples(exam, c) for c in exam.motions})
    own = slow[corner]
    if own is None:
        return WeakArc()
    count = int(own.dip.sum())
    # an arc that heals at walking pace dips in few of the samples up to LOW, but in many of those as slow as its dips
    reaches = float(np.quantile(own.speed[own.dip], 0.9)) if count else 0.0
    healed_at = max(HEALED_FROM, reaches) if count else LOW[1]
    mates = [m.share_below(healed_at) for c, m in slow.items() if c is not corner and m is not None]
    motion = exam.motions[corner]
    with np.errstate(invalid="ignore"):
        fast = (motion.expected > HIGH_FROM) & ~np.isnan(motion.deviation)
    fast_dips = fast & motion.dips(DIP_SCORE, DIP_DEPTH)
    spells = int(np.unique(own.spell[own.dip]).size)
    between = 0.0
    if count:
        below = own.speed <= np.quantile(own.speed[own.dip], 0.75)
        between = float((below & ~own.dip).sum() / max(below.sum(), 1))
    return WeakArc(
        count,
        own.share_below(healed_at),
        float(np.median(mates)) if mates else 0.0,
        spells,
        int(np.unique(own.spell).size),
        float(fast_dips.sum() / max(fast.sum(), 1)),
        between,
        float(own.silent[own.dip].sum() / max(count, 1)),
        count / max(spells, 1) * motion.step_s,
        reaches,
    )


def weak_arc_confidence(seen: WeakArc) -> float:
    """Raw probability that the dips of a slow wheel are those of a weak arc."""
    often = ratio_odds(seen.spells, EVEN_SPELLS, 3.0)
    much = ratio_odds(seen.share, max(EVEN_SHARE, 3.0 * seen.mates_share), 3.0)
    stays = ratio_odds(seen.fast_share, 0.15 * max(seen.share, 1e-6), 3.0)
    alternates = ratio_odds(seen.between, EVEN_BETWEEN, 4.0)
    lasts = ratio_odds(seen.lasts, EVEN_LASTS_S, 3.0)
    return 0.95 * often * much * (1.0 - stays) * alternates * lasts


def is_waking(exam: Examination, corner: Corner) -> bool:
    """Whether the dips are a sound sensor's about its wake-up speed: who manoeuvres at that speed meets many."""
    own = exam.waking[corner].wake
    mates = wakes_of(w for c, w in exam.waking.items() if c is not corner)
    seen = weak_arc(exam, corner)
    if seen.dips < LEAST_DIPS or not np.isfinite(own) or not mates:
        return False
    return seen.reaches < ABOUT_WAKING * own and own < LIKE_MATES * float(np.median(mates))


@dataclass(frozen=True, eq=False)
class _Slow:
    """Slow samples of an awake corner: whether each dips or reads nothing, its spell and speed (m/s)."""

    dip: npt.NDArray[np.bool_]
    silent: npt.NDArray[np.bool_]
    spell: npt.NDArray[np.int64]
    speed: Array

    def share_below(self, speed: float) -> float:
        """Of the samples up to `speed` (m/s), the share that dips."""
        here = self.speed <= speed
        return float((self.dip & here).sum() / max(here.sum(), 1))


def _slow_samples(exam: Examination, corner: Corner) -> _Slow | None:
    motion, usable = exam.motions[corner], exam.usable
    vehicle = usable.vehicle_at(motion.times)
    at = np.flatnonzero((vehicle > LOW[0]) & (vehicle < LOW[1]) & usable.masks[corner])
    if at.size < LEAST_SAMPLES or usable.grid.size < 2:
        return None
    times = motion.times[at]
    spell = np.cumsum(np.diff(times, prepend=times[0]) > TOGETHER_S, dtype=np.int64)
    # asleep until its first reading and after its last of each spell: that is waking up, not a weak arc
    reads = np.flatnonzero(motion.speed[at] > 0.0)
    first = np.full(int(spell[-1]) + 1, at.size)
    last = np.full(first.size, -1)
    np.minimum.at(first, spell[reads], reads)
    np.maximum.at(last, spell[reads], reads)
    place = np.arange(at.size)
    acceleration = np.interp(times, usable.grid, np.gradient(usable.vehicle, usable.grid))
    awake = (place >= first[spell]) & (place <= last[spell]) & (acceleration > HARD_BRAKING)
    at, spell = at[awake], spell[awake]
    deviation = motion.deviation[at]
    nothing = motion.speed[at] <= 0.0
    dip = motion.dips(DIP_SCORE, DIP_DEPTH)[at] | nothing
    with np.errstate(invalid="ignore"):
        silent = nothing | ~(deviation > SILENT)
    return _Slow(dip, silent, spell, vehicle[at])
