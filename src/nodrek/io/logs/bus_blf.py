"""BLF bus logs through python-can."""

from __future__ import annotations

from nodrek.core.model import RawLog
from nodrek.errors import UnreadableFile
from nodrek.io.bus.decode import decode_frames
from nodrek.io.bus.frames import frames_from
from nodrek.io.logs.source import LogFile, Request


def read(file: LogFile, request: Request) -> RawLog:
    from can.io.blf import BLFReader

    rows: list[tuple[float, int, bool, bytes]] = []
    try:
        with file.open() as stream, BLFReader(stream) as reader:
            rows.extend(
                (m.timestamp, m.arbitration_id, m.is_extended_id, bytes(m.data))
                for m in reader
                if not (m.is_error_frame or m.is_remote_frame)
            )
    except Exception as error:
        if not rows:
            raise UnreadableFile(
                f"{file.name} is damaged and cannot be read as BLF: copy or export it again."
            ) from error
    return decode_frames(frames_from(rows), request, file.name, "blf")
