"""Parquet and Arrow (IPC file and stream) through polars, only the columns that matter."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from nodrek.core.model import Array, RawLog
from nodrek.errors import UnreadableFile
from nodrek.io.logs.bounded import MEMORY, MEMORY_PER_BYTE
from nodrek.io.logs.shape import name_and_unit
from nodrek.io.logs.source import Keep, LogFile, Request
from nodrek.io.logs.wide import assemble, is_clock_name


def read(file: LogFile, request: Request) -> RawLog:
    import polars as pl

    head = file.head(16)
    try:
        if head.startswith(b"PAR1"):
            source = file.path if file.content is None else file.content
            schema = pl.read_parquet_schema(source)
            wanted = _wanted(schema, request.keep)
            _check_rows(file, pl.scan_parquet(source).select(pl.len()).collect().item(), len(wanted))
            table = pl.read_parquet(source, columns=wanted)
            name = "parquet"
        elif head.startswith(b"ARROW1"):
            source = file.path if file.content is None else file.content
            lazy = pl.scan_ipc(source)
            _check_rows(file, lazy.select(pl.len()).collect().item(), len(lazy.collect_schema()))
            table = lazy.collect()
            name = "arrow"
        else:
            with file.open() as stream:
                table = pl.read_ipc_stream(stream.read())
            name = "arrow"
    except (pl.exceptions.PolarsError, OSError, ValueError, BaseException) as error:
        if isinstance(error, (KeyboardInterrupt, SystemExit, UnreadableFile)):
            raise
        raise UnreadableFile(f"{file.name} is damaged and cannot be read: copy or export it again.") from error
    names: list[str] = []
    units: list[str | None] = []
    columns: list[Array | None] = []
    clocks: dict[int, Array] = {}
    for k, column in enumerate(table.iter_columns()):
        plain, unit = name_and_unit(column.name)
        names.append(plain)
        units.append(unit)
        if column.dtype.is_temporal():
            clocks[k] = _temporal_seconds(column)
            columns.append(None)
        else:
            columns.append(_numbers(column))
    return assemble(file.name, names, units, columns, name, clocks)


def _check_rows(file: LogFile, rows: int, columns: int) -> None:
    """A small file may promise any number of rows; what it says of itself is believed before it is unpacked."""
    if rows * columns * 8 > MEMORY + file.size * MEMORY_PER_BYTE:
        raise UnreadableFile(
            f"{file.name} unpacks to {rows} rows, more than a log of its size should: export it again, or as CSV."
        )


def _wanted(schema: Mapping[str, object], keep: Keep) -> list[str]:
    names = list(schema)
    wanted = [n for n in names if keep(n) or is_clock_name(*name_and_unit(n)) or "Datetime" in str(schema[n])]
    return wanted if len(names) > MOST_WHOLE and wanted else names


MOST_WHOLE = 64
"""Columns up to which a table is read whole."""


def _numbers(column: object) -> Array | None:
    import polars as pl

    assert isinstance(column, pl.Series)
    if not column.dtype.is_numeric() and column.dtype != pl.Boolean:
        if column.dtype != pl.String:
            return None
        column = column.str.strip_chars()
    # no copy where there is nothing to mend: hours of log are large
    values = column.cast(pl.Float64, strict=False).to_numpy()
    with np.errstate(invalid="ignore", over="ignore"):
        # one number tells whether there is anything to mend at all
        is_whole = np.isfinite(values.sum())
    return values if is_whole else np.where(np.isinf(values), np.nan, values)


def _temporal_seconds(column: object) -> Array:
    import polars as pl

    assert isinstance(column, pl.Series)
    if column.dtype == pl.Date:
        return column.cast(pl.Float64).to_numpy() * 86400.0
    if column.dtype == pl.Time:
        return column.cast(pl.Int64).cast(pl.Float64).to_numpy() * 1e-9
    unit = getattr(column.dtype, "time_unit", "us") or "us"
    raw = column.cast(pl.Int64)
    first = raw.drop_nulls()[0] if raw.drop_nulls().len() else 0
    values = (raw - first).cast(pl.Float64).to_numpy()
    return np.asarray(values * {"ns": 1e-9, "us": 1e-6, "ms": 1e-3}[unit])
