"""Bus databases (.dbc .arxml .kcd .sym …) → messages; strict first, lenient where that fails."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from nodrek.errors import UnreadableFile
from nodrek.io.bus.frames import EXTENDED
from nodrek.io.bus.lenient_dbc import read_dbc
from nodrek.io.bus.signals import Message, Signal
from nodrek.io.logs.guard import check_file

LARGEST = 200 * 1024**2


def load_databases(paths: tuple[Path, ...]) -> tuple[list[Message], list[str]]:
    """Messages of all files, and what a person should know of them.

    Raises `UnreadableFile` for a file that holds no messages.
    """
    messages: list[Message] = []
    notes: list[str] = []
    for path in paths:
        found, told = _load(path)
        messages += found
        notes += told
    return messages, notes


def _load(path: Path) -> tuple[list[Message], list[str]]:
    if check_file(path) > LARGEST:
        raise UnreadableFile(f"{path.name} is too large for a bus database: choose the right file.")
    content = path.read_bytes()
    text = _text(content)
    looks_dbc = "BO_ " in text and "SG_ " in text
    if looks_dbc:
        # our own reader takes sound and flawed files alike, and needs no minute for large ones
        messages, lost = read_dbc(text)
        if messages and any(m.signals for m in messages):
            notes = [f"{path.name}: {lost} signals could not be understood and were left out."] if lost else []
            return messages, notes
    if b"<!DOCTYPE" in content[:4096] or b"<!ENTITY" in content[:65536]:
        raise UnreadableFile(f"{path.name} defines entities of its own, which a database needs not: remove them.")
    messages = _by_library(path, text)
    if not messages:
        raise UnreadableFile(f"{path.name} holds no messages of a bus: choose a database (.dbc, .arxml, .kcd, .sym).")
    return messages, []


def _text(content: bytes) -> str:
    for encoding in ("utf-8-sig", "cp1252"):
        try:
            return content.decode(encoding)
        except UnicodeDecodeError:
            continue
    return content.decode("latin-1")


def _by_library(path: Path, text: str) -> list[Message]:
    import cantools

    kind = {".arxml": "arxml", ".kcd": "kcd", ".sym": "sym", ".dbc": "dbc"}.get(path.suffix.lower())
    try:
        database: Any = cantools.database.load_string(text, database_format=kind, strict=False)
    except Exception as error:
        reason = str(error).splitlines()[0][:100] if str(error) else type(error).__name__
        raise UnreadableFile(f"{path.name} is no bus database that can be read ({reason}): choose another.") from error
    out = []
    for message in getattr(database, "messages", []):
        identifier = int(message.frame_id) | (EXTENDED if message.is_extended_frame else 0)
        out.append(Message(identifier, message.name, tuple(_signal(s) for s in message.signals)))
    return out


def _signal(signal: Any) -> Signal:
    selectors = signal.multiplexer_ids or []
    return Signal(
        name=signal.name,
        start=int(signal.start),
        length=int(signal.length),
        little_endian=signal.byte_order == "little_endian",
        signed=bool(signal.is_signed),
        factor=float(signal.scale),
        offset=float(signal.offset),
        unit=signal.unit or None,
        selector=int(selectors[0]) if selectors else None,
        is_selector=bool(signal.is_multiplexer),
        is_float=bool(signal.is_float),
    )
