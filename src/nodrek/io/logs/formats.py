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
    With a ``library`` that cannot be bounded from inside, files are read in a child process.
    """

    name: str
    module: str
    library: str = ""

    def detect(self, head: bytes) -> bool:
        detect: Callable[[bytes], bool] = import_module(self.module).detect
        return detect(head)

    def read(self, file: LogFile, request: Request) -> RawLog:
        read: Callable[[LogFile, Request], RawLog] = import_module(self.module).read
        if not self.library:
            return read(file, request)
        from nodrek.io.logs.bounded import read_bounded

        import_module(self.library)  # once here, not again in each child
        return read_bounded(lambda: read(file, request), file.size, file.name)


FORMATS: tuple[Format, ...] = (
    Format("parquet", "nodrek.io.logs.columnar"),
    Format("mdf", "nodrek.io.logs.mdf", "asammdf"),
    Format("tdms", "nodrek.io.logs.tdms", "nptdms"),
    Format("hdf5", "nodrek.io.logs.hdf5", "h5py"),
    Format("mat", "nodrek.io.logs.mat", "scipy.io"),
    Format("xlsx", "nodrek.io.logs.workbook"),
    Format("blf", "nodrek.io.logs.bus_blf", "can.io.blf"),
    Format("pcap", "nodrek.io.logs.bus_pcap"),
    Format("bus text", "nodrek.io.logs.bus_text"),
    Format("csv", "nodrek.io.logs.text"),
)
"""In order of certainty: formats with a signature first, any table of text last."""
