"""A diagnosis as sentences for the terminal."""

from __future__ import annotations

from nodrek.core.model.diagnosis import Diagnosis
from nodrek.core.model.knowledge import Knowledge
from nodrek.io.contract.diagnosis import why

SHOWN_FROM = 0.02
MOST_CAUSES, MOST_REASONS, MOST_CHECKS = 5, 3, 3


def diagnosis_text(diagnosis: Diagnosis, knowledge: Knowledge) -> str:
    """Readable at 80 columns; the same facts as the JSON, rounded."""
    lines: list[str] = []
    for corner in diagnosis.corners:
        lines.append(f"{corner.words.capitalize()}:")
        for odds in diagnosis.of(corner)[:MOST_CAUSES]:
            if odds.probability < SHOWN_FROM:
                continue
            lines.append(f"  {100.0 * odds.probability:3.0f} %  {knowledge.causes[odds.cause].words}")
            lines += [f"         {r.weight_db:+5.1f} dB  {r.text}" for r in odds.because[:MOST_REASONS]]
    if diagnosis.settled:
        lines.append("Settled.")
    if diagnosis.next_checks:
        lines += ["", "Next:"]
    for item in diagnosis.next_checks[:MOST_CHECKS]:
        info = item.info
        lines.append(f"  {item.corner.value}  {info.words}  ({info.minutes:.0f} min, {info.tool})")
        lines.append(f"      {why(item)}")
        lines += [f"      Caution: {knowledge.cautions[c]}" for c in info.cautions]
    for policy in diagnosis.policies:
        money = "" if policy.total is None else f", {policy.total:.0f} in all"
        lines.append(
            f"{policy.name.capitalize()}: {policy.minutes:.0f} min{money}, comes back {100.0 * policy.come_back:.0f} %"
        )
    for repair in diagnosis.repairs:
        kind = "Repair" if repair.info.lasting else "Stop-gap"
        lines.append(f"{kind}, {repair.corner.words}: {repair.info.option}")
        lines += [f"      Caution: {knowledge.cautions[c]}" for c in repair.info.cautions]
    lines += [f"Note: {warning}" for warning in diagnosis.warnings]
    return "\n".join(lines)
