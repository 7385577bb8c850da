"""Everything measured in one log, before anything is concluded from it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any, TypeVar

import numpy as np

from nodrek.core.model import Corner, Vehicle, WheelChannel, WheelLog
from nodrek.core.motion.crossing import Crossing, find_crossing, uncrossed
from nodrek.core.motion.events import Dropouts, LostEdges, find_dropouts, losing_edges, silence_breaks
from nodrek.core.motion.legs import compare_in_legs, followed_legs, is_long
from nodrek.core.motion.overall import overall_ratio
from nodrek.core.motion.ratios import RatioData, RatioEstimate, ratio_blocks, ratios_of_most
from nodrek.core.motion.reference import CornerMotion, Deviations, compare_corners, voice_of_a_bad_ring
from nodrek.core.motion.rolling import as_reported, as_rolling
from nodrek.core.motion.scale import as_read, brought_to_scale, far_off
from nodrek.core.motion.usable import LEAST_MOVING_S, MOVING, Usable, find_usable
from nodrek.core.motion.waking import Waking, find_waking
from nodrek.core.turns.fold import LowArc, RingFold, explained_deviation, find_arcs, fold, is_two_turns
from nodrek.core.turns.pulse import Shapes, weigh_shapes
from nodrek.core.turns.search import FREQUENCIES, Scale, Stretch, find_scale, find_stretches
from nodrek.core.turns.swing import follow_swing
from nodrek.core.turns.track import Track, follow_dips
from nodrek.errors import NeverMoves

T = TypeVar("T")

Progress = Callable[[float, str], None]
"""Called with the share done (0..1) and what is being done, from any thread; may raise
`Cancelled`."""

SLOW_LOG_HZ = 25.0
"""Up to this rate single dips are followed; faster logs show every turn as a whole."""
LOUD = 0.002
LOUD_LOG_P = -20.0
"""Amplitude and ln false-alarm chance from which a ring is taken out of its mates' reference."""
WORTH_PULSE, WORTH_SWING = 0.0012, 0.0008
"""Amplitudes from which a fast log asks which shape it is."""
HIGHEST = 1.05 * FREQUENCIES[1]
BAD_SHARE = 0.5
"""A corner dead or frozen for more than this share of driving is not compared."""


@dataclass(frozen=True, eq=False)
class RingEvidence:
    """The fold of one corner; ``scale`` is ``None`` where the log is too short to look."""

    stretches: list[Stretch]
    scale: Scale | None
    fold: RingFold | None
    arcs: tuple[LowArc, ...]
    track: Track | None = None
    swing: Track | None = None
    shapes: Shapes | None = None
    """In slow logs: single dips followed round the turn, and a smooth swing; in all, which of the two it is."""


@dataclass(frozen=True, eq=False)
class Examination:
    """All evidence of one log, by corner. ``compared``: corners that take part at all.

    ``motions`` hold every sample, ``followed`` those over which the wheel angle is followed
    (all but in long logs); ``rings`` speak of the samples of ``followed``.
    """

    log: WheelLog
    vehicle: Vehicle
    usable: Usable
    compared: tuple[Corner, ...]
    motions: Mapping[Corner, Deviations]
    followed: Mapping[Corner, CornerMotion]
    rings: Mapping[Corner, RingEvidence]
    dropouts: Mapping[Corner, Dropouts]
    ratios: Mapping[Corner, RatioEstimate]
    waking: Mapping[Corner, Waking]
    overall: RatioEstimate | None = None
    """All corners against an independent speed, where the log has one."""
    crossing: Crossing | None = None
    lost: Mapping[Corner, LostEdges] = field(default_factory=dict)
    """Corners that lose edges, and what that takes from their ratios."""
    rolling: Mapping[Corner, RatioEstimate] = field(default_factory=dict)
    """Ratios of the wheels, whatever is lost: ``ratios`` are those of all that is read."""
    blocks: RatioData | None = None
    """What these are measured from."""
    _worked_out: dict[str, Any] = field(default_factory=dict, init=False, repr=False)

    def once(self, name: str, work: Callable[[], T]) -> T:
        """The result of `work`, done once for this examination: finders and probabilities ask for the same."""
        if name not in self._worked_out:
            self._worked_out[name] = work()
        result: T = self._worked_out[name]
        return result

    def share(self, seconds: float) -> float:
        """Share of the driving time."""
        return seconds / max(self.usable.moving, 1e-9)


