"""Scenario files: TOML by name (shipped) or by path → `Scenario`.

title = "..."          seed = 7        duration_s = 180      road = "town"      nuisance = "wheelspin"
[car]                  any field of `Car`, driven = "front"
[driver]               any field of `Driver`
[ring]                 teeth, pitch_error, swing, tooth_share (of a pitch, where both edges are counted)
[sensor]               kind = "active" | "coil", and its fields
substitutes = 0.3      (a corner that falls that far below the middle of all shows the middle)
[control_unit]         kind = "span" | "last" | "count" | "smoothed" | "filtered" | "held" | "limited" | "tracking",
                       and its fields
[logger]               any field of `Logger`
[names]                FL = "Wheel speed FL", …
[[fault]]              corner, cause, and the fields of `SimulatedFault`
"""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from dataclasses import fields, replace
from importlib import resources
from pathlib import Path
from typing import Any

from nodrek.core.model import Corner, Driven
from nodrek.errors import BadRequest
from nodrek.simulate.car import Car
from nodrek.simulate.chain import Scenario
from nodrek.simulate.control_unit import (
    ControlUnit,
    CountPerWindow,
    HoldLast,
    LastPeriod,
    LowPass,
    SlewLimited,
    SmoothedSpan,
    SpanOfEdges,
    Tracking,
)
from nodrek.simulate.drive import Driver
from nodrek.simulate.faults import Cause, SimulatedFault, Trigger
from nodrek.simulate.logger import Logger
from nodrek.simulate.nuisance import Nuisance
from nodrek.simulate.road import KINDS
from nodrek.simulate.sensor import ActiveSensor, CoilSensor

LARGEST_FILE = 256 * 1024
LONGEST_S = 24 * 3600.0
LARGEST_NUMBER = 1e9
SENSORS = {"active": ActiveSensor, "coil": CoilSensor}
CONTROL_UNITS = {
    "span": SpanOfEdges, "last": LastPeriod, "count": CountPerWindow, "smoothed": SmoothedSpan, "filtered": LowPass,
    "held": HoldLast, "limited": SlewLimited, "tracking": Tracking,
}  # fmt: skip
UNITS = ("km/h", "mph", "m/s")
SETTINGS = (
    "title", "seed", "duration_s", "road", "nuisance", "believed_circumference_m", "car", "driver", "ring", "sensor",
    "control_unit", "substitutes", "logger", "names", "fault",
)  # fmt: skip
RING_SETTINGS = ("teeth", "pitch_error", "swing", "tooth_share")


def shipped() -> list[str]:
    """Names of the scenarios that come with the program."""
    folder = resources.files("nodrek.simulate.scenarios")
    return sorted(f.name.removesuffix(".toml") for f in folder.iterdir() if f.name.endswith(".toml"))


def load_scenario(name: str) -> Scenario:
    """A shipped scenario by name, or one from a TOML file; raises `BadRequest`."""
    if name in shipped():
        text = resources.files("nodrek.simulate.scenarios").joinpath(f"{name}.toml").read_text(encoding="utf-8")
    else:
        path = Path(name)
        if not path.is_file():
            raise BadRequest(f'There is no scenario "{name}": use {", ".join(shipped())}, or the path of a TOML file.')
        if path.stat().st_size > LARGEST_FILE:
            raise BadRequest(f"{name} is too large for a scenario: choose the right file.")
        try:
            text = path.read_text(encoding="utf-8")
        except (OSError, UnicodeDecodeError) as error:
            raise BadRequest(f"{name} cannot be read as text: choose a TOML file.") from error
    try:
        data = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise BadRequest(f"{name} is not a scenario: {error}.") from error
    return scenario_from(data, name)


