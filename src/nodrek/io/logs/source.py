"""A log as a reader meets it: a file on disk, or what was unpacked from one, in memory."""

from __future__ import annotations

import io
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from nodrek.io.logs.guard import HEAD, read_head

Keep = Callable[[str], bool]
"""Whether a channel of this name is worth reading: measurement files may hold thousands."""


def keep_all(name: str) -> bool:
    """Keep every channel."""
    return True


@dataclass(frozen=True)
class Request:
    """What the caller wants of a file: which channels, and the databases for raw bus logs."""

    keep: Keep = keep_all
    databases: tuple[Path, ...] = ()


@dataclass(frozen=True)
class LogFile:
    """``path`` names the file the person chose; ``content`` stands for it where it was unpacked."""

    path: Path
    content: bytes | None = None
    inner: str = ""

    @property
    def name(self) -> str:
        """For messages: the file's name, and the member's inside an archive."""
        return f"{self.path.name}, {self.inner}" if self.inner else self.path.name

    @property
    def suffix(self) -> str:
        return Path(self.inner or self.path.name).suffix.lower()

    @property
    def size(self) -> int:
        return self.path.stat().st_size if self.content is None else len(self.content)

    def head(self, size: int = HEAD) -> bytes:
        return read_head(self.path, size) if self.content is None else self.content[:size]

    def read(self) -> bytes:
        return self.path.read_bytes() if self.content is None else self.content

    def open(self) -> BinaryIO:
        return self.path.open("rb") if self.content is None else io.BytesIO(self.content)
