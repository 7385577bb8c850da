"""Convert a log to an open format, names and units kept."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

from nodrek.core.corners import choose_channels, with_full_names
from nodrek.core.model import Corner, RawLog
from nodrek.io.logs.read import read_log
from nodrek.io.logs.source import Request
from nodrek.io.logs.write import write_log
from nodrek.jobs.analyze import request_for


def convert_file(
    path: Path, output: Path, *, mapping: Mapping[Corner, str] | None = None, databases: tuple[Path, ...] = ()
) -> RawLog:
    """Read `path` and write `output` in the format its ending names: .csv, .parquet or .mf4.

    Columns named by `mapping` get their corner's name in front, so that the next reader
    needs no mapping. Raises `BadRequest` for an unknown ending or a place that cannot be
    written, and what reading raises.
    """
    request = request_for(mapping, databases) if databases else Request()
    raw = _named(read_log(path, request), mapping or {})
    write_log(raw, output)
    return raw


def _named(raw: RawLog, mapping: Mapping[Corner, str]) -> RawLog:
    if not mapping:
        return raw
    raw = with_full_names(raw)
    chosen = choose_channels(raw, mapping).channels
    prefix = {id(channel): f"Wheel speed {corner}: " for corner, channel in chosen.items() if corner in mapping}
    channels = tuple(replace(c, name=prefix.get(id(c), "") + c.name) for c in raw.channels)
    return replace(raw, channels=channels)
