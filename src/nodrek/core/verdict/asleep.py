"""A sensor that sleeps behind stand-ins: below its wake-up speed the unit shows what it makes of the other corners.

Below that speed the corner agrees with the others to the last digit, above it no oftener than by accident; or it is
off their middle there far more rarely than each of them is (`middle`), however coarse the values are. The speed is
where the two are told apart best (likelihood ratio of one change of a chance; Hinkley 1970, Biometrika 57, 1; from
memory).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Corner
from nodrek.core.motion.reference import CornerMotion
from nodrek.core.verdict.axle_copy import MATE, copied_from_mate
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.made import made_of_others
from nodrek.core.verdict.middle import is_copy, least_of_mates, off_the_middle
from nodrek.core.verdict.stand_in import StandIn, agrees, bends, share_of, ways_to_ask, would_tell

FROM_SPEED = 0.5
APART = 3.0
"""How far the others are to be apart, in what counts as agreement."""
ASLEEP = 0.9
"""Share of samples that agree while asleep; polls at different moments spoil the rest."""
LEAST_ACCIDENT, MOST_ACCIDENT = 0.03, 0.4
"""Share that agrees by accident: no less is believed, and where more does nothing is told."""
WAKES = (2.2, 11.0)
"""m/s: sound coils wake below; with a gap that wakes above there is nothing to drive with (common practice)."""
SPEED_STEP = 0.02
"""m/s from one wake-up speed that is tried to the next."""
COARSE, CLEARLY = 0.1, 1.1
"""Steps (m/s) above which slow corners agree by accident; times the slowest wake-up speed that is asked, since a best
one at the edge is no best."""
LEAST_NATS, OVER_MATES, LEAST_SPELLS, SPELL_S, LEAST_SHARE = 35.0, 3.0, 3, 3.0, 0.6
"""Proof: ln of the likelihood ratio, so many times that of any mate, from so many slow spells that far apart, and the
share of slow samples that agree."""
BY_ACCIDENT, WELL_ABOVE, LEAST_ASKED = 0.5, 1.3, 12
"""Part of that share that may agree above the wake-up speed, and at mates below it; times that speed; samples asked."""
OFF, IN_THE_MIDDLE, OFF_FROM, OFF_AWAKE = 0.05, 0.8, 2.0, 0.85
"""Share of samples in which a sleeping corner is off the middle, and the most that are in it above its wake-up speed;
m/s from which it is asked; part of the share of its mates that it is off above the wake-up speed."""
ODD = 0.01
"""ln of a ratio beside which nobody is asked: the middle of the others is then one of two."""
OFF_NATS, FEW_SPELLS, FEW_NATS, LEAST_APART_S = 20.0, 2, 40.0, 0.1
"""ln of the likelihood ratio against being off the middle as often as the least of its mates; so few spells that are
enough where that is so large; and seconds by which samples are apart that count as two, since speeds drift slowly. (Of
some 400 sound drives of eleven worlds the ratio came to 15.5 at most where all else was fulfilled.)"""


@dataclass(frozen=True)
class Asleep:
    """Below ``wake`` m/s the unit shows ``way``; ``samples`` that say so."""

    way: str
    wake: float
    samples: int


def asleep_behind(exam: Examination, corner: Corner) -> Asleep | None:
    """``None`` where nothing proves it."""
    if corner not in exam.followed or made_of_others(exam, corner):
        return None
    copied = copied_from_mate(exam, corner)
    if copied is not None and math.isfinite(copied.wake):
        return Asleep(MATE, copied.wake, copied.samples)
    return _told_by_digits(exam, corner) or _told_by_the_middle(exam, corner)


def _told_by_digits(exam: Examination, corner: Corner) -> Asleep | None:
    if exam.log.channels[corner].quantum > COARSE:
        return None
    for way, tried in exam.once("asleep", lambda: _all_wakes(exam)).items():
        own = tried[corner]
        mates = [c for c in tried if c is not corner]
        if (
            own.wake < CLEARLY * WAKES[0]
            or own.spells < LEAST_SPELLS
            or own.nats * _anew(exam.followed[corner]) < LEAST_NATS
            or own.nats < OVER_MATES * max(tried[c].nats for c in mates)
        ):
            continue
        asleep, awake = _shares(exam, corner, way, own.wake)
        # at standstill's edge all corners read the same few values
        if (
            awake < BY_ACCIDENT * asleep
            and all(_shares(exam, c, way, own.wake)[0] < BY_ACCIDENT * asleep for c in mates)
            and not (corner.is_front and _in_bends_one_way(exam, corner, way, own.wake, asleep))
        ):
            return Asleep(way, own.wake, own.samples)
    return None


def _in_bends_one_way(exam: Examination, corner: Corner, way: StandIn, wake: float, asleep: float) -> bool:
    """Whether the agreement may be that of an inner front wheel, which the tightest bends carry half-way between the
    rear ones: an outer one never is there, a copy always."""
    slow = _asked(exam, corner, way) & (exam.followed[corner].vehicle <= wake)
    shares = [share_of(agrees(exam, corner, way), slow & bend, LEAST_ASKED // 2) for bend in bends(exam, corner)]
    # NaN, where bends to one side are too few, is no agreement there
    return not np.min(shares) >= BY_ACCIDENT * asleep


def _shares(exam: Examination, corner: Corner, way: StandIn, wake: float) -> tuple[float, float]:
    """Share of the samples below `wake` that agree, and of those well above it; NaN for too few."""
    asked, agree = _asked(exam, corner, way), agrees(exam, corner, way)
    vehicle = exam.followed[corner].vehicle
    below, above = asked & (vehicle <= wake), asked & (vehicle > WELL_ABOVE * wake)
    return share_of(agree, below, LEAST_ASKED), share_of(agree, above, LEAST_ASKED)


def _told_by_the_middle(exam: Examination, corner: Corner) -> Asleep | None:
    if len(exam.followed) < len(Corner) or any(abs(r.log_ratio) > ODD for r in exam.ratios.values()):
        return None
    told = exam.once("asleep in the middle", lambda: _all_in_the_middle(exam))
    # where two keep to it, the road made them
    return told.get(corner) if len(told) == 1 else None


def _all_in_the_middle(exam: Examination) -> dict[Corner, Asleep]:
    found = ((c, _in_the_middle(exam, c)) for c in exam.followed)
    return {corner: asleep for corner, asleep in found if asleep is not None}


def _in_the_middle(exam: Examination, corner: Corner) -> Asleep | None:
    motion, way = exam.followed[corner], StandIn.MIDDLE_OF_OTHERS
    seen = _best_wake(motion, _moves_slowly(motion), agrees(exam, corner, way), 1.0 - OFF, IN_THE_MIDDLE)
    if seen.wake < CLEARLY * WAKES[0] or seen.spells < FEW_SPELLS or seen.nats < LEAST_NATS:
        return None
    every, far = exam.followed.items(), WELL_ABOVE * seen.wake
    below = {c: off_the_middle(exam, c, _moves_slowly(m) & (m.vehicle <= seen.wake)) for c, m in every}
    above = {c: off_the_middle(exam, c, m.vehicle > far) for c, m in every}
    own, least, awake = below[corner], least_of_mates(corner, below), least_of_mates(corner, above)
    if least is None or awake is None or min(own.samples, awake.samples) < LEAST_ASKED:
        return None
    if above[corner].share < OFF_AWAKE * awake.share:
        return None
    if not is_copy(own, least):
        return None
    nats = own.samples * _anew(motion) * _information(own.share, least.share)
    if nats < (OFF_NATS if seen.spells >= LEAST_SPELLS else FEW_NATS):
        return None
    return Asleep(way, seen.wake, seen.samples)


def _information(own: float, least: float) -> float:
    """Nats a sample of a share `own` against one of `least` (Kullback and Leibler 1951, Annals of Mathematical
    Statistics 22, 79; from memory), which is larger."""
    inside = (1.0 - own) * math.log((1.0 - own) / max(1.0 - least, 1e-3))
    return inside + (own * math.log(own / least) if own else 0.0)


def _anew(motion: CornerMotion) -> float:
    """Share of the samples that say something new."""
    return min(1.0, motion.step_s / LEAST_APART_S)


def _moves_slowly(motion: CornerMotion) -> npt.NDArray[np.bool_]:
    return (motion.vehicle > OFF_FROM) & np.isfinite(motion.speed)


@dataclass(frozen=True)
class _Wake:
    nats: float = 0.0
    wake: float = math.nan
    samples: int = 0
    spells: int = 0


def _all_wakes(exam: Examination) -> dict[StandIn, dict[Corner, _Wake]]:
    return {
        way: {
            c: _best_wake(motion, _asked(exam, c, way), agrees(exam, c, way), ASLEEP, MOST_ACCIDENT)
            for c, motion in exam.followed.items()
        }
        for way in ways_to_ask(exam)
        # whose originals agree with it as well is asked otherwise
        if way is not StandIn.MIDDLE_OF_OTHERS
    }


def _best_wake(
    motion: CornerMotion, asked: npt.NDArray[np.bool_], agree: npt.NDArray[np.bool_], usual: float, most: float
) -> _Wake:
    """Where so `usual` a share of the samples `asked` agrees below, and as many above as there do by accident: at the
    `most` so large a share."""
    low = motion.vehicle < WAKES[1]
    above = agree[asked & ~low]
    accident = max(LEAST_ACCIDENT, float(above.mean()) if above.size else LEAST_ACCIDENT)
    slow = np.flatnonzero(asked & low)
    if not slow.size or accident > most:
        return _Wake()
    bins = (motion.vehicle[slow] / SPEED_STEP).astype(np.int64)
    every = np.bincount(bins)
    agreeing = np.bincount(bins, agree[slow])
    yes, no = math.log(usual / accident), math.log((1.0 - usual) / (1.0 - accident))
    gain = np.cumsum(yes * agreeing + no * (every - agreeing))
    wakes = SPEED_STEP * np.arange(1, every.size + 1)
    possible = np.flatnonzero((every > 0) & (wakes > WAKES[0]))
    if not possible.size:
        return _Wake()
    best = possible[np.argmax(gain[possible])]
    if gain[best] <= 0.0 or agreeing[: best + 1].sum() < LEAST_SHARE * every[: best + 1].sum():
        return _Wake()
    told = slow[(bins <= best) & agree[slow]]
    return _Wake(float(gain[best]), float(wakes[best]), told.size, _spells(motion.times[told]))


def _asked(exam: Examination, corner: Corner, way: StandIn) -> npt.NDArray[np.bool_]:
    motion = exam.followed[corner]
    return (motion.vehicle > FROM_SPEED) & np.isfinite(motion.speed) & would_tell(exam, corner, way, APART)


def _spells(times: npt.NDArray[np.float64]) -> int:
    return 1 + int(np.count_nonzero(np.diff(times) > SPELL_S)) if times.size else 0
