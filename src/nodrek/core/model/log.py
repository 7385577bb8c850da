"""A log as found (`RawLog`) and a log as understood (`WheelLog`).

Each channel keeps its own sample times: a log polled corner after corner knows the
wheel angle of a sample only as well as its time, so nothing here shares a grid.
Channels sampled together may share one array object, which later steps use to skip
interpolation.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from nodrek.core.model.corner import Corner

Array = npt.NDArray[np.float64]
"""One-dimensional (unless said otherwise) array of float64. NaN means "no sample"."""


@dataclass(frozen=True, eq=False)
class RawChannel:
    """One channel as the file has it: its name, its unit's spelling, its own times.

    ``times_s`` and ``values`` have the same length; times are seconds, not
    necessarily from zero. ``values`` are in ``unit``; ``None`` where the file is silent.
    """

    name: str
    unit: str | None
    times_s: Array
    values: Array


@dataclass(frozen=True, eq=False)
class RawLog:
    """Everything a reader found, faithful: nothing converted, dropped or renamed."""

    channels: tuple[RawChannel, ...]
    format: str
    warnings: tuple[str, ...] = ()


@dataclass(frozen=True, eq=False)
class WheelChannel:
    """One corner's speed, understood.

    ``times`` (s, rising strictly) and ``speed`` (m/s, no NaN) hold the samples that
    carry a number, invalid values included as NaN only in ``speed`` where
    ``invalid`` is true. ``quantum`` is the step of the values in m/s (0: none seen).
    ``lag`` (s): a value was true at its stamp plus ``lag``.
    """

    corner: Corner
    name: str
    unit: str
    unit_guessed: bool
    times: Array
    speed: Array
    invalid: npt.NDArray[np.bool_]
    quantum: float
    rate: float
    lag: float = 0.0
    confidence: float = 1.0
    """How sure it is that this channel is this corner's wheel speed."""
    cells: npt.NDArray[np.int64] | None = None
    """How many cells of the file each sample stands for, where it is not one for all."""

    @property
    def samples(self) -> int:
        """Cells of the file that hold a number."""
        return int(self.times.size if self.cells is None else self.cells.sum())


@dataclass(frozen=True, eq=False)
class ReferenceSpeed:
    """A speed that is independent of the wheels (satellites, optics): ``times`` s, ``speed`` m/s, no NaN."""

    name: str
    times: Array
    speed: Array


@dataclass(frozen=True, eq=False)
class TurnSignal:
    """A signed yaw rate or steering angle, positive to the left, in any unit: ``times`` s, ``values``."""

    name: str
    times: Array
    values: Array


@dataclass(frozen=True, eq=False)
class WheelLog:
    """The wheel speeds of one drive, by corner, times counted from the first sample."""

    channels: Mapping[Corner, WheelChannel]
    duration: float
    warnings: tuple[str, ...] = field(default=())
    reference: ReferenceSpeed | None = None
    turning: TurnSignal | None = None

    @property
    def corners(self) -> tuple[Corner, ...]:
        return tuple(c for c in Corner if c in self.channels)
