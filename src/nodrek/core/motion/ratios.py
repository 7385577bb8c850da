"""The steady ratio of each corner, with an interval that tells the truth about itself.

Three contrasts of the four log speeds carry everything:

    left − right        known only on straights: the most frequent value of a drive,
                        since bends scatter it to both sides and straights do not
    front − rear        mixed with slip of the driven axle and with the steering angle,
                        which are regressed out
    diagonal            in every bend the squares of the speeds obey FL² + RR² = FR² + RL²
                        (the four wheels stand on a rectangle and run on circles round one
                        point: British flag theorem), so it needs no straight

Intervals come from the scatter of stretches of `STRETCH_S` (independent of each other to
good approximation), not of samples.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from nodrek.core.model import Array, Corner, WheelChannel
from nodrek.core.motion.blocks import block_median, half_sample_mode, mad_sigma, median_last_axis, to_blocks
from nodrek.core.motion.usable import Usable

BLOCK_S = 0.4
PIECE_SAMPLES = 100_000
STRETCH_S = 4.0
FROM_SPEED, SLOWER_FROM = 5.0, 3.0
"""m/s below which rounding and steering say more than tyres; the same for drives that are hardly ever straight above."""
BENT = 0.012
"""Left-right difference that sound tyres stay under: where *both* axles have more to one side, the vehicle is in a
bend, or, hardly ever, has two odd wheels on that side."""
STRAIGHT_S = 12.0
"""Seconds of straight running that a drive should have, or slower ones are asked as well."""
LEAST_STRETCHES = 3
MOST_LOG_RATIO, MOST_SIGMA = 0.35, 0.05
"""No ring or tyre is half as large again as another; an error of a twentieth says nothing of either."""
ROUNDS = 6
FEWEST_STRAIGHT = 12
"""Blocks that count as straight where none is within reach."""
ROUNDING_REACH = 0.75
NOISE_REACH = 1.5
"""Steps of the values, and sigmas of noise, within which a block still counts as straight."""
FEW_STRETCHES = 3.0
"""So few stretches know little of their own scatter: widen by about Student's factor."""
BREAK = 0.25
"""Relative distance from the block's median at which a sample is a break, not a speed."""
CALM = 1.2
"""m/s²: harder braking or pulling than this is left out."""
FLOOR = {"lr": 1.6e-4, "fr": 2.0e-4, "dg": 1.2e-4}
"""What no drive can tell better, by contrast: crown of the road and load (left-right),
slip of the driven axle at steady speed (front-rear), growth of single tyres. Own estimate."""
SLOW_WIDENING = 1.65
"""Under 20 samples a second bends and straights blur into each other: sigma times this less half
the decades of the rate, so that intervals cover what they say on simulated town and gravel roads."""
ROLLING_DRAG = 0.13
"""m/s²: rolling resistance of about 1.3 % of weight (common practice, no published source)."""
AIR_DRAG = 3e-4
"""1/m: air drag over mass of a usual car or van, times v² (common practice)."""


@dataclass(frozen=True)
class RatioEstimate:
    """ln of reported speed over reference (geometric mean of the corners 1) and its 1 sigma."""

    log_ratio: float
    sigma: float

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


UNKNOWN = RatioEstimate(float("nan"), float("nan"))


@dataclass(frozen=True, eq=False)
class RatioData:
    """Blocks of a drive: ln speed by corner (n, NaN where not fit), speed m/s, acceleration m/s²;
    ``rate`` of the samples (1/s) and ``quantum``, the coarsest step of the values, m/s."""

    logs: Mapping[Corner, Array]
    speed: Array
    acceleration: Array
    block_s: float
    rate: float = 50.0
    quantum: float = 0.0


