"""Spellings of units as people and loggers write them → SI factors."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping

MPH = 0.44704
"""m/s per mile per hour, exact by definition of the international mile."""

_SPEED = {
    1 / 3.6: ("km/h", "kmh", "kph", "km/hr", "kmph", "kilometers per hour",
              "kilometres per hour", "kmh-1", "km/std", "km/u", "kmhr", "km/t", "km/ora", "km/h.", "km/hour",
              "kilometer/h", "kilometre/h", "kilometer/hour", "kilometre/hour", "km/stunde"),
    MPH: ("mph", "mi/h", "miles/h", "mile/h", "miles per hour", "miles/hour", "mile/hour"),
    1.0: ("m/s", "mps", "ms-1", "m/sec", "meters per second", "metres per second", "m/second", "meter/s",
          "metre/s", "meter/second", "metre/second", "meters/second", "metres/second"),
    0.3048: ("ft/s", "fps", "ft/sec", "feet per second"),
    1852.0 / 3600.0: ("kn", "kt", "kts", "knots", "knot"),
    1e-2: ("cm/s", "cm/sec"),
    1e-3: ("mm/s", "mm/sec"),
    1.0 / 60.0: ("m/min",),
}  # fmt: skip
_TURN = {
    1 / 60.0: ("rpm", "r/min", "1/min", "u/min", "rev/min", "min-1", "min^-1", "tr/min", "giri/min", "obr/min",
               "ot/min", "v/min", "omw/min", "rot/min", "umdr/min", "umdr./min", "revs/min", "tours/min"),
    1.0 / 360.0: ("deg/s", "°/s", "deg/sec", "grad/s", "degrees/s"),
    0.15915494309189535: ("rad/s", "rad/sec", "rads"),
    1.0: ("rev/s", "1/s", "rps", "u/s", "turns/s"),
}  # fmt: skip
_EDGE = {1.0: ("hz",), 1000.0: ("khz",)}
_TIME = {
    1.0: ("s", "sec", "secs", "second", "seconds"),
    1e-3: ("ms", "msec", "millisecond", "milliseconds"),
    1e-6: ("us", "µs", "μs", "usec", "microsecond", "microseconds"),
    1e-9: ("ns", "nanosecond", "nanoseconds"),
    60.0: ("min", "minute", "minutes"),
    3600.0: ("h", "hr", "hour", "hours"),
    86400.0: ("d", "day", "days"),
}
_TURN_BY_SPELLING = {name: factor for factor, names in _TURN.items() for name in names}
_EDGE_BY_SPELLING = {name: factor for factor, names in _EDGE.items() for name in names}
_SPEED_BY_SPELLING = {name: factor for factor, names in _SPEED.items() for name in names}
_TIME_BY_SPELLING = {name: factor for factor, names in _TIME.items() for name in names}


_NO_UNITS = frozenset(
    ("abs", "esp", "esc", "vdc", "dsc", "ebs", "can", "obd", "ecu", "raw", "filtered", "calc", "calculated", "sensor",
     "signal")
)  # fmt: skip


_COUNTS_OF = re.compile(
    r"^(?:x|\*|×)?\s*(?P<count>\d+(?:[.,]\d+)?(?:e-?\d+)?|10-\d|1/\d+)\s*(?:\*|×)?\s*(?P<unit>[a-zµμ].*)$"
)
"""``0.01 km/h``, ``1/16 km/h``, ``10^-2 m/s``: what a count of one stands for."""


_PER = re.compile(r"^(?P<what>[a-zµμ]+)[ .*](?P<time>h|s|min)-1$")
"""``km.h-1``, ``m s⁻¹``."""


def _plain(spelling: str) -> str:
    plain = spelling.strip().strip("[](){}").lower().replace("·", "*").replace("⋅", "*").replace("^", "")
    plain = " ".join(plain.replace("⁻¹", "-1").replace("−", "-").replace(" / ", "/").split())
    return _PER.sub(r"\g<what>/\g<time>", plain)


def _factor(spelling: str | None, known: Mapping[str, float]) -> float | None:
    """Of a spelling as it stands in `known`, or of counts of so many of them."""
    if spelling is None:
        return None
    plain = _plain(spelling)
    counted = None if plain in known else _COUNTS_OF.match(plain)
    if counted is None or counted["unit"] not in known:
        return known.get(plain)
    count = counted["count"].replace(",", ".")
    over, _, under = count.partition("/")
    if not under and count.startswith("10-"):
        over = "1e" + count[2:]
    size = float(over) / float(under or 1.0) if float(under or 1.0) else 0.0
    return size * known[counted["unit"]] if 0.0 < size < math.inf else None


def speed_factor(spelling: str | None) -> float | None:
    """m/s per unit of a spelled speed unit; ``None`` where it is no speed unit."""
    return _factor(spelling, _SPEED_BY_SPELLING)


def turn_factor(spelling: str | None) -> float | None:
    """Turns a second per unit of a spelled unit of turning; ``None`` where it is none."""
    return _factor(spelling, _TURN_BY_SPELLING)


def edge_factor(spelling: str | None) -> float | None:
    """Edges a second per unit of a spelled frequency; ``None`` where it is none."""
    return _factor(spelling, _EDGE_BY_SPELLING)


def is_speed_spelling(spelling: str | None) -> bool:
    """Whether a unit can be that of a wheel's speed, turning or ring edges."""
    return any(f(spelling) is not None for f in (speed_factor, turn_factor, edge_factor))


def is_no_unit(text: str) -> bool:
    """Whether what stands in brackets behind a name says where a value is from, not what it is in."""
    return text.strip().lower() in _NO_UNITS


def time_factor(spelling: str | None) -> float | None:
    """Seconds per unit of a spelled time unit; ``None`` where it is no time unit."""
    return _factor(spelling, _TIME_BY_SPELLING)


def speed_unit_name(spelling: str) -> str:
    """The one way in which Nodrek writes a unit of speed; counts of one as they were spelled."""
    factor = _SPEED_BY_SPELLING.get(_plain(spelling))
    return spelling.strip("[](){} ") if factor is None else _SPEED[factor][0]