def examine(log: WheelLog, vehicle: Vehicle, progress: Progress) -> Examination:
    """Measure everything.

    Raises `NeverMoves` where no corner turns for `LEAST_MOVING_S`.
    """
    progress(0.0, "Comparing the corners")
    usable = find_usable(log.channels, log.duration)
    if usable.moving < LEAST_MOVING_S:
        raise NeverMoves(_standing_sentence(log, usable))
    own = log
    off = far_off(log.channels, usable)
    if off:
        log = replace(log, channels=brought_to_scale(log.channels, off))
        usable = find_usable(log.channels, log.duration)
    crossing = find_crossing(log.channels, usable, log.turning)
    if crossing is not None and crossing.is_crossed:
        # everything else is asked of the wheels themselves, each under its true corner
        log = replace(log, channels=uncrossed(log.channels, crossing.axle))
        off = {c.mate if c.is_front is crossing.axle.is_front else c: m for c, m in off.items()}
        usable = find_usable(log.channels, log.duration)
    compared = tuple(
        c
        for c in log.corners
        if usable.dead[c] + usable.frozen[c] < BAD_SHARE * usable.moving and usable.masks[c].any()
    )
    channels = {c: log.channels[c] for c in compared}
    motions: Mapping[Corner, Deviations] = {}
    followed: Mapping[Corner, CornerMotion] = {}
    rings: dict[Corner, RingEvidence] = {}
    if len(compared) >= 2:
        long = is_long(channels)
        parts = followed_legs(channels, usable) if long else (channels, usable)
        followed, rings, loudest = _follow(*parts, progress)
        progress(0.75, "Comparing the corners sample by sample")
        motions = compare_in_legs(channels, usable, loudest) if long else followed
    dropouts = {c: find_dropouts(m, usable) for c, m in motions.items()}
    progress(0.8, "Measuring the ratios")
    lost = losing_edges(motions)
    blocks = ratio_blocks(channels, usable, lost) if len(compared) >= 2 else None
    between = ratios_of_most(blocks, compared) if blocks is not None else {}
    ratios, rolling = as_read(as_reported(between, lost), off), as_read(as_rolling(between, lost), off)
    waking = find_waking(log.channels, usable)
    overall = overall_ratio(channels, usable, log.reference) if log.reference is not None else None
    return Examination(
        own,
        vehicle,
        usable,
        compared,
        motions,
        followed,
        rings,
        dropouts,
        ratios,
        waking,
        overall,
        crossing,
        lost,
        rolling,
        blocks,
    )


def nothing_to_compare(log: WheelLog, vehicle: Vehicle) -> Examination:
    """The examination of a log that is no drive: what is silent, and nothing compared."""
    usable = find_usable(log.channels, log.duration)
    return Examination(log, vehicle, usable, (), {}, {}, {}, {}, {}, find_waking(log.channels, usable))


def _follow(
    channels: Mapping[Corner, WheelChannel], usable: Usable, progress: Progress
) -> tuple[dict[Corner, CornerMotion], dict[Corner, RingEvidence], Corner | None]:
    """Corners compared, their rings looked at, and whose ring was taken out of its mates' reference."""
    known = silence_breaks(channels, usable)
    motions = compare_corners(channels, usable, known)
    rings = _look_at_rings(motions, channels, progress)
    guilty = _loudest_ring(rings)
    if guilty is not None:
        # a bad ring pulls its mates' reference about: take its swing out, look again
        explained = explained_deviation(_fold_of(rings[guilty]))
        known[guilty] = known.get(guilty, 0.0) + voice_of_a_bad_ring(motions[guilty], explained)
        again = compare_corners(channels, usable, known)
        motions = {**again, guilty: motions[guilty]}
        rings = {c: r if c is guilty else _fold_again(again[c], r) for c, r in rings.items()}
    rings = {c: _weighed(motions[c], channels[c], ring) for c, ring in rings.items()}
    return motions, rings, guilty


