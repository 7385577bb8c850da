"""Analyze one log: file in, answer and evidence out. Used by command line and window alike."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from nodrek.core.corner_names import sounds_like_wheel_speed, turns_the_vehicle
from nodrek.core.corners import map_corners
from nodrek.core.model import Analysis, Corner, Vehicle, WheelLog
from nodrek.core.verdict.examine import Examination, Progress
from nodrek.core.verdict.judge import analyze_log
from nodrek.errors import BadRequest
from nodrek.io.knowledge import shipped_calibration
from nodrek.io.logs.read import read_log
from nodrek.io.logs.source import Request


@dataclass(frozen=True, eq=False)
class Source:
    """Where the log came from; ``format`` as in the table of formats."""

    path: Path
    sha256: str
    format: str


@dataclass(frozen=True, eq=False)
class Answer:
    """What one analysis hands to report, window and JSON."""

    source: Source
    log: WheelLog
    analysis: Analysis
    examination: Examination


def quiet(share: float, doing: str) -> None:
    """A progress that tells nobody."""


def analyze_file(
    path: Path,
    *,
    vehicle: Vehicle | None = None,
    mapping: Mapping[Corner, str] | None = None,
    reference: str | None = None,
    databases: tuple[Path, ...] = (),
    start: float | None = None,
    stop: float | None = None,
    progress: Progress = quiet,
) -> Answer:
    """Read and analyze `path`; `start` and `stop` in seconds since the log's first sample.

    `reference` names the column of a speed that is independent of the wheels.

    Raises the `NodrekError` family; nothing else for anything a file may hold.
    """
    progress(0.0, "Reading the log")
    raw = read_log(path, request_for(mapping, databases, reference))
    log = cut_log(map_corners(raw, mapping, reference), start, stop)
    source = Source(path, sha256_of(path), raw.format)

    def rest(share: float, doing: str) -> None:
        progress(0.2 + 0.8 * share, doing)

    analysis, examination = analyze_log(log, vehicle or Vehicle(), rest, shipped_calibration())
    progress(1.0, "Done")
    return Answer(source, examination.log, analysis, examination)


def request_for(
    mapping: Mapping[Corner, str] | None, databases: tuple[Path, ...], reference: str | None = None
) -> Request:
    """Read what may be a wheel speed by its name, and what a person named."""
    named = {name.strip().lower() for name in (*(mapping or {}).values(), *([reference] if reference else []))}

    def keep(name: str) -> bool:
        plain = name.lower()
        if any(plain == n or n.endswith(f".{plain}") or plain.endswith(f".{n}") or n in plain for n in named):
            return True
        return sounds_like_wheel_speed(name) or turns_the_vehicle(name)

    return Request(keep, databases)


def cut_log(log: WheelLog, start: float | None, stop: float | None) -> WheelLog:
    """The part from `start` to `stop` s, times counted from its beginning."""
    if start is None and stop is None:
        return log
    low = 0.0 if start is None else start
    high = log.duration if stop is None else stop
    if not low < high or low >= log.duration or high <= 0:
        raise BadRequest(
            f"The part from {low:g} s to {high:g} s holds nothing: the log runs from 0 to {log.duration:.0f} s."
        )
    channels = {}
    shared: dict[int, np.ndarray] = {}
    for corner, channel in log.channels.items():
        part = slice(*np.searchsorted(channel.times, (low, high)))
        if channel.times[part].size < 2:
            continue
        times = shared.setdefault(id(channel.times), channel.times[part] - max(low, 0.0))
        cells = None if channel.cells is None else channel.cells[part]
        speed, invalid = channel.speed[part], channel.invalid[part]
        channels[corner] = replace(channel, times=times, speed=speed, invalid=invalid, cells=cells)
    if len(channels) < 2:
        raise BadRequest(f"The part from {low:g} s to {high:g} s holds fewer than two corners: choose a longer part.")
    own = log.reference
    if own is not None:
        part = slice(*np.searchsorted(own.times, (low, high)))
        own = replace(own, times=own.times[part] - max(low, 0.0), speed=own.speed[part])
    turning = log.turning
    if turning is not None:
        turning = replace(turning, times=turning.times - max(low, 0.0))
    return replace(
        log, channels=channels, turning=turning, duration=min(high, log.duration) - max(low, 0.0), reference=own
    )


def sha256_of(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
