"""The one door out: `RawLog` → plain CSV, Parquet or MDF 4, written whole or not at all."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from nodrek.core.model import Array, RawChannel, RawLog
from nodrek.errors import BadRequest


def write_log(log: RawLog, path: Path) -> None:
    """Write in the format that the ending of `path` names.

    Raises `BadRequest` for an unknown ending, a log without channels, or a place that
    cannot be written to.
    """
    writers: dict[str, Callable[[RawLog, Path], None]] = {
        ".csv": _csv,
        ".parquet": _parquet,
        ".mf4": _mdf,
    }
    writer = writers.get(path.suffix.lower())
    if writer is None:
        raise BadRequest(f"{path.name}: write to a name that ends in {', '.join(writers)}.")
    if not log.channels:
        raise BadRequest("The log holds no channels that could be written.")
    # the library behind MDF wants the ending to be its own
    unfinished = path.with_name(f".{path.stem}.unfinished{path.suffix}")
    try:
        writer(log, unfinished)
        os.replace(unfinished, path)
    except OSError as error:
        unfinished.unlink(missing_ok=True)
        reason = (error.strerror or str(error)).lower()
        raise BadRequest(f"{path} cannot be written: {reason}. Choose another place.") from error


def write_csv(log: RawLog, path: Path) -> None:
    """Plain CSV under any name; raises `BadRequest` where it cannot be written."""
    write_log(log, path if path.suffix.lower() == ".csv" else path.with_suffix(".csv"))
    if path.suffix.lower() != ".csv":
        os.replace(path.with_suffix(".csv"), path)


def _csv(log: RawLog, path: Path) -> None:
    import polars as pl

    table = _table(log)
    table.with_columns(pl.col("time [s]").round(6)).write_csv(path)


def _parquet(log: RawLog, path: Path) -> None:
    _table(log).write_parquet(path)


def _table(log: RawLog) -> Any:
    """One time column from zero, one column a channel; blank where a channel was not sampled."""
    import polars as pl

    times = _all_times(log.channels)
    data: dict[str, Array] = {"time [s]": times - times[0] if times.size else times}
    for channel in log.channels:
        column = np.full(times.size, np.nan)
        column[np.searchsorted(times, channel.times_s)] = channel.values
        data[_title(channel, data)] = column
    return pl.DataFrame(data).fill_nan(None)


def _title(channel: RawChannel, taken: dict[str, Array]) -> str:
    """Name with its unit, and a number where a name comes twice."""
    unit = "" if channel.unit is None else f" [{channel.unit}]"
    title, number = f"{channel.name}{unit}", 2
    while title in taken:
        title, number = f"{channel.name} ({number}){unit}", number + 1
    return title


def _mdf(log: RawLog, path: Path) -> None:
    """One group a clock, so that each channel keeps its own times."""
    from asammdf import MDF, Signal

    start = min(float(c.times_s[0]) for c in log.channels if c.times_s.size)
    groups: list[list[Any]] = []
    clocks: list[Array] = []
    for channel in log.channels:
        known = ~np.isnan(channel.values)
        times, values = channel.times_s[known] - start, channel.values[known]
        if not times.size:
            continue
        signal = Signal(values, times, unit=channel.unit or "", name=channel.name)
        for clock, group in zip(clocks, groups, strict=True):
            if clock.shape == times.shape and np.array_equal(clock, times):
                group.append(signal)
                break
        else:
            clocks.append(times)
            groups.append([signal])
    with MDF(version="4.10") as measured:
        for group in groups:
            measured.append(group, comment="Nodrek")
        measured.save(path, overwrite=True)


def _all_times(channels: tuple[RawChannel, ...]) -> Array:
    first = channels[0].times_s
    if all(c.times_s is first or np.array_equal(c.times_s, first) for c in channels):
        return first
    return np.unique(np.concatenate([c.times_s for c in channels]))
