"""What front wheels tell of straight running by how far they run ahead of rear ones.

In a bend they go round a longer way, to the left as to the right: ln front over rear is an even function of the bend
(its square, with a share that tyres drifting outwards take from it as speed grows). Where left over right is counted
from a wrong level, the same bends come out uneven. So a winding drive tells the level of straight running without one
straight, and a straight drive tells nothing here.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from nodrek.core.model import Array
from nodrek.core.motion.robust_line import NO_SCATTER, robust_line

SHARPEST = 0.25
"""ln left over right, up to which a bend is asked: between a turning circle and a roundabout."""
FASTEST = 20.0
"""m/s: faster, bends are slight, and what tyres drift takes more from the way of the front wheels than it is."""
LEAST_BLOCKS = 40
A_SECOND = 0.6
"""Looks a second that are independent of each other, as slip wanders for seconds: of 580 drives of four simulated
worlds, each with a wheel put out by up to 3.5 %, about the likeliest."""
USUAL, USUAL_SIGMA = np.array([0.95, -1.5, -0.3]), np.array([0.4, 3.0, 0.4])
"""Half of ln front over rear by the bend's square, fourth power, and square times (speed / 10 m/s)²: of vehicles whose
wheelbase is 1.9 tracks, (wheelbase / track)² / 4 on circles round one point, less what tyres drift (own estimates)."""


def nats_of_levels(
    ahead: Array, slips: Sequence[Array], yaw: Array, speed: Array, levels: Array, block_s: float, least: float
) -> Array:
    """ln likelihood of each of the `levels` (ln left over right on straights), up to a constant.

    Blocks of `block_s` seconds, shape (n,), none NaN: ln front over rear, the slips that it follows, ln left over
    right, speed in m/s. What is far out weighs less (Huber), as seen from the middle of the levels; `least`: 1 sigma
    within which nothing is.
    """
    centre = float(np.mean(levels))
    used = (np.abs(yaw - centre) < SHARPEST) & (speed < FASTEST)
    if np.count_nonzero(used) < LEAST_BLOCKS:
        return np.zeros(levels.size)
    bend, fast, ahead, slips = yaw[used] - centre, (speed[used] / 10.0) ** 2, ahead[used], [s[used] for s in slips]
    line = robust_line(ahead, [bend**2, bend**4, fast * bend**2, *slips], least)
    # the terms of a bend from any level are sums of these powers, so the blocks are gone through once
    powers = [np.ones(bend.size), bend, bend**2, bend**3, bend**4, fast, fast * bend, fast * bend**2]
    leaning, leaning_sigma = _leaning(line.rest, bend, line.weight)
    columns = [*powers, *slips, bend, ahead - leaning * bend]
    blocks: Array = np.sqrt(line.weight)[:, None] * np.column_stack(columns)
    whole = np.asarray(np.linalg.qr(blocks, mode="r"))
    # what is known before is a few more blocks, each as loud as it is sure
    scatter = max(float(np.sqrt(np.mean(line.weight * line.rest**2))), NO_SCATTER)
    terms = 5 + len(slips)
    sure = scatter / np.sqrt(2.0 * A_SECOND * block_s) / np.array([*USUAL_SIGMA, max(leaning_sigma, NO_SCATTER)])
    known = np.zeros((levels.size, sure.size, terms))
    known[:, range(sure.size), [0, 1, 2, terms - 1]] = sure
    design = np.concatenate([whole[:, :-1] @ _even_in_bends(levels - centre, len(slips)), known], axis=1)
    target = np.concatenate([whole[:, -1], sure * np.array([*USUAL, 0.0])])
    basis = np.linalg.qr(design)[0]
    left = target - np.einsum("lij,lkj,k->li", basis, basis, target)
    rest = np.maximum(np.sqrt(np.sum(left**2, axis=1) / bend.size), NO_SCATTER)
    return np.asarray(-A_SECOND * block_s * bend.size * np.log(rest / rest.min()))


def _leaning(rest: Array, bend: Array, weight: Array) -> tuple[float, float]:
    """How what passes for a bend leans on front over rear by noise alone, and the 1 sigma of that.

    The noise of one corner is in both: where it is louder than the others', a straight drive seems to have bends, the
    more to that side the more its axle is behind, as bends counted from a wrong level do. Noise is what changes from
    one block to the next; bends last.
    """
    # 1, 3, 3 and 1 times the values of four blocks: the squares add up to 20
    noise, of_bends = (np.diff(values, 3) / np.sqrt(20.0) for values in (rest, bend))
    both, most = weight[3:] * noise * of_bends, 2.0 * float(weight[3:] @ noise**2)
    size = max(float(np.sum(weight * bend**2)), NO_SCATTER**2)
    leaning = float(np.clip(np.sum(both), -most, most)) / size
    sigma = min(float(np.linalg.norm(both)), most) / size
    return leaning, float(np.hypot(0.5 * leaning, sigma))


def _even_in_bends(levels: Array, slips: int) -> Array:
    """Square, fourth power, and square times speed squared of the bend from each of the `levels`, intercept, slips and
    the bend itself: shape (levels, columns of `nats_of_levels`, terms)."""
    one, none = np.ones_like(levels), np.zeros_like(levels)
    bends = [
        [levels**2, -2.0 * levels, one, none, none, none, none, none],
        [levels**4, -4.0 * levels**3, 6.0 * levels**2, -4.0 * levels, one, none, none, none],
        [none, none, none, none, none, levels**2, -2.0 * levels, one],
    ]
    out = np.zeros((levels.size, 9 + slips, 5 + slips))
    out[:, :8, :3] = np.array(bends).transpose(2, 1, 0)
    out[:, 0, 3] = 1.0
    out[:, range(8, 9 + slips), range(4, 5 + slips)] = 1.0
    return out
