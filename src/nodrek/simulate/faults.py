"""Faults as physical changes to one link of one corner's chain."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import StrEnum

import numpy as np

from nodrek.core.model import Array, Corner
from nodrek.simulate.drive import Drive
from nodrek.simulate.ring import Ring, WeakArc
from nodrek.simulate.sensor import CoilSensor, Lead, LosingSensor, Sensor


class Cause(StrEnum):
    """What is physically wrong."""

    MISSING_TEETH = "missing_teeth"
    CRACKED_RING = "cracked_ring"
    ECCENTRIC_RING = "eccentric_ring"
    WHEEL_SIZE = "wheel_size"
    DEAD = "dead"
    FROZEN = "frozen"
    BROKEN_LEAD = "broken_lead"
    WIDE_GAP = "wide_gap"
    DIRTY_ENCODER = "dirty_encoder"
    LIFTED_RING = "lifted_ring"
    WRONG_COUNT = "wrong_count"
    CROSSED = "crossed"


class Trigger(StrEnum):
    NONE = "none"
    BUMPS = "bumps"
    BENDS = "bends"
    SPEED = "speed"


@dataclass(frozen=True)
class SimulatedFault:
    """One fault. Only the fields that its cause uses matter.

    ``count`` teeth lost; ``size``: pitches a crack opens, amplitude of an eccentric
    ring's relative swing, relative change of a wheel's circumference, speed in m/s from
    which a corner with a wide gap reads, share of edges that a dirty encoder loses, or
    part of the turn on which a lifted ring is weak;
    ``second_at``: turns from the first place to another lost tooth, 0 where there is none;
    ``per_minute`` breaks of about ``length_s``, during which the part ``lets_through`` of the
    edges still comes; ``value`` m/s that a frozen corner shows; ``from_s`` when it begins.
    A crossed corner exchanges leads with its mate; a
    wrong ring has ``count`` teeth more (less, where negative) than is expected.
    """

    corner: Corner
    cause: Cause
    count: int = 1
    size: float = 0.0
    per_minute: float = 6.0
    length_s: float = 0.12
    second_at: float = 0.0
    lets_through: float = 0.0
    trigger: Trigger = Trigger.NONE
    value: float | None = None
    from_s: float = 0.0


def damage_ring(ring: Ring, fault: SimulatedFault, rng: np.random.Generator) -> Ring:
    """The ring after the fault; the same ring where the fault is elsewhere."""
    if fault.cause is Cause.MISSING_TEETH:
        first = int(rng.integers(ring.teeth))
        lost = {(first + i) % ring.teeth for i in range(fault.count)}
        if fault.second_at:
            lost.add((first + round(fault.second_at * ring.teeth)) % ring.teeth)
        return replace(ring, missing=ring.missing | lost)
    if fault.cause is Cause.CRACKED_RING:
        return replace(ring, cracked=fault.size)
    if fault.cause is Cause.ECCENTRIC_RING:
        return replace(ring, eccentricity=fault.size)
    if fault.cause is Cause.LIFTED_RING:
        # further from the sensor on one side, and out of centre with it
        arc = WeakArc(float(rng.random()), fault.size, float(rng.uniform(0.15, 0.45)), soft=bool(rng.random() < 0.5))
        return replace(ring, weak=(*ring.weak, arc), eccentricity=float(rng.uniform(0.001, 0.006)))
    if fault.cause is Cause.WRONG_COUNT:
        return replace(ring, teeth=ring.teeth + fault.count)
    return ring


def change_sensor(sensor: Sensor, fault: SimulatedFault, teeth: int, circumference: float) -> Sensor:
    """The sensor as it works with this fault in front of it."""
    if fault.cause is Cause.WIDE_GAP:
        return CoilSensor(wake_rate=fault.size * teeth / circumference)
    if fault.cause is Cause.LIFTED_RING:
        # pressed rings, which rust lifts, are read by coils
        return sensor if isinstance(sensor, CoilSensor) else CoilSensor(wake_rate=1.2 * teeth / circumference)
    if fault.cause is Cause.DIRTY_ENCODER:
        return LosingSensor(sensor, fault.size)
    return sensor


def break_lead(lead: Lead, fault: SimulatedFault, drive: Drive, bumps: Array, rng: np.random.Generator) -> Lead:
    """Windows of silence, at random or where the car passes a bump."""
    end = float(drive.t[-1])
    if fault.cause is Cause.DEAD:
        return replace(lead, breaks=(*lead.breaks, (fault.from_s, end + 1.0)))
    if fault.cause is not Cause.BROKEN_LEAD:
        return lead
    wanted = max(1, rng.poisson(fault.per_minute * end / 60.0))
    if fault.trigger in (Trigger.BENDS, Trigger.SPEED):
        # where the lead is pulled one way, or shakes at speed
        fit = drive.curvature * drive.speed**2 > 0.8
        if fault.trigger is Trigger.SPEED:
            fit = drive.speed > np.quantile(drive.speed, 0.75)
        at = np.flatnonzero(fit) if fit.any() else np.arange(drive.t.size)
        starts = np.sort(drive.t[rng.choice(at, wanted)])
    elif fault.trigger is Trigger.BUMPS and len(bumps):
        passed = bumps[bumps[:, 0] < drive.distance[-1], 0]
        where = np.sort(rng.choice(passed, min(wanted, passed.size), replace=False))
        starts = np.interp(where, drive.distance, drive.t)
    else:
        starts = np.sort(rng.uniform(fault.from_s, end, wanted))
    lengths = fault.length_s * rng.lognormal(0.0, 0.5, starts.size)
    windows = tuple((float(s), float(s + n)) for s, n in zip(starts, lengths, strict=True))
    return replace(lead, breaks=(*lead.breaks, *windows), lets_through=fault.lets_through)


def freeze(times: Array, speeds: Array, fault: SimulatedFault) -> Array:
    """The control unit's values when its input hangs."""
    if fault.cause is not Cause.FROZEN:
        return speeds
    after = times >= fault.from_s
    if not after.any():
        return speeds
    held = fault.value if fault.value is not None else float(speeds[np.argmax(after)])
    return np.where(after, held, speeds)
