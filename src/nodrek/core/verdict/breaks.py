"""Breaks of the signal that do not know the wheel angle (`intermittent`)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner, Fault, Finding
from nodrek.core.motion.blocks import quick_quantile
from nodrek.core.motion.events import Dropouts
from nodrek.core.motion.usable import GRID_STEP
from nodrek.core.verdict.bridged import HeldBreaks, held_breaks
from nodrek.core.verdict.declared import FROM_SPEED, TOGETHER_S, Declared, declared_breaks
from nodrek.core.verdict.dip_speeds import SOUND_UP_TO, looks_of, usual_share
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.held import HELD
from nodrek.core.verdict.odds import passes, ratio_odds
from nodrek.core.verdict.rows import EVEN_ROW, FASTEST, ROW_SPREAD, row_says, weigh_rows
from nodrek.core.verdict.simultaneous import tell_simultaneous
from nodrek.core.verdict.stopgap import stopgap_s
from nodrek.core.verdict.trigger import NOTHING, Trigger, TriggerKind, find_trigger

DEEP = -0.12
DEEPEST_NEEDED = -0.7
"""ln deviation that potholes of a usual road stay above and an open contact does not; on a
rough road more is asked, up to half of the speed."""
ROUGH_FACTOR = 1.7
"""A jolt throws a wheel up as far as down; a break only ever takes away."""
JOLT_QUANTILE = 0.9995
SILENT = -2.0
"""ln deviation under which the reading has all but gone."""
AWAKE_FROM, AWAKE_DOWN_TO, AWAKE, LEAST_AWAKE_S = 3.0, 1.5, 0.9, 3.0
"""The same of a corner that is known not to, m/s: what it is asked down to, the share of these samples in which it
must read half of the speed at least, and how many seconds of them."""
ALL_OF_THE_TURN = 1.6
"""Times its own wake-up speed from which a sound sensor reads all of its turn."""
STANDS, FASTER = 0.5, 1.02
"""m/s from which the vehicle moves; times the speed of a break at which the corner must have read before."""
PARTIAL_WEIGHT, EVEN_SILENCES = 0.5, 1.6
"""What a reading that only falls counts, of one that goes; weighed breaks that are as likely none."""
HELD_PROVES, LEAST_PROOF = 0.96, 0.5
"""Probability of a break where values stand still as only a break makes them, nothing else explaining it; from where
the dips are not asked any more."""
CAME_BACK = "silences_that_ended"
"""Name of the evidence of silence for seconds that ends."""
EVEN_GONE_S = 5.0
"""Seconds of silence in between, at speeds at which the corner reads, that are as likely a break as anything else."""
COUNTS_LESS = 1.5
"""Steps of the values by which a break reads too low at least."""


def find_breaks(
    exam: Examination, losing_edges: frozenset[Corner], gaps: Mapping[Corner, float], weak: Mapping[Corner, float]
) -> list[Finding]:
    """`losing_edges`: corners whose ring or encoder already explains short dips; only silence counts there.

    `gaps`, `weak`: how surely a corner is silent because it sleeps, or because an arc of its ring is weak.
    """
    found = [_for_long(exam, c) for c in exam.log.corners if exam.usable.gone[c].size and stopgap_s(exam, c) is None]
    long = {c for f in found for c in f.corners}
    for corner in exam.followed:
        if corner in long:
            continue
        declared = declared_breaks(exam, corner)
        if declared is not None:
            found.append(_declared(exam, corner, declared))
            continue
        held = held_breaks(exam, corner) if corner not in losing_edges else None
        confidence = HELD_PROVES * (1.0 - gaps.get(corner, 0.0)) * (1.0 - weak.get(corner, 0.0))
        if held is not None and confidence >= LEAST_PROOF:
            found.append(_bridged(exam, corner, held, confidence))
    bridged = {c for f in found for c in f.corners}
    for corner, dropouts in exam.dropouts.items():
        if corner in bridged:
            continue
        deep = _breaks(exam, corner, dropouts, corner in losing_edges)
        slow = _in_slow_turns(exam, corner)
        count, silent, seen = int(deep.size), int(np.sum(dropouts.depth[deep] < SILENT)), 0.0
        if count:
            times, longest = exam.motions[corner].times[dropouts.start[deep]], float(dropouts.seconds[deep].max())
            # a reading that all but goes is an open contact; one that only falls may be a hard jolt
            seen = ratio_odds(2.0 * silent + PARTIAL_WEIGHT * (count - silent), EVEN_SILENCES, 2.5)
        minutes = exam.usable.moving / 60.0
        if slow is not None and slow.confidence > seen:
            seen = slow.confidence
            if slow.times.size >= count:
                minutes = float(np.count_nonzero(exam.usable.vehicle > STANDS)) * GRID_STEP / 60.0
                times, longest, count = slow.times, slow.longest_s, slow.times.size
        if not count:
            continue
        confidence = 0.985 * seen * (1.0 - gaps.get(corner, 0.0)) * (1.0 - weak.get(corner, 0.0))
        trigger = find_trigger(exam, corner, times)
        found.append(
            Finding(
                Fault.INTERMITTENT,
                (corner,),
                confidence,
                f"The {corner.words} signal breaks {times_words(count)} in {minutes:.1f} minutes of driving, "
                f"up to {longest:.2f} s long and at no fixed place of the turn{_when(trigger)}: "
                "look at lead, connector and the sensor's seat before the ring.",
                {
                    "breaks": count,
                    "silent": min(silent, count),
                    "longest_s": round(longest, 3),
                    "trigger": trigger.kind.value,
                    "way": trigger.way,
                    "times_s": [round(float(t), 2) for t in times[:50]],
                },
            )
        )
    return tell_simultaneous(found, exam.usable.moving)


@dataclass(frozen=True, eq=False)
class _SlowBreaks:
    """Raw probability, moments at which they begin (s), and seconds of the longest."""

    confidence: float
    times: Array
    longest_s: float


def _in_slow_turns(exam: Examination, corner: Corner) -> _SlowBreaks | None:
    """Breaks of a slow wheel's signal; ``None`` where its row of low readings speaks for another law, or for none."""
    if row_says(exam, corner).margins()[2] <= 0.0:
        return None
    # a sound sensor that is about to wake flickers too
    wake = float(np.nan_to_num(exam.waking[corner].known_wake))
    seen = looks_of(exam, corner).faster_than(max(SOUND_UP_TO, ALL_OF_THE_TURN * wake))
    margin = weigh_rows(seen, usual_share(exam, corner)).margins()[2]
    low = seen.times[seen.low & (seen.speed <= FASTEST)]
    if margin <= 0.0 or not low.size:
        return None
    begins = np.concatenate([[True], np.diff(low) > TOGETHER_S])
    lasts = np.maximum.reduceat(low, np.flatnonzero(begins)) - low[begins]
    longest = float(lasts.max()) + exam.motions[corner].step_s
    return _SlowBreaks(passes(margin, EVEN_ROW, ROW_SPREAD), low[begins], longest)


