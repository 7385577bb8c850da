"""A workshop case: what is known, told, read, measured. Absent means not known."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from nodrek.core.model.corner import Corner
from nodrek.core.model.finding import Finding


class Cause(StrEnum):
    """What can be wrong at a corner; the words are those of the published contract."""

    SENSOR_FAILED = "sensor_failed"
    SENSOR_WRONG_PART = "sensor_wrong_part"
    SENSOR_LOOSE = "sensor_loose"
    GAP_TOO_LARGE = "gap_too_large"
    RING_DAMAGED = "ring_damaged"
    RING_LIFTED = "ring_lifted"
    RING_MISSING = "ring_missing"
    RING_WRONG_COUNT = "ring_wrong_count"
    RING_CONTAMINATED = "ring_contaminated"
    BEARING_PLAY = "bearing_play"
    WIRE_OPEN = "wire_open"
    WIRE_INTERMITTENT = "wire_intermittent"
    CONNECTOR_CORRODED = "connector_corroded"
    LEADS_CROSSED = "leads_crossed"
    CONTROL_UNIT = "control_unit"
    TYRE_MISMATCH = "tyre_mismatch"
    NO_FAULT = "no_fault"


class CheckKind(StrEnum):
    """What a technician can do to tell causes apart."""

    CLEAR_AND_WAIT = "clear_and_wait"
    UNPLUG_SENSOR = "unplug_sensor"
    SPIN_BY_HAND = "spin_by_hand"
    SWAP_SENSORS = "swap_sensors"
    BORROW_SENSOR = "borrow_sensor"
    PLUG_IN_NEW_SENSOR = "plug_in_new_sensor"
    WAVE_MAGNET = "wave_magnet"
    SENSOR_RESISTANCE = "sensor_resistance"
    AC_MILLIVOLTS = "ac_millivolts"
    FEED_VOLTAGE = "feed_voltage"
    SIGNAL_LEVELS = "signal_levels"
    SCOPE_SHAPE = "scope_shape"
    WIRE_CONTINUITY = "wire_continuity"
    WIGGLE = "wiggle"
    SHAKE_WHEEL = "shake_wheel"
    LOOK_AT_RING = "look_at_ring"
    LOOK_AT_SENSOR = "look_at_sensor"
    LOOK_AT_LEAD = "look_at_lead"
    PUSH_SENSOR_HOME = "push_sensor_home"
    SLACK_SENSOR_AND_TURN = "slack_sensor_and_turn"
    ASK_CONTROL_UNIT = "ask_control_unit"
    MEASURE_TYRES = "measure_tyres"

    @property
    def words(self) -> str:
        return self.value.replace("_", " ")


class CodeKind(StrEnum):
    CIRCUIT = "circuit"
    NO_SIGNAL = "no_signal"
    COMPARISON = "comparison"
    RATE = "rate"
    RANGE = "range"
    COMMUNICATION = "communication"
    OTHER = "other"


class CodeState(StrEnum):
    CURRENT = "current"
    STORED = "stored"


class SensorKind(StrEnum):
    PASSIVE = "passive"
    ACTIVE = "active"
    UNKNOWN = "unknown"


class Layout(StrEnum):
    CAR = "car"
    TRAILER_4 = "trailer_4"
    TRAILER_2 = "trailer_2"

    @property
    def corners(self) -> tuple[Corner, ...]:
        return (Corner.RL, Corner.RR) if self is Layout.TRAILER_2 else tuple(Corner)


class Symptom(StrEnum):
    PEDAL_PULSE = "pedal_pulse_near_standstill"
    BRAKES_APPLY = "brakes_apply_on_pull_away"
    KICK_IN_BENDS = "kick_in_bends"
    OVER_BUMPS = "worse_over_bumps"
    WHEN_WET = "worse_when_wet"
    WHEN_COLD = "worse_when_cold"
    SLOWLY_WORSE = "slowly_worse"
    SUDDEN = "sudden"


class Lamp(StrEnum):
    ABS = "abs"
    STABILITY = "stability"
    TRACTION = "traction"
    BRAKE = "brake"
    FOUR_WHEEL_DRIVE = "four_wheel_drive"
    OTHER = "other"


class WorkPart(StrEnum):
    SENSOR = "sensor"
    BEARING = "bearing"
    HUB = "hub"
    SHAFT = "shaft"
    BRAKE = "brake"
    TYRE = "tyre"
    LOOM = "loom"
    IMPACT = "impact"


class Quality(StrEnum):
    MAKER = "maker"
    AFTERMARKET = "aftermarket"
    USED = "used"
    UNKNOWN = "unknown"


class LogRole(StrEnum):
    BEFORE = "before"
    AFTER = "after"
    SPIN = "spin"


Extra = Mapping[str, Any]
"""Keys of a later version or another program, kept as they are."""


@dataclass(frozen=True)
class Work:
    part: WorkPart
    corner: Corner | None = None
    quality: Quality = Quality.UNKNOWN
    extra: Extra = field(default_factory=dict)


@dataclass(frozen=True)
class Code:
    """A trouble code. ``corner`` None: it names none; ``kind`` None: not known."""

    kind: CodeKind | None = None
    corner: Corner | None = None
    state: CodeState | None = None
    odometer_km: float | None = None
    text: str = ""
    extra: Extra = field(default_factory=dict)


@dataclass(frozen=True)
class Check:
    """One check done. ``value``/``mate_value`` in the unit of the check; ``result`` one of its words.

    ``confirmed``: the person stands by a value whose unit looked wrong.
    """

    check: CheckKind
    corner: Corner | None = None
    result: str | None = None
    value: float | None = None
    mate_value: float | None = None
    confirmed: bool = False
    extra: Extra = field(default_factory=dict)


@dataclass(frozen=True)
class CaseLog:
    path: str
    role: LogRole = LogRole.BEFORE
    extra: Extra = field(default_factory=dict)


@dataclass(frozen=True)
class Access:
    """What can be reached and what is at hand; None is not known."""

    ring_visible: bool | None = None
    sensor_frees_easily: bool | None = None
    sides_interchangeable: bool | None = None
    scope: bool | None = None
    wiring_diagram: bool | None = None
    extra: Extra = field(default_factory=dict)


@dataclass(frozen=True)
class CaseVehicle:
    """What a case knows of its vehicle beyond what the comparison of speeds uses."""

    label: str = ""
    layout: Layout = Layout.CAR
    sensor: SensorKind = SensorKind.UNKNOWN
    odometer_km: float | None = None
    age_years: float | None = None
    road_salt: bool | None = None
    extra: Extra = field(default_factory=dict)
    """Everything else of the vehicle object, read by the comparison: teeth, tyres, track …"""


@dataclass(frozen=True)
class LoomSegment:
    """One stretch or point of a wire, in order from the control unit to the sensor."""

    name: str
    kind: str = "plain"
    extra: Extra = field(default_factory=dict)


@dataclass(frozen=True)
class LoomReading:
    """Ohms between the control unit's end and the far end of segment ``after`` (index); None is open."""

    after: int
    ohm: float | None
    pierced: bool = False
    sealed: bool = False
    extra: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Loom:
    corner: Corner
    segments: tuple[LoomSegment, ...] = ()
    readings: tuple[LoomReading, ...] = ()
    extra: Extra = field(default_factory=dict)


@dataclass(frozen=True)
class Case:
    """One job. ``prices`` in the user's own money; key ``hour`` is the price of an hour's work."""

    vehicle: CaseVehicle = field(default_factory=CaseVehicle)
    lamps: tuple[Lamp, ...] = ()
    symptoms: tuple[Symptom, ...] = ()
    recent_work: tuple[Work, ...] = ()
    codes: tuple[Code, ...] = ()
    logs: tuple[CaseLog, ...] = ()
    findings: tuple[Finding, ...] = ()
    access: Access = field(default_factory=Access)
    prices: Mapping[str, float] = field(default_factory=dict)
    checks: tuple[Check, ...] = ()
    looms: tuple[Loom, ...] = ()
    extra: Extra = field(default_factory=dict)
