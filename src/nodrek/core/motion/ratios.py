"""The steady ratio of each corner, with an interval that tells the truth about itself.

Of four corners three contrasts carry everything (`contrasts`), of fewer the straights alone.
Intervals come from the scatter of stretches of `STRETCH_S` (independent of each other to
good approximation), not of samples.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner, WheelChannel
from nodrek.core.motion.blocks import block_median, median_last_axis, to_blocks
from nodrek.core.motion.contrasts import Steady, contrasts_of, front_over_rear
from nodrek.core.motion.events import LostEdges
from nodrek.core.motion.plateaus import one_value, rounding_of_sum, stands
from nodrek.core.motion.robust_line import robust_intercept
from nodrek.core.motion.straights import (
    ROUNDING_REACH,
    STRETCH_S,
    Blocks,
    blocks_of_stretch,
    find_straights,
    unbent,
)
from nodrek.core.motion.usable import Usable

BLOCK_S = 0.4
PIECE_SAMPLES = 100_000
FROM_SPEED, SLOWER_FROM = 5.0, (3.0, 1.5)
"""m/s below which rounding and steering say more than tyres; the same for drives that are hardly straight above, and
for those that are hardly faster."""
STRAIGHT_S = 12.0
"""Seconds of straight running that the fast part of a drive should have, or slower parts are asked first."""
GOOD_SIGMA = 0.0015
"""Of ln ratio, from which slower parts of the drive are asked as well."""
WORTH_SLOWER = 0.7
"""Part of the error from which other speeds are believed instead: the slower, the more is rounded away."""
MOST_LOG_RATIO, MOST_SIGMA = 0.35, 0.05
"""No ring or tyre is half as large again as another; an error of a twentieth says nothing of either."""
BREAK = 0.25
"""Relative distance from the block's median at which a sample is a break, not a speed."""
COUNTS = 1.6
"""Steps of the values from there up to which a sample is no break."""
CALM, LIVELY = 1.2, 3.0
"""m/s²: harder braking or pulling than this is left out; the same of drives that are hardly ever calm, as in a queue,
where a wheel is braked or pulls all the time. Beyond it slip is no straight line any more."""
FLOOR = {"lr": 1.6e-4, "fr": 2.0e-4, "dg": 1.2e-4}
"""What no drive can tell better, by contrast: crown of the road and load (left-right),
slip of the driven axle at steady speed (front-rear), growth of single tyres. Own estimate."""
STANDS_S = 2.0
"""Seconds for which all corners stand at their rounded values before nothing new is told; where something shakes them
over a step now and then, how often it does is what tells where they are."""
ROUNDING_SIGMA = 0.3
"""Steps of the values that a contrast of them is never believed to scatter less by: 0.29 for one value."""
ROLLING_DRAG = 0.13
"""m/s²: rolling resistance of about 1.3 % of weight (common practice, no published source)."""
AIR_DRAG = 3e-4
"""1/m: air drag over mass of a usual car or van, times v² (common practice)."""
HARDLY = 0.2
"""Share of the blocks that are known of others, below which a corner has no part in ratios."""


@dataclass(frozen=True)
class RatioEstimate:
    """ln of reported speed over reference (geometric mean of the corners 1) and its 1 sigma; the part of that which
    all four share, with the sign of their axle."""

    log_ratio: float
    sigma: float
    sigma_of_axles: float = 0.0

    @property
    def ratio(self) -> float:
        return float(np.exp(self.log_ratio))

    @property
    def interval(self) -> tuple[float, float]:
        """Low and high end of the 95 % interval."""
        return (
            float(np.exp(self.log_ratio - 1.96 * self.sigma)),
            float(np.exp(self.log_ratio + 1.96 * self.sigma)),
        )


Mask = npt.NDArray[np.bool_]
UNKNOWN = RatioEstimate(float("nan"), float("nan"))


