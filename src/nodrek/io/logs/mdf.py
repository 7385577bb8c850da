"""MDF 3 and 4 (ASAM) through asammdf: only the channels that matter, each with its own clock."""

from __future__ import annotations

from typing import Any

import numpy as np

from nodrek.core.model import Array, RawChannel, RawLog
from nodrek.errors import NodrekError, UnreadableFile
from nodrek.io.bus.decode import decode_frames
from nodrek.io.bus.frames import EXTENDED, Frames
from nodrek.io.logs.source import Keep, LogFile, Request
from nodrek.io.logs.wide import without_lost_times

STANDARD = 0x7FF
"""Largest 11-bit identifier."""
MOST_WHOLE = 200
"""Channels up to which a file is read whole."""


def read(file: LogFile, request: Request) -> RawLog:
    from asammdf import MDF

    try:
        source: Any = file.path if file.content is None else file.open()
        with MDF(source) as measured:
            frames = _bus_frames(measured)
            channels = [] if frames is not None else _channels(measured, request.keep)
    except NodrekError:
        raise
    except Exception as error:
        raise UnreadableFile(f"{file.name} is damaged and cannot be read as MDF: copy or export it again.") from error
    if frames is not None:
        return decode_frames(frames, request, file.name, "mdf")
    return RawLog(tuple(without_lost_times(channels)), "mdf")


def _bus_frames(measured: Any) -> Frames | None:
    """Frames of all groups that log a CAN bus (ASAM MDF bus logging), ``None`` where there are none."""
    parts = []
    for number, group in enumerate(measured.groups):
        names = {ch.name for ch in group.channels}
        if "CAN_DataFrame.DataBytes" not in names or not group.channel_group.cycles_nr:
            continue
        found = {n: measured.get(f"CAN_DataFrame.{n}", group=number) for n in ("ID", "DataBytes")}
        identifiers = np.asarray(found["ID"].samples).astype(np.uint32)
        extended = identifiers > STANDARD
        if "CAN_DataFrame.IDE" in names:
            extended |= np.asarray(measured.get("CAN_DataFrame.IDE", group=number).samples) != 0
        data = np.asarray(found["DataBytes"].samples, dtype=np.uint8).reshape(identifiers.size, -1)
        lengths = np.full(identifiers.size, data.shape[1], dtype=np.uint8)
        if "CAN_DataFrame.DataLength" in names:
            lengths = np.asarray(measured.get("CAN_DataFrame.DataLength", group=number).samples).astype(np.uint8)
        flagged = np.where(extended, (identifiers & 0x1FFFFFFF) | EXTENDED, identifiers).astype(np.uint32)
        parts.append((np.asarray(found["ID"].timestamps, dtype=np.float64), flagged, data, lengths))
    if not parts:
        return None
    width = max(p[2].shape[1] for p in parts)
    data = np.concatenate([np.pad(p[2], ((0, 0), (0, width - p[2].shape[1]))) for p in parts])
    times = np.concatenate([p[0] for p in parts])
    order = np.argsort(times, kind="stable")
    ids, lengths = np.concatenate([p[1] for p in parts]), np.concatenate([p[3] for p in parts])
    return Frames(times[order], ids[order], data[order], lengths[order])


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
        values = np.asarray(values, dtype=np.float64)
        finite = np.isfinite(values)
        if not finite.all():
            values = np.where(finite, values, np.nan)
        out.append(RawChannel(name.split("\\")[0], signal.unit or None, times, values))
    return out
