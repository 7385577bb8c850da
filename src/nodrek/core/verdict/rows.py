"""Rows of low readings: once a turn of a slow wheel, below one speed, in breaks, or edge by edge.

A slow wheel shows single edges, but its speeds are poor, its angle is not followed, and a log holds few of its turns.
Over some metres the way that the mates roll is a good angle all the same. A weak arc or lost teeth read low on one
part of each turn; a gap that is too wide below one speed; a broken lead in runs that know neither; a dirty encoder
now and then. Each law is the chance of the row of low and right readings, its unknown size, place and speeds averaged
out: Bayes factors. The angle begins anew after every halt and every `PIECE_M`, so that no error of it adds up.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array, Corner
from nodrek.core.verdict.dip_speeds import SOFT, WAKES, Looks, class_of, looks_of, usual_share
from nodrek.core.verdict.examine import Examination
from nodrek.core.verdict.odds import passes
from nodrek.core.verdict.weak_arc import weak_arc, weak_arc_confidence

FASTEST = 6.0
"""m/s up to which readings show a part of the turn (window units at 10 samples a second)."""
LOOK_M = 0.1
"""Metres that one look takes: closer samples see the same edges."""
PIECE_M = 30.0
HALT_S = 1.5
"""Seconds without a look after which the angle is not known any more."""
TURNS_M = np.geomspace(1.5, 3.6, 51)
PLACES = 20
"""Parts of a turn."""
WIDTHS = (1, 2, 4, 7)
"""Places that an arc is wide."""
HEALS = (1.6, 2.4, 3.8, FASTEST)
"""m/s up to which an arc reads low."""
IN_ARC, LEAST_LOW, MOST_LOW = 0.88, 0.01, 0.9
"""Chance of a low reading in the arc; least and most of one elsewhere."""
BEGINS, ENDS = (0.003, 0.01, 0.03, 0.1), (0.08, 0.2, 0.5)
"""Chance that a break begins, and that it ends, from look to look."""
NOISES = (0.02, 0.05, 0.1, 0.2, 0.4)
EVEN_ROW, ROW_SPREAD = 6.0, 3.0
"""ln Bayes factor of one law over all others at which it is as likely as none of them (own estimate)."""
LEAST_LOOKS, LEAST_LOWS, MOST_LOOKS = 20, 3, 2_000
"""Of more, whole pieces are left out, evenly."""


@dataclass(frozen=True)
class RowSays:
    """ln Bayes factors over a sound sensor of a slow wheel's row: low once a turn, below one speed, in breaks, and by
    single edges; of arcs that heal while the wheel is still slow over those that do not; and of breaks over single
    edges once it is fast. All 0 where nothing is low."""

    turn: float = 0.0
    gap: float = 0.0
    breaks: float = 0.0
    noise: float = 0.0
    heals: float = 0.0
    fast_breaks: float = 0.0

    def margins(self) -> tuple[float, float, float, float]:
        """Of each law of a slow row over the best of the others, a sound sensor among them."""
        laws = (self.turn, self.gap, self.breaks, self.noise)
        best = [max((0.0, *laws[:k], *laws[k + 1 :])) for k in range(len(laws))]
        return (laws[0] - best[0], laws[1] - best[1], laws[2] - best[2], laws[3] - best[3])


@dataclass(frozen=True, eq=False)
class _Row:
    """Looks one after another: low or not, speed (m/s), way rolled (m), number of its piece, and chance
    that a sound sensor reads low."""

    low: npt.NDArray[np.bool_]
    speed: Array
    way: Array
    piece: npt.NDArray[np.int64]
    usual: Array


def row_says(exam: Examination, corner: Corner) -> RowSays:
    """What the rows of low readings speak for."""
    if corner not in exam.motions or len(exam.motions) < 2:
        return RowSays()
    return exam.once(f"row {corner}", lambda: weigh_rows(looks_of(exam, corner), usual_share(exam, corner)))


def weak_in_slow_turns(exam: Examination, corner: Corner) -> float:
    """Raw probability of a weak arc: by its dips on pull-aways, or by their row where that tells."""
    said, seen = row_says(exam, corner), weak_arc_confidence(weak_arc(exam, corner))
    turn, _, breaks, _ = said.margins()
    if turn > 0.0:
        return max(seen, passes(turn, EVEN_ROW, ROW_SPREAD) * passes(said.heals, 0.0, ROW_SPREAD))
    return seen * (1.0 - passes(breaks, EVEN_ROW, ROW_SPREAD)) if breaks > 0.0 else seen


def weigh_rows(seen: Looks, usual: Array) -> RowSays:
    """What the looks at one corner speak for; `usual`: share of low readings of a sound one by class of speed."""
    fast = _row_of(seen, usual, seen.speed > FASTEST)
    fast_breaks = _breaks(fast) - _noise(fast) if _tells(fast) else 0.0
    row = _row_of(seen, usual, seen.speed <= FASTEST)
    if not _tells(row):
        return RowSays(fast_breaks=fast_breaks)
    sound = _nats(row, row.usual)
    turn, heals = _turn(row)
    wakes = [
        np.maximum(row.usual, 0.97 / (1.0 + np.exp((np.log(row.speed) - math.log(v)) / soft)))
        for v in WAKES[WAKES < FASTEST]
        for soft in SOFT
    ]
    return RowSays(
        turn - sound,
        _mean_of(np.array([_nats(row, chance) for chance in wakes])) - sound,
        _breaks(row) - sound,
        _noise(row) - sound,
        heals,
        fast_breaks,
    )


def _tells(row: _Row) -> bool:
    return row.low.size >= LEAST_LOOKS and int(np.count_nonzero(row.low)) >= LEAST_LOWS


def _row_of(seen: Looks, usual: Array, which: npt.NDArray[np.bool_]) -> _Row:
    """Every `LOOK_M` one of those looks."""
    these = np.flatnonzero(which)
    times, speed = seen.times[these], seen.speed[these]
    apart = np.diff(times, prepend=times[:1])
    halted = apart > HALT_S
    way = np.cumsum(np.where(halted, 0.0, apart) * speed)
    spell = np.cumsum(halted)
    since = way - way[np.maximum.accumulate(np.where(halted, np.arange(way.size), 0))] if way.size else way
    piece = np.cumsum(halted | (np.diff(since // PIECE_M, prepend=0.0) != 0.0))
    kept = np.flatnonzero(np.diff(np.floor(way / LOOK_M) + spell, prepend=-1.0) > 0.0)
    every = -(-kept.size // MOST_LOOKS)
    if every > 1:
        kept = kept[piece[kept] % every == 0]
        piece = piece // every
    chance = np.clip(usual[class_of(speed)], LEAST_LOW, MOST_LOW)
    return _Row(seen.low[these][kept], speed[kept], way[kept], piece[kept], chance[kept])


def _nats(row: _Row, chance: Array) -> float:
    """ln of the chance of the row where each look reads low with its own `chance`."""
    return float(np.log(chance) @ row.low + np.log1p(-chance) @ ~row.low)


def _noise(row: _Row) -> float:
    """The same of edges that are lost now and then."""
    return _mean_of(np.array([_nats(row, 1.0 - (1.0 - row.usual) * (1.0 - share)) for share in NOISES]))


def _turn(row: _Row) -> tuple[float, float]:
    """The same of an arc of unknown width, place and turn; and of one that heals over one that does not."""
    # what a look in the arc is worth over the same one elsewhere
    gain = np.where(row.low, np.log(IN_ARC / row.usual), np.log((1.0 - IN_ARC) / (1.0 - row.usual)))
    pieces = int(row.piece[-1]) + 1
    # by the class of speed, the piece and the place: an arc that heals at one speed holds all classes below it
    shape = (len(HEALS), pieces, PLACES)
    base = (np.minimum(np.searchsorted(HEALS, row.speed), len(HEALS) - 1) * pieces + row.piece) * PLACES
    ways = []
    for turn in TURNS_M:
        place = np.minimum((np.mod(row.way / turn, 1.0) * PLACES).astype(np.int64), PLACES - 1)
        # single precision is enough for sums of a few hundred
        by_place = np.bincount(base + place, gain, math.prod(shape)).reshape(shape).cumsum(axis=0, dtype=np.float32)
        sums = np.concatenate([np.zeros_like(by_place[..., :1]), by_place, by_place], axis=-1).cumsum(axis=-1)
        arcs = np.stack([sums[..., width : width + PLACES] - sums[..., :PLACES] for width in WIDTHS], axis=1)
        top = arcs.max(axis=-1)
        ways.append(np.sum(top + np.log(np.mean(np.exp(arcs - top[..., None]), axis=-1)), axis=-1))
    said = [_mean_of(of_one.ravel()) for of_one in np.stack(ways, axis=1)]
    return _nats(row, row.usual) + _mean_of(np.array(said)), max(said[:-1]) - said[-1]


def _breaks(row: _Row) -> float:
    """The same of breaks that begin and end at any angle and any speed."""
    stays = np.diff(row.piece) == 0
    before, after = row.low[:-1][stays], row.low[1:][stays]
    begins, goes_on = np.count_nonzero(~before & after), np.count_nonzero(before & after)
    ends, right = np.count_nonzero(before & ~after), np.count_nonzero(~before & ~after)
    first = row.low[np.concatenate([[True], ~stays])]
    said = []
    for begin in BEGINS:
        for end in ENDS:
            usual = begin / (begin + end)
            nats = begins * math.log(begin) + right * math.log1p(-begin)
            nats += ends * math.log(end) + goes_on * math.log1p(-end)
            lows = np.count_nonzero(first)
            said.append(nats + lows * math.log(usual) + (first.size - lows) * math.log1p(-usual))
    return _mean_of(np.array(said))


def _mean_of(nats: Array) -> float:
    """ln of the mean chance of several ways that a law can be."""
    return float(np.logaddexp.reduce(nats)) - math.log(nats.size)
