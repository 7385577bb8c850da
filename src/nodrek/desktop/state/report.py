"""The answer as a few lines of text, to be pasted anywhere."""

from __future__ import annotations

from nodrek.desktop.state.words import clean_headline, headline, signed_percent, sureness, worth_of_clean
from nodrek.jobs.analyze import Answer


def answer_lines(answer: Answer) -> list[str]:
    """Log, findings with their sureness, ratios."""
    analysis = answer.analysis
    lines = [answer.source.path.name]
    lines += [f"{headline(f)}. {sureness(f.confidence)}. {f.summary}" for f in analysis.findings]
    if not analysis.findings:
        corners = {c.value: r for c, r in analysis.corners.items()}
        lines.append(f"{clean_headline(analysis.verdict)}. {worth_of_clean(corners)}")
    for corner, result in analysis.corners.items():
        if result.ratio == result.ratio:
            low, high = signed_percent(result.ratio_low), signed_percent(result.ratio_high)
            lines.append(f"{corner}: {low} to {high} % against the others")
    return lines
