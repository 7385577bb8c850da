"""Bus logs as text: candump's two forms, ASC, TRC and python-can's CSV."""

from __future__ import annotations

import base64
import binascii
import io
import re
from collections.abc import Iterator

from nodrek.core.model import RawLog
from nodrek.errors import UnreadableFile
from nodrek.io.logs.source import LogFile, Request

Row = tuple[float, int, bool, bytes]
_CANDUMP = re.compile(
    r"^\((?P<t>\d+\.\d+)\)\s+\S+\s+(?P<id>[0-9A-Fa-f]{1,8})#(?P<fd>#[0-9A-Fa-f])?(?P<data>[0-9A-Fa-f.]*)(?:\s+[TR])?\s*$"
)
_CANDUMP_WIDE = re.compile(
    r"^\s*\((?P<t>[\d.:\- ]+?)\)\s+\S+\s+(?:(?:TX|RX)\s+[-\w]*\s*[-\w]*\s+)?"
    r"(?P<id>[0-9A-Fa-f]{3,8})\s+\[\s*(?P<n>\d+)\]\s+(?P<data>(?:[0-9A-Fa-f]{2}\s*)*)"
)
_LIBRARY_CSV = "timestamp,arbitration_id,extended,remote,error,dlc,data"
_ASC = re.compile(r"^\s*base\s+(hex|dec)\s+timestamps\s+(absolute|relative)", re.IGNORECASE | re.MULTILINE)
_TRC = re.compile(r"^;\$FILEVERSION=|^;\s+Message\s+Number|^;\s+Start time:", re.MULTILINE)


def detect(head: bytes) -> bool:
    return _kind(head) is not None


def _kind(head: bytes) -> str | None:
    if b"\x00" in head[:2000]:
        return None
    text = head[:8000].decode("utf-8", errors="replace").lstrip("\ufeff")
    if text.startswith(_LIBRARY_CSV):
        return "csv"
    if _ASC.search(text[:600]):
        return "asc"
    if _TRC.search(text[:3000]):
        return "trc"
    lines = [line for line in text.split("\n")[:40] if line.strip() and not line.startswith("#")][:-1] or text.split(
        "\n"
    )
    if lines and sum(bool(_CANDUMP.match(line.strip())) for line in lines) >= 0.7 * len(lines):
        return "candump"
    if lines and sum(bool(_CANDUMP_WIDE.match(line)) for line in lines) >= 0.7 * len(lines):
        return "candump wide"
    return None


def read(file: LogFile, request: Request) -> RawLog:
    # only a bus log pays for what decodes it
    from nodrek.io.bus.decode import decode_frames
    from nodrek.io.bus.frames import frames_from

    kind = _kind(file.head())
    text = file.read().decode("utf-8", errors="replace").lstrip("\ufeff")
    readers = {"csv": _library_csv, "candump": _candump, "candump wide": _candump_wide}
    rows: list[Row] = []
    try:
        source = readers[kind](text) if kind in readers else _by_library(text, str(kind))
        rows.extend(source)
    except Exception as error:
        # a log that breaks off is read up to the break
        if len(rows) < 2:
            raise UnreadableFile(
                f"{file.name} breaks off or is damaged: record or export the bus log again."
            ) from error
    name = "candump" if kind == "candump wide" else "can csv" if kind == "csv" else str(kind)
    return decode_frames(frames_from(rows), request, file.name, name)


def _candump(text: str) -> Iterator[Row]:
    for line in text.split("\n"):
        match = _CANDUMP.match(line.strip())
        if match:
            data = match["data"].replace(".", "")
            yield (
                float(match["t"]),
                int(match["id"], 16),
                len(match["id"]) > 3,
                bytes.fromhex(data[: len(data) // 2 * 2]),
            )


def _candump_wide(text: str) -> Iterator[Row]:
    start = 0.0
    for line in text.split("\n"):
        match = _CANDUMP_WIDE.match(line)
        if not match:
            continue
        stamp = match["t"].strip()
        if ":" in stamp:
            clock = stamp.split(" ")[-1].split(":")
            start = 3600.0 * int(clock[0]) + 60.0 * int(clock[1]) + float(clock[2])
        else:
            start = float(stamp)
        yield start, int(match["id"], 16), len(match["id"]) > 3, bytes.fromhex(match["data"])[: int(match["n"])]


def _library_csv(text: str) -> Iterator[Row]:
    for line in text.split("\n")[1:]:
        cells = line.strip().split(",")
        if len(cells) < 7 or cells[3] == "1" or cells[4] == "1":
            continue
        try:
            data = base64.b64decode(cells[6])
        except binascii.Error:
            continue
        yield float(cells[0]), int(cells[1], 16), cells[2] == "1", data


def _by_library(text: str, kind: str) -> Iterator[Row]:
    from nodrek.io.bus.library import lean_imports

    with lean_imports():
        import logging

        from can.io.asc import ASCReader
        from can.io.trc import TRCReader

        # each line that the library cannot read it tells its log; the reader says it once
        logging.getLogger("can").addHandler(logging.NullHandler())

    reader = ASCReader(io.StringIO(text)) if kind == "asc" else TRCReader(io.StringIO(text))
    for m in reader:
        if not (m.is_error_frame or m.is_remote_frame):
            yield m.timestamp, m.arbitration_id, m.is_extended_id, bytes(m.data)