def _for_long(exam: Examination, corner: Corner) -> Finding:
    """Breaks so long that the corner is not compared with the others meanwhile, at speeds at which it reads otherwise:
    no dead one comes back, and no gap is silent there."""
    begins, ends = exam.usable.gone[corner].T
    lasts = ends - begins
    seen = ratio_odds(float(lasts.sum()) / EVEN_GONE_S, 1.0, 3.0)
    told, confidence = "showed zero meanwhile", HELD_PROVES * seen
    return _gone(exam, corner, begins, float(lasts.max()), told, confidence, CAME_BACK)


def _bridged(exam: Examination, corner: Corner, held: HeldBreaks, confidence: float) -> Finding:
    """Breaks that the control unit hides behind its last value."""
    times = exam.followed[corner].times[held.starts]
    return _gone(exam, corner, times, held.longest_s, f"showed {held.way} meanwhile", confidence, HELD)


def _declared(exam: Examination, corner: Corner, declared: Declared) -> Finding:
    """Breaks that the control unit tells itself."""
    seen = ratio_odds(2.0 * declared.times.size, EVEN_SILENCES, 2.5)
    told, confidence = 'told "no valid value" meanwhile', HELD_PROVES * seen
    return _gone(exam, corner, declared.times, declared.longest_s, told, confidence, HELD)


