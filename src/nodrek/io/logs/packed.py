"""Gzip and zip around a log: unpacked in memory, with bounds, never onto the disk."""

from __future__ import annotations

import gzip
import io
import zipfile
import zlib

from nodrek.errors import UnreadableFile
from nodrek.io.logs.source import LogFile

MOST_UNPACKED = 1024**3
"""Bytes in all."""
MOST_RATIO = 120
"""A log of text packs some ten times, hardly fifty; a bomb packs a thousand times."""
FREE = 8 * 1024**2
"""Bytes that may be unpacked whatever the ratio: short logs of zeros are logs as well."""
MOST_MEMBERS = 200
CHUNK = 1024**2


def is_gzip(head: bytes) -> bool:
    return head.startswith(b"\x1f\x8b")


def is_zip(head: bytes) -> bool:
    return head.startswith((b"PK\x03\x04", b"PK\x05\x06"))


def unpack_gzip(file: LogFile) -> LogFile:
    """The file inside; raises `UnreadableFile` for damage and for bombs."""
    name = file.path.name.removesuffix(".gz")
    try:
        with file.open() as raw, gzip.GzipFile(fileobj=raw) as packed:
            return LogFile(file.path, _bounded(packed, file.size, file.name), name)
    except (OSError, EOFError, zlib.error) as error:
        raise UnreadableFile(f"{file.name} is damaged and cannot be unpacked ({error}): copy it again.") from error


def zip_members(file: LogFile) -> list[LogFile]:
    """All plausible members, largest first, unpacked; raises `UnreadableFile`."""
    try:
        with file.open() as raw, zipfile.ZipFile(raw) as archive:
            members = [m for m in archive.infolist() if not m.is_dir() and m.file_size > 0]
            if len(members) > MOST_MEMBERS:
                raise UnreadableFile(f"{file.name} holds {len(members)} files: unpack it and open one of them.")
            members = [m for m in members if not _is_side_file(m.filename)]
            members.sort(key=lambda m: -m.file_size)
            out = []
            for member in members[:8]:
                if member.flag_bits & 1:
                    raise UnreadableFile(f"{file.name} is locked with a password: unpack it and open the log in it.")
                with archive.open(member) as packed:
                    content = _bounded(packed, member.compress_size, file.name)
                out.append(LogFile(file.path, content, member.filename.rsplit("/", 1)[-1]))
            return out
    except (zipfile.BadZipFile, OSError, EOFError, ValueError, zlib.error, NotImplementedError, RuntimeError) as error:
        raise UnreadableFile(f"{file.name} is damaged and cannot be unpacked ({error}): copy it again.") from error


def is_workbook(file: LogFile) -> bool:
    """A zip that is an Office Open XML workbook (ISO/IEC 29500 part 2: ``[Content_Types].xml``)."""
    try:
        with file.open() as raw, zipfile.ZipFile(raw) as archive:
            names = archive.namelist()
    except (zipfile.BadZipFile, OSError, EOFError, ValueError, NotImplementedError):
        return False
    return "[Content_Types].xml" in names and any(n.startswith("xl/") for n in names)


def _is_side_file(name: str) -> bool:
    return name.startswith("__MACOSX/") or name.rsplit("/", 1)[-1].startswith(".")


def _bounded(packed: io.BufferedIOBase | gzip.GzipFile | object, packed_size: int, name: str) -> bytes:
    """Read to the end, or refuse at the first byte too many."""
    allowed = min(MOST_UNPACKED, max(FREE, packed_size * MOST_RATIO))
    parts, total = [], 0
    while chunk := packed.read(CHUNK):  # type: ignore[union-attr]
        total += len(chunk)
        if total > allowed:
            raise UnreadableFile(
                f"{name} unpacks to far more than a log of its size can hold: unpack it yourself if you trust it."
            )
        parts.append(chunk)
    return b"".join(parts)
