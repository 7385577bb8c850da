"""The answer as a few lines of text, to be pasted anywhere."""

from __future__ import annotations

from nodrek.desktop.state.words import clean_headline, headline, sureness, worth_of_clean
from nodrek.jobs.analyze import Answer


def answer_lines(answer: Answer) -> list[str]:
    """Log, findings with their sureness, ratios."""
    analysis = answer.analysis
    lines = [answer.source.path.name]
    for finding in analysis.findings:
        lines.append(f"{headline(finding)}. {sureness(finding.confidence)}. {finding.summary}")
    if not analysis.findings:
        lines.append(f"{clean_headline(analysis.verdict)}. {worth_of_clean({c.value: r for c, r in analysis.corners.items()})}")
    for corner, result in analysis.corners.items():
        if result.ratio == result.ratio:
            low, high = 100 * (result.ratio_low - 1), 100 * (result.ratio_high - 1)
            lines.append(f"{corner}: {low:+.2f} to {high:+.2f} % against the others")
    return lines
