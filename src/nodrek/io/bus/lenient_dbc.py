"""What wheel speeds need of a DBC file, however flawed the rest of it is.

Only messages and signals are read, line by line; anything else is passed over. Files in
the wild lack flag bits, semicolons and units, begin names with digits or write ``(.25,0)``.
"""

from __future__ import annotations

import re

from nodrek.io.bus.frames import EXTENDED
from nodrek.io.bus.signals import Message, Signal

_MESSAGE = re.compile(r"^\s*BO_\s+(\d+)\s+([^\s:]+)\s*:?\s*(\d+)?")
_SIGNAL = re.compile(
    r"^\s*SG_\s+(?P<name>\S+?)\s*(?P<mux>\s[Mm]\d*[Mm]?)?\s*:\s*(?P<start>\d+)\s*\|\s*(?P<length>\d+)\s*@\s*"
    r"(?P<order>[01])?\s*(?P<sign>[+-])?\s*\(\s*(?P<factor>[-+.\deE]+)\s*,\s*(?P<offset>[-+.\deE]+)\s*\)"
    r"(?:\s*\[[^\]]*\])?(?:\s*\"(?P<unit>[^\"]*)\")?"
)
_FLOAT = re.compile(r"^\s*SIG_VALTYPE_\s+(\d+)\s+(\S+)\s*:?\s*([12])")
MOST_MESSAGES = 20_000
MOST_SIGNALS = 400_000


def read_dbc(text: str) -> tuple[list[Message], int]:
    """Messages of a DBC text, and the number of signal lines that could not be understood."""
    messages: list[tuple[int, str, list[Signal]]] = []
    floats: set[tuple[int, str]] = set()
    lost = total = 0
    for line in text.splitlines():
        if len(line) > 4000:
            lost += 1
            continue
        if match := _MESSAGE.match(line):
            if len(messages) >= MOST_MESSAGES:
                break
            identifier = int(match[1]) & 0xFFFFFFFF
            if identifier > 0x7FF and not identifier & EXTENDED:
                identifier |= EXTENDED  # an 11-bit number it cannot be
            messages.append((identifier, match[2], []))
        elif line.lstrip().startswith("SG_"):
            total += 1
            signal = _signal(line)
            if signal is None or not messages or total > MOST_SIGNALS:
                lost += 1
                continue
            messages[-1][2].append(signal)
        elif match := _FLOAT.match(line):
            floats.add((int(match[1]) & 0x1FFFFFFF, match[2]))
    out = []
    for identifier, name, signals in messages:
        plain = identifier & 0x1FFFFFFF
        fixed = [_as_float(s) if (plain, s.name) in floats else s for s in signals]
        out.append(Message(identifier, name, tuple(fixed)))
    return out, lost


def _as_float(signal: Signal) -> Signal:
    from dataclasses import replace

    return replace(signal, is_float=True)


def _signal(line: str) -> Signal | None:
    match = _SIGNAL.match(line)
    if match is None:
        return None
    try:
        factor, offset = float(match["factor"]), float(match["offset"])
    except ValueError:
        return None
    length = int(match["length"])
    if not 1 <= length <= 64 or int(match["start"]) > 8 * 64:
        return None
    mux = (match["mux"] or "").strip()
    selector = re.match(r"m(\d+)", mux)
    return Signal(
        name=match["name"],
        start=int(match["start"]),
        length=length,
        little_endian=(match["order"] or "1") == "1",
        signed=match["sign"] == "-",
        factor=factor,
        offset=offset,
        unit=match["unit"] or None,
        selector=int(selector[1]) if selector else None,
        is_selector=mux.endswith("M"),
    )
