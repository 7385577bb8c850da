"""What a case file may hold: `nodrek.case/1` as a schema of pydantic's own validating core.

Model classes would say the same, but making them takes longer than all the rest of a diagnosis, and
a command line makes them anew each time it is called. What passes is plain dictionaries in which
every word of a fixed choice is its enumeration and keys that this version does not know are kept.
"""

from __future__ import annotations

from collections.abc import Mapping
from enum import Enum
from functools import lru_cache
from typing import Any

from pydantic_core import SchemaValidator, core_schema

from nodrek.core.model import Corner, Fault
from nodrek.core.model.case import (
    CheckKind,
    CodeKind,
    CodeState,
    Lamp,
    Layout,
    LogRole,
    Quality,
    SensorKind,
    Symptom,
    WorkPart,
)

Schema = core_schema.CoreSchema

SCHEMA = "nodrek.case/1"
MOST_ITEMS = 500
SHORT, LONG = 300, 4000
RESULTS: dict[CheckKind, tuple[str, ...]] = {
    CheckKind.CLEAR_AND_WAIT: ("returns_at_once", "returns_when_moving", "stays_away"),
    CheckKind.UNPLUG_SENSOR: ("reading_changes", "nothing_changes"),
    CheckKind.SPIN_BY_HAND: ("alive", "zero", "erratic", "frozen"),
    CheckKind.SWAP_SENSORS: ("moves_with_sensor", "stays_at_corner"),
    CheckKind.BORROW_SENSOR: ("alive", "dead"),
    CheckKind.PLUG_IN_NEW_SENSOR: ("code_clears", "code_stays"),
    CheckKind.WAVE_MAGNET: ("blips", "nothing"),
    CheckKind.SENSOR_RESISTANCE: ("open",),
    CheckKind.AC_MILLIVOLTS: ("open",),
    CheckKind.FEED_VOLTAGE: ("open",),
    CheckKind.SIGNAL_LEVELS: ("toggles", "steady"),
    CheckKind.SCOPE_SHAPE: ("uniform", "gap_each_turn", "amplitude_wave_each_turn", "ragged", "flat"),
    CheckKind.WIRE_CONTINUITY: ("open",),
    CheckKind.WIGGLE: ("changes", "steady"),
    CheckKind.SHAKE_WHEEL: ("tight", "play"),
    CheckKind.LOOK_AT_RING: ("intact", "gap_or_chip", "lifted_or_rubbed", "missing", "dirty", "cannot_see"),
    CheckKind.LOOK_AT_SENSOR: ("clean", "rust_under_foot", "rubbed_tip", "loose", "wrong_part"),
    CheckKind.LOOK_AT_LEAD: ("intact", "chafed_or_cut", "green_pins"),
    CheckKind.PUSH_SENSOR_HOME: ("recovers", "no_change"),
    CheckKind.SLACK_SENSOR_AND_TURN: ("pushed_out", "still"),
    CheckKind.ASK_CONTROL_UNIT: ("answers", "silent"),
    CheckKind.MEASURE_TYRES: ("same", "different"),
}
SEGMENTS = ("plain", "connector", "bend", "clip", "flexing", "under_cover", "earlier_work")


def _table(*needed: str, **fields: Schema) -> core_schema.TypedDictSchema:
    """An object with these keys, others let through; those not `needed` may be missing."""
    return core_schema.typed_dict_schema(
        {name: core_schema.typed_dict_field(schema, required=name in needed) for name, schema in fields.items()},
        extra_behavior="allow",
    )


def _one_of(kind: type[Enum]) -> Schema:
    return core_schema.enum_schema(kind, list(kind), sub_type="str")


def _list(items: Schema, least: int = 0, most: int = MOST_ITEMS) -> Schema:
    return core_schema.list_schema(items, min_length=least, max_length=most)


def _number(most: float) -> Schema:
    return core_schema.float_schema(ge=0.0, le=most, allow_inf_nan=False)


