"""Whether what repeats once a turn is a gap in the ring, a smooth swing, or dips that do not know the wheel.

A unit that takes its speed from a window of time meets a gap in the ring in every window that covers it: the
reading is low over an arc as wide as the window is long, the wider and shallower the faster the wheel. A ring out
of centre swings by the same share at any speed. Both are laid on the samples as what they are, whatever their
angles: the phase is followed with a hidden Markov model as in `track`, a sample's chance is a normal law about
the reading that the shape foresees, with a share of samples that know of nothing (jolts). The rival of both is the
same shape at any angle: an encoder that loses edges dips as deep and as often, but not at one place. (Over plain
noise, every corner that dips would have a gap somewhere.)
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from nodrek.core.model import Array
from nodrek.core.motion.reference import CornerMotion
from nodrek.core.turns.phase import within_turn
from nodrek.core.turns.search import BIN_M, FREQUENCIES, Scale, Stretch
from nodrek.core.turns.stroboscope import floor_at
from nodrek.core.turns.swing import LEAST_SWING, SWINGS
from nodrek.core.turns.track import STEP, Belief, Index, Looks, Track, looks_of, scale_prior, spread

GRID = 32
"""Phase steps per turn."""
NARROWEST, WIDEST = 0.05, 3.0
"""Turns a window covers: a single period at least."""
OVERTONES = (1, 2, 3, 4)
LOST_SHARES = (0.007, 0.016, 0.045)
"""Part of the ring's edges that is lost at the place."""
SWING_DELAYS_S = (0.0, 0.06)
NEIGHBOURS = (-0.0025, 0.0, 0.0025)
"""Relative steps from a scale that was found elsewhere."""
DEEPEST, HIGHEST = -8.0, 4.0
"""Limits of a deviation in noise units; what a shape foresees is limited likewise."""
JOLTS, MOST_JOLTS, FAR_OUT = 0.04, 0.25, 5.0
"""Share of samples that know of nothing: as many as lie `FAR_OUT` noise units off (a filter drags single long periods
out over several readings), within the first two."""
JOLT_DENSITY = 1.0 / (HIGHEST - DEEPEST)
WIDTH_STEP = 0.02
LOOKED_OVER, HOPELESS = 4, 40.0
"""Every so many pieces, shapes that are so far (ln) behind the best of their family are left."""
MOST_OF_FAST = 1_200
"""Samples of a thinned log that are looked at: a minute."""
PIECE_SAMPLES, PIECE_WANDER = 24, (0.6 / GRID) ** 2
"""The phase is taken to stand still over so many samples, or so much wander (turns squared), at most."""
FILTER_OF_WINDOW = 0.35
MULTIPLIED = 12
"""Chances multiplied before a logarithm is taken: that many stay within single precision."""
SPEED_STEPS = 4.0
"""Shapes are kept for steps of a quarter of a metre per second."""
EVENT_DEPTHS, EVENTS_SEEN = (0.1, 0.3), 0.3
"""Depth of a dip where a unit shows single periods, and the share of turns in which it meets the lost edge."""
SECOND_PLACES = (6, 11, 16)
"""Steps of the grid from one place to the other, where edges are lost at two."""
MIDDLES = (0.35, 0.65)
"""Deviations are about a robust middle, and most of the turn reads as nothing; where a gap is in the window about half
the time, that middle may be either."""
WORTH_A_LOOK = -4.0
"""ln of a chance, or minus a ln Bayes factor, from which a scale found elsewhere is looked at."""


def in_window(widths: Array) -> Array:
    """Gaps in a window of each width (turns) over those that it has on average, by the angle since a gap passed;
    shape (widths, GRID), softened over one step."""
    width = widths[:, None]
    whole, part = np.divmod(width, 1.0)
    angle = (np.arange(GRID) + 0.5) / GRID
    inside = np.clip((part - angle) * GRID + 0.5, 0.0, 1.0)
    return np.asarray((whole + inside * part / np.maximum(inside.mean(axis=1, keepdims=True), 1e-9)) / width)


def in_filter(widths: Array) -> Array:
    """The same of a filter of first order that forgets within each width."""
    fading = np.exp(-(np.arange(GRID) + 0.5) / GRID / widths[:, None])
    return np.asarray(fading / fading.mean(axis=1, keepdims=True))


