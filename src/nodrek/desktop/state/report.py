"""The answer as a few lines of text, to be pasted anywhere."""

from __future__ import annotations

from nodrek.desktop.state.ratios import shown_ratios
from nodrek.desktop.state.words import clean_headline, headline, signed, sureness, worth_of_clean
from nodrek.jobs.analyze import Answer


def answer_lines(answer: Answer) -> list[str]:
    """Log, findings with their sureness, ratios."""
    analysis = answer.analysis
    lines = [answer.source.path.name]
    lines += [f"{headline(f)}. {sureness(f.confidence)}. {f.summary}" for f in analysis.findings]
    if not analysis.findings:
        corners = {c.value: r for c, r in analysis.corners.items()}
        lines.append(f"{clean_headline(analysis.verdict)}. {worth_of_clean(corners)}")
    for corner, (low, _, high) in shown_ratios(answer).items():
        lines.append(f"{corner}: {signed(low)} to {signed(high)} % against the others")
    return lines
