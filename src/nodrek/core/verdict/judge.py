"""All findings of one log, weighed together, and the one-word verdict."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping

import numpy as np

from nodrek.core.model import (
    Analysis,
    Corner,
    CornerResult,
    Fault,
    Finding,
    Scene,
    Vehicle,
    Verdict,
    WheelLog,
)
from nodrek.core.model.learnt import Calibration
from nodrek.core.motion.lag import with_lags
from nodrek.core.motion.ratios import UNKNOWN, RatioEstimate, estimate_ratios, ratio_blocks
from nodrek.core.motion.rolling import as_rolling
from nodrek.core.verdict.breaks import find_breaks
from nodrek.core.verdict.calibrate import ODD_RATIO, calibrated
from nodrek.core.verdict.clean_between import breaks_between_right_turns
from nodrek.core.verdict.crossed import find_crossed
from nodrek.core.verdict.dead import find_dead, find_frozen
from nodrek.core.verdict.declared import declared_breaks
from nodrek.core.verdict.drift import find_drift
from nodrek.core.verdict.examine import Examination, Progress, examine, nothing_to_compare
from nodrek.core.verdict.gap import find_gaps, is_hidden
from nodrek.core.verdict.held import HELD
from nodrek.core.verdict.losses import lost_arcs, with_losses
from nodrek.core.verdict.made import has_own_readings, made_of_others
from nodrek.core.verdict.noise import find_noise
from nodrek.core.verdict.one_value import keeps_to_one_value
from nodrek.core.verdict.power import could_see
from nodrek.core.verdict.ring import find_ring_damage, find_runout, turn_result
from nodrek.core.verdict.rows import weak_in_slow_turns
from nodrek.core.verdict.sight import sight
from nodrek.core.verdict.spin import is_spin, spin_results
from nodrek.core.verdict.tyre import find_all_four, find_tyre, may_lower_ratio
from nodrek.core.verdict.unexplained import find_unexplained
from nodrek.core.verdict.unsettled import find_unsettled
from nodrek.errors import BadRequest

REPORT_FROM = 0.2
FAULTY_FROM = 0.5
LONGEST_SPARSE_S = 150 * 3600.0
SECONDS_A_SAMPLE = 6.0
"""Longer than both, a log is mostly hole."""
LOWERS_RATIO, DOUBTED = (Fault.RING_DAMAGE, Fault.INTERMITTENT, Fault.ENCODER_NOISE), 0.1
"""What may pass for an odd tyre, and the probability below which it is not believed to, whatever its finder said (half
of what is reported)."""
NOTHING_LEARNT = Calibration({})
AT_ITS_END_S = 1.0
"""Seconds about a long silence in which a dropout is a part of it."""
WORTH_TRUSTING = 0.5
"""A clean result is called healthy where every corner would sooner have shown a lost tooth than not."""
TYRE_WORTH_TRUSTING = 0.2
"""The same of a tyre half a per cent off: sound sets differ by nearly as much, so that even noisy logs of good
length find only one in four (quiet ones up to four in five); well below that share it is the log that lacks."""


def analyze_log(
    log: WheelLog, vehicle: Vehicle, progress: Progress, calibration: Calibration | None = None
) -> tuple[Analysis, Examination]:
    """The whole answer, and the evidence it stands on.

    Without a `calibration` confidences stay as the single finders give them.
    """
    _refuse_endless(log)
    if is_spin(log):
        return _spin(log, vehicle)
    log = with_lags(log)
    exam = examine(log, vehicle, progress)
    progress(0.85, "Weighing the findings")
    learnt = calibration if calibration is not None else NOTHING_LEARNT
    findings = with_losses(weigh(exam, calibration), exam, learnt.lost)
    corners = {}
    for corner in log.corners:
        progress(0.9, "Asking what this log could have shown")
        corners[corner] = _corner_result(exam, corner, findings, learnt)
    verdict, warnings = _verdict(findings, corners.values()), (*log.warnings, *_warnings(exam, findings))
    unsettled = find_unsettled(findings, FAULTY_FROM)
    off, note = unsettled or find_unexplained(exam, {c for f in findings for c in f.corners}) or (None, "")
    if off is not None:
        warnings = (*warnings, note)
        verdict = Verdict.NOT_ENOUGH_DATA if verdict is Verdict.HEALTHY else verdict
    return Analysis(verdict, findings, corners, warnings, unexplained=off), exam


def _refuse_endless(log: WheelLog) -> None:
    """A clock that jumps by months makes a log of nothing but hole; what is kept per second would not fit.

    Raises `BadRequest` where the log's seconds have no relation to its samples.
    """
    samples = max(c.times.size for c in log.channels.values())
    if log.duration > max(LONGEST_SPARSE_S, SECONDS_A_SAMPLE * samples):
        raise BadRequest(
            f"The log's clock runs over {log.duration / 3600:.0f} hours for only {samples} values: its time jumps; "
            "correct the time column, or analyze the part before the jump with --to."
        )


def _spin(log: WheelLog, vehicle: Vehicle) -> tuple[Analysis, Examination]:
    exam = nothing_to_compare(log, vehicle)
    spins, findings = spin_results(log)
    findings = tuple(f for f in findings if f.confidence >= REPORT_FROM)
    if findings and findings[0].confidence >= FAULTY_FROM:
        verdict = Verdict.FAULTY
    else:
        verdict = Verdict.HEALTHY if all(s.alive for s in spins.values()) else Verdict.NOT_ENOUGH_DATA
    corners = {c: _corner_result(exam, c, (), NOTHING_LEARNT) for c in log.corners}
    return Analysis(verdict, findings, corners, tuple(log.warnings), Scene.SPIN, spins), exam


def weigh(exam: Examination, calibration: Calibration | None = None) -> tuple[Finding, ...]:
    """Findings worth a report, strongest first."""
    others = _all_but_ratios(exam)
    everything = _with_ratios(exam, others)
    if calibration is not None:
        known = calibrated(everything, exam, calibration)
        doubted = {(f.fault, f.corners): k for f, k in zip(everything, known, strict=True) if _is_doubted(f, k)}
        if doubted:
            # what nothing is left of explains no ratio
            again = _with_ratios(exam, [f for f in others if (f.fault, f.corners) not in doubted])
            known = [f for f in known if f.fault not in ODD_RATIO]
            known += [f for f in calibrated([*again, *doubted.values()], exam, calibration) if f.fault in ODD_RATIO]
        everything = known
    return tuple(sorted((f for f in everything if f.confidence >= REPORT_FROM), key=lambda f: -f.confidence))


def _is_doubted(raw: Finding, weighed: Finding) -> bool:
    return raw.fault in LOWERS_RATIO and raw.confidence >= REPORT_FROM and weighed.confidence < DOUBTED


def raw_findings(exam: Examination) -> list[Finding]:
    """Everything any finder says; what one fault explains is not said of another."""
    return _with_ratios(exam, _all_but_ratios(exam))


def _all_but_ratios(exam: Examination) -> list[Finding]:
    damage = find_ring_damage(exam)
    sure = [f for f in damage if f.confidence >= FAULTY_FROM]
    gaps = find_gaps(exam, by_corner(damage))
    noise = find_noise(exam, by_corner(damage))
    sure += [f for f in noise if f.confidence >= FAULTY_FROM]
    losing_edges = frozenset(c for f in sure for c in f.corners if not breaks_between_right_turns(exam, c))
    weak = {c: weak_in_slow_turns(exam, c) for c in exam.motions}
    breaks = find_breaks(exam, losing_edges, by_corner(gaps), weak)
    return [
        *find_crossed(exam),
        *find_dead(exam),
        *gaps,
        *find_frozen(exam),
        *damage,
        *find_runout(exam),
        *breaks,
        *noise,
    ]


def _with_ratios(exam: Examination, others: list[Finding]) -> list[Finding]:
    """What `others` and the ratios say."""
    stuck = {c for c in exam.followed if keeps_to_one_value(exam, c) is not None}
    everything = [*others, *_odd_ratios(exam, others)]
    # what such a corner shows beside its value is not its own
    return [f for f in everything if f.fault is Fault.FROZEN or stuck.isdisjoint(f.corners)]


def _odd_ratios(exam: Examination, others: list[Finding]) -> list[Finding]:
    """Tyres, axles and numbers of teeth, as far as `others` do not explain them."""
    overall = find_all_four(exam)
    # what is made of the others tells nothing of their ratios
    if any(f.fault is Fault.NO_SIGNAL and HELD in f.evidence for f in others):
        return overall
    lossy = [f for f in others if f.fault in (Fault.RING_DAMAGE, Fault.INTERMITTENT) and may_lower_ratio(exam, f)]
    noise = [f for f in others if f.fault is Fault.ENCODER_NOISE]
    return [*find_tyre(exam, by_corner(lossy), by_corner(noise)), *overall]


def by_corner(findings: list[Finding]) -> dict[Corner, float]:
    """The strongest confidence at each corner."""
    out: dict[Corner, float] = {}
    for finding in findings:
        for corner in finding.corners:
            out[corner] = max(out.get(corner, 0.0), finding.confidence)
    return out


def _corner_result(exam: Examination, corner: Corner, findings: Iterable[Finding], learnt: Calibration) -> CornerResult:
    # where the unit hides the lost edges, no arc that reads low is theirs
    damaged = any(f.fault is Fault.RING_DAMAGE and corner in f.corners and HELD not in f.evidence for f in findings)
    ratio = _own_ratios(exam).get(corner, UNKNOWN)
    low, high = ratio.interval
    declared = declared_breaks(exam, corner)
    return CornerResult(
        ratio=ratio.ratio,
        ratio_low=low,
        ratio_high=high,
        dropouts=_dropouts(exam, corner) + (0 if declared is None else declared.times.size),
        wake_up=_wake_up(exam, corner, next((f for f in findings if is_hidden(f) and corner in f.corners), None)),
        turn=turn_result(exam, corner, lost_arcs(exam, corner, learnt.lost) if damaged else ()),
        could_see=sight(exam, corner, could_see(exam, corner), learnt.sight),
    )


def _wake_up(exam: Examination, corner: Corner, hidden: Finding | None) -> float:
    """m/s; NaN where it is not known, or what wakes is not the corner's own. `hidden`: a gap that the unit hides."""
    if hidden is not None:
        return float(hidden.evidence["wake_up_kmh"]) / 3.6
    return exam.waking[corner].known_wake if made_of_others(exam, corner) is None else math.nan


