"""Lags of channels that were polled one after another but stamped as one row.

A channel that is true `lag` seconds after its stamp reads ahead of its mates while the
vehicle pulls and behind while it brakes: ln v(t + lag) ≈ ln v(t) + lag·s, s = d(ln v)/dt.
Three contrasts of the four corners see it, each with its own company:

    front − rear    slip of the driven axle and of braking, steering angle: fitted along
    left − right    bends: only straights are used
    diagonal        nothing to speak of (flag theorem, see `ratios`)

Robust least squares; errors from the scatter of stretches (sandwich estimator; Huber 1967,
from memory).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from nodrek.core.model import Array, Corner, WheelChannel, WheelLog
from nodrek.core.motion.blocks import half_sample_mode, slow_part

FROM_SPEED = 3.0
STRETCH_S = 5.0
LEAST_STRETCHES = 6
LEAST_SAMPLES = 120
MOST_SAMPLES = 3_000
STRAIGHT = 0.006
"""ln difference of left and right up to which a road counts as straight."""
GENTLE = 0.03
BREAK = 0.12
"""ln deviation of one corner from the mean of all beyond which a sample says nothing of lags."""
SURE = 3.0
"""Standard errors from which a lag counts as one; less is reported as zero."""
SURE_SLOW = 1.5
"""As many more at 5 samples a second and less: few samples know their own scatter badly."""
SMALLEST = 1.5e-3
MOST_PERIODS = 1.2
WORTH_MOVING = 0.010
"""Seconds from which samples are moved: less changes nothing that is looked at."""
ROUNDS = 6
PASSES = 4
BEND_S = 0.8
FLOOR = 0.7e-3
"""Seconds that no regression knows better (from simulated drives)."""


@dataclass(frozen=True)
class Lag:
    """Seconds after the stamp, and the standard error."""

    seconds: float
    sigma: float


NO_LAG = Lag(0.0, float("nan"))


def with_lags(log: WheelLog) -> WheelLog:
    """The log with each channel's ``lag`` set, and its times moved where that matters."""
    lags = estimate_lags(log.channels)
    largest = max((lag.seconds for lag in lags.values()), default=0.0)
    if largest == 0.0:
        return log
    channels = {}
    for corner, channel in log.channels.items():
        lag = lags[corner].seconds
        times = channel.times + lag if largest >= WORTH_MOVING and lag else channel.times
        channels[corner] = replace(channel, lag=lag, times=times)
    return replace(log, channels=channels)


def estimate_lags(channels: Mapping[Corner, WheelChannel]) -> dict[Corner, Lag]:
    """Lag of each channel against the earliest; zero where it cannot be told from zero.

    Only for four corners stamped together: others carry times of their own.
    """
    out = dict.fromkeys(channels, NO_LAG)
    if len(channels) < len(Corner) or not _one_clock(channels):
        return out
    contrasts = _contrasts(channels)
    if contrasts is None:
        return out
    signs = {c: (1 if c.is_front else -1, 1 if c.is_left else -1, 1 if c.is_left == c.is_front else -1) for c in Corner}
    raw = {c: sum(sign * lag.seconds for sign, lag in zip(signs[c], contrasts, strict=True)) for c in Corner}
    earliest = min(raw, key=lambda c: raw[c])
    # corners of one row are fetched within the time of a row; more is a corner that is stuck or dead
    if max(raw.values()) - raw[earliest] > MOST_PERIODS / channels[Corner.FL].rate:
        return out
    rate = channels[Corner.FL].rate
    needed = SURE + SURE_SLOW * float(np.clip(np.log2(10.0 / max(rate, 0.5)), 0.0, 1.0))
    for corner in Corner:
        apart = raw[corner] - raw[earliest]
        # contrasts in which both stand on the same side cancel
        shared = [
            2.0 * lag.sigma for a, b, lag in zip(signs[corner], signs[earliest], contrasts, strict=True) if a != b
        ]
        sigma = float(np.sqrt(np.sum(np.square(shared)))) if shared else 0.0
        sure = apart > needed * sigma and apart > SMALLEST
        out[corner] = Lag(apart if sure else 0.0, sigma)
    return out


def _one_clock(channels: Mapping[Corner, WheelChannel]) -> bool:
    first = next(iter(channels.values())).times
    return all(ch.times is first or np.array_equal(ch.times, first) for ch in channels.values())


