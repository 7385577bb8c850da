"""TDMS through nptdms; times from the waveform properties or from a time channel."""

from __future__ import annotations

import numpy as np

from nodrek.core.model import RawChannel, RawLog
from nodrek.errors import UnreadableFile
from nodrek.io.logs.shape import name_and_unit
from nodrek.io.logs.source import LogFile, Request
from nodrek.io.logs.wide import assemble


def read(file: LogFile, request: Request) -> RawLog:
    from nptdms import TdmsFile

    try:
        with file.open() as stream:
            measured = TdmsFile.read(stream)
            waves, tables = [], []
            for group in measured.groups():
                plain = []
                for channel in group.channels():
                    values = np.asarray(channel[:])
                    if values.ndim != 1 or values.dtype.kind not in "iufbM" or values.size < 2:
                        continue
                    name, unit = name_and_unit(channel.name)
                    unit = channel.properties.get("unit_string") or unit
                    step = channel.properties.get("wf_increment")
                    if step and values.dtype.kind != "M":
                        start = float(channel.properties.get("wf_start_offset", 0.0))
                        times = start + float(step) * np.arange(values.size, dtype=np.float64)
                        waves.append(RawChannel(name, unit, times, values.astype(np.float64)))
                    else:
                        plain.append((name, unit, values))
                tables.append(plain)
    except Exception as error:
        raise UnreadableFile(f"{file.name} is damaged and cannot be read as TDMS: copy or export it again.") from error
    for plain in tables:
        if waves or len(plain) < 2:
            continue
        clocks = {
            k: (v - v[0]) / np.timedelta64(1, "ns") * 1e-9 for k, (_, _, v) in enumerate(plain) if v.dtype.kind == "M"
        }
        columns = [None if v.dtype.kind == "M" else v.astype(np.float64) for _, _, v in plain]
        size = max(len(v) for _, _, v in plain)
        columns = [c if c is None or c.size == size else None for c in columns]
        return assemble(file.name, [n for n, _, _ in plain], [u for _, u, _ in plain], columns, "tdms", clocks)
    if not waves:
        raise UnreadableFile(f"{file.name} holds no channels with times: export it again with its time axis.")
    return RawLog(tuple(_share_clocks(waves)), "tdms")


def _share_clocks(channels: list[RawChannel]) -> list[RawChannel]:
    """Equal clocks become one array, so that nothing is interpolated later."""
    first = channels[0].times_s
    return [RawChannel(c.name, c.unit, first, c.values) if np.array_equal(c.times_s, first) else c for c in channels]
