"""What is known of one corner as a row of numbers, for the probabilities that are learnt.

Numbers without units wherever that is possible (over the mates, over what the same log makes
of nothing, over the size at which fault and no fault are even), so that what is learnt on
simulated drives holds for other vehicles, roads and loggers.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner, Fault, Finding
from nodrek.core.model.learnt import logistic
from nodrek.core.motion.blocks import consecutive, quick_median, quick_quantile
from nodrek.core.motion.reference import ASLEEP_BELOW
from nodrek.core.motion.usable import GRID_STEP
from nodrek.core.motion.waking import LEAST_SPEED
from nodrek.core.turns.fold import overtones_by_speed, slow_harmonics, swing_at_any_speed
from nodrek.core.turns.pulse import Shapes
from nodrek.core.turns.track import USUAL, Track
from nodrek.core.verdict.dip_speeds import dip_speeds
from nodrek.core.verdict.examine import Examination, RingEvidence
from nodrek.core.verdict.gap import lateness
from nodrek.core.verdict.held import stand_ins_over_mates
from nodrek.core.verdict.noise import is_asked, likeness, noisiness
from nodrek.core.verdict.odds import logit
from nodrek.core.verdict.ring import (
    DIP_DEPTH,
    DIP_SCORE,
    EVEN_DAMAGE,
    EVEN_RUNOUT,
    dips_in_line,
    healed_share,
    shortfall,
)
from nodrek.core.verdict.rows import row_says
from nodrek.core.verdict.tyre import WORTH_SAYING, contrasts, lossy_corner, may_lower_ratio, ratios_beside
from nodrek.core.verdict.weak_arc import weak_arc

RAW_KINDS = (
    Fault.RING_DAMAGE, Fault.RING_RUNOUT, Fault.ENCODER_NOISE, Fault.INTERMITTENT, Fault.AIR_GAP,
    Fault.TYRE_SIZE, Fault.NO_SIGNAL, Fault.FROZEN,
)  # fmt: skip
LOSES_EDGES = (Fault.RING_DAMAGE, Fault.ENCODER_NOISE, Fault.INTERMITTENT)
EVIDENCE = (
    *(f"raw_{kind.value}" for kind in RAW_KINDS),  # logits of the single finders
    "raw_elsewhere",  # strongest of any kind at another corner, logit
    "runout_elsewhere", "tyre_elsewhere",  # the same of one kind
    "odd_size", "odd_sigmas", "odd_side", "odd_axle", "odd_rest",  # ratio: see `_ratio_numbers`
    "crossed_against", "crossed_sigmas", "crossed_bends", "crossed_balance",
    "lock", "lock_of_mates", "lock_over_mates",  # decades of decades: log10(1 − ln false-alarm chance)
    "track", "swing_track",  # asinh of ln Bayes factors of slow logs, 0 where none was looked for
    "pulse_shape", "swing_shape", "pulse_over_swing",  # the same of a gap, of a swing, of the one over the other
    "usual_scale", "metres_per_turn",  # 1 where the circumference is that of a car; the circumference
    "swing_over_nothing", "swing_size", "swing_of_mates",
    "harmonic_over_nothing", "harmonic_size", "harmonic_of_mates", "overtones", "overtones_over_nothing",
    "steadiness",  # of the swing at any speed
    "slow_swing", "slow_overtones", "slow_sure",  # in the slowest turns alone
    "banded_overtones", "banded_size", "banded_sure",  # from bands of speed
    "dips_in_line", "dips_agree",  # ln of deep dips times how well they agree on a place, squared; that agreement
    "shortfall", "shortfall_sure",
    "healed", "arc_width", "arc_area",
    "arc_over_sound", "arc_over_gap", "arc_over_noise", "gap_over_sound",  # asinh of ln Bayes factors, by speed
    "row_turn", "row_gap", "row_breaks", "row_noise",  # the same by rows of slow readings: over the best other law
    "row_heals", "row_fast_breaks",
    "slow_dips", "slow_spells", "slow_share_over_mates", "slow_between", "slow_silent", "fast_over_slow",
    "dip_share", "dip_share_over_mates", "spread_over_mates", "steady", "silent_share", "skew_over_mates",
    "dip_depth", "dip_depth_scatter", "rises_over_dips",
    "dip_lasts", "dip_clumps",  # ln: seconds of one dip; how unevenly they lie in time
    "breaks_a_minute",
    "stand_ins", "long_stand_ins",  # runs of what a unit shows in place of a reading, ln over the worst mate's
    "late", "wake_scatter", "wake_changes",
    "read_below", "silent_above", "slow_driving",  # what one wake-up speed does not explain; ln of seconds
    "dead_awake", "dead_share", "frozen_share",  # ln of seconds as fast as the corner reads; shares of driving
    "rate", "minutes", "rounding", "noise", "speed", "corners",
    "smoothness", "noise_falls",  # what the control unit does with edges, see `unit_numbers`
)  # fmt: skip


DIGITS = 5
CLUMP_S = 4.0
"""Seconds in which dips are counted."""
LEAST_PAIRS = 30


def corner_evidence(exam: Examination, corner: Corner, findings: Sequence[Finding]) -> Array:
    """Shape (len(EVIDENCE),), all finite. `findings` with their raw confidences."""
    ring = exam.rings.get(corner)
    motion = exam.motions.get(corner)
    channel = exam.log.channels[corner]
    raw = [_strongest(findings, kind, corner) for kind in RAW_KINDS]
    elsewhere = max((_logit(f.confidence) for f in findings if corner not in f.corners), default=_logit(0.0))
    mates = [r for c, r in exam.rings.items() if c is not corner]
    own_lock, mates_lock = _lock(ring), max((_lock(r) for r in mates), default=0.0)
    noise = speed = 0.0
    if motion is not None:
        known = np.isfinite(motion.noise) & is_asked(motion)
        if known.any():
            noise, speed = quick_median(motion.noise[known]), quick_median(motion.expected[known])
    row = [
        *raw,
        elsewhere,
        _elsewhere(findings, Fault.RING_RUNOUT, corner),
        _elsewhere(findings, Fault.TYRE_SIZE, corner),
        *_ratio_numbers(exam, corner, findings),
        *_crossing_numbers(exam),
        own_lock,
        mates_lock,
        own_lock - mates_lock,
        *_ring_numbers(ring, mates),
        *_slow_turn_numbers(exam, corner, ring),
        *_line_numbers(exam, corner),
        shortfall(exam, corner) * 100.0,
        shortfall(exam, corner) / _sigma(exam, corner),
        *_arc_numbers(exam, corner, ring),
        *_speed_numbers(exam, corner),
        *_row_numbers(exam, corner),
        *_slow_numbers(exam, corner),
        *_dip_numbers(exam, corner),
        exam.dropouts[corner].count / max(exam.usable.moving / 60.0, 0.05) if corner in exam.dropouts else 0.0,
        *stand_ins_over_mates(exam, corner),
        *_waking_numbers(exam, corner),
        math.log1p(exam.usable.dead_awake[corner]),
        exam.share(exam.usable.dead[corner]),
        exam.share(exam.usable.frozen[corner]),
        math.log10(max(channel.rate, 0.1)),
        math.log10(max(exam.usable.moving / 60.0, 0.05)),
        channel.quantum / max(speed, 1.0) * 100.0,
        noise * 100.0,
        speed,
        float(len(exam.compared)),
        *unit_numbers(exam),
    ]
    # no limit of a tree shall lie between two roundings of one number
    return np.asarray(np.round(np.nan_to_num(np.clip(np.array(row, dtype=float), -1e4, 1e4)), DIGITS))


def _ring_numbers(ring: RingEvidence | None, mates: list[RingEvidence]) -> list[float]:
    if ring is None or ring.fold is None or ring.scale is None:
        return [0.0] * 15
    low = ring.fold.harmonics[:4]
    strongest = max(float(low.max()), 1e-6)
    usual = USUAL[0] <= ring.scale.frequency <= USUAL[1]
    loud = max((float(r.fold.swing) for r in mates if r.fold is not None), default=0.0)
    pulses = max((float(r.fold.harmonics[1:4].max()) for r in mates if r.fold is not None), default=0.0)
    return [
        _followed(ring.track),
        _followed(ring.swing),
        *_shape_numbers(ring.shapes),
        1.0 if usual else 0.0,
        1.0 / ring.scale.frequency,
        _log_over(ring.fold.swing, ring.fold.swing_null),
        _log_over(ring.fold.swing, EVEN_RUNOUT),
        _log_over(loud, ring.fold.swing),
        _log_over(strongest, ring.fold.null),
        _log_over(strongest, EVEN_DAMAGE),
        _log_over(pulses, strongest),
        float(low[1:].max()) / max(float(low[0]), 1e-6) if low[0] > 0 else 9.0,
        _log_over(float(low[1:].max()), ring.fold.null),
    ]


def _slow_turn_numbers(exam: Examination, corner: Corner, ring: RingEvidence | None) -> list[float]:
    if ring is None or ring.fold is None:
        return [0.0] * 7
    motion = exam.followed[corner]
    harmonics, sigma = slow_harmonics(motion, ring.fold)
    first, strongest = float(harmonics[0]), float(harmonics.max())
    if strongest <= 0.0:
        return [0.0] * 7
    banded = overtones_by_speed(motion, ring.fold)
    return [
        max(-3.0, min(3.0, swing_at_any_speed(motion, ring.fold))),
        _log_over(first, EVEN_RUNOUT),
        min(9.0, float(harmonics[1:].max()) / max(first, 1e-6)),
        min(30.0, strongest / max(sigma, 1e-9)),
        min(9.0, banded.share),
        _log_over(banded.size, EVEN_DAMAGE),
        math.log(max(banded.sure, 0.1)),
    ]


def _line_numbers(exam: Examination, corner: Corner) -> list[float]:
    count, agree = dips_in_line(exam, corner)
    return [math.log1p(count * agree**2), agree]


def _ratio_numbers(exam: Examination, corner: Corner, findings: Sequence[Finding]) -> list[float]:
    """Size of one odd corner here (ln over what sound sets stay under), in its own sigmas; what it shows
    between the sides and the axles (1 each where it is the only odd one); the largest that is left elsewhere, in %.
    Another corner that loses edges, and distance with them, has no say.
    """
    if corner not in exam.ratios:
        return [-6.0, 0.0, 0.0, 0.0, 0.0]
    telling = [f for f in findings if may_lower_ratio(exam, f)]
    losing = {c: max(logistic(_strongest(telling, kind, c)) for kind in LOSES_EDGES) for c in exam.ratios}
    lossy = lossy_corner(exam.ratios, {**losing, corner: 0.0})
    ratios = ratios_beside(exam.ratios, lossy, corner)
    n = len(ratios)
    rho = ratios[corner].log_ratio
    size = rho * n / (n - 1)
    rest = max(abs(r.log_ratio + size / n) for c, r in ratios.items() if c is not corner)
    seen = contrasts(ratios, corner)
    share = 3.0 / rho if abs(rho) > 1e-5 else 0.0
    return [
        _log_over(abs(size), WORTH_SAYING),
        min(20.0, abs(size) / (_sigma(exam, corner) * n / (n - 1))),
        max(-5.0, min(5.0, seen.side * share)),
        max(-5.0, min(5.0, seen.axle * share)),
        100.0 * rest,
    ]


def _crossing_numbers(exam: Examination) -> list[float]:
    if exam.crossing is None:
        return [0.0] * 4
    seen = exam.crossing
    return [-seen.agreement, -seen.sigmas, seen.bends, seen.balance]


def _arc_numbers(exam: Examination, corner: Corner, ring: RingEvidence | None) -> list[float]:
    if ring is None or not ring.arcs:
        return [0.0, 0.0, 0.0]
    healed = healed_share(exam, corner, ring)
    return [healed[0] if healed else 0.0, ring.arcs[0].width, 100.0 * ring.arcs[0].area]


def _speed_numbers(exam: Examination, corner: Corner) -> list[float]:
    seen = dip_speeds(exam, corner)
    return [
        math.asinh(nats) for nats in (seen.arc_over_sound, seen.arc_over_gap, seen.arc_over_noise, seen.gap_over_sound)
    ]


def _row_numbers(exam: Examination, corner: Corner) -> list[float]:
    said = row_says(exam, corner)
    return [math.asinh(nats) for nats in (*said.margins(), said.heals, said.fast_breaks)]


def _slow_numbers(exam: Examination, corner: Corner) -> list[float]:
    seen = weak_arc(exam, corner)
    return [
        math.log1p(seen.dips),
        float(seen.spells),
        _log_over(seen.share, max(seen.mates_share, 0.01)),
        seen.between,
        seen.silent,
        min(9.0, seen.fast_share / max(seen.share, 0.005)),
    ]


def _dip_numbers(exam: Examination, corner: Corner) -> list[float]:
    seen = noisiness(exam, corner)
    out = [seen.share * 100.0, _log_over(seen.share, max(seen.mates_share, 1e-3)), min(seen.spread, 20.0)]
    out += [seen.steady, seen.silent, max(-9.0, min(9.0, seen.skew))]
    motion = exam.followed.get(corner)
    if motion is None or seen.even:
        return [*out, 0.0, 0.0, 0.0, 0.0, 0.0]
    with np.errstate(invalid="ignore"):
        moving = is_asked(motion)
        dipping = moving & motion.dips(DIP_SCORE, DIP_DEPTH)
        dips = motion.deviation[dipping]
        rises = int((moving & motion.rises(-DIP_SCORE, -DIP_DEPTH)).sum())
    if dips.size < 3:
        return [*out, 0.0, 0.0, min(9.0, float(rises)), 0.0, 0.0]
    # one lost edge before a unit that shows its last periods takes always the same part of the reading
    middle = float(np.median(dips))
    scatter = float(np.median(np.abs(dips - middle))) / max(-middle, 0.01)
    return [*out, middle, scatter, min(9.0, rises / dips.size), *_in_time(motion.times, moving, dipping)]


def _in_time(times: Array, moving: npt.NDArray[np.bool_], dipping: npt.NDArray[np.bool_]) -> list[float]:
    """Lost edges come one by one and as often as edges do; a broken lead is off for a while, and then again.

    ln of the mean length (s) of a run of dips, and ln of variance over mean of how many fall into `CLUMP_S`.
    """
    starts = int((dipping[1:] & ~dipping[:-1]).sum()) + int(dipping[0])
    lasts = float(dipping.sum()) / starts * quick_median(np.diff(times))
    # a hole of weeks must not make weeks of bins
    place = consecutive(np.floor((times - times[0]) / CLUMP_S))
    driven, counts = np.bincount(place, moving), np.bincount(place, dipping)
    counts = counts[driven > 0.5 * driven.max()]
    return [math.log(max(lasts, 1e-3)), _log_over(float(counts.var()), max(float(counts.mean()), 1e-3))]


def unit_numbers(exam: Examination) -> tuple[float, float]:
    """How like the next one a deviation is (1: a filter smooths them), and how much louder slow driving is than
    fast (ln; whole counts are, placement errors of teeth are not); the middle corner of all.
    """
    return exam.once("unit", lambda: _unit_numbers(exam))


def _unit_numbers(exam: Examination) -> tuple[float, float]:
    alike, falls = [], []
    for motion in exam.followed.values():
        moving = is_asked(motion) & np.isfinite(motion.deviation) & np.isfinite(motion.noise)
        if np.count_nonzero(moving[1:] & moving[:-1]) < LEAST_PAIRS:
            continue
        alike.append(likeness(motion, moving))
        speed, noise = motion.expected[moving], motion.noise[moving]
        low, high = (quick_quantile(speed, part) for part in (0.25, 0.75))
        falls.append(_log_over(quick_median(noise[speed <= low]), quick_median(noise[speed >= high])))
    return (float(np.median(alike)), float(np.median(falls))) if alike else (0.0, 0.0)


def _waking_numbers(exam: Examination, corner: Corner) -> list[float]:
    late = lateness(exam, corner)
    own = exam.waking[corner]
    slow = exam.usable.vehicle[(exam.usable.vehicle > LEAST_SPEED) & (exam.usable.vehicle < ASLEEP_BELOW)]
    return [
        late if math.isfinite(late) else 0.0,
        own.scatter,
        math.log1p(own.rises.size + own.falls.size),
        own.awake_below / max(own.awake_below + own.silent_below, GRID_STEP),
        own.silent_above / max(own.silent_above + own.silent_below, GRID_STEP),
        math.log1p(slow.size * GRID_STEP),
    ]


def _strongest(findings: Sequence[Finding], kind: Fault, corner: Corner) -> float:
    kinds = (kind, Fault.RING_COUNT) if kind is Fault.TYRE_SIZE else (kind,)
    return max((_logit(f.confidence) for f in findings if f.fault in kinds and corner in f.corners), default=_logit(0))


def _elsewhere(findings: Sequence[Finding], kind: Fault, corner: Corner) -> float:
    others = [f.confidence for f in findings if f.fault is kind and corner not in f.corners and len(f.corners) == 1]
    return _logit(max(others, default=0.0))


def _lock(ring: RingEvidence | None) -> float:
    return 0.0 if ring is None or ring.scale is None else math.log10(1.0 - ring.scale.log_p)


def _followed(track: Track | None) -> float:
    return 0.0 if track is None else math.asinh(track.log_factor)


def _shape_numbers(shapes: Shapes | None) -> list[float]:
    if shapes is None:
        return [0.0, 0.0, 0.0]
    return [math.asinh(shapes.pulse), math.asinh(shapes.swing), math.asinh(shapes.pulse - shapes.swing)]


def _sigma(exam: Examination, corner: Corner) -> float:
    return max(exam.ratios[corner].sigma, 1e-4) if corner in exam.ratios else 1.0


def _log_over(value: float, over: float) -> float:
    return math.log(max(value, 1e-6) / max(over, 1e-6))


def _logit(p: float) -> float:
    return logit(p, 0.003)
