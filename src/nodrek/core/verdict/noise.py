"""Many irregular lost edges every turn (`encoder_noise`): a contaminated or weak encoder.

One corner deviates far more often than its mates, mostly downwards, by the depth of an
edge or two and not down to silence, all through the log and at no fixed place of the turn.
Or it does so upwards: the control unit counts edges that are no teeth, of interference or debris.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Corner, Fault, Finding
from nodrek.core.motion.reference import Deviations
from nodrek.core.turns.fold import explained_deviation
from nodrek.core.turns.track import SILENT
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.odds import ratio_odds
from nodrek.core.verdict.ring import LOCKED_LOG_P
from nodrek.core.verdict.stand_in import FAST_LOG_HZ

FROM_SPEED, FROM_CRAWL = 4.0, 2.0
"""m/s; below, single edges are coarse in any sound log; and the same of a drive that only crawls."""
DIP_SCORE = -4.0
LEAST_DEPTH = -0.012
SPREAD_CLIP = 12.0
PARTS = 12
EVEN_SHARE = 0.007
EVEN_RATIO = 1.5
EVEN_STEADY = 0.6
EVEN_SECONDS = 14.0
"""Share of dipping samples, of spread over the mates', and of parts of the log that dip,
at which noise and no noise are equally likely; seconds of driving from which they count."""


LEAST_EVEN, EVEN_NUMBER, MOST_EVEN = 8, 0.8, -0.2
"""Dips that are asked whether rises are like them; how many rises there are for each; how deep all but a twentieth may
be."""
ANEW, LIKENESS_CLIP = 0.35, 4.0
"""`likeness` up to which deviations come anew, which is asked in fast logs (filters of dirty encoders come to 0.48 and
more); units of noise to which it limits them."""
RISING = "rising_percent"
"""Name of the evidence of readings that are too high."""
RISES_RATHER = 3.0
"""Times as many rises as dips from which a corner counts edges that are no teeth."""
ANOTHER_MEAN, ANOTHER_SIGMAS = 0.03, 4.0
"""How far (ln) the mean of a corner is from the others', and that over its error, where edges that are lost, or are
no teeth, make it, however even it is."""
EVEN_SIZE, EVEN_SIZE_OF_FAST, MOST_EVEN_SIZE = 0.88, 0.78, 2.5
"""Size of the upper half of the rises over that of the dips: at least in slow logs (filters come to 0.85), at least
where deviations come anew, and at most."""


@dataclass(frozen=True)
class Noisiness:
    """``share`` of moving samples that dip (mates: ``mates_share``), ``spread`` over the mates',
    ``steady``: share of the parts of the log that dip, ``silent``: share of dips that are silence,
    ``seconds`` looked at; ``skew``: mean cube of the scores less the mates', whose sign says whether
    deviations go rather down (lost edges) or both ways, even where a unit flattens every dip; ``even``: whether it
    reads too high as often, and as far, as too low, which is no noise; ``rising``: share of moving samples that read
    as much too high, where these are far more than the dips (0 elsewhere), the mates' (``mates_rising``), and the share
    of the parts of the log that hold some (``rising_steady``)."""

    share: float
    mates_share: float
    spread: float
    steady: float
    silent: float
    seconds: float
    skew: float
    even: bool = False
    rising: float = 0.0
    mates_rising: float = 0.0
    rising_steady: float = 0.0


NO_NOISE = Noisiness(0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 0.0)


class _Dips(NamedTuple):
    """``own``: which samples dip; ``rises``: which read as much too high; ``moving``: which move fast enough; rms and
    skewness of the scores, each limited."""

    own: np.ndarray
    rises: np.ndarray
    moving: np.ndarray
    spread: float
    skew: float


def is_asked(motion: Deviations) -> npt.NDArray[np.bool_]:
    """Samples that are fast enough to be asked for noise."""
    return np.asarray(motion.expected > (FROM_CRAWL if motion.is_hardly_faster_than(FROM_SPEED) else FROM_SPEED))


def noisiness(exam: Examination, corner: Corner) -> Noisiness:
    """How the corner's deviations differ from its mates'; all by a sound mate's measure."""
    return exam.once(f"noise {corner}", lambda: _noisiness(exam, corner))