def _dropouts(exam: Examination, corner: Corner) -> int:
    """How often the corner reads far too low; a long silence and what a filter makes of its end are one."""
    gone, seen = exam.usable.gone[corner], exam.dropouts.get(corner)
    if seen is None:
        return len(gone)
    starts = exam.motions[corner].times[seen.start][:, None]
    apart = (starts < gone[:, 0] - AT_ITS_END_S) | (starts > gone[:, 1] + AT_ITS_END_S)
    return len(gone) + int(np.count_nonzero(apart.all(axis=1)))


def _own_ratios(exam: Examination) -> Mapping[Corner, RatioEstimate]:
    """Ratios of the wheels whose corners have readings of their own, among themselves."""

    def among_own() -> Mapping[Corner, RatioEstimate]:
        own = tuple(c for c in exam.compared if has_own_readings(exam, c))
        if all(c in own for c in exam.followed):
            return exam.rolling
        if len(own) < 2:
            return {}
        lost = {c: edges for c, edges in exam.lost.items() if c in own}
        blocks = ratio_blocks({c: exam.log.channels[c] for c in own}, exam.usable, lost)
        return as_rolling(estimate_ratios(blocks, own), lost)

    return exam.once("own ratios", among_own)


def _verdict(findings: tuple[Finding, ...], corners: Iterable[CornerResult]) -> Verdict:
    if findings and findings[0].confidence >= FAULTY_FROM:
        return Verdict.FAULTY
    return Verdict.HEALTHY if all(could_show(c) for c in corners) else Verdict.NOT_ENOUGH_DATA


def could_show(corner: CornerResult) -> bool:
    """Whether nothing found at this corner says that nothing is there."""
    seen = corner.could_see
    return seen[Fault.RING_DAMAGE] >= WORTH_TRUSTING and seen[Fault.TYRE_SIZE] >= TYRE_WORTH_TRUSTING


def _warnings(exam: Examination, findings: Iterable[Finding]) -> list[str]:
    out = []
    missing = [c for c in Corner if c not in exam.log.channels]
    if missing:
        out.append(f"No wheel speed for {', '.join(missing)}: the other corners are compared without.")
    if len(exam.log.corners) >= 2 and len(exam.compared) < 2:
        out.append("Fewer than two corners read anything, so nothing could be compared with them.")
    drift = find_drift(exam, {c for f in findings if f.fault not in ODD_RATIO for c in f.corners})
    return out if drift is None else [*out, drift]