def scenario_from(data: Mapping[str, Any], where: str) -> Scenario:
    """Build and check a scenario; every message names the key that is wrong."""
    base = Scenario()
    _known(data, SETTINGS, where)
    ring = data.get("ring", {})
    _known(ring, RING_SETTINGS, f"{where}: ring")
    sensor = _part(data, "sensor", SENSORS, "active", where)
    unit: ControlUnit = _part(data, "control_unit", CONTROL_UNITS, "span", where)
    car_data = dict(data.get("car", {}))
    if "driven" in car_data:
        car_data["driven"] = _one_of(car_data["driven"], tuple(Driven), f"{where}: car.driven", Driven)
    names = data.get("names", {})
    scenario = replace(
        base,
        title=str(data.get("title", where))[:200],
        seed=int(_number(data, "seed", 0, 2**63 - 1, 0, where)),
        duration_s=_number(data, "duration_s", 5, LONGEST_S, base.duration_s, where),
        road=_one_of(data.get("road", base.road), tuple(KINDS), f"{where}: road", str),
        driver=_fill(Driver(), data.get("driver", {}), f"{where}: driver"),
        car=_fill(Car(), car_data, f"{where}: car"),
        teeth=int(_number(ring, "teeth", 8, 400, base.teeth, f"{where}: ring")),
        pitch_error=_number(ring, "pitch_error", 0, 0.2, base.pitch_error, f"{where}: ring"),
        ring_swing=_number(ring, "swing", 0, 0.1, base.ring_swing, f"{where}: ring"),
        tooth_share=_number(ring, "tooth_share", 0, 0.9, base.tooth_share, f"{where}: ring"),
        sensor=sensor,
        control_unit=unit,
        substitutes=_number(data, "substitutes", 0, 0.9, base.substitutes, where),
        believed_circumference_m=_number(
            data, "believed_circumference_m", 0.5, 6, base.believed_circumference_m, where
        ),
        logger=_fill(Logger(), data.get("logger", {}), f"{where}: logger"),
        names={c: str(names.get(c.value, base.names[c])) for c in Corner},
        nuisance=_one_of(data.get("nuisance", "none"), tuple(Nuisance), f"{where}: nuisance", Nuisance),
        faults=tuple(_fault(f, i, where) for i, f in enumerate(data.get("fault", []))),
    )
    _one_of(scenario.logger.unit, UNITS, f"{where}: logger.unit", str)
    if isinstance(unit, Tracking) and not (0.05 <= unit.bandwidth <= 50.0 and 0.05 <= unit.damping <= 10.0):
        raise BadRequest(
            f"{where}: control_unit.bandwidth must be from 0.05 to 50 Hz and control_unit.damping from 0.05 to 10."
        )
    if not 0.2 <= scenario.logger.rate <= 1000:
        raise BadRequest(f"{where}: logger.rate must be from 0.2 to 1000 samples a second.")
    return scenario


def _fault(data: Any, index: int, where: str) -> SimulatedFault:
    place = f"{where}: fault {index + 1}"
    if not isinstance(data, Mapping):
        raise BadRequest(f"{place} must be a table with corner and cause.")
    values = dict(data)
    corner = _one_of(values.pop("corner", None), tuple(Corner), f"{place}: corner", Corner)
    cause = _one_of(values.pop("cause", None), tuple(Cause), f"{place}: cause", Cause)
    if "trigger" in values:
        values["trigger"] = _one_of(values["trigger"], tuple(Trigger), f"{place}: trigger", Trigger)
    fault: SimulatedFault = _fill(SimulatedFault(corner, cause), values, place)
    return fault


def _part(data: Mapping[str, Any], key: str, kinds: Mapping[str, type], usual: str, where: str) -> Any:
    values = dict(data.get(key, {}))
    kind = _one_of(values.pop("kind", usual), tuple(kinds), f"{where}: {key}.kind", str)
    return _fill(kinds[kind](), values, f"{where}: {key}")


def _known(values: Any, known: tuple[str, ...], where: str) -> None:
    """A misspelt setting would be left out without a word, and a fault with it."""
    if not isinstance(values, Mapping):
        raise BadRequest(f"{where} must be a table of settings.")
    for key in values:
        if key not in known:
            raise BadRequest(f"{where} has no setting {key!r}: it knows {', '.join(sorted(known))}.")


def _fill(base: Any, values: Any, where: str) -> Any:
    """`base` with `values` for its fields, each of the type that is there."""
    _known(values, tuple(f.name for f in fields(base) if f.name not in ("tyres", "inner")), where)
    out = {key: _like(getattr(base, key), value, f"{where}: {key}") for key, value in values.items()}
    return replace(base, **out)


def _like(usual: Any, value: Any, where: str) -> Any:
    """`value` as the kind of thing that `usual` is."""
    if isinstance(usual, tuple):
        return tuple(value) if isinstance(value, list) else value
    if isinstance(usual, (bool, str)):
        if not isinstance(value, type(usual)):
            raise BadRequest(f"{where} must be of the kind {type(usual).__name__}.")
        return value
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not abs(value) < LARGEST_NUMBER:
        raise BadRequest(f"{where} must be a number.")
    return int(value) if isinstance(usual, int) else value


def _number(data: Mapping[str, Any], key: str, low: float, high: float, usual: float, where: str) -> float:
    value = data.get(key, usual)
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not low <= value <= high:
        raise BadRequest(f"{where}: {key} must be a number from {low:g} to {high:g}, not {value!r}.")
    return value


def _one_of(value: Any, known: tuple[Any, ...], where: str, make: Any) -> Any:
    if value not in known:
        raise BadRequest(f"{where} must be one of {', '.join(str(k) for k in known)}, not {value!r}.")
    return make(value)
