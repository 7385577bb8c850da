"""What runs off the interface thread: orders, and the jobs that carry them out."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from nodrek.core.model.case import CaseVehicle
from nodrek.core.model.knowledge import Knowledge
from nodrek.desktop.state.case import Bench
from nodrek.desktop.state.session import Help
from nodrek.io.vehicle import vehicle_of
from nodrek.jobs.analyze import Answer
from nodrek.jobs.columns import look_at_columns
from nodrek.jobs.diagnose import weigh


@dataclass(frozen=True)
class Order:
    """What the job is to do."""

    path: Path
    part: tuple[float, float] | None
    given: Help
    known: CaseVehicle
    """What the case on the bench says of the vehicle."""


@dataclass(frozen=True)
class Look:
    """The job is only to look at the columns."""

    path: Path
    given: Help


@dataclass(frozen=True)
class Sums:
    """The case and log whose costs are to be worked out."""

    bench: Bench
    answer: Answer | None
    knowledge: Knowledge


def add_up(order: object, progress: Callable[[float, str], None]) -> object:
    assert isinstance(order, Sums)
    analyses = [order.answer.analysis] if order.answer else []
    progress(0.1, "Adding up")
    case = order.bench.case
    return case, weigh(case, analyses, order.knowledge, order.bench.own_order)


def run(order: object, progress: Callable[[float, str], None]) -> object:
    from nodrek.jobs.analyze import analyze_file

    if isinstance(order, Look):
        progress(0.1, "Looking at the columns")
        return look_at_columns(order.path, order.given.databases)
    assert isinstance(order, Order)
    start, stop = order.part or (None, None)
    return analyze_file(
        order.path,
        mapping=order.given.mapping,
        reference=order.given.reference,
        databases=order.given.databases,
        vehicle=vehicle_of(order.known.extra, "vehicle."),
        start=start,
        stop=stop,
        progress=progress,
    )
