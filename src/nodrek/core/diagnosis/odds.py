"""Joint odds of all suspected corners, by enumeration.

Corners are independent given three facts: which of them are healthy, which share one
fault of the control unit, which have a fault of their own. All assignments of these to at
most four corners (81) are summed; within one, Bayes' rule on the states of each corner.
So a knock-on code is explained by the bad mate, two dead corners point at what they share,
and two different faults on one axle stay possible.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import product

import numpy as np

from nodrek.core.diagnosis.evidence import Evidence
from nodrek.core.model import Array, Corner
from nodrek.core.model.case import Cause
from nodrek.core.model.knowledge import Knowledge

WELL, OWN, SHARED = range(3)
SECOND_FAULT = 0.3
"""Prior weight of each further corner with a fault of its own (two on one day are rare)."""
SAME_WORK = 0.8
"""The same, where the same work was done on both: what was done wrong once is done wrong twice."""
WELL_BESIDE_BAD = 0.5
SHARED_BY_SEVERAL = 0.22
"""Prior weight of one shared fault behind several suspected corners: "first suspect what they share"."""
USUAL_SHARED = 0.02
UNNAMED = 0.2
"""Weight of a fault at a corner that nothing but the complaint points at."""
TINY = 1e-12


@dataclass(frozen=True)
class CornerOdds:
    """``states``: posterior, shape (states,); ``prior``: before checks, codes and logs, context included."""

    corner: Corner
    states: Array
    prior: Array
    evidence: tuple[Evidence, ...]
    other_bad: float
    """Probability that some other corner is bad."""

    def causes(self, knowledge: Knowledge) -> dict[Cause, float]:
        """Probability of each cause, sums to 1; the likeliest first."""
        shares = knowledge.membership @ self.states
        pairs = zip(knowledge.cause_of, shares, strict=True)
        return {c: float(p) for c, p in sorted(pairs, key=lambda x: -x[1])}


def corner_odds(
    context: Mapping[Corner, Sequence[Evidence]],
    evidence: Mapping[Corner, Sequence[Evidence]],
    same_work: bool,
    knowledge: Knowledge,
) -> dict[Corner, CornerOdds]:
    """Posterior of every suspected corner.

    ``context`` shifts the prior (vehicle, work, complaint), ``evidence`` is what was seen;
    both by corner, the same corners in both.
    """
    corners = list(evidence)
    if not corners:
        return {}
    priors = {c: _prior(context[c], knowledge) for c in corners}
    alone = {c: _likelihood(evidence[c], False) for c in corners}
    beside = {c: _likelihood(evidence[c], True) for c in corners}
    groups = (knowledge.healthy, 1.0 - knowledge.healthy - knowledge.shared, knowledge.shared)
    named = {c: bool(evidence[c]) for c in corners}
    total = {c: np.zeros(len(knowledge.states)) for c in corners}
    other = dict.fromkeys(corners, 0.0)
    everything = 0.0
    for assignment in product((WELL, OWN, SHARED), repeat=len(corners)):
        bad = sum(g is not WELL for g in assignment)
        parts = []
        weight = _assignment_weight(assignment, same_work, priors, groups, named)
        for corner, group in zip(corners, assignment, strict=True):
            others = bad - (group is not WELL)
            seen = beside[corner] if others else alone[corner]
            share = priors[corner] * groups[group]
            parts.append(share / max(float(share.sum()), TINY) * seen)
        together = [i for i, g in enumerate(assignment) if g is SHARED]
        if len(together) > 1:
            # one fault in common shows the same way at all its corners
            same = _same_state([parts[i] for i in together], [beside[corners[i]] for i in together])
            weight *= float(same.sum())
            for i in together:
                parts[i] = same
        for i, part in enumerate(parts):
            if len(together) < 2 or i not in together:
                weight *= float(part.sum())
        if weight <= 0.0:
            continue
        everything += weight
        for corner, group, part in zip(corners, assignment, parts, strict=True):
            total[corner] += weight * part / float(part.sum())
            other[corner] += weight * (bad - (group is not WELL) > 0)
    return {
        c: CornerOdds(c, total[c] / everything, priors[c], (*context[c], *evidence[c]), other[c] / everything)
        for c in corners
    }


def _same_state(parts: Sequence[Array], seen: Sequence[Array]) -> Array:
    """Joint weight of a state that several corners share: one prior, all their likelihoods."""
    out = parts[0]
    for likelihood in seen[1:]:
        out = out * likelihood
    return out


def _prior(context: Sequence[Evidence], knowledge: Knowledge) -> Array:
    prior = knowledge.usual.copy()
    for item in context:
        prior *= item.odds
    return np.asarray(prior / prior.sum())


def _likelihood(evidence: Sequence[Evidence], beside: bool) -> Array:
    """Product of the items, with a floor that keeps every state thinkable."""
    out: Array | float = 1.0
    for item in evidence:
        out = out * (item.beside if beside and item.beside is not None else item.odds)
    return np.maximum(out, TINY) if isinstance(out, np.ndarray) else np.asarray(out)


def _assignment_weight(
    assignment: tuple[int, ...],
    same_work: bool,
    priors: Mapping[Corner, Array],
    groups: tuple[Array, Array, Array],
    named: Mapping[Corner, bool],
) -> float:
    """Prior weight of which corners are well, bad by themselves, or bad together.

    ``named`` says by corner whether anything but the complaint points at it.
    """
    mass = {c: float(p @ groups[group]) for (c, p), group in zip(priors.items(), assignment, strict=True)}
    if len(mass) == 1:
        return next(iter(mass.values()))
    if all(group == WELL for group in assignment):
        return float(np.mean(list(mass.values())))
    weight = 1.0
    own, together = 0, []
    for corner, group in zip(mass, assignment, strict=True):
        if group == OWN:
            further = SAME_WORK if same_work else SECOND_FAULT
            weight *= mass[corner] * (1.0 if own == 0 else further) * (1.0 if named[corner] else UNNAMED)
            own += 1
        elif group == SHARED:
            together.append(corner)
        elif named[corner]:
            weight *= WELL_BESIDE_BAD
    if len(together) == 1:
        weight *= mass[together[0]] * (1.0 if named[together[0]] else UNNAMED)
    elif together:
        weight *= SHARED_BY_SEVERAL * min(1.0, max(mass[c] for c in together) / USUAL_SHARED)
        weight *= UNNAMED ** sum(not named[c] for c in together)
    return weight


def weight_db(item: Evidence, cause: Cause, odds: CornerOdds, knowledge: Knowledge) -> float:
    """What one item is worth for a cause against all others of the corner, in decibels (10 log₁₀)."""
    seen = item.odds
    if item.beside is not None:
        seen = (1.0 - odds.other_bad) * item.odds + odds.other_bad * item.beside
    mine = knowledge.membership[knowledge.cause_of.index(cause)]
    inside, outside = odds.prior * mine, odds.prior * (1.0 - mine)
    for_it = float(inside @ seen) / max(float(inside.sum()), TINY)
    against = float(outside @ seen) / max(float(outside.sum()), TINY)
    return 10.0 * math.log10(max(for_it, TINY) / max(against, TINY))
