"""Lags of channels that were polled one after another but stamped as one row, or show values of unlike age.

A channel that is true `lag` seconds after its stamp reads ahead of its mates while the
vehicle pulls and behind while it brakes: ln v(t + lag) ≈ ln v(t) + lag·s, s = d(ln v)/dt.
Three contrasts of the four corners see it, each with its own company:

    front − rear    slip of the driven axle and of braking, steering angle: fitted along
    left − right    bends: only straights are used; tyres that slip a little unlike
    diagonal        the latter only (flag theorem, see `ratios`)

Slip goes with pull, v·s, and a lag with s: at one speed they are the same, so what slip may do is told before. Robust
least squares; errors from the fits without each stretch in turn. What the three make of the four lags is asked by
evidence (MacKay 1992, Neural Computation 4, 415; from memory): no lags; one corner after another at even times, in
some order; or any. Most loggers poll evenly, and one unknown is known far better than three.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from itertools import permutations

import numpy as np

from nodrek.core.model import Array, Corner, WheelChannel, WheelLog
from nodrek.core.motion.blocks import half_sample_mode, mad_sigma, quick_quantile

FROM_SPEED = 2.0
STRETCH_S = 5.0
LEAST_STRETCHES = 6
LEAST_SAMPLES = 80
MOST_SAMPLES = 3_000
STRAIGHT = 0.006
"""ln difference of left and right up to which a road counts as straight."""
NOISE_REACH = 1.5
"""Sigmas of a sample's noise up to which it does as well: coarse values agree more often than wheels do."""
GENTLE = 0.03
BREAK = 0.12
"""ln deviation of one corner from the mean of all beyond which a sample says nothing of lags."""
WIDER = 1.25
"""Errors are as many times wider than stretches scatter (simulated drives: slip and bends are more than noise)."""
IN_ORDER, IN_ORDER_SLOW, ANY_ORDER, ANY = 0.12, 0.45, 0.04, 0.04
"""Chances before looking: polled front left, front right, rear left, rear right, in a log of `FAST_HZ` and more and of
`SLOW_HZ` and less, which ask through a plug for diagnosis; polled evenly in another order; any lags (common practice,
no published source). The rest is stamped when true."""
SLOW_HZ, FAST_HZ = 10.0, 20.0
EVEN = (0.0, 1.0, 2.0, 3.0)
SIGNS = np.array([c.signs for c in Corner])
"""Lag of a corner = these times the three contrasts, up to a common lag; shape (4, 3)."""
SMALLEST = 1.5e-3
MOST_PERIODS = 1.2
MOST_S, PLAINLY = 0.25, 0.12
"""Seconds that a message takes through gateways at most (common practice, no published source), and part of that by
which its error is to be smaller."""
WORTH_MOVING = 0.010
"""Seconds from which the samples of one row are moved: less changes hardly anything that is looked at."""
NEAR = 2.5
"""Usual steps from value to value, up to which what lies between them is known."""
AXLES_SLIP, SIDES_SLIP = 3e-3, 3e-4
"""Half differences of slip for each m/s² of pull, of the axles and of wheels side by side: a tyre slips by 1 % for some
0.2 g (common practice, no published source), and mates are alike within 15 %."""
STEPS = 4.0
"""Times the error of rounding up to which a difference counts in full (taken for outliers, steps made lags of values
in whole km/h a third too small)."""
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
    # corners with stamps of their own are laid side by side anyway
    is_worth_it = largest >= WORTH_MOVING or not _one_clock(log.channels)
    channels = {}
    for corner, channel in log.channels.items():
        lag = lags[corner].seconds
        times = channel.times + lag if is_worth_it and lag else channel.times
        channels[corner] = replace(channel, lag=lag, times=times)
    return replace(log, channels=channels)


