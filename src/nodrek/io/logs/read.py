"""The one door in: any path → `RawLog`, or one sentence why not."""

from __future__ import annotations

from pathlib import Path

from nodrek.core.model import RawLog
from nodrek.errors import UnreadableFile
from nodrek.io.logs.formats import FORMATS
from nodrek.io.logs.guard import check_file
from nodrek.io.logs.packed import is_gzip, is_workbook, is_zip, unpack_gzip, zip_members
from nodrek.io.logs.source import LogFile, Request


def read_log(path: Path, request: Request | None = None) -> RawLog:
    """Read a log by its content, through gzip and zip; `request` as `Request` has it.

    Raises `UnreadableFile` with one sentence for a person.
    """
    request = request or Request()
    check_file(path)
    file = LogFile(path)
    if is_gzip(file.head()):
        file = unpack_gzip(file)
    if is_zip(file.head()) and not is_workbook(file):
        return _read_from_zip(file, request)
    return _read(file, request)


def _read(file: LogFile, request: Request) -> RawLog:
    head = file.head()
    for entry in FORMATS:
        if entry.detect(head):
            return entry.read(file, request)
    raise UnreadableFile(
        f"{file.name} is not a log that Nodrek can read: it is neither a table of text nor another known format. "
        "Export the drive as CSV and open that."
    )


def _read_from_zip(file: LogFile, request: Request) -> RawLog:
    """The largest member that is a log; other logs in it are named in a warning."""
    members = zip_members(file)
    logs = [m for m in members if any(entry.detect(m.head()) for entry in FORMATS)]
    if not logs:
        raise UnreadableFile(
            f"{file.name} holds no log that Nodrek can read: put the exported CSV into it, or open that."
        )
    raw = _read(logs[0], request)
    if len(logs) == 1:
        return raw
    others = ", ".join(m.inner for m in logs[1:4])
    note = f"The archive holds several logs; {logs[0].inner} was read and {others} left."
    return RawLog(raw.channels, raw.format, (*raw.warnings, note))