def in_window_and_filter(widths: Array) -> Array:
    """The same of a window of each width before a filter that forgets in `FILTER_OF_WINDOW` of it."""
    filtered = np.fft.rfft(in_filter(np.maximum(FILTER_OF_WINDOW * widths, NARROWEST))) / GRID
    return np.asarray(np.fft.irfft(np.fft.rfft(in_window(widths)) * filtered, n=GRID))


UNITS = (
    (in_window, 0.015), (in_window, 0.05), (in_window, 0.11), (in_window, 0.22), (in_filter, 0.03), (in_filter, 0.09),
    (in_window_and_filter, 0.09), (in_window_and_filter, 0.18),
)  # fmt: skip
"""Ways of averaging, and the seconds of each."""
UNITS_OF_TWO = (UNITS[0], UNITS[1], UNITS[4])


@dataclass(frozen=True)
class Shapes:
    """ln Bayes factors of a gap and of a swing over nothing, and the best scale of the likelier one."""

    pulse: float
    swing: float
    best: Track


def weigh_shapes(
    motion: CornerMotion, stretches: list[Stretch], scale: Scale, tracks: Sequence[Track | None]
) -> Shapes | None:
    """The two shapes at the scales that `scale` and `tracks` found; ``None`` where none of them saw anything."""
    seen = {(t.frequency, t.by_mates) for t in tracks if t is not None and t.log_factor > -WORTH_A_LOOK}
    few = {s for t in tracks if t is not None and t.next_best for s in ((t.frequency, t.by_mates), *t.next_best)}
    if scale.log_p < WORTH_A_LOOK:
        seen.add((scale.frequency, scale.by_mates))
    if not seen and not few:
        return None
    ways = ((0.0, False), (0.0, True))
    looks = looks_of(motion, stretches, ways)
    if looks is None or looks.score.size < LEAST_SWING:
        return None
    candidates = [(f * (1.0 + step), mates) for f, mates in _apart(seen) for step in NEIGHBOURS]
    candidates += _apart(few)
    frequencies = np.array([f for f, _ in candidates])
    paths = np.vstack([looks.paths[0.0, mates] for _, mates in candidates])
    templates = _Templates(frequencies)
    scores = looks.score[:MOST_OF_FAST] if looks.is_thinned else looks.score
    jolts = min(max(JOLTS, float(np.mean(np.abs(scores) > FAR_OUT))), MOST_JOLTS)
    scores = np.clip(scores, DEEPEST, HIGHEST)
    # one noise for all shapes, which are weighed against each other
    floor = floor_at(looks.paths[ways[0]][: scores.size], scores, np.outer(OVERTONES, frequencies), BIN_M)
    louder = np.sqrt(floor.mean(axis=0))
    tied, loose = _followed(looks, scores, frequencies[:, None] * paths, templates, jolts, louder)
    dense = np.exp(np.arange(math.log(FREQUENCIES[0]), math.log(FREQUENCIES[1]), STEP))
    tied += np.log(scale_prior(dense))[np.minimum(np.searchsorted(dense, frequencies), dense.size - 1)]
    # dips and jolts that know no angle are the rival
    nothing = float(np.logaddexp.reduce(loose, axis=None)) - math.log(loose.size)
    families = tied[: templates.pulses], tied[templates.pulses :]
    pulse, swing = (
        float(np.logaddexp.reduce(f, axis=None)) - math.log(len(f) * len(ways)) - max(nothing, 0.0) for f in families
    )
    at = int(np.argmax(families[0 if pulse > swing else 1].max(axis=0)))
    best = Track(max(pulse, swing), float(frequencies[at]), 0.0, candidates[at][1], 0)
    return Shapes(pulse, swing, best)


