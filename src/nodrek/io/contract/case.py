"""Case files: `nodrek.case/1` ↔ `Case`. Absent means unknown; unknown keys survive a load and a save."""

from __future__ import annotations

import json
import os
import tempfile
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from nodrek.core.model import Corner, Fault, Finding
from nodrek.core.model.case import (
    Access,
    Case,
    CaseLog,
    CaseVehicle,
    Check,
    CheckKind,
    Code,
    CodeKind,
    CodeState,
    Lamp,
    Layout,
    LogRole,
    Loom,
    LoomReading,
    LoomSegment,
    Quality,
    SensorKind,
    Symptom,
    Work,
    WorkPart,
)
from nodrek.errors import BadRequest, UnreadableFile
from nodrek.io.contract.analysis import plain
from nodrek.io.logs.guard import check_file
from nodrek.io.vehicle import vehicle_of

SCHEMA = "nodrek.case/1"
LARGEST_BYTES = 4 * 1024 * 1024
MOST_ITEMS = 500
SHORT, LONG = 300, 4000

Positive = Annotated[float, Field(ge=0.0, le=1e9, allow_inf_nan=False)]
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


class _Model(BaseModel):
    # parts are built once, within the whole, and only when a case is read
    model_config = ConfigDict(extra="allow", strict=True, defer_build=True)

    @property
    def others(self) -> dict[str, Any]:
        """Keys that this version does not know."""
        return dict(self.__pydantic_extra__ or {})


class VehicleModel(_Model):
    label: Annotated[str, Field(max_length=SHORT)] | None = None
    layout: Layout | None = None
    odometer_km: Positive | None = None
    age_years: Annotated[float, Field(ge=0.0, le=150.0, allow_inf_nan=False)] | None = None
    road_salt: bool | None = None
    sensor: SensorKind | None = None


class WorkModel(_Model):
    corner: Corner | None = None
    part: WorkPart
    quality: Quality | None = None


class ComplaintModel(_Model):
    lamps: Annotated[list[Lamp], Field(max_length=MOST_ITEMS)] = []
    symptoms: Annotated[list[Symptom], Field(max_length=MOST_ITEMS)] = []
    recent_work: Annotated[list[WorkModel], Field(max_length=MOST_ITEMS)] = []


class CodeModel(_Model):
    corner: Corner | None = None
    kind: CodeKind | None = None
    state: CodeState | None = None
    odometer_km: Positive | None = None
    text: Annotated[str, Field(max_length=LONG)] | None = None


class LogModel(_Model):
    path: Annotated[str, Field(min_length=1, max_length=LONG)]
    role: LogRole | None = None


class FindingModel(_Model):
    fault: Fault
    corners: Annotated[list[Corner], Field(min_length=1, max_length=4)]
    confidence: Annotated[float, Field(ge=0.0, le=1.0)] = 0.9
    evidence: dict[str, Any] = {}


class AccessModel(_Model):
    ring_visible: bool | None = None
    sensor_frees_easily: bool | None = None
    sides_interchangeable: bool | None = None
    scope: bool | None = None
    wiring_diagram: bool | None = None


class CheckModel(_Model):
    check: CheckKind
    corner: Corner | None = None
    result: Annotated[str, Field(max_length=SHORT)] | None = None
    value: Positive | None = None
    mate_value: Positive | None = None
    confirmed: bool = False

    @model_validator(mode="after")
    def _known_result(self) -> CheckModel:
        allowed = RESULTS[self.check]
        if self.result is not None and self.result not in allowed:
            raise ValueError(f"result must be one of {', '.join(allowed)} for {self.check.value}, not {self.result!r}")
        return self


class SegmentModel(_Model):
    name: Annotated[str, Field(max_length=SHORT)]
    kind: Literal["plain", "connector", "bend", "clip", "flexing", "under_cover", "earlier_work"] = "plain"


class ReadingModel(_Model):
    after: Annotated[int, Field(ge=0, lt=MOST_ITEMS)]
    ohm: Positive | None = None
    pierced: bool = False
    sealed: bool = False


class LoomModel(_Model):
    corner: Corner
    segments: Annotated[list[SegmentModel], Field(max_length=60)] = []
    readings: Annotated[list[ReadingModel], Field(max_length=MOST_ITEMS)] = []


