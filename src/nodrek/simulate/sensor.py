"""Sensors and their leads: which edges reach the control unit, and when."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

import numpy as np

from nodrek.core.model import Array


class Sensor(Protocol):
    """Anything that turns passing teeth into electrical edges."""

    def sense(self, times: Array, strength: Array, rng: np.random.Generator) -> Array:
        """Times (s, rising) of the edges that come out; may be fewer than went in."""
        ...


@dataclass(frozen=True)
class CoilSensor:
    """Passive: voltage grows with the rate of teeth, so slow wheels are silent.

    ``wake_rate``: teeth per second at which a tooth of strength 1 is just seen;
    ``edges_a_tooth``: 2 where falling edges come through as well.
    """

    wake_rate: float = 30.0
    jitter: float = 15e-6
    edges_a_tooth: int = 1

    def sense(self, times: Array, strength: Array, rng: np.random.Generator) -> Array:
        like = self.edges_a_tooth
        if times.size < 2 * like:
            return times[:0]
        apart = times[like:] - times[:-like]
        # a tooth beside a gap is as loud as any: its voltage is made by its own two flanks
        after, before = np.append(apart, apart[-like:]), np.append(apart[:like], apart)
        nearest = np.minimum(after, before)
        rate = 1.0 / np.maximum(nearest, 1e-6)
        amplitude = strength * rate * (1.0 + 0.03 * rng.standard_normal(times.size))
        kept = times[amplitude > self.wake_rate]
        return np.sort(kept + self.jitter * rng.standard_normal(kept.size))


@dataclass(frozen=True)
class ActiveSensor:
    """Fed by the control unit: switches at any speed, unless the field is too weak."""

    threshold: float = 0.35
    jitter: float = 8e-6

    def sense(self, times: Array, strength: Array, rng: np.random.Generator) -> Array:
        field = strength * (1.0 + 0.04 * rng.standard_normal(times.size))
        kept = times[field > self.threshold]
        return np.sort(kept + self.jitter * rng.standard_normal(kept.size))


@dataclass(frozen=True)
class LosingSensor:
    """Any sensor before a dirty ring: edges go missing at no fixed place, some come twice.

    ``share`` of edges is lost; a tenth as many are doubled.
    """

    inner: Sensor
    share: float = 0.03

    def sense(self, times: Array, strength: Array, rng: np.random.Generator) -> Array:
        edges = self.inner.sense(times, strength, rng)
        # how bad it is drifts, as dirt moves
        level = self.share * rng.lognormal(0.0, 0.3)
        kept = edges[rng.random(edges.size) >= level]
        if kept.size < 2:
            return kept
        doubled = np.flatnonzero(rng.random(kept.size - 1) < 0.1 * level)
        between = kept[doubled] + rng.uniform(0.2, 0.8, doubled.size) * (kept[doubled + 1] - kept[doubled])
        return np.sort(np.concatenate([kept, between]))


@dataclass(frozen=True)
class Lead:
    """The wire: windows of time (s) in which nothing gets through.

    ``chatter`` adds that many spurious edges per second while a contact opens and
    closes; the part ``lets_through`` of the true ones comes through meanwhile.
    """

    breaks: tuple[tuple[float, float], ...] = ()
    chatter: float = 0.0
    lets_through: float = 0.0

    def carry(self, edges: Array, rng: np.random.Generator) -> Array:
        keep = np.ones(edges.size, dtype=bool)
        extra = []
        for start, stop in self.breaks:
            inside = (edges >= start) & (edges < stop)
            keep &= ~inside | (rng.random(edges.size) < self.lets_through) if self.lets_through else ~inside
            count = rng.poisson(self.chatter * (stop - start))
            extra.append(rng.uniform(start, stop, count))
        return np.sort(np.concatenate([edges[keep], *extra]))
