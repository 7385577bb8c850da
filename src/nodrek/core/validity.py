"""Columns that say whether a wheel speed beside them is valid.

A control unit may tell in a signal of its own that it has no value, and still send the last one, or zero: read without
it, that is a wheel that stands or a value that does not move. What is declared there counts as "no valid value".
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import numpy.typing as npt

from nodrek.core.corner_names import SPEED_WORDS, WHEEL_WORDS, corner_of, words_of
from nodrek.core.model import Array, Corner, RawChannel, RawLog

NO_VALUE = np.inf
"""What stands for a value that is declared to be none: no speed of a road vehicle."""
MOST_BAD, MANY_VALUES = 0.5, 20
"""Share of a corner's readings that may be declared invalid while they go on with so many different values; more, and
the signal is not what its name says (never set, turned round, or the memory of a fault)."""
_GOOD = frozenset(
    ("valid", "validity", "vld", "vldty", "gültig", "gueltig", "gultig", "valide", "valido", "válido", "válida",
     "plausible", "available")
)  # fmt: skip
_BAD = frozenset(
    ("invalid", "ungültig", "ungueltig", "ungultig", "error", "err", "fehler", "implausible")
)  # fmt: skip
"""Words by which 1 means a value, and by which it means none. ("Status" and "quality" are counted in as many ways as
there are makers, and a "fault" may be long past: they are not asked.)"""
_BESIDE = frozenset(("abs", "esp", "sensor", "sens", "signal", "sig", "is", "flag", "bit"))


def without_invalid(
    raw: RawLog, chosen: Mapping[Corner, RawChannel]
) -> tuple[dict[Corner, RawChannel], tuple[str, ...]]:
    """`chosen` with `NO_VALUE` where another column of `raw` declares a value invalid; what a person should know.

    Columns of 0 and 1 count, by their words (see `_GOOD`, `_BAD`), where the rest of their name is that of the wheel
    speed.
    """
    out, doubted = dict(chosen), []
    for corner, channel in chosen.items():
        told = _declared(raw, corner, channel)
        if told is None or not told.any():
            continue
        read = told & ~np.isnan(channel.values)
        if told.mean() > MOST_BAD and np.unique(channel.values[read]).size >= MANY_VALUES:
            doubted.append(corner.value)
            continue
        out[corner] = RawChannel(channel.name, channel.unit, channel.times_s, np.where(read, NO_VALUE, channel.values))
    said = f"Most readings of {', '.join(doubted)} are declared invalid while they go on; that was not believed."
    return out, (said,) if doubted else ()


def _declared(raw: RawLog, corner: Corner, channel: RawChannel) -> npt.NDArray[np.bool_] | None:
    """Samples of `channel` that are declared invalid; ``None`` where no column speaks of them."""
    for flag in raw.channels:
        bad_value = _bad_value(flag, corner, channel)
        if bad_value is None:
            continue
        known = ~np.isnan(flag.values) & np.isfinite(flag.times_s)
        if not known.any() or not np.isin(flag.values[known], (0.0, 1.0)).all():
            continue
        return _at(channel.times_s, flag.times_s[known], flag.values[known] == bad_value)
    return None


def _bad_value(flag: RawChannel, corner: Corner, channel: RawChannel) -> float | None:
    """Which value of `flag` declares a reading of `channel` invalid; ``None`` where it is another thing's."""
    if flag is channel:
        return None
    words, own = set(words_of(flag.name)), set(words_of(channel.name))
    said = (words & (_GOOD | _BAD)) - own
    if not said or (said & _GOOD and said & _BAD):
        return None
    rest = words - said
    whose = corner_of(" ".join(word for word in words_of(flag.name) if word in rest))
    if not (whose is corner or rest == own):
        return None
    if not rest <= own | SPEED_WORDS | WHEEL_WORDS | _BESIDE:
        return None
    return 0.0 if said & _GOOD else 1.0


def _at(times: Array, since: Array, told: npt.NDArray[np.bool_]) -> npt.NDArray[np.bool_]:
    """What was `told` last at each of `times`; the first word holds before it as well."""
    order = np.argsort(since, kind="stable")
    last = np.searchsorted(since[order], times, side="right") - 1
    return np.asarray(told[order][np.maximum(last, 0)])
