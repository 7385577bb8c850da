"""Loggers: when values are fetched, how they are stamped, in what steps they are kept."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from nodrek.core.model import Array, Corner, RawChannel, RawLog


@dataclass(frozen=True)
class Logger:
    """``stagger`` s between the polls of two corners of one row; ``jitter`` s rms of a row.

    ``unit`` is ``km/h``, ``mph`` or ``m/s``; ``quantum`` is in that unit; ``own_times``:
    each channel is stamped when it was really fetched, else the row is stamped once; ``hole_s``: length
    of one pause of the recording.
    """

    rate: float = 50.0
    stagger: float = 0.0
    jitter: float = 0.0005
    quantum: float = 0.01
    unit: str = "km/h"
    own_times: bool = False
    drop: float = 0.0
    hole_s: float = 0.0

    def record(
        self,
        speeds: Mapping[Corner, tuple[Array, Array]],
        duration: float,
        names: Mapping[Corner, str],
        rng: np.random.Generator,
    ) -> RawLog:
        """Sample and hold the control unit's values: one `RawChannel` a corner."""
        rows = np.arange(0.1, duration, 1.0 / self.rate)
        rows = np.sort(rows + self.jitter * rng.standard_normal(rows.size))
        rows = rows[rng.random(rows.size) >= self.drop]
        if self.hole_s:
            begins = rng.uniform(0.2, 0.8) * duration
            rows = rows[(rows < begins) | (rows > begins + self.hole_s)]
        rows = np.round(np.unique(rows), 4)
        rows = rows[np.concatenate([[True], np.diff(rows) > 0])]
        factor = {"km/h": 3.6, "mph": 3.6 / 1.609344, "m/s": 1.0}[self.unit]
        channels = []
        for place, (corner, (when, value)) in enumerate(speeds.items()):
            fetched = rows + place * self.stagger
            index = np.clip(np.searchsorted(when, fetched, side="right") - 1, 0, None)
            shown = value[index] * factor
            if self.quantum > 0:
                shown = np.round(np.round(shown / self.quantum) * self.quantum, 6)
            stamps = np.round(fetched, 4) if self.own_times else rows
            channels.append(RawChannel(names[corner], self.unit, stamps, shown))
        return RawLog(tuple(channels), "simulated")
