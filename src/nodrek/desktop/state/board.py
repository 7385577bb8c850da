"""Complaint, Codes and Prove as boards of large choices: every word is finished here."""

from __future__ import annotations

from dataclasses import dataclass

from nodrek.core.diagnosis.measured import MEASURED
from nodrek.core.model import Corner
from nodrek.core.model.case import (
    Case,
    Check,
    CheckKind,
    CodeKind,
    CodeState,
    Lamp,
    Layout,
    Quality,
    SensorKind,
    Symptom,
    WorkPart,
)
from nodrek.core.model.diagnosis import Diagnosis, Policy
from nodrek.core.model.knowledge import Knowledge

SYMPTOMS = {
    Symptom.PEDAL_PULSE: "pedal pulses in the last metres",
    Symptom.BRAKES_APPLY: "brakes apply on pull-away",
    Symptom.KICK_IN_BENDS: "kicks in bends",
    Symptom.OVER_BUMPS: "worse over bumps",
    Symptom.WHEN_WET: "worse when wet",
    Symptom.WHEN_COLD: "worse when cold",
    Symptom.SLOWLY_WORSE: "came slowly",
    Symptom.SUDDEN: "came suddenly",
}
LAMPS = {
    Lamp.ABS: "anti-lock",
    Lamp.STABILITY: "stability",
    Lamp.TRACTION: "traction",
    Lamp.BRAKE: "brake",
    Lamp.FOUR_WHEEL_DRIVE: "four-wheel drive",
    Lamp.OTHER: "another one",
}
KINDS = {
    CodeKind.CIRCUIT: "electrical circuit",
    CodeKind.NO_SIGNAL: "no signal",
    CodeKind.COMPARISON: "implausible",
    CodeKind.RATE: "rate of change",
    CodeKind.RANGE: "out of range",
    CodeKind.COMMUNICATION: "communication",
    CodeKind.OTHER: "other",
}
LAYOUTS = {Layout.CAR: "car or van", Layout.TRAILER_4: "trailer, four sensors", Layout.TRAILER_2: "trailer, two"}
SENSORS = {SensorKind.PASSIVE: "coil (makes its own voltage)", SensorKind.ACTIVE: "active (fed by the unit)"}
QUALITIES = {Quality.MAKER: "maker's part", Quality.AFTERMARKET: "aftermarket", Quality.USED: "used part"}
CAN = {
    "ring_visible": "ring can be seen",
    "sensor_frees_easily": "sensor comes out easily",
    "sides_interchangeable": "left and right sensors are alike",
    "scope": "a scope is at hand",
    "wiring_diagram": "wiring diagram is at hand",
}
CANNOT = {
    "ring_visible": "ring is hidden",
    "sensor_frees_easily": "sensor is seized",
    "sides_interchangeable": "sides differ",
    "scope": "no scope",
    "wiring_diagram": "no wiring diagram",
}
PRICES = {
    "sensor": "sensor",
    "ring": "ring",
    "hub": "hub",
    "lead": "lead",
    "control_unit": "control unit",
    "hour": "an hour",
}


@dataclass(frozen=True)
class Choice:
    key: str
    words: str
    on: bool


@dataclass(frozen=True)
class ChoiceGroup:
    key: str
    title: str
    choices: tuple[Choice, ...]


@dataclass(frozen=True)
class NumberField:
    key: str
    words: str
    unit: str
    value: str


@dataclass(frozen=True)
class ListedRow:
    key: str
    text: str


@dataclass(frozen=True)
class BoardScreen:
    """One station's page. ``entry``: what the line for typed text asks for, empty for none."""

    title: str
    sentence: str
    groups: tuple[ChoiceGroup, ...]
    fields: tuple[NumberField, ...] = ()
    entry: str = ""
    rows_title: str = ""
    rows: tuple[ListedRow, ...] = ()
    facts: tuple[str, ...] = ()


def present_complaint(case: Case, corner: Corner) -> BoardScreen:
    vehicle = case.vehicle
    here = {w.part: w for w in case.recent_work if w.corner is corner}
    groups = [
        _group("lamps", "Lamps that are on", LAMPS, case.lamps),
        _group("symptoms", "What it does, and when", SYMPTOMS, case.symptoms),
        ChoiceGroup(
            "work",
            f"Worked on lately at the {corner.words} (choose another corner on the plan)",
            tuple(Choice(p.value, "a blow" if p is WorkPart.IMPACT else p.value, p in here) for p in WorkPart),
        ),
    ]
    if WorkPart.SENSOR in here:
        groups.append(_group("quality", "The sensor that was fitted", QUALITIES, (here[WorkPart.SENSOR].quality,)))
    salt = () if vehicle.road_salt is None else (("yes" if vehicle.road_salt else "no"),)
    groups += [
        _group("layout", "Vehicle", LAYOUTS, (vehicle.layout,)),
        _group("sensor", "Kind of sensor", SENSORS, (vehicle.sensor,)),
        _group("salt", "Salted roads", {"yes": "yes", "no": "no"}, salt),
    ]
    fields = (
        NumberField("age_years", "Age", "years", _number(vehicle.age_years)),
        NumberField("odometer_km", "Odometer", "km", _number(vehicle.odometer_km)),
    )
    return BoardScreen("Complaint", "Press what is known; leave the rest.", tuple(groups), fields)


