"""Leads exchanged between left and right of one axle: bends come out backwards there.

Both axles of a car turn through the same bend, so their left−right differences go together;
with one axle's leads crossed they go against each other. Which of the two axles it is, the
wheels alone cannot tell (the two are mirror images); a signed steering or yaw signal can.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner, TurnSignal, WheelChannel
from nodrek.core.motion.bend_blocks import BendBlocks, block_means, brakes_or_pulls_hard, free_of_pull, pull_of
from nodrek.core.motion.bends_by_scale import axles_alike
from nodrek.core.motion.blocks import half_sample_mode, mad_sigma, to_blocks
from nodrek.core.motion.usable import Usable

SLOWEST_HZ = 0.5
"""Values a second under which a bend falls between two of them."""
STRETCH_S = 6.0
"""About the length of a bend: blocks within one are no independent witnesses."""
LOOKS = ((2.5, 2.0), (1.2, 2.0), (1.2, 1.0))
"""m/s that all wheels turn at in a block at least, and its seconds: shorter blocks leave more noise in them, longer
ones run from one bend into the next. The second, a walk, in drives that are hardly ever faster; the third in those
that stand or brake between bends all the time."""
STEEPEST = 0.25
STANDS_OUT = 1.1
STRAIGHT, NOISE_REACH = 0.004, 2.0
"""ln difference of left and right, and sigmas of noise, up to which a block may be straight."""
LEAST_BLOCKS = 9
LEAST_AGAINST = 0.3
SURE_AGAINST = 1.6
"""Correlation of the two axles, and how many of its own errors what their stretches say is from zero,
beyond which they go against each other."""
NOISES, LEVEL_OFF = 2.5, 0.0015
"""Noise of a block, and error of the level of straight running (ln), that a bend has to stand out of to speak."""
STANDS_STILL, WITHIN_STEPS = 1, 1.05
"""Changes of the value in a block up to which it stands still; steps of the values that two axles may be apart by
rounding alone, with some margin."""
ONE_SIDED = 0.2
"""Part of what goes to one side that goes to the other, up to which it is no road."""
MOST_NATS = 2.0
"""What one stretch may say at most: a single tight bend must not outvote all others."""
LEAST_SIGNED = 0.4
LARGE = 0.9


@dataclass(frozen=True)
class Crossing:
    """``axle``: left corner of the axle that is likelier crossed; ``agreement`` −1…1 of the two
    axles, and ``sigmas``, what stretches with bends say for it in units of its error; ``settled``: whether a signed
    signal says which axle it is; ``bends``: by how much bends stand out of the noise of the axles' differences;
    ``balance``: ln of what large bends leave in the difference of the two axles over what they leave in
    the sum, positive where they go against each other; ``alike``: what changes at all scales of time say together
    (`bends_by_scale`), negative where the axles go against each other."""

    axle: Corner
    agreement: float
    sigmas: float
    settled: bool
    bends: float = math.inf
    balance: float = 0.0
    alike: float = 0.0

    @property
    def is_crossed(self) -> bool:
        return self.sigmas < -SURE_AGAINST and self.agreement < -LEAST_AGAINST


def find_crossing(
    channels: Mapping[Corner, WheelChannel], usable: Usable, turning: TurnSignal | None
) -> Crossing | None:
    """``None`` where the four corners, or bends, are not there."""
    if any(c not in channels or channels[c].rate < SLOWEST_HZ for c in Corner):
        return None
    for from_speed, block_s in LOOKS:
        blocks = {c: block_means(ch, usable, from_speed, block_s) for c, ch in channels.items()}
        logs = {c: block.means for c, block in blocks.items()}
        pairs = [logs[left] - logs[left.mate] for left in (Corner.FL, Corner.RL)]
        known = ~np.isnan(pairs[0]) & ~np.isnan(pairs[1]) & ~brakes_or_pulls_hard(usable, pairs[0].size, block_s)
        may_be_a_step = _may_be_a_step(pairs, list(blocks.values()))
        told = known & ~may_be_a_step
        if told.sum() >= LEAST_BLOCKS:
            known = told
            break
        # to one side only a step goes as well: slower driving may show bends to the other
        if known.sum() >= LEAST_BLOCKS and not _go_to_one_side(pairs, known & may_be_a_step):
            break
    else:
        return None
    # bends cancel in the difference of the axles, or in their sum where one is crossed: the rest is noise
    noise = min(mad_sigma(np.diff(pairs[0] - pairs[1])), mad_sigma(np.diff(pairs[0] + pairs[1]))) / 2.0
    pull = pull_of(usable, known.size, block_s)
    front, rear = (
        free_of_pull(np.clip(p - _straight(p[known], noise), -STEEPEST, STEEPEST), pull, known) for p in pairs
    )
    by_itself = np.sqrt(np.sum([block.error**2 for block in blocks.values()], axis=0) / 2.0)
    agreement = _alike(front, rear, known)
    sigmas = _votes(front, rear, known, np.maximum(noise, by_itself), round(STRETCH_S / block_s))
    bends = min(mad_sigma(front[known]), mad_sigma(rear[known])) / max(STANDS_OUT * noise, 1e-6)
    axle, settled = Corner.FL, False
    if turning is not None:
        signed = np.interp((np.arange(front.size) + 0.5) * block_s, turning.times, turning.values)
        # turning left, positive by ISO 8855 (from memory), slows the left wheels
        against = [_alike(-d, signed, known) for d in (front, rear)]
        if min(abs(a) for a in against) > LEAST_SIGNED:
            axle, settled = (Corner.FL if against[0] < against[1] else Corner.RL), True
    apart, together = (float(np.quantile(np.abs(x[known]), LARGE)) for x in (front - rear, front + rear))
    balance = math.log(max(apart, 1e-6) / max(together, 1e-6))
    return Crossing(axle, agreement, sigmas, settled, min(bends, 99.0), balance, axles_alike(channels, usable))


def _straight(values: Array, noise: float) -> float:
    """Level of straight running: the mean round the most frequent value, never more narrowly than noise.

    A level that is off by its own noise would make straights of both axles look like bends.
    """
    level = half_sample_mode(values)
    reach = max(STRAIGHT, NOISE_REACH * noise)
    for _ in range(6):
        near = values[np.abs(values - level) < reach]
        if not near.size:
            break
        level = float(near.mean())
    return level


def _may_be_a_step(pairs: Sequence[Array], corners: Sequence[BendBlocks]) -> npt.NDArray[np.bool_]:
    """Blocks whose differences of left and right may be a single step of values that stand still.

    At a steady speed whole kilometres per hour of two tyres that differ by a thousandth part by one for as long as the
    speed lies between them, and those of the other axle may part the other way round.
    """
    step = np.max([block.step for block in corners], axis=0)
    stands = np.min([block.changes for block in corners], axis=0) <= STANDS_STILL
    with np.errstate(invalid="ignore"):
        return np.asarray(stands & (np.max(np.abs(pairs), axis=0) < WITHIN_STEPS * step))


def _go_to_one_side(pairs: Sequence[Array], chosen: npt.NDArray[np.bool_]) -> bool:
    """Whether the axles part, or go together, to the same side nearly all the time: steps do, bends go to either."""
    apart, together = (pairs[0] - pairs[1])[chosen], (pairs[0] + pairs[1])[chosen]
    larger = apart if np.abs(apart).sum() > np.abs(together).sum() else together
    up, down = float(larger[larger > 0.0].sum()), -float(larger[larger < 0.0].sum())
    return min(up, down) < ONE_SIDED * max(up, down)


def uncrossed(channels: Mapping[Corner, WheelChannel], axle: Corner) -> dict[Corner, WheelChannel]:
    """The channels with the two of `axle` (its left corner) exchanged, each under its true corner."""
    out = dict(channels)
    left, right = channels[axle], channels[axle.mate]
    out[axle], out[axle.mate] = replace(right, corner=axle), replace(left, corner=axle.mate)
    return out


def _alike(a: Array, b: Array, known: npt.NDArray[np.bool_]) -> float:
    """How far two differences go together, from −1 to 1; a single tight bend does not outvote all others."""
    a, b = (np.clip(x[known] / max(mad_sigma(x[known]), 1e-6), -4.0, 4.0) for x in (a, b))
    return float(np.sum(a * b) / max(np.sum(np.abs(a * b)), 1e-9))


def _votes(front: Array, rear: Array, known: npt.NDArray[np.bool_], noise: Array, per_stretch: int) -> float:
    """What stretches say together, in units of its error: positive where bends cancel in the difference of the axles,
    negative where they cancel in the sum; a straight says nothing, and one nat is no more than chance. `noise` of an
    axle's difference, by block."""
    count = np.nansum(to_blocks(known.astype(float), per_stretch), axis=1)
    some = count > 0.0
    apart, together, noises = (
        np.nansum(to_blocks(np.where(known, x, 0.0), per_stretch), axis=1)[some] / count[some]
        for x in ((front - rear) ** 2, (front + rear) ** 2, noise**2)
    )
    least = NOISES**2 * noises + LEVEL_OFF**2
    votes = np.clip(0.5 * np.log((together + least) / (apart + least)), -MOST_NATS, MOST_NATS)
    votes *= count[some] / per_stretch
    return float(np.sum(votes) / np.sqrt(np.sum(votes**2) + 1.0))