def ratio_blocks(channels: Mapping[Corner, WheelChannel], usable: Usable) -> RatioData:
    """Lay the corners side by side in blocks of `BLOCK_S`, differences taken sample by sample."""
    first = next(iter(channels.values()))
    times = first.times
    rate = first.rate
    size = max(1, round(BLOCK_S * rate))
    # a piece at a time: a long log is never copied whole
    piece = size * max(1, PIECE_SAMPLES // size)
    vehicle = usable.vehicle_at(times)
    logs: dict[Corner, Array] = {}
    for corner, channel in channels.items():
        own = np.where(usable.masks[corner] & (channel.speed > 0.5), channel.speed, np.nan)
        blocks = []
        for k in range(0, times.size, piece):
            here = times[k : k + piece]
            if channel.times is times:
                value = own[k : k + piece]
            else:
                value = np.interp(here, channel.times, own, left=np.nan, right=np.nan)
            base = np.maximum(vehicle[k : k + piece], 0.3)
            blocks.append(_block_log(value / base, size))
        logs[corner] = np.concatenate(blocks)
    speed = np.concatenate([block_median(vehicle[k : k + piece], size) for k in range(0, times.size, piece)])
    seconds = size / rate
    acceleration = np.gradient(speed, seconds) if speed.size > 1 else np.zeros_like(speed)
    return RatioData(logs, speed, acceleration, seconds, rate, max(c.quantum for c in channels.values()))


def _block_log(relative: Array, size: int) -> Array:
    """ln of the mean of each block, breaks left out.

    The mean, not the median: a unit that counts edges is right only on average.
    """
    rows = to_blocks(relative, size)
    middle = median_last_axis(rows)[:, None]
    near = np.abs(rows - middle) < BREAK * middle
    count = near.sum(axis=1)
    total = np.where(near, rows, 0.0).sum(axis=1)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(2 * count > size, np.log(total / count), np.nan)


def estimate_ratios(data: RatioData, corners: tuple[Corner, ...]) -> dict[Corner, RatioEstimate]:
    """Ratios among `corners`, all of which must read; two of one axle, three or four.

    Empty where the log says so little of them that they would be nonsense.
    """
    found = _estimates(data, corners)
    wild = any(abs(r.log_ratio) > MOST_LOG_RATIO or r.sigma > MOST_SIGMA for r in found.values())
    return {} if wild else found


def _estimates(data: RatioData, corners: tuple[Corner, ...]) -> dict[Corner, RatioEstimate]:
    if len(corners) < 2:
        return {}
    logs = {c: data.logs[c] for c in corners}
    fit = _fit_blocks(data, logs)
    if fit.sum() * data.block_s < 2 * STRETCH_S:
        return {}
    logs = {c: v[fit] for c, v in logs.items()}
    per_stretch = max(1, round(STRETCH_S / data.block_s))
    drag = ROLLING_DRAG + AIR_DRAG * data.speed[fit] ** 2
    # at steady speed the driven axle still pulls against drag; at zero pull it is free
    pull = np.maximum(data.acceleration[fit] + drag, 0.0)
    brake = np.minimum(data.acceleration[fit], 0.0)
    pairs = [c for c in (Corner.FL, Corner.RL) if c in logs and c.mate in logs]
    if not pairs:
        return {}
    sides = np.array([logs[c] - logs[c.mate] for c in pairs])
    yaw = sides.mean(axis=0)
    noise = 0.0
    if len(pairs) == 2:
        # both axles feel the same bend, so what they differ by from block to block is noise
        noise = 0.5 * mad_sigma(np.diff(sides[0] - sides[1])) / np.sqrt(2.0)
    rounding = np.maximum(ROUNDING_REACH * data.quantum / data.speed[fit], NOISE_REACH * noise)
    left_right, lr_sigma, straight = _straight_level(yaw, data.speed[fit], per_stretch, rounding)
    if len(pairs) == 2 and _is_bend(sides, straight):
        # most of the drive goes round one way
        unbent = _unbent(sides, rounding)
        if unbent.sum() * data.block_s < STRETCH_S:
            return {}
        kept = np.where(unbent, yaw, np.nan)
        left_right, lr_sigma, straight = _straight_level(kept, data.speed[fit], per_stretch, rounding)
    bent = np.abs(yaw - left_right)
    slow = float(np.clip(SLOW_WIDENING - 0.5 * np.log10(max(data.rate, 0.5)), 1.0, 1.6))
    contrasts: dict[str, tuple[float, float]] = {"lr": (left_right / 2, lr_sigma / 2)}
    if len(logs) == 4:
        front_rear = (logs[Corner.FL] + logs[Corner.FR] - logs[Corner.RL] - logs[Corner.RR]) / 4
        diagonal = (logs[Corner.FL] + logs[Corner.RR] - logs[Corner.FR] - logs[Corner.RL]) / 4
        gentle = bent < 0.04
        columns = [pull, brake, bent**2]
        contrasts["fr"] = robust_intercept(front_rear, columns, gentle, per_stretch)
        contrasts["dg"] = robust_intercept(diagonal, [(yaw - left_right) ** 3], gentle, per_stretch)
        signs = {c: dict(zip(("fr", "lr", "dg"), c.signs, strict=True)) for c in logs}
        return {
            c: RatioEstimate(
                sum(s * contrasts[k][0] for k, s in sign.items()),
                slow * float(np.sqrt(sum(contrasts[k][1] ** 2 + FLOOR[k] ** 2 for k in sign))),
            )
            for c, sign in signs.items()
        }
    # three corners, or one axle: each against the mean of all, on straights only
    centre = np.mean(list(logs.values()), axis=0)
    out = {}
    for corner, values in logs.items():
        value, sigma = robust_intercept(values - centre, [pull, brake], straight, per_stretch)
        out[corner] = RatioEstimate(value, slow * float(np.hypot(np.hypot(sigma, lr_sigma / 2), 2 * FLOOR["fr"])))
    # robust intercepts need not add up to nothing; ratios do by their definition
    middle = float(np.mean([r.log_ratio for r in out.values()]))
    return {c: RatioEstimate(r.log_ratio - middle, r.sigma) for c, r in out.items()}


def _fit_blocks(data: RatioData, logs: Mapping[Corner, Array]) -> np.ndarray:
    """Blocks that are asked: steady, all corners known, fast enough; slower ones too where too few of them are straight."""
    calm = np.abs(data.acceleration) < CALM
    for values in logs.values():
        calm &= ~np.isnan(values)
    fast = calm & (data.speed > FROM_SPEED)
    straight = fast
    if len(logs) == 4:
        sides = np.array([logs[c] - logs[c.mate] for c in (Corner.FL, Corner.RL)])
        straight = fast & _unbent(sides, ROUNDING_REACH * data.quantum / np.maximum(data.speed, FROM_SPEED))
    if straight.sum() * data.block_s >= STRAIGHT_S:
        return fast
    return calm & (data.speed > SLOWER_FROM)


def _unbent(sides: Array, rounding: Array) -> np.ndarray:
    """Blocks in which one axle's left-right difference at least (``sides``, shape (2, n)) is what tyres differ by."""
    with np.errstate(invalid="ignore"):
        return np.asarray(np.abs(sides).min(axis=0) < np.maximum(BENT, rounding))


def _is_bend(sides: Array, straight: np.ndarray) -> bool:
    """Whether what was taken for straight running has both axles turn one way."""
    front, rear = np.median(sides[:, straight], axis=1)
    return bool(min(abs(front), abs(rear)) > BENT and front * rear > 0.0)


def _straight_level(
    yaw: Array, speed: Array, per_stretch: int, rounding: Array
) -> tuple[float, float, np.ndarray]:
    """Left−right level of straight running: its value, its 1 sigma, and which blocks are straight.

    The most frequent value, then refined by the mean near it. Fast blocks count
    more, as roads straighten with speed. What is near is never less than noise and rounding: whole
    km/h agree far more often than wheels do, and a level between two steps is seen only by
    how often each of them is shown. NaN: left out.
    """
    known = ~np.isnan(yaw)
    mode = half_sample_mode(np.repeat(yaw[known], np.clip((speed[known] / 5.0).astype(int), 1, 6)))
    reach = 0.004
    straight = _near(yaw, mode, np.maximum(reach, rounding))
    for _ in range(ROUNDS):
        near = yaw[straight]
        # the median of a few steps is one of them
        mode = float(np.mean(near) if float(np.median(rounding)) > reach else np.median(near))
        spread = mad_sigma(near - mode)
        reach = min(0.004, max(3.0 * spread, 0.0006))
        straight = _near(yaw, mode, np.maximum(reach, rounding))
    sigma = _scatter_of_mean(np.where(straight, yaw, np.nan), per_stretch)
    return float(np.mean(yaw[straight])), sigma, straight


def _near(values: Array, level: float, reach: Array) -> np.ndarray:
    """Which values lie within `reach` of `level`; the nearest few at the least, as a level of none is none."""
    off = np.where(np.isnan(values), np.inf, np.abs(values - level))
    few = min(np.count_nonzero(off < np.inf), FEWEST_STRAIGHT) - 1
    return np.asarray(off <= np.maximum(reach, np.partition(off, few)[few]))


def robust_intercept(values: Array, columns: list[Array], use: np.ndarray, per_stretch: int) -> tuple[float, float]:
    """Robust intercept of a linear model and its 1 sigma: Huber weights, four rounds."""
    design = np.column_stack([np.ones(values.size), *columns])[use]
    wanted = values[use]
    if wanted.size < 4 * design.shape[1]:
        middle = float(np.median(values))
        return middle, _scatter_of_mean(values - middle, per_stretch)
    scale = np.maximum(np.abs(design).max(axis=0), 1e-9)
    weight = np.ones(wanted.size)
    solution = np.zeros(design.shape[1])
    for _ in range(5):
        root = np.sqrt(weight)[:, None]
        solution = np.linalg.lstsq(root * design / scale, root[:, 0] * wanted, rcond=None)[0] / scale
        rest = wanted - design @ solution
        spread = max(mad_sigma(rest), 1e-6)
        weight = 1.0 / np.maximum(1.0, np.abs(rest) / (1.5 * spread))
    residual = np.full(values.size, np.nan)
    limit = 3.0 * spread
    residual[use] = np.clip(rest, -limit, limit)
    # the intercept leans on the columns: widen by how far their mean is from zero
    gram = np.linalg.pinv((design / scale).T @ (design / scale))
    widening = np.sqrt(max(1.0, gram[0, 0] * wanted.size))
    return float(solution[0]), _scatter_of_mean(residual, per_stretch) * float(widening)


def _scatter_of_mean(values: Array, per_stretch: int) -> float:
    """1 sigma of the mean from the scatter of stretch means; NaN left out."""
    count = values.size // per_stretch
    known = values[~np.isnan(values)]
    if known.size < 2:
        return 0.01
    if count <= LEAST_STRETCHES:
        return float(FEW_STRETCHES * np.std(known) / np.sqrt(max(1, count)) + 1e-4)
    blocks = values[: count * per_stretch].reshape(count, per_stretch)
    size = np.sum(~np.isnan(blocks), axis=1)
    sums = np.nansum(blocks - np.mean(known), axis=1)
    # ratio estimator over stretches of unequal size; Student's law has a spread of (n-1)/(n-3)
    filled = max(LEAST_STRETCHES + 1, int(np.sum(size > 0.25 * per_stretch)))
    widening = np.sqrt(filled / (filled - 3))
    return float(np.sqrt(np.sum(sums**2)) / max(size.sum(), 1) * widening)