def estimate_lags(channels: Mapping[Corner, WheelChannel]) -> dict[Corner, Lag]:
    """Lag of each channel against the earliest; zero where it cannot be told from zero.

    Corners that are stamped one by one are no poll in a row; but what a unit shows may be old by as much as its task
    lasts, at one corner by more than at another.
    """
    out = dict.fromkeys(channels, NO_LAG)
    if len(channels) < len(Corner) or min(channel.times.size for channel in channels.values()) < LEAST_SAMPLES // 4:
        return out
    one_clock = _one_clock(channels)
    contrasts = _contrasts(channels if one_clock else _at_one_time(channels))
    if contrasts is None:
        return out
    rate = channels[Corner.FL].rate
    lags = _likeliest(
        np.array([lag.seconds for lag in contrasts]),
        WIDER * np.array([lag.sigma for lag in contrasts]),
        1.0 / rate,
        one_clock,
    )
    # corners of one row are fetched within the time of a row; more is a gateway on the way, whose lag is plain, or a
    # corner that is stuck or dead
    largest = max(lags, key=lambda lag: lag.seconds)
    is_plain = largest.seconds < MOST_S and max(lag.sigma for lag in lags) < PLAINLY * largest.seconds
    if largest.seconds > MOST_PERIODS / rate and not is_plain:
        return out
    return {c: lag if lag.seconds > SMALLEST else Lag(0.0, lag.sigma) for c, lag in zip(Corner, lags, strict=True)}


def _likeliest(contrasts: Array, sigma: Array, period: float, in_rows: bool = True) -> list[Lag]:
    """Lags of the four corners against the earliest, under the likeliest way of polling.

    `contrasts`, `sigma`: shape (3,), s; `period` of the rows, s; `in_rows`: else no order is asked. Evidence of each
    way: its best fit, and how much of what it would have allowed before looking is left after it.
    """
    width = sigma * np.sqrt(2.0 * np.pi)
    slow = float(np.clip((FAST_HZ - 1.0 / period) / (FAST_HZ - SLOW_HZ), 0.0, 1.0))
    in_order = IN_ORDER + slow * (IN_ORDER_SLOW - IN_ORDER)
    best = (
        np.log(1.0 - in_order - ANY_ORDER - ANY) - 0.5 * float(np.sum((contrasts / sigma) ** 2)),
        np.zeros(4),
        np.zeros(4),
    )
    orders = list(permutations(range(4))) if in_rows else []
    for order in orders:
        steps = np.array([EVEN[k] for k in order])
        shape = SIGNS.T @ steps / 4.0
        precision = float(np.sum((shape / sigma) ** 2))
        step = float(np.sum(shape * contrasts / sigma**2)) / precision
        if step <= 0.0:
            continue
        prior = in_order if order == orders[0] else ANY_ORDER / (len(orders) - 1)
        misfit = float(np.sum(((contrasts - step * shape) / sigma) ** 2))
        left = np.sqrt(2.0 * np.pi / precision) / (period / 3.0)
        score = np.log(prior) - 0.5 * misfit + np.log(min(1.0, left))
        if score > best[0]:
            best = (score, step * steps, steps / np.sqrt(precision))
    score = np.log(ANY) + float(np.sum(np.log(np.minimum(1.0, width / (0.5 * period)))))
    if score > best[0]:
        free = SIGNS @ contrasts
        first = int(np.argmin(free))
        # contrasts in which both stand on the same side cancel
        apart = np.where(SIGNS[first] != SIGNS, 2.0 * sigma, 0.0)
        best = (score, free - free[first], np.sqrt(np.sum(apart**2, axis=1)))
    return [Lag(float(s), float(e)) for s, e in zip(best[1], best[2], strict=True)]


def _one_clock(channels: Mapping[Corner, WheelChannel]) -> bool:
    first = next(iter(channels.values())).times
    return all(ch.times is first or np.array_equal(ch.times, first) for ch in channels.values())


