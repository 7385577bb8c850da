"""HDF5 and MATLAB 7.3 through h5py: one-dimensional data sets, tables, matrices with names."""

from __future__ import annotations

from typing import Any

import numpy as np

from nodrek.core.model import RawLog
from nodrek.errors import UnreadableFile
from nodrek.io.logs.gather import Found, log_from_arrays
from nodrek.io.logs.source import LogFile, Request

MOST_SETS = 5000
SIGNATURE = b"\x89HDF\r\n\x1a\n"


def read(file: LogFile, request: Request) -> RawLog:
    import h5py

    name = "hdf5" if file.head(8) == SIGNATURE else "mat"
    found: list[Found] = []
    try:
        with file.open() as stream, h5py.File(stream, "r") as measured:
            sets: list[tuple[str, Any]] = []

            def visit(path: str, node: Any) -> None:
                if isinstance(node, h5py.Dataset) and len(sets) < MOST_SETS and not path.startswith("#"):
                    sets.append((path, node))

            measured.visititems(visit)
            for path, node in sets:
                found += _arrays(path, node)
    except UnreadableFile:
        raise
    except Exception as error:
        raise UnreadableFile(f"{file.name} is damaged and cannot be read as HDF5: copy or export it again.") from error
    return log_from_arrays(file.name, found, name)


def _arrays(path: str, node: Any) -> list[Found]:
    """Arrays of one data set: itself, the fields of a table, or the columns of a matrix."""
    unit = _text(node.attrs.get("unit", node.attrs.get("units", node.attrs.get("Unit"))))
    step = next(
        (float(node.attrs[k]) for k in ("dt", "increment", "sample_period", "wf_increment") if k in node.attrs), None
    )
    rate = next((float(node.attrs[k]) for k in ("sample_rate", "rate", "fs", "sampling_rate") if k in node.attrs), None)
    step = step or (1.0 / rate if rate else None)
    if node.dtype.names:
        table = node[()].reshape(-1)
        return [
            Found(f"{path}/{n}", None, table[n].astype(np.float64), None)
            for n in table.dtype.names
            if table[n].dtype.kind in "iuf"
        ]
    if node.dtype.kind not in "iufb" or node.size < 2:
        return []
    if node.ndim == 1 or (node.ndim == 2 and 1 in node.shape):
        return [Found(path, unit, np.asarray(node[()], dtype=np.float64).reshape(-1), step)]
    if node.ndim == 2 and min(node.shape) <= 64:
        data = np.asarray(node[()], dtype=np.float64)
        data = data if data.shape[0] >= data.shape[1] else data.T
        names = node.attrs.get("columns", node.attrs.get("names", node.attrs.get("channels")))
        labels = (
            [_text(n) or f"{k}" for k, n in enumerate(names)]
            if names is not None and len(names) == data.shape[1]
            else [str(k + 1) for k in range(data.shape[1])]
        )
        return [
            Found(f"{path}/{label}", unit, np.ascontiguousarray(data[:, k]), step) for k, label in enumerate(labels)
        ]
    return []


def _text(value: Any) -> str | None:
    if value is None:
        return None
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)
