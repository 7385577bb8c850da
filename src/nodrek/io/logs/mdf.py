"""MDF 3 and 4 (ASAM) through asammdf: only the channels that matter, each with its own clock."""

from __future__ import annotations

from typing import Any

import numpy as np

from nodrek.core.model import Array, RawChannel, RawLog
from nodrek.errors import UnreadableFile
from nodrek.io.logs.source import Keep, LogFile, Request
from nodrek.io.logs.wide import without_lost_times

MOST_WHOLE = 200
"""Channels up to which a file is read whole."""


def read(file: LogFile, request: Request) -> RawLog:
    from asammdf import MDF

    try:
        source: Any = file.path if file.content is None else file.open()
        with MDF(source) as measured:
            return RawLog(tuple(without_lost_times(_channels(measured, request.keep))), "mdf")
    except UnreadableFile:
        raise
    except Exception as error:
        raise UnreadableFile(f"{file.name} is damaged and cannot be read as MDF: copy or export it again.") from error


def _channels(measured: Any, keep: Keep) -> list[RawChannel]:
    places = []
    for group_index, group in enumerate(measured.groups):
        master = measured.masters_db.get(group_index)
        places += [(group_index, k, ch.name) for k, ch in enumerate(group.channels) if k != master]
    whole = len(places) <= MOST_WHOLE
    out = []
    clocks: dict[int, Array] = {}
    for group, index, name in places:
        if not whole and not keep(name):
            continue
        signal = measured.get(name, group=group, index=index, ignore_invalidation_bits=False)
        values = np.asarray(signal.samples)
        if values.ndim != 1 or values.dtype.kind not in "iufb":
            continue
        times = np.asarray(signal.timestamps, dtype=np.float64)
        known = clocks.setdefault(group, times)
        if known.shape == times.shape and np.array_equal(known, times):
            times = known
        values = values.astype(np.float64)
        values[~np.isfinite(values)] = np.nan
        out.append(RawChannel(name.split("\\")[0], signal.unit or None, times, values))
    return out
