"""The one door out: `RawLog` → plain CSV, written whole or not at all."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np

from nodrek.core.model import RawChannel, RawLog
from nodrek.errors import BadRequest


def write_csv(log: RawLog, path: Path) -> None:
    """One time column in seconds, one column a channel, units in the header.

    Channels with stamps of their own leave their cells blank where they were not sampled.
    Raises `BadRequest` where the place cannot be written to.
    """
    import polars as pl

    times = _all_times(log.channels)
    data = {"time [s]": times - times[0] if times.size else times}
    for channel in log.channels:
        name = channel.name if channel.unit is None else f"{channel.name} [{channel.unit}]"
        column = np.full(times.size, np.nan)
        column[np.searchsorted(times, channel.times_s)] = channel.values
        data[name] = column
    table = pl.DataFrame(data).fill_nan(None)
    unfinished = path.with_name(path.name + ".part")
    try:
        table.with_columns(pl.col("time [s]").round(6)).write_csv(unfinished)
        os.replace(unfinished, path)
    except OSError as error:
        unfinished.unlink(missing_ok=True)
        reason = (error.strerror or str(error)).lower()
        raise BadRequest(f"{path} cannot be written: {reason}. Choose another place.") from error


def _all_times(channels: tuple[RawChannel, ...]) -> np.ndarray:
    first = channels[0].times_s
    if all(c.times_s is first or np.array_equal(c.times_s, first) for c in channels):
        return first
    return np.unique(np.concatenate([c.times_s for c in channels]))
