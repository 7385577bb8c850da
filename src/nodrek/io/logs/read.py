"""The one door in: any path → `RawLog`, or one sentence why not."""

from __future__ import annotations

from pathlib import Path

from nodrek.core.model import RawLog
from nodrek.errors import UnreadableFile
from nodrek.io.logs.formats import FORMATS
from nodrek.io.logs.guard import check_file, read_head


def read_log(path: Path) -> RawLog:
    """Read a log by its content.

    Raises `UnreadableFile` with one sentence for a person.
    """
    check_file(path)
    head = read_head(path)
    for entry in FORMATS:
        if entry.detect(head):
            return entry.read(path)
    raise UnreadableFile(
        f"{path.name} is not a log that Nodrek can read: it is neither a table of text nor another known format. "
        "Export the drive as CSV and open that."
    )