class CaseModel(_Model):
    schema_name: Annotated[Literal["nodrek.case/1"], Field(alias="schema")]
    vehicle: VehicleModel | None = None
    complaint: ComplaintModel | None = None
    codes: Annotated[list[CodeModel], Field(max_length=MOST_ITEMS)] | None = None
    logs: Annotated[list[LogModel], Field(max_length=MOST_ITEMS)] | None = None
    findings: Annotated[list[FindingModel], Field(max_length=MOST_ITEMS)] | None = None
    access: AccessModel | None = None
    prices: dict[Annotated[str, Field(max_length=SHORT)], Positive | None] | None = None
    checks: Annotated[list[CheckModel], Field(max_length=MOST_ITEMS)] | None = None
    looms: Annotated[list[LoomModel], Field(max_length=8)] | None = None


def read_case(path: Path) -> Case:
    """Read a case file; raises `UnreadableFile` or `BadRequest` with the place inside the file."""
    if check_file(path) > LARGEST_BYTES:
        raise UnreadableFile(f"{path} is too large for a case file: choose the right file.")
    try:
        return parse_case(path.read_bytes().removeprefix(b"\xef\xbb\xbf"))
    except BadRequest as error:
        raise BadRequest(f"{path}: {error}") from None
    except OSError as error:
        raise UnreadableFile(f"{path} cannot be read ({error.strerror}): check its permissions.") from error


def parse_case(text: bytes | str) -> Case:
    """JSON of a case → `Case`; raises `BadRequest` with the path inside the document."""
    try:
        model = CaseModel.model_validate_json(text)
    except ValidationError as error:
        raise BadRequest(_sentence(error)) from None
    case = _case(model)
    vehicle_of(case.vehicle.extra, "vehicle.")  # what the comparison of its logs will use must make sense
    known = set(case.vehicle.layout.corners)
    for place, corner in _corners_in(case):
        if corner is not None and corner not in known:
            raise BadRequest(f"{place}: this vehicle has no {corner.value} corner: correct it or vehicle.layout.")
    return case


def _corners_in(case: Case) -> list[tuple[str, Corner | None]]:
    out: list[tuple[str, Corner | None]] = [(f"checks[{i}].corner", c.corner) for i, c in enumerate(case.checks)]
    out += [(f"codes[{i}].corner", c.corner) for i, c in enumerate(case.codes)]
    return out + [(f"findings[{i}].corners", x) for i, f in enumerate(case.findings) for x in f.corners]


def _sentence(error: ValidationError) -> str:
    """One sentence for the first error: the path inside the document and what belongs there."""
    first = error.errors(include_url=False)[0]
    place = ""
    for part in first["loc"]:
        place += f"[{part}]" if isinstance(part, int) else f".{part}" if place else str(part)
    told = first["msg"].removeprefix("Value error, ")
    given = first.get("input")
    if isinstance(given, (str, int, float)) and str(given)[:40] not in told:
        told += f", not {str(given)[:40]!r}"
    if first["type"] == "value_error":
        place += ".result"
    more = f" ({error.error_count() - 1} more like this)" if error.error_count() > 1 else ""
    return f"{place or 'case'}: {told[:300]}{more}: correct it and try again."


def _case(model: CaseModel) -> Case:
    vehicle = model.vehicle or VehicleModel()
    complaint = model.complaint or ComplaintModel()
    access = model.access or AccessModel()
    extra = model.others
    if complaint.others:
        extra = {**extra, "complaint": complaint.others}
    return Case(
        vehicle=CaseVehicle(
            label=vehicle.label or "",
            layout=vehicle.layout or Layout.CAR,
            sensor=vehicle.sensor or SensorKind.UNKNOWN,
            odometer_km=vehicle.odometer_km,
            age_years=vehicle.age_years,
            road_salt=vehicle.road_salt,
            extra=vehicle.others,
        ),
        lamps=tuple(dict.fromkeys(complaint.lamps)),
        symptoms=tuple(dict.fromkeys(complaint.symptoms)),
        recent_work=tuple(
            Work(w.part, w.corner, w.quality or Quality.UNKNOWN, w.others) for w in complaint.recent_work
        ),
        codes=tuple(Code(c.kind, c.corner, c.state, c.odometer_km, c.text or "", c.others) for c in model.codes or ()),
        logs=tuple(CaseLog(entry.path, entry.role or LogRole.BEFORE, entry.others) for entry in model.logs or ()),
        findings=tuple(
            Finding(f.fault, tuple(dict.fromkeys(f.corners)), f.confidence, "", f.evidence)
            for f in model.findings or ()
        ),
        access=Access(
            access.ring_visible,
            access.sensor_frees_easily,
            access.sides_interchangeable,
            access.scope,
            access.wiring_diagram,
            access.others,
        ),
        prices={k: v for k, v in (model.prices or {}).items() if v is not None},
        checks=tuple(
            Check(c.check, c.corner, c.result, c.value, c.mate_value, c.confirmed, c.others) for c in model.checks or ()
        ),
        looms=tuple(
            Loom(
                entry.corner,
                tuple(LoomSegment(s.name, s.kind, s.others) for s in entry.segments),
                tuple(LoomReading(r.after, r.ohm, r.pierced, r.sealed) for r in entry.readings),
                entry.others,
            )
            for entry in model.looms or ()
        ),
        extra=extra,
    )