def _gone(
    exam: Examination, corner: Corner, times: Array, longest_s: float, told: str, confidence: float, proof: str
) -> Finding:
    """Breaks that are proved otherwise than by dips; `proof`: the name of that evidence."""
    trigger = find_trigger(exam, corner, times) if corner in exam.motions else NOTHING
    return Finding(
        Fault.INTERMITTENT,
        (corner,),
        confidence,
        f"The {corner.words} signal was gone {times_words(times.size)} in {exam.usable.moving / 60.0:.1f} minutes of "
        f"driving, up to {longest_s:.2f} s long{_when(trigger)}: the control unit {told}. "
        "Look at lead, connector and the sensor's seat before the ring.",
        {
            proof: int(times.size),
            "breaks": int(times.size),
            "longest_s": round(longest_s, 3),
            "trigger": trigger.kind.value,
            "way": trigger.way,
            "times_s": [round(float(t), 2) for t in times[:50]],
        },
    )


def _when(trigger: Trigger) -> str:
    """Words for what sets the breaks off."""
    if trigger.kind is TriggerKind.BUMPS:
        return ", mostly where the road jolts"
    if trigger.kind is TriggerKind.BENDS:
        return f", mostly in bends to the {trigger.way}"
    if trigger.kind is TriggerKind.SPEED:
        return f", mostly when {trigger.way}"
    return ""


def _limit(exam: Examination, corner: Corner) -> float:
    """How deep a break must be here, from how far jolts throw the other corners upwards."""
    jolts = [
        quick_quantile(m.deviation[~np.isnan(m.deviation)], JOLT_QUANTILE)
        for c, m in exam.motions.items()
        if c is not corner and np.isfinite(m.deviation).any()
    ]
    return max(DEEPEST_NEEDED, min(DEEP, -ROUGH_FACTOR * max(jolts, default=0.0)))


def _is_awake_below(exam: Examination, corner: Corner) -> bool:
    """Whether the corner reads even slower than `AWAKE_FROM`, on all of its turn."""
    motion = exam.followed[corner]
    slow = (motion.vehicle > AWAKE_DOWN_TO) & (motion.vehicle <= AWAKE_FROM) & np.isfinite(motion.speed)
    reads = motion.speed[slow] > 0.5 * motion.vehicle[slow]
    return reads.size >= LEAST_AWAKE_S * exam.log.channels[corner].rate and float(reads.mean()) >= AWAKE


def _had_woken(exam: Examination, corner: Corner, starts: npt.NDArray[np.int64]) -> npt.NDArray[np.bool_]:
    """Which dropouts begin after the vehicle, since it last stood, was faster than there and the corner read.

    What first falls silent on the way up to its wake-up speed may have shown something else than its own reading.
    """
    motion = exam.motions[corner]
    vehicle = exam.usable.vehicle_at(motion.times)
    stood = np.concatenate([[0], np.flatnonzero(vehicle < STANDS)])
    since = stood[np.searchsorted(stood, starts, side="right") - 1]
    reads = np.where(motion.speed > 0.5 * vehicle, vehicle, 0.0)
    fastest = [reads[a:b].max(initial=0.0) for a, b in zip(since, starts, strict=True)]
    return np.asarray(fastest > FASTER * vehicle[starts])


def times_words(count: int) -> str:
    """ "once", "twice", "7 times"."""
    return {1: "once", 2: "twice"}.get(count, f"{count} times")


def _breaks(exam: Examination, corner: Corner, dropouts: Dropouts, silence_only: bool) -> np.ndarray:
    """Indices of the dropouts that count, the first of each cluster."""
    limit = SILENT if silence_only else _limit(exam, corner)
    motion = exam.motions[corner]
    fast = motion.expected[dropouts.start] > FROM_SPEED
    if not fast.all() and _is_awake_below(exam, corner):
        fast |= (motion.expected[dropouts.start] > AWAKE_FROM) & _had_woken(exam, corner, dropouts.start)
    # whole counts of a short window: one less is no break, even where that is none
    missing = motion.expected[dropouts.start] * -np.expm1(dropouts.depth)
    fast &= missing > COUNTS_LESS * exam.log.channels[corner].quantum
    index = np.flatnonzero((dropouts.depth < limit) & ~dropouts.braking & fast)
    if not index.size:
        return index
    times = motion.times[dropouts.start[index]]
    first = np.concatenate([[True], np.diff(times) > TOGETHER_S])
    group = np.cumsum(first) - 1
    out: np.ndarray = index[first].copy()
    for g in range(out.size):
        members = index[group == g]
        out[g] = members[np.argmin(dropouts.depth[members])]
    return out