def _at_one_time(channels: Mapping[Corner, WheelChannel]) -> dict[Corner, WheelChannel]:
    """The channels at the first one's times, with straight lines in between; unread where no two values are near."""
    times = channels[Corner.FL].times
    out = {}
    for corner, channel in channels.items():
        after = np.clip(np.searchsorted(channel.times, times), 1, channel.times.size - 1)
        apart = channel.times[after] - channel.times[after - 1]
        near = (apart < NEAR * np.median(apart)) & (times >= channel.times[0]) & (times <= channel.times[-1])
        speed = np.where(near, np.interp(times, channel.times, channel.speed), 0.0)
        out[corner] = replace(channel, times=times, speed=speed)
    return out


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
    slope, wide = _slope(common, times, 1), _slope(common, times, 2)
    # neighbours of what is left out have no slope
    use &= ~np.isnan(slope) & ~np.isnan(wide)
    slope, wide = np.where(use, slope, 0.0), np.where(use, wide, 0.0)
    if use.sum() < LEAST_SAMPLES:
        return None
    speed_of_all = np.exp(np.where(use, common, 0.0))
    slips, wide_slips = ([np.maximum(a, 0.0), np.minimum(a, 0.0)] for a in (slope * speed_of_all, wide * speed_of_all))
    front_rear = 0.25 * (logs[0] + logs[1] - logs[2] - logs[3])
    left_right = 0.25 * (logs[0] - logs[1] + logs[2] - logs[3])
    diagonal = 0.25 * (logs[0] - logs[1] - logs[2] + logs[3])
    # of a contrast, which is half the mean of four rounded values
    rounding = max(c.quantum for c in channels.values()) / np.sqrt(12.0) / 2.0 / float(np.median(speed_of_all[use]))
    stretch = max(4, round(STRETCH_S * rate))
    if times.size < LEAST_STRETCHES * stretch:  # some seconds, however many samples they hold
        return None
    across, known = Lag(0.0, 0.0), (0.0, SIDES_SLIP, SIDES_SLIP)
    for _ in range(PASSES):
        # a lag between left and right looks like a bend while pulling: take out what is known of it
        apart = np.where(use, 2.0 * (left_right - across.seconds * slope), np.nan)
        bend = _of_neighbours(apart, max(2, round(BEND_S * rate / 2.0)))
        use &= ~np.isnan(bend)
        bend = np.where(use, bend - half_sample_mode(bend[use]), 0.0)
        noise = max(mad_sigma(np.diff(apart[use])) / np.sqrt(2.0), 2.0 * rounding)
        straight = max(STRAIGHT, NOISE_REACH * noise)
        found = _fit(
            left_right, [slope, *slips], [wide, *wide_slips], use & (np.abs(bend) < straight), stretch, rounding, known
        )
        if found is None:
            return None
        across = found
    gentle = use & (np.abs(bend) < GENTLE)
    along = _fit(
        front_rear,
        [slope, *slips, bend**2],
        [wide, *wide_slips, bend**2],
        gentle,
        stretch,
        rounding,
        (0.0, AXLES_SLIP, AXLES_SLIP, 0.0),
    )
    twist = _fit(
        diagonal, [slope, *slips, bend**3], [wide, *wide_slips, bend**3], gentle, stretch, rounding, (*known, 0.0)
    )
    return None if along is None or twist is None else (along, across, twist)


def _slope(values: Array, times: Array, reach: int) -> Array:
    """Difference between the samples `reach` before and after over their time; NaN at the ends."""
    out = np.full(values.size, np.nan)
    out[reach:-reach] = (values[2 * reach :] - values[: -2 * reach]) / (times[2 * reach :] - times[: -2 * reach])
    return out


def _of_neighbours(values: Array, reach: int) -> Array:
    """Mean of up to `reach` samples before and after each, without itself; NaN where they are none.

    Chosen by itself, a sample of coarse values is "straight" where it says that there is no lag.
    """
    known = ~np.isnan(values)
    kernel = np.ones(2 * reach + 1)
    kernel[reach] = 0.0
    total = np.convolve(np.where(known, values, 0.0), kernel, mode="same")
    count = np.convolve(known.astype(np.float64), kernel, mode="same")
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(count > 0.5, total / count, np.nan)


def _averaged(values: Array, group: int) -> Array:
    """Means of `group` neighbours; what does not fill a group is left out."""
    whole = values.size // group * group
    return np.asarray(values[:whole].reshape(-1, group).mean(axis=1)) if group > 1 else values


