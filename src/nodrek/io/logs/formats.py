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
    ``signatures`` (offset, bytes) spare that where they decide alone. With a ``library``
    that cannot be bounded from inside, files are read in a child process.
    """

    name: str
    module: str
    library: str = ""
    signatures: tuple[tuple[int, bytes], ...] = ()

    def detect(self, head: bytes) -> bool:
        if self.signatures:
            return any(head[at : at + len(mark)] == mark for at, mark in self.signatures)
        detect: Callable[[bytes], bool] = import_module(self.module).detect
        return detect(head)

    def read(self, file: LogFile, request: Request) -> RawLog:
        read: Callable[[LogFile, Request], RawLog] = import_module(self.module).read
        if not self.library:
            return read(file, request)
        from nodrek.io.bus.library import load_library
        from nodrek.io.logs.bounded import read_bounded

        load_library(self.library)  # once here, not again in each child
        return read_bounded(lambda: read(file, request), file.size, file.name)


_HDF5 = b"\x89HDF\r\n\x1a\n"

FORMATS: tuple[Format, ...] = (
    Format("parquet", "nodrek.io.logs.columnar", "", ((0, b"PAR1"), (0, b"ARROW1"), (0, b"\xff\xff\xff\xff"))),
    Format("mdf", "nodrek.io.logs.mdf", "asammdf", ((0, b"MDF     "), (0, b"UnFinMF "))),
    Format("tdms", "nodrek.io.logs.tdms", "nptdms", ((0, b"TDSm"), (0, b"TDSh"))),
    Format("hdf5", "nodrek.io.logs.hdf5", "h5py", ((0, _HDF5), (512, _HDF5))),
    Format("mat", "nodrek.io.logs.mat", "scipy.io", ((0, b"MATLAB 5.0 MAT-file"),)),
    Format("xlsx", "nodrek.io.logs.workbook", "", ((0, b"PK\x03\x04"),)),
    Format("blf", "nodrek.io.logs.bus_blf", "can.io.blf", ((0, b"LOGG"),)),
    Format(
        "pcap",
        "nodrek.io.logs.bus_pcap",
        "",
        ((0, b"\xd4\xc3\xb2\xa1"), (0, b"\xa1\xb2\xc3\xd4"), (0, b"\x4d\x3c\xb2\xa1"), (0, b"\xa1\xb2\x3c\x4d")),
    ),
    Format("bus text", "nodrek.io.logs.bus_text"),
    Format("json", "nodrek.io.logs.records"),
    Format("csv", "nodrek.io.logs.text"),
    Format("mat 4", "nodrek.io.logs.mat", "scipy.io"),
)
"""In order of certainty: signatures first, text by its look, last what has no signature at all."""


def warm_up() -> None:
    """Import the formats' libraries, the commonest first, so that the first log of each kind opens at once.

    For programs that stay: call it in a thread of its own once they stand.
    """
    import_module("polars")
    for entry in FORMATS:
        import_module(entry.module)
    for entry in FORMATS:
        if entry.library:
            from nodrek.io.bus.library import load_library

            load_library(entry.library)
