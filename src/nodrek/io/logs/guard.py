"""The first look at a file from somebody else: is it a file at all, and of a sane size?"""

from __future__ import annotations

import os
import stat
from pathlib import Path

from nodrek.errors import UnreadableFile

LARGEST = 4 * 1024**3
"""Bytes. A day at a hundred samples a second fits a tenth of it."""
HEAD = 128 * 1024


def check_file(path: Path) -> int:
    """Size in bytes of a readable ordinary file.

    Raises `UnreadableFile` for anything else: missing, a folder, a device, a pipe, a link
    that leads nowhere, empty, or larger than `LARGEST`.
    """
    try:
        found = os.stat(path)
    except (OSError, ValueError) as error:
        raise UnreadableFile(f"{path}: {_why(error)}. Check the name and try again.") from error
    if stat.S_ISDIR(found.st_mode):
        raise UnreadableFile(f"{path} is a folder, not a log: choose one file in it.")
    if not stat.S_ISREG(found.st_mode):
        raise UnreadableFile(f"{path} is a device or pipe, not a file: copy the log to disk and open that.")
    if found.st_size == 0:
        raise UnreadableFile(f"{path} is empty: record or export the log again.")
    if found.st_size > LARGEST:
        raise UnreadableFile(
            f"{path} has {found.st_size / 1024**3:.0f} GB, more than the {LARGEST // 1024**3} GB that are read "
            "at once: export the part of the drive that matters."
        )
    if not os.access(path, os.R_OK):
        raise UnreadableFile(f"{path} may not be read by this user: check its permissions.")
    return found.st_size


def read_head(path: Path, size: int = HEAD) -> bytes:
    """The first bytes of a checked file."""
    try:
        with path.open("rb") as file:
            return file.read(size)
    except OSError as error:
        raise UnreadableFile(f"{path} cannot be read: {_why(error)}.") from error


def _why(error: Exception) -> str:
    text = getattr(error, "strerror", None) or str(error) or type(error).__name__
    return str(text).lower()