def case_json(case: Case) -> dict[str, Any]:
    """`Case` → JSON-ready object; what is not known is left out, unknown keys come back."""
    v = case.vehicle
    vehicle = {
        **v.extra,
        **_given(
            label=v.label,
            layout=None if v.layout is Layout.CAR else v.layout.value,
            sensor=None if v.sensor is SensorKind.UNKNOWN else v.sensor.value,
            odometer_km=v.odometer_km,
            age_years=v.age_years,
            road_salt=v.road_salt,
        ),
    }
    extra = dict(case.extra)
    complaint = {
        **extra.pop("complaint", {}),
        **_given(
            lamps=[lamp.value for lamp in case.lamps],
            symptoms=[s.value for s in case.symptoms],
            recent_work=[
                {**w.extra, **_given(corner=w.corner, part=w.part.value, quality=w.quality.value)}
                for w in case.recent_work
            ],
        ),
    }
    a = case.access
    return {
        "schema": SCHEMA,
        **extra,
        **_given(
            vehicle=vehicle,
            complaint=complaint,
            codes=[
                {
                    **c.extra,
                    **_given(corner=c.corner, kind=c.kind, state=c.state, odometer_km=c.odometer_km, text=c.text),
                }
                for c in case.codes
            ],
            logs=[{**entry.extra, "path": entry.path, "role": entry.role.value} for entry in case.logs],
            findings=[
                {
                    "fault": f.fault.value,
                    "corners": [c.value for c in f.corners],
                    "confidence": f.confidence,
                    "evidence": {k: plain(v) for k, v in f.evidence.items()},
                }
                for f in case.findings
            ],
            access={
                **a.extra,
                **_given(
                    ring_visible=a.ring_visible,
                    sensor_frees_easily=a.sensor_frees_easily,
                    sides_interchangeable=a.sides_interchangeable,
                    scope=a.scope,
                    wiring_diagram=a.wiring_diagram,
                ),
            },
            prices=dict(case.prices),
            checks=[_check(c) for c in case.checks],
            looms=[
                {
                    **entry.extra,
                    "corner": entry.corner.value,
                    "segments": [{**s.extra, "name": s.name, "kind": s.kind} for s in entry.segments],
                    "readings": [
                        {"after": r.after, "ohm": r.ohm, "pierced": r.pierced, "sealed": r.sealed}
                        for r in entry.readings
                    ],
                }
                for entry in case.looms
            ],
        ),
    }


def _check(check: Check) -> dict[str, Any]:
    out = _given(corner=check.corner, result=check.result, value=check.value, mate_value=check.mate_value)
    if check.result == "open":
        out["value"] = None
    if check.confirmed:
        out["confirmed"] = True
    return {**check.extra, "check": check.check.value, **out}


def _given(**values: Any) -> dict[str, Any]:
    """Only what is known."""
    return {
        k: (str(v) if isinstance(v, Corner | CodeState | CodeKind) else v)
        for k, v in values.items()
        if v not in (None, "", [], {})
    }


def write_case(case: Case, path: Path) -> None:
    """Write a case so that a power cut leaves the old file or the new one, never half of one."""
    text = json.dumps(case_json(case), ensure_ascii=False, indent=1) + "\n"
    try:
        handle, name = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
        with os.fdopen(handle, "w", encoding="utf-8") as file:
            file.write(text)
            file.flush()
            os.fsync(file.fileno())
        os.replace(name, path)
    except OSError as error:
        raise UnreadableFile(f"{path} cannot be written ({error.strerror}): choose another folder.") from error