def _look_at_rings(
    motions: Mapping[Corner, CornerMotion], channels: Mapping[Corner, WheelChannel], progress: Progress
) -> dict[Corner, RingEvidence]:
    done = 0
    corners = tuple(channels)
    stretches: dict[int, list[Stretch]] = {}
    for corner in corners:
        # corners of one clock share their stretches: they stop and start together
        if id(motions[corner].times) not in stretches:
            stretches[id(motions[corner].times)] = find_stretches(motions[corner])

    def look(corner: Corner) -> RingEvidence:
        nonlocal done
        progress(0.15 + 0.6 * done / len(corners), f"Looking for the turn of the {corner.words} wheel")
        motion = motions[corner]
        mine = stretches[id(motion.times)]
        scale = find_scale(motion, mine)
        track = swing = shapes = None
        if scale is not None and channels[corner].rate <= SLOW_LOG_HZ:
            track = follow_dips(motion, mine)
            swing = follow_swing(motion, mine)
            scale = _better(_better(scale, swing), track)
            shapes = weigh_shapes(motion, mine, scale, (swing, track))
            scale = _better(scale, shapes.best if shapes else None)
        done += 1
        seen = _folded(motion, mine, scale, track, swing, shapes)
        if is_two_turns(seen.arcs) and scale is not None and 2.0 * scale.frequency <= HIGHEST:
            seen = _folded(motion, mine, replace(scale, frequency=2.0 * scale.frequency), track, swing, shapes)
        return seen

    return {corner: look(corner) for corner in corners}


def _weighed(motion: CornerMotion, channel: WheelChannel, ring: RingEvidence) -> RingEvidence:
    """With the shapes weighed in a fast log; slow ones did, to find their scale."""
    if ring.scale is None or channel.rate <= SLOW_LOG_HZ or not _is_worth_weighing(ring.fold):
        return ring
    return replace(ring, shapes=weigh_shapes(motion, ring.stretches, ring.scale, ()))


def _is_worth_weighing(folded: RingFold | None) -> bool:
    """Whether a pattern is larger than the placement errors of a sound ring, which line up in every fast log."""
    return folded is not None and (float(folded.harmonics[:4].max()) > WORTH_PULSE or folded.swing > WORTH_SWING)


def _better(scale: Scale, track: Track | None) -> Scale:
    """The scale of `track` where following a slow log's samples proves more than its spectrum."""
    if track is None or -track.log_factor >= scale.log_p:
        return scale
    return replace(
        scale, frequency=track.frequency, delay=track.delay, by_mates=track.by_mates, log_bound=-track.log_factor
    )


def _folded(
    motion: CornerMotion,
    stretches: list[Stretch],
    scale: Scale | None,
    track: Track | None,
    swing: Track | None,
    shapes: Shapes | None,
) -> RingEvidence:
    folded = fold(motion, stretches, scale) if scale is not None else None
    return RingEvidence(stretches, scale, folded, find_arcs(folded) if folded else (), track, swing, shapes)


def _fold_again(motion: CornerMotion, ring: RingEvidence) -> RingEvidence:
    """The same scale with cleaner deviations: what was only a mate's swing is gone now."""
    return _folded(motion, ring.stretches, ring.scale, ring.track, ring.swing, ring.shapes)


def _loudest_ring(rings: Mapping[Corner, RingEvidence]) -> Corner | None:
    """The corner whose once-a-turn pattern is strongest, if it is strong enough to mislead others."""
    size = {
        c: float(r.fold.harmonics[:4].max())
        for c, r in rings.items()
        if r.fold is not None and r.scale is not None and r.scale.log_p < LOUD_LOG_P
    }
    if not size:
        return None
    loudest = max(size, key=lambda c: size[c])
    return loudest if size[loudest] > LOUD else None


def _fold_of(ring: RingEvidence) -> RingFold:
    assert ring.fold is not None
    return ring.fold


def _standing_sentence(log: WheelLog, usable: Usable) -> str:
    top = float(np.max(usable.vehicle)) * 3.6 if usable.vehicle.size else 0.0
    return (
        f"The vehicle never moves in this log: over {log.duration:.0f} s the highest speed seen "
        f"is {top:.0f} km/h, and {MOVING * 3.6:.0f} km/h for a few seconds is needed. "
        "Log a drive and try again."
    )
