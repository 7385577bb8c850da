"""Long drives: compared leg by leg, and the wheel angle followed in some legs only.

Eight hours at a hundred samples a second are three million samples a corner. Everything
that is worked out per sample is worked out for one leg at a time and kept in single
precision, so that memory stays a small multiple of the log itself. Rings turn tens of
thousands of times in `FOLLOWED_SAMPLES`; hours more of them say nothing new.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from itertools import pairwise
from typing import Any

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner, WheelChannel
from nodrek.core.motion.events import silence_breaks
from nodrek.core.motion.reference import Deviations, deviations_of, voice_of_a_bad_ring
from nodrek.core.motion.usable import GRID_STEP, MOVING, Usable

WHOLE_UP_TO = 150_000
"""Samples of the densest corner up to which a log is one leg: 25 minutes at a hundred a second."""
LEG_SAMPLES = 30_000
FOLLOWED_SAMPLES = WHOLE_UP_TO
LEAST_MOVING_SHARE = 0.05
BORDER_S = 1.0
"""Seconds after the border of two legs that are not listened to where legs are followed: slow differences jump
there."""
BESIDE_S = 5.0
"""Seconds of its neighbours with which each leg is compared: as long as the slowest differences are taken over."""


def is_long(channels: Mapping[Corner, WheelChannel]) -> bool:
    """Whether a log is worked through in legs."""
    return max(c.times.size for c in channels.values()) > WHOLE_UP_TO


def compare_in_legs(
    channels: Mapping[Corner, WheelChannel], usable: Usable, loudest: Corner | None
) -> dict[Corner, Deviations]:
    """What `deviations_of` says of each sample, leg by leg and in single precision; `loudest`: the corner whose ring
    would pull its mates about."""
    narrow: Any = np.float32
    out = {
        c: Deviations(c, ch.times, ch.speed, *(np.empty(ch.times.size, dtype=narrow) for _ in range(3)))
        for c, ch in channels.items()
    }
    done = dict.fromkeys(channels, 0)
    for begin, end in _legs(channels):
        # slow differences need what lies beyond the border as well
        part, fit = _cut(channels, usable, [(begin - BESIDE_S, end + BESIDE_S)])
        known = silence_breaks(part, fit)
        if loudest is not None:
            # what its ring explains of each sample is known in some legs only
            first = deviations_of(part, fit, known)[loudest]
            known[loudest] = known.get(loudest, 0.0) + voice_of_a_bad_ring(first, np.zeros(first.times.size))
        for corner, motion in deviations_of(part, fit, known).items():
            inside = slice(*np.searchsorted(motion.times, (begin, end)))
            here = slice(done[corner], done[corner] + inside.stop - inside.start)
            out[corner].expected[here] = motion.expected[inside]
            out[corner].deviation[here] = motion.deviation[inside]
            out[corner].noise[here] = motion.noise[inside]
            done[corner] = here.stop
    return out


def followed_legs(channels: Mapping[Corner, WheelChannel], usable: Usable) -> tuple[dict[Corner, WheelChannel], Usable]:
    """Some of the legs that move, evenly spread over the drive; all that move where they are few."""
    legs = _legs(channels)
    moving = np.concatenate([[0.0], np.cumsum(usable.vehicle > MOVING)])
    ends = [np.clip(np.round(np.array(leg) / GRID_STEP), 0, moving.size - 1).astype(np.int64) for leg in legs]
    share = np.array([(moving[hi] - moving[lo]) / max(hi - lo, 1) for lo, hi in ends])
    rolling = np.flatnonzero(share > min(LEAST_MOVING_SHARE, 0.5 * float(share.max())))
    most = min(rolling.size, FOLLOWED_SAMPLES // LEG_SAMPLES)
    chosen = rolling[np.unique(np.linspace(0, rolling.size - 1, most).round().astype(np.int64))]
    return _cut(channels, usable, [legs[i] for i in chosen], BORDER_S)


def _legs(channels: Mapping[Corner, WheelChannel]) -> list[tuple[float, float]]:
    """Begin and end (s) of each leg, by the samples of the densest corner."""
    times = max((c.times for c in channels.values()), key=lambda t: t.size)
    inner = [float(t) for t in times[LEG_SAMPLES::LEG_SAMPLES]]
    return list(pairwise([-np.inf, *inner, np.inf]))


def _cut(
    channels: Mapping[Corner, WheelChannel], usable: Usable, legs: list[tuple[float, float]], border: float = 0.0
) -> tuple[dict[Corner, WheelChannel], Usable]:
    """The channels within `legs`, and what is usable of them; corners of one clock keep one array of times."""
    kept: dict[int, tuple[list[slice], Array, npt.NDArray[np.bool_]]] = {}
    parts, masks = {}, {}
    for corner, channel in channels.items():
        if id(channel.times) not in kept:
            ends = [np.searchsorted(channel.times, leg) for leg in legs]
            pieces = [slice(int(a), int(b)) for a, b in ends]
            times = np.concatenate([channel.times[p] for p in pieces])
            begins = np.concatenate([np.full(p.stop - p.start, leg[0]) for p, leg in zip(pieces, legs, strict=True)])
            kept[id(channel.times)] = (pieces, times, times - begins >= border)
        pieces, times, inside = kept[id(channel.times)]
        parts[corner] = replace(
            channel,
            times=times,
            speed=np.concatenate([channel.speed[p] for p in pieces]),
            invalid=np.concatenate([channel.invalid[p] for p in pieces]),
        )
        masks[corner] = np.concatenate([usable.masks[corner][p] for p in pieces]) & inside
    return parts, replace(usable, masks=masks, _seen={})
