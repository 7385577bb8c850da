"""Network captures (pcap) of a CAN interface.

Format: 24 bytes of file header, 16 bytes a packet (libpcap's published file format); link
types 227 (frames of the kernel's CAN interface, identifier big-endian) and 113 (the same
behind 16 bytes of "cooked" header) as the published list of link types has them.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

from nodrek.core.model import RawLog
from nodrek.errors import UnreadableFile
from nodrek.io.bus.decode import decode_frames
from nodrek.io.bus.frames import frames_from
from nodrek.io.logs.source import LogFile, Request

MAGIC = {
    b"\xd4\xc3\xb2\xa1": ("<", 1e-6), b"\xa1\xb2\xc3\xd4": (">", 1e-6),
    b"\x4d\x3c\xb2\xa1": ("<", 1e-9), b"\xa1\xb2\x3c\x4d": (">", 1e-9),
}  # fmt: skip
CAN_LINK, COOKED_LINK = 227, 113
COOKED_HEADER = 16
EXTENDED_FLAG, REMOTE_FLAG, ERROR_FLAG = 0x80000000, 0x40000000, 0x20000000


def read(file: LogFile, request: Request) -> RawLog:
    content = file.read()
    order, fraction = MAGIC[content[:4]]
    link = struct.unpack_from(f"{order}I", content, 20)[0] & 0xFFFF if len(content) >= 24 else -1
    if link not in (CAN_LINK, COOKED_LINK):
        raise UnreadableFile(
            f"{file.name} is a network capture, but not of a CAN interface: capture the CAN bus itself."
        )
    return decode_frames(frames_from(_frames(content, order, fraction, link)), request, file.name, "pcap")


def _frames(content: bytes, order: str, fraction: float, link: int) -> Iterator[tuple[float, int, bool, bytes]]:
    at = 24
    while at + 16 <= len(content):
        seconds, parts, size, _ = struct.unpack_from(f"{order}IIII", content, at)
        at += 16
        body = content[at : at + size]
        at += size
        if link == COOKED_LINK:
            body = body[COOKED_HEADER:]
        if len(body) < 8:
            continue
        identifier = struct.unpack_from(">I", body)[0]
        length = min(body[4], len(body) - 8)
        if identifier & (REMOTE_FLAG | ERROR_FLAG):
            continue
        yield (
            seconds + parts * fraction,
            identifier & 0x1FFFFFFF,
            bool(identifier & EXTENDED_FLAG),
            body[8 : 8 + length],
        )
