"""Sentences for labels that break their lines: no line ends between a number and its unit, or within "km/h"."""

from __future__ import annotations

import re

NO_BREAK_SPACE, WORD_JOINER = "\u00a0", "\u2060"
_UNIT = re.compile(r"(?<=\d) (?=(?:%|km|m|mm|min|minutes|s|V|mV|Hz)(?![\w]))")


def whole_units(text: str) -> str:
    """`text` as it is to be shown: the same words, held together where a line must not end."""
    return _UNIT.sub(NO_BREAK_SPACE, text).replace("km/h", f"km{WORD_JOINER}/{WORD_JOINER}h")
