"""Control units: different ways of making a speed out of edges.

Each reports ``(times, speeds)``: when a value was computed and the value in m/s. They
differ most in what a lost edge does to the value, which is why there are several.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from scipy.signal import bilinear, lfilter, lfilter_zi

from nodrek.core.model import Array


class ControlUnit(Protocol):
    """From edge times (s, rising) to speeds over the first `duration` s."""

    def speeds(self, edges: Array, duration: float, pitch: float) -> tuple[Array, Array]:
        """`pitch`: metres the unit believes the wheel rolls per edge."""
        ...


def _new_edges(edges: Array, when: Array) -> tuple[np.ndarray, np.ndarray]:
    """Count of edges up to each time of `when`, and up to the time before it."""
    now = np.searchsorted(edges, when, side="right")
    before = np.concatenate([[0], now[:-1]])
    return now, before


def _hold(
    values: Array, fresh: np.ndarray, when: Array, last_edge: Array, pitch: float, time_out: float, keeps: bool
) -> Array:
    """Keep the last fresh value until the time-out; where not `keeps`, never more than the silence since the last
    edge allows."""
    index = np.where(fresh, np.arange(values.size), 0)
    index = np.maximum.accumulate(index)
    held = np.where(fresh[index], values[index], 0.0)
    silence = when - last_edge
    ceiling = np.where(silence > 0, pitch / np.maximum(silence, 1e-9), np.inf)
    if not keeps:
        held = np.where(fresh, held, np.minimum(held, ceiling))
    return np.where(silence > time_out, 0.0, held)


@dataclass(frozen=True)
class SpanOfEdges:
    """Whole edges in the window over the time from the first to the last of them; ``keeps``: no new edge, no new
    value until the time-out."""

    window: float = 0.010
    time_out: float = 0.25
    keeps: bool = False

    def speeds(self, edges: Array, duration: float, pitch: float) -> tuple[Array, Array]:
        when = np.arange(self.window, duration, self.window)
        now, before = _new_edges(edges, when)
        padded = np.concatenate([[-1e9], edges])
        span = padded[now] - padded[before]
        fresh = (now > before) & (before > 0)
        value = np.where(fresh, (now - before) * pitch / np.maximum(span, 1e-9), 0.0)
        return when, _hold(value, fresh, when, padded[now], pitch, self.time_out, self.keeps)


@dataclass(frozen=True)
class LastPeriod:
    """The mean of the last few periods only, whatever the window."""

    window: float = 0.010
    periods: int = 1
    time_out: float = 0.25
    keeps: bool = False

    def speeds(self, edges: Array, duration: float, pitch: float) -> tuple[Array, Array]:
        when = np.arange(self.window, duration, self.window)
        now, before = _new_edges(edges, when)
        padded = np.concatenate([np.full(self.periods + 1, -1e9), edges])
        at = now + self.periods
        span = padded[at] - padded[at - self.periods]
        fresh = (now > before) & (now > self.periods)
        value = np.where(fresh, self.periods * pitch / np.maximum(span, 1e-9), 0.0)
        return when, _hold(value, fresh, when, padded[at], pitch, self.time_out, self.keeps)


@dataclass(frozen=True)
class CountPerWindow:
    """Edges counted in a long sliding window; coarse, and blind below one edge a window."""

    window: float = 0.100
    step: float = 0.020

    def speeds(self, edges: Array, duration: float, pitch: float) -> tuple[Array, Array]:
        when = np.arange(self.step, duration, self.step)
        now = np.searchsorted(edges, when, side="right")
        then = np.searchsorted(edges, when - self.window, side="right")
        counted = (now - then).astype(np.float64)
        return when, counted * pitch / self.window


@dataclass(frozen=True)
class SmoothedSpan:
    """Another unit's values through a moving mean, after a check of plausibility.

    Falls of more than `refuse` from one value to the next are replaced by the value
    before, once: some units hide a single lost edge completely that way.
    """

    inner: ControlUnit = SpanOfEdges()
    mean_of: int = 4
    refuse: float | None = None

    def speeds(self, edges: Array, duration: float, pitch: float) -> tuple[Array, Array]:
        when, value = self.inner.speeds(edges, duration, pitch)
        if self.refuse is not None:
            before = np.concatenate([value[:1], value[:-1]])
            after = np.concatenate([value[1:], value[-1:]])
            fall = (value < (1 - self.refuse) * before) & (after > (1 - self.refuse) * before)
            value = np.where(fall, before, value)
        total = np.cumsum(np.concatenate([np.zeros(self.mean_of), value]))
        return when, (total[self.mean_of :] - total[: -self.mean_of]) / self.mean_of


@dataclass(frozen=True)
class LowPass:
    """Another unit's values through a filter of first order (`time_constant` s)."""

    inner: ControlUnit = SpanOfEdges()
    time_constant: float = 0.05

    def speeds(self, edges: Array, duration: float, pitch: float) -> tuple[Array, Array]:
        when, value = self.inner.speeds(edges, duration, pitch)
        if value.size < 2:
            return when, value
        keep = float(np.exp(-(when[1] - when[0]) / self.time_constant))
        return when, lfilter([1.0 - keep], [1.0, -keep], value, zi=[keep * value[0]])[0]