def _text(most: int, least: int = 0) -> Schema:
    return core_schema.str_schema(max_length=most, min_length=least)


_or_null = core_schema.nullable_schema
_yes_no = core_schema.bool_schema()
_maybe = _or_null(_yes_no)
_amount = _or_null(_number(1e9))
_corner = _or_null(_one_of(Corner))


def _known_result(check: dict[str, Any]) -> dict[str, Any]:
    allowed, result = RESULTS[check["check"]], check.get("result")
    if result is not None and result not in allowed:
        raise ValueError(
            f"result must be one of {', '.join(allowed)} for {check['check'].value}, not {str(result)[:SHORT]!r}"
        )
    return check


VEHICLE = _table(
    label=_or_null(_text(SHORT)),
    layout=_or_null(_one_of(Layout)),
    odometer_km=_amount,
    age_years=_or_null(_number(150.0)),
    road_salt=_maybe,
    sensor=_or_null(_one_of(SensorKind)),
)
WORK = _table("part", corner=_corner, part=_one_of(WorkPart), quality=_or_null(_one_of(Quality)))
COMPLAINT = _table(lamps=_list(_one_of(Lamp)), symptoms=_list(_one_of(Symptom)), recent_work=_list(WORK))
CODE = _table(
    corner=_corner,
    kind=_or_null(_one_of(CodeKind)),
    state=_or_null(_one_of(CodeState)),
    odometer_km=_amount,
    text=_or_null(_text(LONG)),
)
LOG = _table("path", path=_text(LONG, 1), role=_or_null(_one_of(LogRole)))
FINDING = _table(
    "fault",
    "corners",
    fault=_one_of(Fault),
    corners=_list(_one_of(Corner), least=1, most=4),
    confidence=_number(1.0),
    evidence=core_schema.dict_schema(core_schema.str_schema(), core_schema.any_schema()),
)
ACCESS = _table(
    ring_visible=_maybe, sensor_frees_easily=_maybe, sides_interchangeable=_maybe, scope=_maybe, wiring_diagram=_maybe
)
CHECK = _table(
    "check",
    check=_one_of(CheckKind),
    corner=_corner,
    result=_or_null(_text(SHORT)),
    value=_amount,
    mate_value=_amount,
    confirmed=_yes_no,
)
SEGMENT = _table("name", name=_text(SHORT), kind=core_schema.literal_schema(list(SEGMENTS)))
READING = _table(
    "after", after=core_schema.int_schema(ge=0, lt=MOST_ITEMS), ohm=_amount, pierced=_yes_no, sealed=_yes_no
)
LOOM = _table("corner", corner=_one_of(Corner), segments=_list(SEGMENT, most=60), readings=_list(READING))
CASE = _table(
    "schema",
    schema=core_schema.literal_schema([SCHEMA]),
    vehicle=_or_null(VEHICLE),
    complaint=_or_null(COMPLAINT),
    codes=_or_null(_list(CODE)),
    logs=_or_null(_list(LOG)),
    findings=_or_null(_list(FINDING)),
    access=_or_null(ACCESS),
    prices=_or_null(core_schema.dict_schema(_text(SHORT), _amount)),
    checks=_or_null(_list(core_schema.no_info_after_validator_function(_known_result, CHECK))),
    looms=_or_null(_list(LOOM, most=8)),
)


@lru_cache(maxsize=1)
def _validator() -> SchemaValidator:
    return SchemaValidator(CASE)


def checked(text: bytes | str) -> dict[str, Any]:
    """JSON of a case, every known key of its kind; raises pydantic-core's `ValidationError`."""
    out: dict[str, Any] = _validator().validate_json(text, strict=True)
    return out


def others(values: Mapping[str, Any], table: core_schema.TypedDictSchema) -> dict[str, Any]:
    """Keys that this version does not know."""
    return {key: value for key, value in values.items() if key not in table["fields"]}
