"""Presenter of the question which column is which corner."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from nodrek.core.model import Corner
from nodrek.jobs.columns import Column, Columns


@dataclass(frozen=True)
class ColumnRow:
    """A column to choose: its words, and its trace as points from 0 to 1 (``None``: a gap)."""

    name: str
    words: str
    trace: tuple[float | None, ...]


@dataclass(frozen=True)
class MappingScreen:
    title: str
    explain: str
    rows: tuple[ColumnRow, ...]
    chosen: tuple[tuple[Corner, str | None], ...]
    reference: str | None = None


def present_mapping(columns: Columns, reference: str | None = None) -> MappingScreen:
    """Columns with numbers first, those that would be taken unaided chosen already."""
    rows = [_row(c) for c in columns.columns if c.samples > 1]
    return MappingScreen(
        title=f"Which column is which corner? {columns.path.name}",
        explain="Choose a column for each corner; leave a corner empty where the log has none. "
        "Wheel speeds of one drive look alike. A speed that does not come from the wheels (satellite) "
        "shows what all four tyres have in common.",
        rows=tuple(rows),
        chosen=tuple((corner, columns.suggested.get(corner)) for corner in Corner),
        reference=reference,
    )


def _row(column: Column) -> ColumnRow:
    known = column.trace[~np.isnan(column.trace)]
    low, high = (float(known.min()), float(known.max())) if known.size else (0.0, 0.0)
    span = high - low if high > low else 1.0
    trace = tuple(None if np.isnan(v) else float((v - low) / span) for v in column.trace)
    unit = f" {column.unit}" if column.unit else ""
    return ColumnRow(column.name, f"{low:.4g} to {high:.4g}{unit}", trace)
