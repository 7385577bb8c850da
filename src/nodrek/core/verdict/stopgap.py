"""Dead corners in whose place the control unit shows something for a while, and gives up until the vehicle stands.

Each pull-away brings such a corner back, and each time it lasts as long: a broken lead knows neither.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner, WheelChannel
from nodrek.core.verdict.examine import Examination

BRIDGED_S = 0.5
"""Zeros up to here do not end what is shown."""
STOOD, STOOD_WITHIN_S = 1.0, 3.0
"""m/s under which the vehicle as good as stands, and how long before a corner comes back it does at the latest."""
GIVES_UP_AT = 2.0
"""m/s from which a corner that goes silent does not do so because it sleeps."""
LEAST_TIMES, LEAST_S, ALIKE_S, ALIKE_POLLS = 2, 1.0, 0.25, 2.0
"""How often it is seen whole, how long it lasts at least, and by how much, in seconds and samples, times are unlike."""
LONGER_SILENT = 2.0
"""Times as long it is silent while the vehicle drives."""


def stopgap_s(exam: Examination, corner: Corner) -> float | None:
    """Seconds for which something stands in for the corner after each pull-away; ``None`` where none does."""
    return exam.once(f"stopgap {corner}", lambda: _stopgap_s(exam, corner))


def _stopgap_s(exam: Examination, corner: Corner) -> float | None:
    if not exam.usable.gone[corner].size:
        return None
    channel = exam.log.channels[corner]
    vehicle = exam.usable.vehicle_at(channel.times)
    first, last = _shown(channel)
    lasts = channel.times[last] - channel.times[first]
    gives_up = (vehicle[last] > GIVES_UP_AT) & (last + 1 < channel.times.size)
    begun = _stood_before(channel.times, vehicle)[first]
    at_begin = channel.times[first] <= channel.times[0] + STOOD_WITHIN_S
    whole = gives_up & begun & ~at_begin
    if np.count_nonzero(whole) < LEAST_TIMES:
        return None
    usual = float(np.median(lasts[whole]))
    unlike = max(ALIKE_S, ALIKE_POLLS / channel.rate)
    alike = np.abs(lasts - usual) <= unlike
    # what the next halt or an end of the log cuts off is shorter
    cut = (lasts < usual) & (begun | at_begin)
    silent = float(np.count_nonzero((channel.speed == 0.0) & (vehicle > GIVES_UP_AT))) / channel.rate
    holds = usual >= LEAST_S and alike[whole].all() and (alike | (cut & ~whole)).all()
    return usual if holds and silent > LONGER_SILENT * float(lasts.sum()) else None


def _shown(channel: WheelChannel) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]:
    """First and last samples of what is shown on end."""
    reads = np.flatnonzero(channel.speed > 0.0)
    ends = np.flatnonzero(np.diff(channel.times[reads]) > BRIDGED_S + 1.0 / channel.rate)
    return reads[np.concatenate([[0], ends + 1])], reads[np.concatenate([ends, [reads.size - 1]])]


def _stood_before(times: Array, vehicle: Array) -> npt.NDArray[np.bool_]:
    """Samples before which the vehicle has just stood."""
    stood = np.maximum.accumulate(np.where(vehicle < STOOD, times, -np.inf))
    return np.asarray(times - stood <= STOOD_WITHIN_S)