def present_codes(case: Case, corner: Corner) -> BoardScreen:
    here = [c for c in case.codes if c.corner is corner]
    groups = [_group("codes", f"Kind of code at the {corner.words}", KINDS, tuple(c.kind for c in here))]
    if here:
        states = {CodeState.CURRENT: "current", CodeState.STORED: "stored"}
        groups.append(_group("state", "These codes are", states, tuple(c.state for c in here)))
    rows = tuple(
        ListedRow(f"code:{i}", " · ".join(part for part in _code_parts(c.corner, c.kind, c.state, c.text) if part))
        for i, c in enumerate(case.codes)
    )
    return BoardScreen(
        "Codes",
        "Read all modules that use wheel speed. Choose the corner on the plan, then the kind; or type the code.",
        tuple(groups),
        entry="Type or paste codes, such as C0031-13 stored 90880 km, or SPN 790 FMI 5",
        rows_title="Codes read" if rows else "No code entered yet.",
        rows=rows,
    )


def present_prove(
    case: Case, diagnosis: Diagnosis | None, knowledge: Knowledge, own_order: tuple[CheckKind, ...] = ()
) -> BoardScreen:
    access = case.access
    groups = (
        ChoiceGroup(
            "can", "What can be reached", tuple(_can(k, w, getattr(access, k) is True) for k, w in CAN.items())
        ),
        ChoiceGroup("cannot", "What cannot", tuple(_can(k, w, getattr(access, k) is False) for k, w in CANNOT.items())),
        ChoiceGroup(
            "order",
            "Your own order, to see what it costs" + _order_words(own_order),
            tuple(_can(k.value, k.words, k in own_order) for k in CheckKind),
        ),
    )
    fields = tuple(NumberField(f"price:{k}", w, "", _number(case.prices.get(k))) for k, w in PRICES.items())
    rows = tuple(ListedRow(f"check:{i}", check_words(c, knowledge)) for i, c in enumerate(case.checks))
    facts = tuple(policy_words(p) for p in diagnosis.policies) if diagnosis else ()
    return BoardScreen(
        "Prove",
        "What stands in the way decides which check comes next; prices show what each order of work costs.",
        groups,
        fields,
        rows_title="Checks done" if rows else "No check done yet: the best one stands at the right.",
        rows=rows,
        facts=facts,
    )


def _order_words(order: tuple[CheckKind, ...]) -> str:
    return f": {', then '.join(kind.words for kind in order)}" if order else ""


def policy_words(policy: Policy) -> str:
    """One order of work: minutes, money where prices are known, chance of a come-back."""
    money = f", {policy.total:.0f} in all" if policy.total is not None else ""
    return (
        f"{policy.name.capitalize()}: about {policy.minutes:.0f} minutes{money}; "
        f"the first repair does not cure in {100 * policy.come_back:.0f} of 100."
    )


def check_words(check: Check, knowledge: Knowledge) -> str:
    """A done check in one line."""
    info = knowledge.checks[check.check]
    if check.check in MEASURED and check.value is not None:
        told = f"{check.value:g} {info.unit}"
        if check.mate_value is not None:
            told += f", mate {check.mate_value:g} {info.unit}"
    else:
        told = (check.result or "no answer").replace("_", " ")
    where = f"{check.corner.words.capitalize()}: " if check.corner else ""
    return f"{where}{info.words.lower() if where else info.words} · {told}"


def _code_parts(corner: Corner | None, kind: CodeKind | None, state: CodeState | None, text: str) -> tuple[str, ...]:
    return (
        corner.words.capitalize() if corner else "No corner named",
        KINDS[kind] if kind else "kind not known",
        state.value if state else "",
        text[:60],
    )


def _group(key: str, title: str, words: dict, on: tuple) -> ChoiceGroup:  # type: ignore[type-arg]
    return ChoiceGroup(key, title, tuple(Choice(str(k), w, k in on) for k, w in words.items()))


def _can(key: str, words: str, on: bool) -> Choice:
    return Choice(key, words, on)


def _number(value: float | None) -> str:
    return "" if value is None else f"{value:g}"
