"""Frames of a bus log as arrays: one row a frame."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array

WIDTH = 64
"""Bytes of the longest frame (CAN FD; ISO 11898-1)."""
EXTENDED = 1 << 31
"""Set in ``ids`` for 29-bit identifiers, as SocketCAN and DBC files do."""
MOST_FRAMES = 60_000_000


@dataclass(frozen=True, eq=False)
class Frames:
    """``times`` s (n,); ``ids`` uint32 with `EXTENDED`; ``data`` uint8 (n, width); ``lengths`` (n,)."""

    times: Array
    ids: npt.NDArray[np.uint32]
    data: npt.NDArray[np.uint8]
    lengths: npt.NDArray[np.uint8]

    @property
    def count(self) -> int:
        return int(self.times.size)


def frames_from(rows: Iterable[tuple[float, int, bool, bytes]]) -> Frames:
    """Frames from (time s, identifier, extended?, data) rows; remote and error frames left out before."""
    times: list[float] = []
    ids: list[int] = []
    chunks: list[bytes] = []
    lengths: list[int] = []
    width = 8
    for time, identifier, extended, data in rows:
        if len(data) > WIDTH or len(times) >= MOST_FRAMES:
            continue
        width = max(width, len(data))
        times.append(time)
        ids.append((identifier & 0x1FFFFFFF) | (EXTENDED if extended else 0))
        chunks.append(data)
        lengths.append(len(data))
    joined = b"".join(c.ljust(width, b"\x00") for c in chunks)
    return Frames(
        np.asarray(times, dtype=np.float64),
        np.asarray(ids, dtype=np.uint32),
        np.frombuffer(joined, dtype=np.uint8).reshape(len(times), width),
        np.asarray(lengths, dtype=np.uint8),
    )
