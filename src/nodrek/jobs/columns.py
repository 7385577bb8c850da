"""What columns a log has, small enough to be looked at: for a person who says which is which."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from nodrek.core.corners import choose_channels, with_full_names
from nodrek.core.model import Array, Corner, RawChannel
from nodrek.errors import NodrekError
from nodrek.io.logs.read import read_log
from nodrek.io.logs.source import Request

POINTS = 160
MOST_COLUMNS = 400


@dataclass(frozen=True, eq=False)
class Column:
    """One column: name, unit, and at most `POINTS` of its values, evenly chosen; NaN where none."""

    name: str
    unit: str | None
    trace: Array
    samples: int


@dataclass(frozen=True, eq=False)
class Columns:
    """All columns of a log, and which of them would be taken unaided."""

    path: Path
    columns: tuple[Column, ...]
    suggested: dict[Corner, str]


def look_at_columns(path: Path, databases: tuple[Path, ...] = ()) -> Columns:
    """Read `path` and thin its columns; raises what reading raises."""
    raw = with_full_names(read_log(path, Request(databases=databases)))
    try:
        chosen = choose_channels(raw, {}).channels
    except NodrekError:
        chosen = {}
    columns = tuple(_column(c) for c in raw.channels[:MOST_COLUMNS])
    return Columns(path, columns, {corner: channel.name for corner, channel in chosen.items()})


def _column(channel: RawChannel) -> Column:
    known = ~np.isnan(channel.values)
    index = np.linspace(0, channel.values.size - 1, min(POINTS, channel.values.size)).astype(np.int64)
    return Column(channel.name, channel.unit, channel.values[index], int(known.sum()))
