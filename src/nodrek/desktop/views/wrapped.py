"""Sentences for labels that break their lines: no line ends between a number and its unit, or within "km/h", and one
may end within a name that is longer than any line."""

from __future__ import annotations

import re

NO_BREAK_SPACE, WORD_JOINER, MAY_BREAK = "\u00a0", "\u2060", "\u200b"
_LONG = re.compile(r"\S{32}(?=\S)")
_UNIT = re.compile(r"(?<=\d) (?=(?:%|km|m|mm|min|minutes|s|V|mV|Hz)(?![\w]))")


def whole_units(text: str) -> str:
    """`text` as it is to be shown: the same words, held together where a line must not end, and names of files and
    signals apart where it may."""
    text = _LONG.sub(rf"\g<0>{MAY_BREAK}", text)
    return _UNIT.sub(NO_BREAK_SPACE, text).replace("km/h", f"km{WORD_JOINER}/{WORD_JOINER}h")