def _contrasts(channels: Mapping[Corner, WheelChannel]) -> tuple[Lag, Lag, Lag] | None:
    """Lags of front − rear, left − right and the diagonal (half differences)."""
    any_channel = channels[Corner.FL]
    times, rate = any_channel.times, any_channel.rate
    if times.size < LEAST_SAMPLES or rate <= 0:
        return None
    # many samples a second say little more than a few: neighbours are averaged first
    group = max(1, times.size // MOST_SAMPLES)
    speed = np.vstack([_averaged(channels[c].speed, group) for c in Corner])
    times = _averaged(times, group)
    rate /= group
    with np.errstate(invalid="ignore", divide="ignore"):
        logs = np.log(speed)
        common = logs.mean(axis=0)
        use = (speed.min(axis=0) > FROM_SPEED) & (np.abs(logs - common).max(axis=0) < BREAK)
    if use.sum() < LEAST_SAMPLES:
        return None
    logs = np.where(use, logs, 0.0)
    common = np.where(use, common, np.nan)
    slope = np.gradient(common, times)
    # neighbours of what is left out have no slope
    use &= ~np.isnan(slope)
    slope = np.where(use, slope, 0.0)
    pull = slope * np.exp(np.where(use, common, 0.0))
    front_rear = 0.25 * (logs[0] + logs[1] - logs[2] - logs[3])
    left_right = 0.25 * (logs[0] - logs[1] + logs[2] - logs[3])
    diagonal = 0.25 * (logs[0] - logs[1] - logs[2] + logs[3])
    stretch = max(4, round(STRETCH_S * rate))
    across = Lag(0.0, 0.0)
    for _ in range(PASSES):
        # a lag between left and right looks like a bend while pulling: take out what is known of it
        apart = np.where(use, 2.0 * (left_right - across.seconds * slope), np.nan)
        bend = slow_part(apart, max(3, round(BEND_S * rate)))
        bend = bend - half_sample_mode(bend[use])
        found = _fit(left_right, [slope], use & (np.abs(bend) < STRAIGHT), stretch)
        if found is None:
            return None
        across = found
    gentle = use & (np.abs(bend) < GENTLE)
    along = _fit(front_rear, [slope, np.maximum(pull, 0.0), np.minimum(pull, 0.0), bend**2], gentle, stretch)
    twist = _fit(diagonal, [slope, bend**3], gentle, stretch)
    return None if along is None or twist is None else (along, across, twist)


def _averaged(values: Array, group: int) -> Array:
    """Means of `group` neighbours; what does not fill a group is left out."""
    whole = values.size // group * group
    return np.asarray(values[:whole].reshape(-1, group).mean(axis=1)) if group > 1 else values


def _fit(values: Array, columns: list[Array], use: np.ndarray, stretch: int) -> Lag | None:
    """Coefficient of the first column beside an intercept and the others, with its error."""
    if use.sum() < LEAST_SAMPLES // 2:
        return None
    design = np.column_stack([*columns, np.ones(values.size)])
    scale = np.maximum(np.sqrt(np.mean(design[use] ** 2, axis=0)), 1e-12)
    design = np.where(use[:, None], design / scale, 0.0)
    wanted = np.where(use, values, 0.0)
    weight = use.astype(np.float64)
    solution: Array = np.zeros(design.shape[1])
    for _ in range(ROUNDS):
        gram = design.T @ (design * weight[:, None]) + 1e-9 * np.eye(design.shape[1])
        solution = np.asarray(np.linalg.solve(gram, design.T @ (wanted * weight)), dtype=np.float64)
        rest = wanted - design @ solution
        spread = max(float(np.quantile(np.abs(rest[use]), 0.7)), 1e-6)
        weight = use / np.maximum(1.0, np.abs(rest) / (1.5 * spread))
    count = values.size // stretch
    if count < LEAST_STRETCHES:
        return None
    score = (design * (weight * rest)[:, None])[: count * stretch].reshape(count, stretch, -1).sum(axis=1)
    inverse = np.linalg.inv(gram)
    covariance = inverse @ (score.T @ score) @ inverse
    sigma = float(np.sqrt(covariance[0, 0]) / scale[0])
    return Lag(float(solution[0] / scale[0]), float(np.hypot(sigma, FLOOR)))
