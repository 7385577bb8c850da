"""Signals: where they lie in a frame, and their values, for all frames at once."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from nodrek.core.model import Array
from nodrek.io.bus.frames import Frames


@dataclass(frozen=True)
class Signal:
    """``start`` as DBC counts it: bit 0 is the lowest bit of byte 0; for big-endian signals the
    highest bit of the signal. ``selector``: value of the multiplexer, ``None`` for always."""

    name: str
    start: int
    length: int
    little_endian: bool
    signed: bool
    factor: float
    offset: float
    unit: str | None
    selector: int | None = None
    is_selector: bool = False
    is_float: bool = False


@dataclass(frozen=True)
class Message:
    """``identifier`` with bit 31 set for 29-bit ones."""

    identifier: int
    name: str
    signals: tuple[Signal, ...]


def raw_values(data: np.ndarray, signal: Signal) -> np.ndarray:
    """Unsigned raw values of a signal in rows of bytes (n, width); at most 64 bits long."""
    width = data.shape[1]
    if signal.little_endian:
        first = signal.start // 8
        last = (signal.start + signal.length - 1) // 8
        order = range(first, last + 1)
        shift = signal.start % 8
    else:
        first = signal.start // 8
        bits_before = 7 - signal.start % 8
        last = first + (bits_before + signal.length - 1) // 8
        order = range(last, first - 1, -1)
        shift = (8 - (bits_before + signal.length) % 8) % 8
    if last >= width or signal.length > 64:
        return np.zeros(0, dtype=np.uint64)
    out = np.zeros(data.shape[0], dtype=np.uint64)
    for place, byte in enumerate(order):
        if 8 * place - shift >= 64:
            break
        value = data[:, byte].astype(np.uint64)
        move = 8 * place - shift
        out |= value << np.uint64(move) if move >= 0 else value >> np.uint64(-move)
    if signal.length < 64:
        out &= np.uint64((1 << signal.length) - 1)
    return out


def physical_values(raw: np.ndarray, signal: Signal) -> Array:
    """Values in the signal's unit."""
    if signal.is_float and signal.length in (32, 64):
        kind = np.float32 if signal.length == 32 else np.float64
        whole = raw.astype(np.uint32 if signal.length == 32 else np.uint64)
        return whole.view(kind).astype(np.float64) * signal.factor + signal.offset
    if signal.signed and signal.length < 64:
        half = 1 << (signal.length - 1)
        number = raw.astype(np.int64)
        number = np.where(number >= half, number - (1 << signal.length), number)
    else:
        number = raw.astype(np.int64) if signal.signed else raw
    return number.astype(np.float64) * signal.factor + signal.offset


def last_byte(signal: Signal) -> int:
    """Number of bytes a frame must have to hold the signal."""
    if signal.little_endian:
        return (signal.start + signal.length - 1) // 8 + 1
    return signal.start // 8 + (7 - signal.start % 8 + signal.length - 1) // 8 + 1


def rows_of(frames: Frames, identifier: int, mask: int = 0xFFFFFFFF) -> np.ndarray:
    """Indices of the frames with an identifier; `mask` leaves bits of it out."""
    return np.flatnonzero((frames.ids & np.uint32(mask)) == np.uint32(identifier & mask))