@dataclass(frozen=True)
class SlewLimited:
    """Another unit's values, which may change by no more than `limit` m/s²: no vehicle does.

    A lost edge becomes a small dent that mends as slowly as it came, a short break a shallow one.
    """

    inner: ControlUnit = SpanOfEdges()
    limit: float = 20.0

    def speeds(self, edges: Array, duration: float, pitch: float) -> tuple[Array, Array]:
        when, value = self.inner.speeds(edges, duration, pitch)
        if value.size < 2:
            return when, value
        step = self.limit * float(when[1] - when[0])
        shown = value.tolist()
        for k in range(1, len(shown)):
            before = shown[k - 1]
            shown[k] = min(max(shown[k], before - step), before + step)
        return when, np.array(shown)


@dataclass(frozen=True)
class HoldLast:
    """Another unit's values; a fall of more than `refuse` is not believed for `longest` values.

    Until then the value before it is shown: short breaks and lost edges become flat spots.
    """

    inner: ControlUnit = SpanOfEdges()
    refuse: float = 0.4
    longest: int = 8

    def speeds(self, edges: Array, duration: float, pitch: float) -> tuple[Array, Array]:
        when, value = self.inner.speeds(edges, duration, pitch)
        shown = value.copy()
        settled = 0
        for at in np.flatnonzero(value[1:] < (1.0 - self.refuse) * value[:-1]) + 1:
            if at < settled:
                continue
            believed = shown[at - 1]
            back = np.flatnonzero(value[at : at + self.longest] >= (1.0 - self.refuse) * believed)
            settled = int(at) + (int(back[0]) if back.size else self.longest)
            shown[at:settled] = believed
        return when, shown


@dataclass(frozen=True)
class Tracking:
    """Another unit's values followed by a loop of second order (`bandwidth` Hz), which swings past its mark.

    Source: Gardner, Phaselock Techniques (2005), ch. 2; from memory.
    """

    inner: ControlUnit = SpanOfEdges()
    bandwidth: float = 4.0
    damping: float = 0.6

    def speeds(self, edges: Array, duration: float, pitch: float) -> tuple[Array, Array]:
        when, value = self.inner.speeds(edges, duration, pitch)
        if value.size < 2:
            return when, value
        corner = 2.0 * np.pi * self.bandwidth
        b, a = bilinear([2.0 * self.damping * corner, corner**2], [1.0, 2.0 * self.damping * corner, corner**2],
                        fs=1.0 / float(when[1] - when[0]))  # fmt: skip
        return when, np.maximum(lfilter(b, a, value, zi=lfilter_zi(b, a) * value[0])[0], 0.0)


def substituted(speeds: Sequence[tuple[Array, Array]], refuse: float) -> list[tuple[Array, Array]]:
    """Values of all corners where one that falls more than `refuse` below the middle of all is not believed: the
    middle is shown in its place. All corners share their times."""
    shortest = min(when.size for when, _ in speeds)
    values = np.array([value[:shortest] for _, value in speeds])
    middle = np.median(values, axis=0)
    shown = np.where(values < (1.0 - refuse) * middle, middle, values)
    return [(when[:shortest], row) for (when, _), row in zip(speeds, shown, strict=True)]