def _followed(
    looks: Looks, scores: Array, turns: Array, templates: _Templates, jolts: float, louder: Array
) -> tuple[Array, Array]:
    """ln Bayes factor over plain noise of each shape at each candidate, tied to the wheel and at any angle; both of
    shape (shapes, candidates), −inf where it was given up.

    `scores` in noise units, shape (samples,); `turns` by each candidate, shape (candidates, samples); a share `jolts`
    of the samples knows of nothing; `louder`: noise at the scale of each candidate over that of the samples.
    """
    starts = -np.floor(within_turn(turns) * GRID).astype(np.int64) % GRID
    speeds = np.rint(SPEED_STEPS * looks.speed).astype(np.int64)
    scores, noises, louder = scores.astype(np.float32), looks.noise.astype(np.float32), louder.astype(np.float32)
    tied = np.zeros((templates.count, turns.shape[0]))
    loose = np.zeros(tied.shape)
    rows, columns = np.arange(tied.shape[0]), np.arange(tied.shape[1])
    anywhere = np.full(GRID, 1.0 / GRID, dtype=np.float32)
    belief: Belief = np.full((*tied.shape, GRID), 1.0 / GRID, dtype=np.float32)
    for number, (start, stop) in enumerate(_pieces(looks, scores.size)):
        if looks.lost[start]:
            belief = np.full_like(belief, 1.0 / GRID)
        belief = spread(belief, float(looks.wander[start:stop].sum()))
        inside = np.s_[start:stop]
        foreseen = templates.foreseen(rows, columns, speeds[inside], starts[columns, inside].T)
        times = louder[columns, None]
        foreseen /= noises[inside, None, None] * times
        np.clip(foreseen, DEEPEST, HIGHEST, out=foreseen)
        score = scores[inside, None, None] / times
        seen = _chance(score - foreseen[0], jolts)
        unsure = np.any(foreseen[0] != foreseen[1], axis=(1, 2, 3))
        if unsure.any():
            seen[unsure] = 0.5 * (seen[unsure] + _chance(score - foreseen[1, unsure], jolts))
        present = templates.present[rows]
        seen *= present / _chance(score, jolts)
        seen += 1.0 - present
        loose[rows[:, None], columns] += np.log(seen @ anywhere).sum(axis=1)
        gain = sum(np.log(seen[:, i : i + MULTIPLIED].prod(axis=1)) for i in range(0, stop - start, MULTIPLIED))
        top = gain.max(axis=-1, keepdims=True)
        belief = belief * np.exp(gain - top)
        size = belief.sum(axis=-1, keepdims=True)
        tied[rows[:, None], columns] += (np.log(size) + top)[..., 0]
        belief /= size
        if number % LOOKED_OVER == LOOKED_OVER - 1:
            hopeful = _hopeful(tied, templates.pulses) | (loose > loose.max() - HOPELESS)
            left = hopeful[rows][:, columns]
            stay, keep = left.any(axis=1), left.any(axis=0)
            rows, columns, belief = rows[stay], columns[keep], belief[stay][:, keep]
            given_up = np.full(tied.shape, -np.inf)
            given_up[rows[:, None], columns] = 0.0
            tied, loose = tied + given_up, loose + given_up
    return tied, loose


def _pieces(looks: Looks, count: int) -> list[tuple[int, int]]:
    """Cut the first `count` samples where the phase is lost or has wandered."""
    wandered = np.cumsum(looks.wander[:count])
    cuts, since = [0], 0
    for i in range(1, count):
        if looks.lost[i] or i - since >= PIECE_SAMPLES or wandered[i] - wandered[since] > PIECE_WANDER:
            cuts.append(i)
            since = i
    return list(pairwise([*cuts, count]))


def _hopeful(score: Array, pulses: int) -> npt.NDArray[np.bool_]:
    """Which shapes and candidates may still matter beside the best of their family."""
    best = np.repeat([score[:pulses].max(), score[pulses:].max()], [pulses, len(score) - pulses])
    return np.asarray(score > best[:, None] - HOPELESS)


def _apart(seen: set[tuple[float, bool]]) -> list[tuple[float, bool]]:
    """Without those whose neighbours reach another."""
    kept: list[tuple[float, bool]] = []
    for frequency, mates in sorted(seen, key=lambda s: (s[1], s[0])):
        if not kept or kept[-1][1] is not mates or frequency > kept[-1][0] * (1.0 + NEIGHBOURS[-1]):
            kept.append((frequency, mates))
    return kept


def _chance(off: Belief, jolts: float) -> Belief:
    """Density of a score that lies `off` its mean, jolts included."""
    return (1.0 - jolts) / math.sqrt(2.0 * math.pi) * np.exp(-0.5 * off * off) + jolts * JOLT_DENSITY


