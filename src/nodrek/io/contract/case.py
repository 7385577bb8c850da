"""Case files: `nodrek.case/1` ↔ `Case`. Absent means unknown; unknown keys survive a load and a save."""

from __future__ import annotations

import json
import os
import tempfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from pydantic_core import ValidationError

from nodrek.core.model import Corner, Finding
from nodrek.core.model.case import (
    Access,
    Case,
    CaseLog,
    CaseVehicle,
    Check,
    Code,
    CodeKind,
    CodeState,
    Layout,
    LogRole,
    Loom,
    LoomReading,
    LoomSegment,
    Quality,
    SensorKind,
    Work,
)
from nodrek.errors import BadRequest, UnreadableFile
from nodrek.io.contract.analysis import plain
from nodrek.io.contract.case_schema import (
    ACCESS,
    CASE,
    CHECK,
    CODE,
    COMPLAINT,
    FINDING,
    LOG,
    LOOM,
    READING,
    SCHEMA,
    SEGMENT,
    SEGMENTS,
    VEHICLE,
    WORK,
    checked,
    others,
)
from nodrek.io.logs.guard import check_file
from nodrek.io.vehicle import vehicle_of

LARGEST_BYTES = 4 * 1024 * 1024
USUAL_CONFIDENCE = 0.9


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
        case = _case(checked(text))
    except ValidationError as error:
        raise BadRequest(_sentence(error)) from None
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


def _case(given: Mapping[str, Any]) -> Case:
    complaint = given.get("complaint") or {}
    extra = others(given, CASE)
    if others(complaint, COMPLAINT):
        extra = {**extra, "complaint": others(complaint, COMPLAINT)}
    return Case(
        vehicle=_vehicle(given.get("vehicle") or {}),
        lamps=tuple(dict.fromkeys(complaint.get("lamps", ()))),
        symptoms=tuple(dict.fromkeys(complaint.get("symptoms", ()))),
        recent_work=tuple(
            Work(w["part"], w.get("corner"), w.get("quality") or Quality.UNKNOWN, others(w, WORK))
            for w in complaint.get("recent_work", ())
        ),
        codes=tuple(
            Code(
                c.get("kind"), c.get("corner"), c.get("state"), c.get("odometer_km"), c.get("text") or "",
                others(c, CODE),
            )
            for c in given.get("codes") or ()
        ),
        logs=tuple(
            CaseLog(entry["path"], entry.get("role") or LogRole.BEFORE, others(entry, LOG))
            for entry in given.get("logs") or ()
        ),
        findings=tuple(
            Finding(
                f["fault"], tuple(dict.fromkeys(f["corners"])), f.get("confidence", USUAL_CONFIDENCE), "",
                f.get("evidence", {}), others(f, FINDING),
            )
            for f in given.get("findings") or ()
        ),
        access=_access(given.get("access") or {}),
        prices={k: v for k, v in (given.get("prices") or {}).items() if v is not None},
        checks=tuple(
            Check(
                c["check"], c.get("corner"), c.get("result"), c.get("value"), c.get("mate_value"),
                c.get("confirmed", False), others(c, CHECK),
            )
            for c in given.get("checks") or ()
        ),
        looms=tuple(_loom(entry) for entry in given.get("looms") or ()),
        extra=extra,
    )  # fmt: skip


def _vehicle(given: Mapping[str, Any]) -> CaseVehicle:
    return CaseVehicle(
        label=given.get("label") or "",
        layout=given.get("layout") or Layout.CAR,
        sensor=given.get("sensor") or SensorKind.UNKNOWN,
        odometer_km=given.get("odometer_km"),
        age_years=given.get("age_years"),
        road_salt=given.get("road_salt"),
        extra=others(given, VEHICLE),
    )


def _access(given: Mapping[str, Any]) -> Access:
    return Access(
        given.get("ring_visible"),
        given.get("sensor_frees_easily"),
        given.get("sides_interchangeable"),
        given.get("scope"),
        given.get("wiring_diagram"),
        others(given, ACCESS),
    )


def _loom(given: Mapping[str, Any]) -> Loom:
    segments = (
        LoomSegment(s["name"], s.get("kind", SEGMENTS[0]), others(s, SEGMENT)) for s in given.get("segments", ())
    )
    readings = (
        LoomReading(r["after"], r.get("ohm"), r.get("pierced", False), r.get("sealed", False), others(r, READING))
        for r in given.get("readings", ())
    )
    return Loom(given["corner"], tuple(segments), tuple(readings), others(given, LOOM))


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
                    **f.extra,
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
                        {**r.extra, "after": r.after, "ohm": r.ohm, "pierced": r.pierced, "sealed": r.sealed}
                        for r in entry.readings
                    ],
                }
                for entry in case.looms
            ],
        ),
    }


def _check(check: Check) -> dict[str, Any]:
    out = _given(corner=check.corner, result=check.result, value=check.value, mate_value=check.mate_value)
    if check.result == "open" and check.value is None:
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
