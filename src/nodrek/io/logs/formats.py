"""THE table of log formats: the only list of them anywhere.

Each entry says by content, not by file name, whether it can read a file. The first that
says yes is used.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from importlib import import_module

from nodrek.core.model import RawLog
from nodrek.io.logs.source import LogFile


@dataclass(frozen=True)
class Format:
    """``module`` holds ``detect(head: bytes) -> bool`` and ``read(file) -> RawLog``.

    Modules are imported when asked, so that a format's library costs nothing to others.
    """

    name: str
    module: str

    def detect(self, head: bytes) -> bool:
        detect: Callable[[bytes], bool] = import_module(self.module).detect
        return detect(head)

    def read(self, file: LogFile) -> RawLog:
        read: Callable[[LogFile], RawLog] = import_module(self.module).read
        return read(file)


FORMATS: tuple[Format, ...] = (Format("csv", "nodrek.io.logs.text"),)