def _fit(
    values: Array,
    columns: list[Array],
    instruments: list[Array],
    use: np.ndarray,
    stretch: int,
    rounding: float,
    known: tuple[float, ...],
) -> Lag | None:
    """Coefficient of the first column beside an intercept and the others, with its error.

    `known`: how large each coefficient is about, 0 for anything.

    Slopes of coarse values are noisy, and a noisy column makes its coefficient too small. The
    `instruments` are the same columns from other samples, whose noise is their own (instrumental
    variables; Wright 1928, from memory). What a few steps of rounding make is no outlier: most differences of coarse
    values are nought, and what tells a lag is who steps first.
    """
    if use.sum() < LEAST_SAMPLES // 2:
        return None
    design = np.column_stack([*columns, np.ones(values.size)])
    scale = np.maximum(np.sqrt(np.mean(design[use] ** 2, axis=0)), 1e-12)
    design = np.where(use[:, None], design / scale, 0.0)
    asked = np.where(use[:, None], np.column_stack([*instruments, np.ones(values.size)]) / scale, 0.0)
    wanted = np.where(use, values, 0.0)
    weight = use.astype(np.float64)
    solution: Array = np.zeros(design.shape[1])
    for _ in range(ROUNDS):
        gram = asked.T @ (design * weight[:, None]) + 1e-9 * np.eye(design.shape[1])
        solution = np.asarray(np.linalg.solve(gram, asked.T @ (wanted * weight)), dtype=np.float64)
        rest = wanted - design @ solution
        spread = max(quick_quantile(np.abs(rest[use]), 0.7), STEPS * rounding, 1e-6)
        weight = use / np.maximum(1.0, np.abs(rest) / (1.5 * spread))
    apart = _without_each(design, asked * weight[:, None], wanted, stretch)
    if apart is None:
        return None
    solution, covariance = solution / scale, apart / np.outer(scale, scale)
    # what slip may do is known before: what the fit says beyond that is taken back from the lag as well
    prior = np.array([*known, 0.0])
    held = np.flatnonzero(prior > 0.0)
    if held.size:
        gain = np.linalg.solve(covariance[np.ix_(held, held)] + np.diag(prior[held] ** 2), covariance[held, 0])
        solution[0] -= float(gain @ solution[held])
        covariance[0, 0] -= float(gain @ covariance[held, 0])
    # no less than by rounding alone, which is much where columns are as good as one
    least = rounding * np.sqrt(abs(float(np.linalg.inv(gram)[0, 0]))) / scale[0]
    sigma = float(np.sqrt(max(covariance[0, 0], least**2)))
    return Lag(float(solution[0]), float(np.hypot(sigma, FLOOR))) if math.isfinite(sigma) else None


def _without_each(design: Array, asked: Array, wanted: Array, stretch: int) -> Array | None:
    """Covariance of the coefficients from the fits without each stretch of samples in turn; ``None`` for too few.

    Leave-one-cluster-out jackknife (Bell and McCaffrey 2002, Survey Methodology 28, 169; from memory): a few hard
    brakings may hold all that is known of a lag, and their own fit runs through them.
    """
    count = wanted.size // stretch
    parts = [part[: count * stretch].reshape(count, stretch, -1) for part in (asked, design, wanted[:, None])]
    grams = np.einsum("gik,gil->gkl", parts[0], parts[1])
    sides = np.einsum("gik,gil->gk", parts[0], parts[2])
    held = np.flatnonzero(np.abs(grams).sum(axis=(1, 2)) > 0.0)
    if held.size < LEAST_STRETCHES:
        return None
    eye = 1e-9 * np.eye(design.shape[1])
    gram, side = grams.sum(axis=0) + eye, sides.sum(axis=0)
    left = np.linalg.solve(gram - grams[held], (side - sides[held])[..., None])[..., 0]
    apart = left - left.mean(axis=0)
    return np.asarray((held.size - 1) / held.size * (apart.T @ apart))