def _noisiness(exam: Examination, corner: Corner) -> Noisiness:
    if corner not in exam.followed or len(exam.followed) < 2:
        return NO_NOISE
    shares = exam.once("dips", lambda: {c: _dips(exam, c) for c in exam.followed})
    own, high, moving, spread, skew = shares[corner]
    others = [dips for c, dips in shares.items() if c is not corner]
    count = int(moving.sum())
    if count < 4 * PARTS:
        return NO_NOISE
    dips = own & moving
    parts = [bool(p.any()) for p in np.array_split(dips[moving], PARTS)]
    deep = exam.followed[corner].deviation < SILENT
    silent = int((dips & deep).sum())
    mates_share = float(np.median([(d.own & d.moving).sum() / max(d.moving.sum(), 1) for d in others]))
    mates_spread = float(np.median([d.spread for d in others]))
    mates_skew = float(np.median([d.skew for d in others]))
    total = int(dips.sum())
    seconds = count / max(exam.log.channels[corner].rate, 0.1)
    if not _has_another_mean(exam, corner) and _is_even(exam.followed[corner], shares[corner]):
        return replace(NO_NOISE, mates_share=mates_share, seconds=seconds, even=True)
    rises = high & moving
    mates_rising = float(np.median([(d.rises & d.moving).sum() / max(d.moving.sum(), 1) for d in others]))
    # behind a unit that limits the slope a lost tooth swings up again, by more than the mean turn explains
    rather = rises.sum() > RISES_RATHER * total and not _is_locked(exam, corner)
    rising = float(rises.sum()) / count if rather else 0.0
    return Noisiness(
        (total - silent) / count, mates_share, spread / max(mates_spread, 0.3), float(np.mean(parts)),
        silent / max(total, 1), seconds, skew - mates_skew, False, rising, mates_rising,
        float(np.mean([p.any() for p in np.array_split(rises[moving], PARTS)])),
    )  # fmt: skip


def _has_another_mean(exam: Examination, corner: Corner) -> bool:
    """Whether its mean is not what its tyre makes it: a filter that forgets slowly takes lost edges for its level and
    swings about that as far up as down, and so do coarse values about edges that are no teeth."""
    ratio = exam.ratios.get(corner)
    return ratio is not None and abs(ratio.log_ratio) > max(ANOTHER_MEAN, ANOTHER_SIGMAS * ratio.sigma)


def _is_even(motion: Deviations, seen: _Dips) -> bool:
    """Whether the corner reads too high as it reads too low, in number and size, and from sample to sample anew.

    A unit that counts both edges of teeth which look narrower than the gaps, or wider, reads as much too high as too
    low wherever it counts an odd number of them; lost edges read low, and what a filter leaves above is flatter and
    goes on for a while.
    """
    low, high = motion.deviation[seen.own & seen.moving], motion.deviation[seen.rises & seen.moving]
    if low.size < LEAST_EVEN or high.size < EVEN_NUMBER * low.size or np.quantile(low, 0.05) < MOST_EVEN:
        return False
    half = min(low.size, high.size) // 2
    size = np.mean(np.partition(-high, half)[:half]) / np.mean(np.partition(low, half)[:half])
    if motion.step_s * FAST_LOG_HZ > 1.0:
        return bool(EVEN_SIZE < size < MOST_EVEN_SIZE)
    return bool(EVEN_SIZE_OF_FAST < size < MOST_EVEN_SIZE) and likeness(motion, seen.moving) < ANEW


def likeness(motion: Deviations, moving: npt.NDArray[np.bool_]) -> float:
    """How like the next one a deviation is where both are `moving`, each limited to some noise: 1, a filter smooths
    them, 0, each comes anew."""
    both = moving[1:] & moving[:-1] & np.isfinite(motion.noise[1:])
    limit = LIKENESS_CLIP * motion.noise[1:][both]
    now, before = (np.clip(d[both], -limit, limit) for d in (motion.deviation[1:], motion.deviation[:-1]))
    return float(now @ before) / max(float(now @ now), 1e-12)


