"""Wheel speeds of heavy vehicles by the published standard, without any database.

SAE J1939-71 (all from memory): EBC2, parameter group 65215, front axle speed in bytes 1-2
with 1/256 km/h per bit, then one byte a wheel of speed relative to it, 1/16 km/h per bit,
offset −7.8125 km/h; high resolution wheel speed, parameter group 65134, four words of
1/256 km/h per bit. The highest values of a byte or word say "error" and "not available"
(SAE J1939-71: 0xFE and 0xFF, 0xFE00 and up for words).
"""

from __future__ import annotations

import numpy as np

from nodrek.core.model import Array, RawChannel
from nodrek.io.bus.frames import EXTENDED, Frames

EBC2 = 65215
HRW = 65134
WORD_KMH = 1.0 / 256.0
RELATIVE_KMH = 1.0 / 16.0
RELATIVE_OFFSET_KMH = -7.8125
WHEELS = ("front left", "front right", "rear left", "rear right")
NOT_AVAILABLE_KMH = 655.35
"""What is handed on for "not available", so that it is seen as such and not as a gap."""


def heavy_channels(frames: Frames) -> list[RawChannel]:
    """Channels of the high-resolution message and of EBC2, as far as they are on the bus."""
    group = _groups(frames)
    channels = []
    rows = np.flatnonzero((group == HRW) & (frames.lengths >= 8))
    if rows.size >= 2:
        for k, wheel in enumerate(WHEELS):
            word = _word(frames, rows, 2 * k)
            channels.append(
                RawChannel(f"High resolution wheel speed, {wheel}", "km/h", frames.times[rows], _words_kmh(word))
            )
    rows = np.flatnonzero((group == EBC2) & (frames.lengths >= 6))
    if rows.size >= 2:
        axle = _words_kmh(_word(frames, rows, 0))
        for k, wheel in enumerate(WHEELS):
            relative = frames.data[rows, 2 + k].astype(np.float64)
            speed = axle + relative * RELATIVE_KMH + RELATIVE_OFFSET_KMH
            missing = (relative >= 0xFB) | (axle >= 250.996)
            channels.append(
                RawChannel(
                    f"Wheel speed, {wheel}",
                    "km/h",
                    frames.times[rows],
                    np.where(missing, NOT_AVAILABLE_KMH, np.maximum(speed, 0.0)),
                )
            )
    return channels


def _groups(frames: Frames) -> np.ndarray:
    """Parameter group number of each 29-bit frame, 0 for others (SAE J1939-21; from memory)."""
    extended = (frames.ids & np.uint32(EXTENDED)) != 0
    identifier = frames.ids & np.uint32(0x1FFFFFFF)
    format_byte = (identifier >> np.uint32(16)) & np.uint32(0xFF)
    group = (identifier >> np.uint32(8)) & np.uint32(0x3FFFF)
    group = np.where(format_byte < 240, group & np.uint32(0x3FF00), group)
    return np.asarray(np.where(extended, group, 0))


def _word(frames: Frames, rows: np.ndarray, byte: int) -> np.ndarray:
    low, high = frames.data[rows, byte].astype(np.uint16), frames.data[rows, byte + 1].astype(np.uint16)
    return np.asarray(low | (high << 8))


def _words_kmh(word: np.ndarray) -> Array:
    """km/h; 0xFB00 and above are no values but codes."""
    speed: Array = np.where(word >= 0xFB00, NOT_AVAILABLE_KMH, word * WORD_KMH)
    return speed
