"""THE table of log formats: the only list of them anywhere.

Each entry says by content, not by file name, whether it can read a file. The first that
says yes is used.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from importlib import import_module

from nodrek.core.model import RawLog
from nodrek.io.logs.source import LogFile, Request


@dataclass(frozen=True)
class Format:
    """``module`` holds ``detect(head: bytes) -> bool`` and ``read(file, request) -> RawLog``.

    Modules are imported when asked, so that a format's library costs nothing to others.
    """

    name: str
    module: str

    def detect(self, head: bytes) -> bool:
        detect: Callable[[bytes], bool] = import_module(self.module).detect
        return detect(head)

    def read(self, file: LogFile, request: Request) -> RawLog:
        read: Callable[[LogFile, Request], RawLog] = import_module(self.module).read
        return read(file, request)


FORMATS: tuple[Format, ...] = (
    Format("parquet", "nodrek.io.logs.columnar"),
    Format("mdf", "nodrek.io.logs.mdf"),
    Format("tdms", "nodrek.io.logs.tdms"),
    Format("hdf5", "nodrek.io.logs.hdf5"),
    Format("mat", "nodrek.io.logs.mat"),
    Format("xlsx", "nodrek.io.logs.workbook"),
    Format("blf", "nodrek.io.logs.bus_blf"),
    Format("pcap", "nodrek.io.logs.bus_pcap"),
    Format("bus text", "nodrek.io.logs.bus_text"),
    Format("csv", "nodrek.io.logs.text"),
)
"""In order of certainty: formats with a signature first, any table of text last."""
