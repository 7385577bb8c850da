"""Where on a wire the break is, and where to probe next.

The wire is a row of segments from control unit to sensor. A reading between the control
unit's end and the far end of segment ``i`` says whether the break lies up to there or beyond.
The next point is that of the cheapest expected search: an alphabetic tree with costs at its
knots, solved exactly by dynamic programming (after Knuth 1971, "Optimum binary search
trees"; from memory), so halving is weighted by likelihood and by minutes.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from nodrek.core.diagnosis.measured import GOOD_OHM
from nodrek.core.model import Array
from nodrek.core.model.case import Loom
from nodrek.core.model.diagnosis import LoomSearch, Probe
from nodrek.core.model.knowledge import LoomKind

MISREAD = 0.02
"""Share of readings that mislead: a break that closed while probing, a probe that missed the strand."""
MOST_SEGMENTS = 60
FOUND_FROM = 0.9
WORTH_PROBING = 0.03


def search_loom(loom: Loom, kinds: Mapping[str, LoomKind]) -> LoomSearch:
    """The state of the search for one wire; raises `ValueError` for none or too many segments."""
    count = len(loom.segments)
    if not 0 < count <= MOST_SEGMENTS:
        raise ValueError(f"a wire needs 1 to {MOST_SEGMENTS} segments, not {count}")
    shares = np.array([kinds[s.kind].weight for s in loom.segments])
    shares /= shares.sum()
    at = np.arange(count)
    for reading in loom.readings:
        if reading.after >= count:
            continue
        bad = reading.ohm is None or reading.ohm > GOOD_OHM
        fits = (at <= reading.after) if bad else (at > reading.after)
        shares = shares * np.where(fits, 1.0 - MISREAD, MISREAD)
        shares /= shares.sum()
    likeliest = int(np.argmax(shares))
    found = bool(shares[likeliest] >= FOUND_FROM)
    costs = np.array([kinds[s.kind].minutes for s in loom.segments])
    # what readings have all but ruled out at either end needs no probing
    likely = np.flatnonzero(shares >= WORTH_PROBING)
    low, high = int(likely[0]), int(likely[-1]) + 1
    done = {r.after - low for r in loom.readings}
    minutes, first = best_probe(shares[low:high] / shares[low:high].sum(), costs[low:high], done)
    after = None if first is None else first + low
    probe = None
    if not found and after is not None:
        share = float(shares[: after + 1].sum())
        probe = Probe(after, float(costs[after]), loom.segments[after].kind != "connector", share)
    holes = {r.after: r.sealed for r in loom.readings if r.pierced}
    return LoomSearch(
        loom.corner,
        tuple(s.name for s in loom.segments),
        tuple(float(x) for x in shares),
        likeliest,
        found,
        probe,
        minutes if probe else 0.0,
        tuple(sorted(i for i, sealed in holes.items() if not sealed)),
    )


def best_probe(shares: Array, costs: Array, done: Sequence[int] | set[int] = ()) -> tuple[float, int | None]:
    """Expected minutes of the cheapest search, and its first probe.

    ``shares`` of the break and ``costs`` of probing the far end, per segment, both shape (n,).
    Points in ``done`` are not probed again; the last far end tells nothing. The search ends
    when one segment is left, or no point between the segments left is new.
    """
    count = shares.size
    total = np.concatenate([[0.0], np.cumsum(shares)])
    spent = np.zeros((count, count))  # minutes × probability of being in the stretch
    first: dict[tuple[int, int], int] = {}
    for length in range(2, count + 1):
        for left in range(count - length + 1):
            right = left + length - 1
            mass = float(total[right + 1] - total[left])
            points = [k for k in range(left, right) if k not in done]
            if not points:
                continue
            ways = [float(costs[k]) * mass + spent[left, k] + spent[k + 1, right] for k in points]
            best = int(np.argmin(ways))
            spent[left, right] = ways[best]
            first[left, right] = points[best]
    return float(spent[0, count - 1]), first.get((0, count - 1))