class _Templates:
    """What each shape foresees round the turn at a speed, about two middles, ln deviation.

    First ``pulses`` gaps, then swings. Angle 0 is where the gap has just passed. ``present``: the share of turns in
    which a shape shows at all; shape (count, 1, 1, 1).
    """

    def __init__(self, frequencies: Array) -> None:
        self._frequencies = frequencies
        self._seconds, self._gaps = _gaps()
        self._waves = np.array([(size, delay) for size in SWINGS for delay in SWING_DELAYS_S])
        self.pulses, self.count = len(self._gaps), len(self._gaps) + len(self._waves)
        self.present = np.ones((self.count, 1, 1, 1), dtype=np.float32)
        self.present[self.pulses - len(UNITS_OF_TWO) * len(EVENT_DEPTHS) : self.pulses] = EVENTS_SEEN
        self._known: dict[int, Belief] = {}

    def foreseen(self, shapes: Index, candidates: Index, speeds: Index, starts: Index) -> Belief:
        """For samples at `speeds` (`SPEED_STEPS` per m/s), by where on the grid the gap would be; shape (2, shapes,
        samples, candidates, GRID).

        `starts`: minus the grid step of each sample's angle, shape (samples, candidates).
        """
        out = np.empty((2, shapes.size, *starts.shape, GRID), dtype=np.float32)
        for speed in np.unique(speeds).tolist():
            if speed not in self._known:
                backwards = self._made(speed / SPEED_STEPS)[..., -np.arange(2 * GRID) % GRID]
                self._known[speed] = np.lib.stride_tricks.sliding_window_view(backwards, GRID, axis=-1)
            these = speeds == speed
            out[:, :, these] = self._known[speed][:, shapes[:, None, None], candidates, starts[these]]
        return out

    def _made(self, speed: float) -> Belief:
        """Of all shapes and candidates, by the angle since the gap passed; shape (2, count, candidates, GRID)."""
        out = np.empty((2, self.count, self._frequencies.size, GRID), dtype=np.float32)
        rolled = speed * self._frequencies
        width = np.rint(np.minimum(np.outer(self._seconds, rolled), WIDEST) / WIDTH_STEP).astype(np.int64)
        out[:, : self.pulses] = self._gaps[np.arange(self.pulses)[:, None], width].transpose(2, 0, 1, 3)
        size, delay = self._waves.T[..., None, None]
        angle = (np.arange(GRID) + 0.5) / GRID
        out[:, self.pulses :] = size * np.cos(2.0 * np.pi * (angle - delay * rolled[:, None]))
        return out


@lru_cache(maxsize=1)
def _gaps() -> tuple[Array, Belief]:
    """Seconds of averaging of each shape that a gap can have; ln deviation by the width of the window (`WIDTH_STEP`),
    about which of `MIDDLES`, and the angle since the gap passed; shape (shapes, widths, 2, GRID)."""
    one = [(unit, 0, share, False) for unit in UNITS for share in LOST_SHARES]
    two = [(unit, off, share, False) for unit in UNITS_OF_TWO for off in SECOND_PLACES for share in LOST_SHARES[:2]]
    events = [(unit, 0, depth, True) for unit in UNITS_OF_TWO for depth in EVENT_DEPTHS]
    every = [*one, *two, *events]
    missing = [size * _missing(passed, off, single) for (passed, _), off, size, single in every]
    deviation = np.log1p(np.maximum(-np.array(missing).transpose(0, 2, 1, 3), -0.9))
    return np.array([seconds for (_, seconds), *_ in every]), deviation.astype(np.float32)


def _missing(passed: Callable[[Array], Array], off: int, single: bool) -> Array:
    """What is missing about two middles by the width of the window and the angle; of a dip that shows in single turns
    1 at its deepest; shape (2, widths, GRID)."""
    widths = np.maximum(np.arange(0.0, WIDEST + WIDTH_STEP, WIDTH_STEP), NARROWEST)
    missing = passed(widths)
    if single:
        return np.repeat(missing[None] / missing.max(axis=1, keepdims=True), 2, axis=0)
    if off:
        missing = missing + np.roll(missing, off, axis=1)
    middles = np.quantile(missing, MIDDLES, axis=1)[..., None]
    return np.asarray(missing - middles)
