"""Arrays with paths for names → `RawLog`: arrays of one length in one place share a clock."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass

import numpy as np

from nodrek.core.model import Array, RawChannel, RawLog
from nodrek.errors import UnreadableFile
from nodrek.io.logs.clock import seconds_of, unroll
from nodrek.io.logs.shape import name_and_unit
from nodrek.io.logs.wide import is_clock_name, rises, without_lost_times


@dataclass(frozen=True, eq=False)
class Found:
    """One array as a file holds it; ``step``: seconds between values where the file says so."""

    path: str
    unit: str | None
    values: Array
    step: float | None


def log_from_arrays(file_name: str, found: list[Found], format_name: str) -> RawLog:
    """Each array with the clock nearest to it: in its own folder, else anywhere of the same length."""
    clocks = [f for f in found if is_clock_name(*_named(f)) and rises(f.values)]
    seconds: dict[int, Array] = {}
    warnings: list[str] = []
    channels = []
    for item in found:
        if any(item is c for c in clocks):
            continue
        name, unit = _named(item)
        clock = _nearest(item, clocks)
        if clock is not None:
            if id(clock) not in seconds:
                times, notes = seconds_of(clock.values, _named(clock)[1])
                seconds[id(clock)], more = unroll(times)
                warnings += [n for n in (*notes, *more) if n not in warnings]
            channels.append(RawChannel(name, unit, seconds[id(clock)], item.values))
        elif item.step:
            times = seconds.setdefault(
                hash((item.step, item.values.size)), item.step * np.arange(item.values.size, dtype=np.float64)
            )
            channels.append(RawChannel(name, unit, times, item.values))
    if not channels:
        raise UnreadableFile(
            f"{file_name} holds no channels with times: export it again with a time channel beside them."
        )
    return RawLog(tuple(without_lost_times(channels)), format_name, tuple(warnings))


def _named(item: Found) -> tuple[str, str | None]:
    """Name without the folders it stands in, unless that leaves nothing to tell it by."""
    parts = [p for p in item.path.replace(".", "/").split("/") if p]
    name = parts[-1]
    if name.lower() in ("value", "values", "data", "signal", "y", "samples") and len(parts) > 1:
        name = parts[-2]
    plain, unit = name_and_unit(name)
    return plain, item.unit or unit


def _nearest(item: Found, clocks: list[Found]) -> Found | None:
    fitting = [c for c in clocks if c.values.size == item.values.size]
    by_folder: dict[int, list[Found]] = defaultdict(list)
    own = item.path.split("/")[:-1]
    for clock in fitting:
        folder = clock.path.split("/")[:-1]
        shared = sum(1 for a, b in zip(own, folder, strict=False) if a == b)
        by_folder[2 * shared - len(folder)].append(clock)
    return by_folder[max(by_folder)][0] if by_folder else None
