"""A trouble code as typed or pasted → corner and kind, where a published numbering tells them.

Sources, all from memory: SAE J2012 / ISO 15031-6 numbers of the wheel speed sensors with
their failure-type byte; SAE J1939 suspect parameter numbers of the wheel sensors of the
anti-lock system with failure mode identifiers (SAE J1939-73).
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace

from nodrek.core.model import Corner
from nodrek.core.model.case import Case, Code, CodeKind, CodeState

LONGEST = 4000
NUMBERED = {
    "C0031": Corner.FL, "C0032": Corner.FL, "C0033": Corner.FL, "C0035": Corner.FL,
    "C0034": Corner.FR, "C0036": Corner.FR, "C0040": Corner.FR,
    "C0037": Corner.RL, "C0038": Corner.RL, "C0039": Corner.RL, "C0045": Corner.RL,
    "C003A": Corner.RR, "C003B": Corner.RR, "C003C": Corner.RR, "C0050": Corner.RR,
}  # fmt: skip
HEAVY = {789: Corner.FL, 790: Corner.FR, 791: Corner.RL, 792: Corner.RR}
FAILURE_TYPE = {
    0x21: CodeKind.RANGE, 0x22: CodeKind.RANGE, 0x23: CodeKind.NO_SIGNAL, 0x24: CodeKind.NO_SIGNAL,
    0x25: CodeKind.COMPARISON, 0x26: CodeKind.RATE, 0x27: CodeKind.RATE, 0x28: CodeKind.RANGE,
    0x29: CodeKind.COMPARISON, 0x2A: CodeKind.NO_SIGNAL, 0x2F: CodeKind.RATE, 0x31: CodeKind.NO_SIGNAL,
    0x36: CodeKind.RATE, 0x37: CodeKind.RATE, 0x38: CodeKind.RATE, 0x62: CodeKind.COMPARISON, 0x64: CodeKind.COMPARISON,
}  # fmt: skip
FAILURE_MODE = {
    0: CodeKind.RANGE, 1: CodeKind.RANGE, 2: CodeKind.COMPARISON, 3: CodeKind.CIRCUIT, 4: CodeKind.CIRCUIT,
    5: CodeKind.CIRCUIT, 6: CodeKind.CIRCUIT, 8: CodeKind.RATE, 9: CodeKind.COMMUNICATION, 10: CodeKind.RATE,
}  # fmt: skip
NUMBER = re.compile(r"\b(C00[0-9A-F]{2})(?:[\s:.-]*([0-9A-F]{2})\b)?", re.IGNORECASE)
SUSPECT = re.compile(r"\bSPN[\s:#=]*(\d{1,6})(?:\D{0,12}?FMI[\s:#=]*(\d{1,2}))?", re.IGNORECASE)
STORED = re.compile(r"\b(stored|history|historic|past|passive|inactive|sporadic|pending)\b", re.IGNORECASE)
ODOMETER = re.compile(r"\b(\d{1,3}(?: \d{3}){1,2}|\d{2,7}) ?km\b", re.IGNORECASE)
CURRENT = re.compile(r"\b(current|present|active|confirmed)\b", re.IGNORECASE)


@dataclass(frozen=True)
class ReadCode:
    """What a text tells; each part None where it does not."""

    corner: Corner | None
    kind: CodeKind | None
    state: CodeState | None = None
    odometer_km: float | None = None


def read_code(text: str) -> ReadCode | None:
    """The first wheel-speed code in a text, or None."""
    text = text[:LONGEST]
    state = CodeState.STORED if STORED.search(text) else CodeState.CURRENT if CURRENT.search(text) else None
    driven = ODOMETER.search(text)
    odometer = float(driven[1].replace(" ", "")) if driven else None
    for found in NUMBER.finditer(text):
        corner = NUMBERED.get(found[1].upper())
        if corner is not None:
            return ReadCode(corner, _failure_type(found[2]), state, odometer)
    for found in SUSPECT.finditer(text):
        corner = HEAVY.get(int(found[1]))
        if corner is not None:
            return ReadCode(
                corner, FAILURE_MODE.get(int(found[2]), CodeKind.OTHER) if found[2] else None, state, odometer
            )
    return None


def _failure_type(byte: str | None) -> CodeKind | None:
    if byte is None:
        return None
    number = int(byte, 16)
    if number in FAILURE_TYPE:
        return FAILURE_TYPE[number]
    family: Mapping[int, CodeKind] = {0x1: CodeKind.CIRCUIT, 0x8: CodeKind.COMMUNICATION}
    return family.get(number >> 4, CodeKind.OTHER)


def read_codes(text: str) -> list[Code]:
    """One code per line of a pasted list; lines that no numbering explains are left out."""
    out = []
    for line in text[: 50 * LONGEST].splitlines():
        told = read_code(line)
        if told is not None:
            out.append(Code(told.kind, told.corner, told.state, told.odometer_km, line.strip()[:LONGEST]))
    return out


def with_read_codes(case: Case) -> Case:
    """Corner and kind of each code filled in from its text, where the person gave none."""
    return replace(case, codes=tuple(_filled(c) for c in case.codes))


def _filled(code: Code) -> Code:
    told = read_code(code.text) if code.text else None
    if told is None:
        return code
    kind = told.kind if code.kind in (None, CodeKind.OTHER) and told.kind else code.kind
    odometer = told.odometer_km if code.odometer_km is None else code.odometer_km
    return replace(
        code, corner=code.corner or told.corner, kind=kind, state=code.state or told.state, odometer_km=odometer
    )
