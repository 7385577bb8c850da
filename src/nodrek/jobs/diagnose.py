"""Diagnose a case: its logs are analysed, then everything it holds is weighed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from nodrek.core.diagnosis.engine import diagnose
from nodrek.core.diagnosis.evidence import LogWord
from nodrek.core.model import Analysis, Scene, Vehicle
from nodrek.core.model.case import Case, Check, CheckKind, LogRole
from nodrek.core.model.diagnosis import Diagnosis
from nodrek.core.model.knowledge import Knowledge
from nodrek.errors import NodrekError
from nodrek.io.knowledge import trade_knowledge
from nodrek.io.vehicle import vehicle_of


def diagnose_file(path: Path, own_order: tuple[CheckKind, ...] = ()) -> tuple[Diagnosis, Knowledge]:
    """The diagnosis of a case file; raises `NodrekError` where the file is no case.

    A log that cannot be read, or lies outside the case's folder, becomes a warning.
    """
    from nodrek.io.contract.case import read_case  # brings the modelling library in: not for the window's start

    case = read_case(path)
    return diagnose_case(case, path.parent, own_order)


def diagnose_case(
    case: Case, folder: Path, own_order: tuple[CheckKind, ...] = (), costs: bool = True
) -> tuple[Diagnosis, Knowledge]:
    """The diagnosis of a case whose logs lie in `folder`."""
    knowledge = trade_knowledge()
    warnings: list[str] = []
    analyses = []
    vehicle = vehicle_of(case.vehicle.extra, "vehicle.")
    for entry in case.logs:
        analysis = _analysis(entry.path, folder, vehicle, warnings)
        if analysis is None:
            continue
        if entry.role is LogRole.AFTER:
            warnings.append(_after(entry.path, analysis))
        else:
            analyses.append(analysis)
    result = weigh(case, analyses, knowledge, own_order, costs)
    return replace(result, warnings=(*warnings, *result.warnings)), knowledge


def weigh(
    case: Case,
    analyses: Sequence[Analysis],
    knowledge: Knowledge,
    own_order: tuple[CheckKind, ...] = (),
    costs: bool = True,
) -> Diagnosis:
    """The diagnosis of a case with logs that are analysed already."""
    words = [word for a in analyses if a.scene is not Scene.SPIN for word in log_words(a)]
    spun = [check for a in analyses if a.scene is Scene.SPIN for check in _spins(a)]
    known = {(c.check, c.corner) for c in case.checks}
    fresh = tuple(c for c in spun if (c.check, c.corner) not in known)
    return diagnose(replace(case, checks=(*fresh, *case.checks)), knowledge, words, own_order, costs)


def log_words(analysis: Analysis) -> Sequence[LogWord]:
    """What one analysed drive says, corner by corner."""
    return [
        LogWord(corner, tuple(f for f in analysis.findings if corner in f.corners), result.could_see)
        for corner, result in analysis.corners.items()
    ]


def _analysis(name: str, folder: Path, vehicle: Vehicle, warnings: list[str]) -> Analysis | None:
    home = folder.resolve()
    try:
        target = (home / name).resolve()
    except (OSError, ValueError, RuntimeError):
        warnings.append(f"log {name[:80]!r}: no such file; left out.")
        return None
    if Path(name).is_absolute() or not target.is_relative_to(home):
        warnings.append(f"log {name[:80]!r} lies outside the case's folder; left out: copy it beside the case.")
        return None
    from nodrek.jobs.analyze import analyze_file

    try:
        return analyze_file(target, vehicle=vehicle).analysis
    except NodrekError as error:
        warnings.append(f"log {name[:80]!r} left out: {str(error)[:400]}")
        return None


def _spins(analysis: Analysis) -> list[Check]:
    return [
        Check(CheckKind.SPIN_BY_HAND, corner, "alive" if spin.alive else "zero")
        for corner, spin in analysis.spins.items()
        if spin.spun
    ]


def _after(name: str, analysis: Analysis) -> str:
    if analysis.findings:
        return f"log {name!r} after the repair still shows: {analysis.findings[0].summary}"
    return f"log {name!r} after the repair: {analysis.verdict.value.replace('_', ' ')}."