def noise_confidence(exam: Examination, corner: Corner, locked: float) -> float:
    """Raw probability; `locked`: how sure it is that the dips are tied to the wheel's turn."""
    seen = noisiness(exam, corner)
    down = seen.share, seen.mates_share, seen.steady
    up = seen.rising, seen.mates_rising, seen.rising_steady
    share, mates_share, even_parts = up if seen.rising > 0.0 else down
    often = ratio_odds(share, max(EVEN_SHARE, 4.0 * mates_share), 2.0)
    loud = ratio_odds(max(seen.spread - 1.0, 0.0), EVEN_RATIO - 1.0, 2.0)
    steady = ratio_odds(even_parts, EVEN_STEADY, 5.0)
    broken = ratio_odds(seen.silent, 0.3, 3.0)
    enough = ratio_odds(seen.seconds, EVEN_SECONDS, 3.0)
    wild = (1.0 - (1.0 - often) * (1.0 - 0.5 * loud)) * loud * steady
    return 0.98 * wild * enough * (1.0 - broken) * (1.0 - locked)


def find_noise(exam: Examination, locked: dict[Corner, float]) -> list[Finding]:
    """Corners that lose edges all the time."""
    found = []
    for corner in exam.followed:
        confidence = noise_confidence(exam, corner, locked.get(corner, 0.0))
        seen = noisiness(exam, corner)
        evidence: dict[str, object] = {
            "dipping_percent": round(100.0 * seen.share, 2),
            "mates_dipping_percent": round(100.0 * seen.mates_share, 2),
            "spread_over_mates": round(seen.spread, 2),
        }
        if seen.rising > 0.0:
            evidence[RISING] = round(100.0 * seen.rising, 2)
            evidence["mates_rising_percent"] = round(100.0 * seen.mates_rising, 2)
        found.append(
            Finding(
                Fault.ENCODER_NOISE,
                (corner,),
                confidence,
                _words(corner, seen),
                evidence,
            )
        )
    return found


def _words(corner: Corner, seen: Noisiness) -> str:
    if seen.rising > 0.0:
        return (
            f"The {corner.words} signal has edges that are no teeth all the time, at no fixed place of the turn: "
            f"{100 * seen.rising:.1f} % of its values read too high (mates {100 * seen.mates_rising:.1f} %). "
            "The encoder or the sensor's face carries debris, or the lead picks up interference."
        )
    return (
        f"The {corner.words} signal loses single edges all the time, at no fixed place of the turn: "
        f"{100 * seen.share:.1f} % of its values dip (mates {100 * seen.mates_share:.1f} %). "
        "The encoder is contaminated or weak."
    )


def _dips(exam: Examination, corner: Corner) -> _Dips:
    motion = exam.followed[corner]
    noise = motion.noise * _fairness(exam, corner)
    with np.errstate(invalid="ignore"):
        moving = is_asked(motion) & ~np.isnan(motion.deviation)
        rest = motion.deviation - _tied_to_the_turn(exam, corner)
        score = rest / noise
        dips = (score < DIP_SCORE) & (rest < LEAST_DEPTH)
        rises = (score > -DIP_SCORE) & (rest > -LEAST_DEPTH)
    clipped = np.clip(score[moving], -SPREAD_CLIP, SPREAD_CLIP)
    if not clipped.size:
        return _Dips(dips, rises, moving, 1.0, 0.0)
    spread = float(np.sqrt(np.mean(clipped**2)))
    return _Dips(dips, rises, moving, spread, float(np.mean(clipped**3)) / max(spread, 0.1) ** 3)


def _tied_to_the_turn(exam: Examination, corner: Corner) -> np.ndarray | float:
    """What a pattern of the ring explains: that is no noise."""
    fold = exam.rings[corner].fold
    return explained_deviation(fold) if fold is not None and _is_locked(exam, corner) else 0.0


def _is_locked(exam: Examination, corner: Corner) -> bool:
    scale = exam.rings[corner].scale
    return scale is not None and scale.log_p <= LOCKED_LOG_P


def _fairness(exam: Examination, corner: Corner) -> float:
    """Brings a corner's own noise down to that of its quieter mates: dips must not hide themselves."""
    typical = {c: m.usual_noise for c, m in exam.followed.items() if np.isfinite(m.usual_noise)}
    if corner not in typical:
        return 1.0
    middle = float(np.median(list(typical.values())))
    return min(1.0, middle / typical[corner]) if typical[corner] > 0 else 1.0
