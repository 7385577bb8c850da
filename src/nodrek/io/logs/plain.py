"""Plain numbers without a table library: for small logs its import would be most of the time.

Only for tables of nothing but numbers, every row complete. Anything else is left to the
caller's table library.
"""

from __future__ import annotations

import warnings

import numpy as np

from nodrek.core.model import Array
from nodrek.io.logs.source import LogFile

LARGEST = 6 * 1024**2
"""Bytes; above, a table library's several threads win."""
EVERY = frozenset(range(256))
PLAIN = frozenset(b"0123456789+-.eE \r\n")


def read_plain(file: LogFile, separator: str, decimal_comma: bool, first_row: int, width: int) -> list[Array] | None:
    """Columns of the table from line `first_row` on, each of shape (rows,); ``None`` if it is not plain."""
    if file.size > LARGEST or not separator.isascii():
        return None
    content = file.read()
    body = content.split(b"\n", first_row)[-1].rstrip()
    mark = separator.encode()
    allowed = PLAIN | set(mark)
    if decimal_comma:
        allowed = (allowed - set(b".")) | set(b",")
    if body.translate(None, bytes(allowed)):
        return None
    if mark + mark in body or mark + b"\n" in body or b"\n" + mark in body or b"\n\n" in body or b"\r\n\r" in body:
        return None  # empty cells or lines: their place would be lost
    if not _even_rows(body, mark, width):
        return None
    if decimal_comma:
        body = body.replace(b",", b".")
    rows = body.count(b"\n") + 1
    # white space around a separator is skipped, so ends of lines may become separators
    flat = body.replace(b"\n", mark) if not mark.isspace() else body
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        try:
            numbers = np.fromstring(flat, dtype=np.float64, sep=separator if not mark.isspace() else " ")
        except (ValueError, DeprecationWarning):
            return None
    if numbers.size != rows * width:
        return None
    return list(np.ascontiguousarray(numbers.reshape(rows, width).T))


def _even_rows(body: bytes, mark: bytes, width: int) -> bool:
    """Whether each line holds `width` cells."""
    ends = body.translate(None, bytes(EVERY - set(mark) - {ord("\n")})) + b"\n"
    line = mark * (width - 1) + b"\n"
    return ends == line * (len(ends) // len(line))