@dataclass(frozen=True, eq=False)
class RatioData:
    """Blocks of a drive: ln speed by corner (n, NaN where not fit), speed m/s, acceleration m/s²;
    ``quantum``, the coarsest step of the values, m/s, and what each corner has ``shown`` all along a block (m/s, NaN
    where that changed). ``lost``: of corners some of whose samples were left out, what these change."""

    logs: Mapping[Corner, Array]
    speed: Array
    acceleration: Array
    block_s: float
    quantum: float = 0.0
    shown: Mapping[Corner, Array] = field(default_factory=dict)
    lost: Mapping[Corner, LostEdges] = field(default_factory=dict)

    def part(self, start: int, stop: int) -> RatioData:
        """Some blocks of the drive only."""
        here = slice(start, stop)
        logs, shown = ({c: v[here] for c, v in kept.items()} for kept in (self.logs, self.shown))
        return replace(self, logs=logs, shown=shown, speed=self.speed[here], acceleration=self.acceleration[here])


def ratio_blocks(
    channels: Mapping[Corner, WheelChannel],
    usable: Usable,
    lost: Mapping[Corner, LostEdges] | None = None,
) -> RatioData:
    """Lay the corners side by side in blocks of `BLOCK_S`, differences taken sample by sample.

    `lost`: of corners that lose edges the samples that read low are left out. A drive's bends are read from all
    corners, and dips of one would pass for bends (three teeth lost: straights were taken for bends, and all four ratios
    were off by 1.3 %).
    """
    lost = lost or {}
    first = next(iter(channels.values()))
    times = first.times
    rate = first.rate
    size = max(1, round(BLOCK_S * rate))
    # a piece at a time: a long log is never copied whole
    piece = size * max(1, PIECE_SAMPLES // size)
    vehicle = usable.vehicle_at(times)
    logs: dict[Corner, Array] = {}
    shown: dict[Corner, Array] = {}
    for corner, channel in channels.items():
        own = np.where(usable.masks[corner] & (channel.speed > 0.5), channel.speed, np.nan)
        if corner in lost:
            own[lost[corner].samples] = np.nan
        blocks, stood = [], []
        for k in range(0, times.size, piece):
            here = times[k : k + piece]
            if channel.times is times:
                value = own[k : k + piece]
            else:
                value = np.interp(here, channel.times, own, left=np.nan, right=np.nan)
            base = np.maximum(vehicle[k : k + piece], 0.3)
            blocks.append(_block_log(value / base, COUNTS * channel.quantum / base, size))
            stood.append(one_value(to_blocks(value, size)))
        logs[corner], shown[corner] = np.concatenate(blocks), np.concatenate(stood)
    speed = np.concatenate([block_median(vehicle[k : k + piece], size) for k in range(0, times.size, piece)])
    seconds = size / rate
    acceleration = np.gradient(speed, seconds) if speed.size > 1 else np.zeros_like(speed)
    return RatioData(logs, speed, acceleration, seconds, max(c.quantum for c in channels.values()), shown, lost)


def _block_log(relative: Array, counts: Array, size: int) -> Array:
    """ln of the mean of each block, breaks left out.

    The mean, not the median: a unit that counts edges is right only on average; and `counts` of its steps away
    is no break, or slow wheels would lose the readings on one side of their mean.
    """
    rows = to_blocks(relative, size)
    middle = median_last_axis(rows)[:, None]
    near = np.abs(rows - middle) < np.maximum(BREAK * middle, median_last_axis(to_blocks(counts, size))[:, None])
    count = near.sum(axis=1)
    total = np.where(near, rows, 0.0).sum(axis=1)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(2 * count > size, np.log(total / count), np.nan)


def estimate_ratios(data: RatioData, corners: tuple[Corner, ...]) -> dict[Corner, RatioEstimate]:
    """Ratios among `corners`, all of which must read; two of one axle, three or four. Of a corner that loses edges by
    what it reads between (`rolling`).

    Empty where the log says so little of them that they would be nonsense.
    """
    return unless_wild(_estimates(data, corners))


def ratios_of_most(data: RatioData, corners: tuple[Corner, ...]) -> dict[Corner, RatioEstimate]:
    """The same; of three where the fourth of them loses so much that hardly anything is known of it."""
    found = estimate_ratios(data, corners)
    if found or len(corners) < len(Corner):
        return found
    known = {c: int(np.count_nonzero(np.isfinite(data.logs[c]))) for c in corners}
    least, *others = sorted(known, key=lambda c: known[c])
    if known[least] > HARDLY * known[others[0]]:
        return found
    return estimate_ratios(data, tuple(c for c in corners if c is not least))


def unless_wild(found: dict[Corner, RatioEstimate]) -> dict[Corner, RatioEstimate]:
    """The same; empty where a ratio or an error is larger than any wheel's."""
    wild = any(abs(r.log_ratio) > MOST_LOG_RATIO or r.sigma > MOST_SIGMA for r in found.values())
    return {} if wild else found


def centred(ratios: Mapping[Corner, RatioEstimate]) -> dict[Corner, RatioEstimate]:
    """The same corners' ratios with a geometric mean of 1, as they are defined."""
    middle = sum(r.log_ratio for r in ratios.values()) / max(len(ratios), 1)
    return {c: replace(r, log_ratio=r.log_ratio - middle) for c, r in ratios.items()}


def _estimates(data: RatioData, corners: tuple[Corner, ...]) -> dict[Corner, RatioEstimate]:
    if len(corners) < 2:
        return {}
    best: dict[Corner, RatioEstimate] = {}
    for fit in _fit_blocks(data, {c: data.logs[c] for c in corners}):
        found = _estimates_from(data, corners, fit)
        if found and (not best or _largest_sigma(found) < WORTH_SLOWER * _largest_sigma(best)):
            best = found
        if best and _largest_sigma(best) < GOOD_SIGMA:
            break
    return best


def _largest_sigma(ratios: Mapping[Corner, RatioEstimate]) -> float:
    return max(r.sigma for r in ratios.values())


def _estimates_from(data: RatioData, corners: tuple[Corner, ...], fit: Mask) -> dict[Corner, RatioEstimate]:
    pairs = [c for c in (Corner.FL, Corner.RL) if c in corners and c.mate in corners]
    if not pairs:
        return {}
    sides = np.array([np.where(fit, data.logs[c] - data.logs[c.mate], np.nan) for c in pairs])
    drag = ROLLING_DRAG + AIR_DRAG * data.speed**2
    # at steady speed the driven axle still pulls against drag; at zero pull it is free
    slips = (np.maximum(data.acceleration + drag, 0.0), np.minimum(data.acceleration, 0.0))
    ahead = front_over_rear(data.logs) if len(corners) == 4 else None
    straights = find_straights(Blocks(sides, ahead, slips, data.speed, data.block_s, data.quantum))
    if straights is None:
        return {}
    level_sigma = float(np.hypot(straights.sigma, 0.5 * _rounding_left(data, corners, _alike(straights.blocks & fit))))
    fit = _told_anew(data, corners, fit)
    logs = {c: data.logs[c][fit] for c in corners}
    pull, brake = (slip[fit] for slip in slips)
    rounding = max(ROUNDING_SIGMA * data.quantum / float(np.median(data.speed[fit])), 1e-6)
    if len(logs) == 4:
        is_clean = not any(c in data.lost for c in corners)
        yaw = sides[:, fit].mean(axis=0)
        steady = Steady(logs, yaw, (pull, brake), data.speed[fit], data.block_s, rounding, is_clean)
        told = contrasts_of(steady, straights, level_sigma)
        left = [0.25 * _rounding_left(data, corners, _placed(of.shares, fit)) for of in (told.fr, told.dg)]
        # both wheels of an axle stand at one value, and are off by the same
        of_axles = float(np.linalg.norm([told.fr.sigma, math.sqrt(2.0) * left[0], FLOOR["fr"]]))
        sigma = float(np.linalg.norm([of_axles, told.lr[1], FLOOR["lr"], told.dg.sigma, left[1], FLOOR["dg"]]))
        parts = (told.fr.value, told.lr[0], told.dg.value)
        ratios = {c: sum(s * v for s, v in zip(c.signs, parts, strict=True)) for c in logs}
        return {c: RatioEstimate(ratio, sigma, of_axles) for c, ratio in ratios.items()}
    # three corners, or one axle: each against the mean of all, on straights only
    centre = np.mean(list(logs.values()), axis=0)
    out, per_stretch = {}, blocks_of_stretch(data.block_s)
    for corner, values in logs.items():
        here = robust_intercept(values - centre, [pull, brake], straights.blocks[fit], per_stretch, rounding)
        rounded = _rounding_left(data, corners, _placed(here.shares, fit)) / len(logs)
        spread = np.linalg.norm([here.sigma, level_sigma / 2, 2 * FLOOR["fr"], rounded])
        out[corner] = RatioEstimate(here.value, float(spread))
    # robust intercepts need not add up to nothing
    return centred(out)


def _told_anew(data: RatioData, corners: tuple[Corner, ...], fit: Mask) -> Mask:
    """Blocks of `fit` but those in which all corners have stood for long; all where hardly any are left."""
    still = np.logical_and.reduce([stands(data.shown[c], data.quantum) for c in corners])
    moved = np.maximum.accumulate(np.where(still, 0, np.arange(still.size)))
    anew = fit & (np.arange(still.size) - moved < _long(data))
    return anew if np.count_nonzero(anew) * data.block_s >= STRAIGHT_S else fit


def _alike(used: Mask) -> Array:
    """Shares of blocks in their mean."""
    return np.asarray(used / max(1.0, float(used.sum())))


def _placed(shares: Array, fit: Mask) -> Array:
    """Shares of the blocks in `fit` among all."""
    out = np.zeros(fit.size)
    out[fit] = shares
    return out


def _rounding_left(data: RatioData, corners: tuple[Corner, ...], shares: Array) -> float:
    """1 sigma (ln) of what the corners' sums over blocks of such `shares` come to together that rounding leaves where
    values stand (`plateaus`)."""
    left = [rounding_of_sum(data.shown[c], shares, data.quantum, _long(data)) for c in corners]
    return float(np.linalg.norm(left))


def _long(data: RatioData) -> int:
    """Blocks of `STANDS_S`."""
    return max(1, round(STANDS_S / data.block_s))


def _fit_blocks(data: RatioData, logs: Mapping[Corner, Array]) -> Iterator[Mask]:
    """Steady blocks of which all corners are known, fast enough; then with slower ones among them, then less steady
    ones. A fast part that is hardly straight comes last, and none comes that is too short."""
    known = np.logical_and.reduce([~np.isnan(values) for values in logs.values()])
    for most in (CALM, LIVELY):
        yield from _fit_by_speed(data, logs, known & (np.abs(data.acceleration) < most))


def _fit_by_speed(data: RatioData, logs: Mapping[Corner, Array], calm: Mask) -> Iterator[Mask]:
    fast = calm & (data.speed > FROM_SPEED)
    straight = fast
    if len(logs) == 4:
        sides = np.array([logs[c] - logs[c.mate] for c in (Corner.FL, Corner.RL)])
        straight = fast & unbent(sides, ROUNDING_REACH * data.quantum / np.maximum(data.speed, FROM_SPEED))
    is_straight = straight.sum() * data.block_s >= STRAIGHT_S
    slower = [calm & (data.speed > least) for least in SLOWER_FROM]
    for fit in (fast, *slower) if is_straight else (*slower, fast):
        if fit.sum() * data.block_s >= 2 * STRETCH_S:
            yield fit
