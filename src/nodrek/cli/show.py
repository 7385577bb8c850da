"""An answer as a short table and sentences for the terminal."""

from __future__ import annotations

import math
import textwrap

from nodrek.core.model import Fault, Scene, Verdict
from nodrek.desktop.state.words import percent
from nodrek.jobs.analyze import Answer

COLUMNS = 80
VERDICTS = {
    Verdict.HEALTHY: "Nothing found, and this log could have shown it.",
    Verdict.FAULTY: "Found:",
    Verdict.NOT_ENOUGH_DATA: "Nothing found, but this log is not enough to call the corners sound.",
}


SPINS = {
    Verdict.HEALTHY: "Every wheel comes alive. Lost teeth, gaps and tyres show in a drive only.",
    Verdict.NOT_ENOUGH_DATA: "Not every wheel comes alive, and this log does not say why.",
}
"""The same of wheels that are turned on stands."""
UNSETTLED = "Not settled: {corner} is hardly sound, and no single fault is sure. See the last note."


def answer_text(answer: Answer) -> str:
    """Readable at 80 columns; the same facts as the JSON, rounded."""
    log, analysis = answer.log, answer.analysis
    lines = [f"{answer.source.path.name}: {log.duration:.0f} s, corners {' '.join(log.corners)}", ""]
    words = VERDICTS | SPINS if analysis.scene is Scene.SPIN else VERDICTS
    lines.append(UNSETTLED.format(corner=analysis.unexplained) if analysis.is_unnamed else words[analysis.verdict])
    lines += [_wrapped(f"  {percent(finding.confidence):>5s}  ", finding.summary) for finding in analysis.findings]
    notes = [_wrapped("Note: ", warning) for warning in analysis.warnings]
    if analysis.scene is Scene.SPIN:
        return "\n".join([*lines, "", *_spin_lines(answer), *notes])
    lines += ["", "        ratio    (95 %)            dropouts  wakes up   a lost tooth would show"]
    for corner, result in analysis.corners.items():
        if math.isfinite(result.ratio):
            ratio = f"{result.ratio:.4f}  ({result.ratio_low:.4f} to {result.ratio_high:.4f})"
        else:
            ratio = f"{'not compared':27s}"
        wake = f"{result.wake_up * 3.6:4.1f} km/h" if math.isfinite(result.wake_up) else "   -     "
        seen = percent(result.could_see[Fault.RING_DAMAGE])
        lines.append(f"  {corner}    {ratio}  {result.dropouts:8d}  {wake}  {seen:>5s}")
    return "\n".join([*lines, *notes])


def _wrapped(mark: str, sentence: str) -> str:
    return textwrap.fill(sentence, COLUMNS, initial_indent=mark, subsequent_indent=" " * len(mark))


def _spin_lines(answer: Answer) -> list[str]:
    lines = ["Wheels were turned one after another:"]
    spins = sorted(answer.analysis.spins.items(), key=lambda item: item[1].order or 9)
    for corner, spin in spins:
        if spin.alive:
            lines.append(f"  {spin.order}. {corner}  comes alive, up to {spin.peak * 3.6:.1f} km/h")
        else:
            lines.append(f"     {corner}  reads nothing{'' if spin.spun else '; perhaps it was not turned'}")
    return lines
