"""Frames and databases → `RawLog`: the signals that may be wheel speeds, by name."""

from __future__ import annotations

from collections import Counter

import numpy as np

from nodrek.core.model import RawChannel, RawLog
from nodrek.errors import NeedsDatabase, UnreadableFile
from nodrek.io.bus.database import load_databases
from nodrek.io.bus.frames import EXTENDED, Frames
from nodrek.io.bus.heavy import heavy_channels
from nodrek.io.bus.signals import Message, last_byte, physical_values, raw_values, rows_of
from nodrek.io.logs.source import Request

LEAST_FRAMES = 2
ANY_SOURCE = 0xFFFFFF00 & ~(7 << 26) | EXTENDED
"""Identifier without priority and source address, for 29-bit frames of the standard."""


def decode_frames(frames: Frames, request: Request, file_name: str, format_name: str) -> RawLog:
    """Decode what may matter; without a database the heavy-vehicle standard is tried.

    Raises `NeedsDatabase` where nothing can be decoded, with what would help.
    """
    if frames.count < LEAST_FRAMES:
        raise UnreadableFile(f"{file_name} holds no frames of a bus: record it again.")
    notes: list[str] = []
    channels = []
    if request.databases:
        messages, notes = load_databases(request.databases)
        channels = _decode(frames, messages, request)
        if not channels:
            names = ", ".join(p.name for p in request.databases)
            raise NeedsDatabase(
                f"None of the messages with wheel speeds in {names} is on the bus in {file_name}: "
                "give the database of this vehicle and of this bus."
            )
    else:
        channels = heavy_channels(frames)
        if not channels:
            raise NeedsDatabase(
                f"{file_name} holds raw bus frames, which only a database can read: give it with --database FILE."
            )
    return RawLog(tuple(channels), format_name, tuple(notes))


def _decode(frames: Frames, messages: list[Message], request: Request) -> list[RawChannel]:
    present = set(np.unique(frames.ids).tolist())
    wanted: list[tuple[Message, np.ndarray]] = []
    for message in messages:
        kept = any(request.keep(s.name) or request.keep(f"{message.name} {s.name}") for s in message.signals)
        if not kept:
            continue
        if message.identifier in present:
            wanted.append((message, rows_of(frames, message.identifier)))
        elif message.identifier & EXTENDED:
            rows = rows_of(frames, message.identifier, ANY_SOURCE)
            if rows.size >= LEAST_FRAMES and (message.identifier >> 16) & 0xFF >= 240:
                wanted.append((message, rows))
    counts = Counter(s.name for message, _ in wanted for s in message.signals)
    channels = []
    for message, rows in wanted:
        selector = next((s for s in message.signals if s.is_selector), None)
        for signal in message.signals:
            full = f"{message.name}.{signal.name}"
            if signal.is_selector or not (request.keep(signal.name) or request.keep(full)):
                continue
            fit = rows[frames.lengths[rows] >= last_byte(signal)]
            if signal.selector is not None and selector is not None:
                fit = fit[raw_values(frames.data[fit], selector) == signal.selector]
            if fit.size < LEAST_FRAMES or last_byte(signal) > frames.data.shape[1]:
                continue
            values = physical_values(raw_values(frames.data[fit], signal), signal)
            unique = counts[signal.name] == 1 and request.keep(signal.name)
            name = signal.name if unique else full
            channels.append(RawChannel(name, signal.unit, frames.times[fit], values))
    return channels
