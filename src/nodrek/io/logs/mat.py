"""MATLAB files of version 4 to 7 through SciPy; 7.3 is HDF5 and read there."""

from __future__ import annotations

from typing import Any

import numpy as np

from nodrek.core.model import RawLog
from nodrek.errors import UnreadableFile
from nodrek.io.logs.gather import Found, log_from_arrays
from nodrek.io.logs.source import LogFile, Request

DEEPEST = 6
MOST_ITEMS = 64


def detect(head: bytes) -> bool:
    """Whether these are the first bytes of version 4."""
    # version 4 has no signature: type, rows, columns, imaginary flag, length of the name
    if len(head) < 24:
        return False
    numbers = np.frombuffer(head[:20], dtype="<i4")
    kind, rows, columns, imaginary, length = (int(n) for n in numbers)
    name = head[20 : 20 + max(0, min(length, 64)) - 1]
    return (
        0 <= kind <= 60
        and 0 < rows < 2**30
        and 0 < columns < 2**20
        and imaginary in (0, 1)
        and 1 < length <= 64
        and name.decode("ascii", "replace").isidentifier()
    )


def read(file: LogFile, request: Request) -> RawLog:
    from scipy.io import loadmat

    try:
        with file.open() as stream:
            data = loadmat(stream, squeeze_me=True, struct_as_record=True, verify_compressed_data_integrity=True)
    except Exception as error:
        raise UnreadableFile(
            f"{file.name} is damaged and cannot be read as a MATLAB file: copy or export it again."
        ) from error
    found: list[Found] = []
    for name, value in data.items():
        if not name.startswith("__"):
            _collect(name, value, found, 0)
    return log_from_arrays(file.name, found, "mat")


def _collect(path: str, value: Any, found: list[Found], depth: int) -> None:
    """Numbers, the fields of structures and the columns of small matrices, by path."""
    if depth > DEEPEST or not isinstance(value, (np.ndarray, np.void)):
        return
    if value.dtype.names:
        _collect_structure(path, value, found, depth)
    elif value.dtype == object:
        for number, inner in enumerate(np.ravel(value)[:MOST_ITEMS]):
            _collect(f"{path}/{number}", inner, found, depth + 1)
    elif value.dtype.kind in "iufb" and value.size > 1:
        data: Any = np.asarray(value, dtype=np.float64)
        if data.ndim == 1:
            found.append(Found(path, None, data, None))
        elif data.ndim == 2 and min(data.shape) <= MOST_ITEMS:
            data = data if data.shape[0] >= data.shape[1] else data.T
            found += [Found(f"{path}/{k + 1}", None, data[:, k].copy(), None) for k in range(data.shape[1])]


def _collect_structure(path: str, value: Any, found: list[Found], depth: int) -> None:
    """A structure: its fields; one that names itself and holds values is a channel."""
    if value.ndim > 1 or (value.ndim == 1 and value.size > MOST_ITEMS):
        return
    items = [value] if value.ndim == 0 else list(value)
    for number, item in enumerate(items):
        where = path if len(items) == 1 else f"{path}/{number}"
        fields = {n: item[n] for n in value.dtype.names}
        label, unit = _first_text(fields, "name", "label"), _first_text(fields, "unit", "units")
        for name, field in fields.items():
            inner = field.item() if isinstance(field, np.ndarray) and field.ndim == 0 else field
            is_value = name.lower() in ("value", "values", "data", "y", "signal")
            spot = f"{where}/{label}" if label and is_value else f"{where}/{name}"
            before = len(found)
            _collect(spot, inner, found, depth + 1)
            if unit and is_value:
                found[before:] = [Found(f.path, f.unit or unit, f.values, f.step) for f in found[before:]]


def _first_text(fields: dict[str, Any], *wanted: str) -> str | None:
    return next((str(v) for n, v in fields.items() if n.lower() in wanted and _is_text(v)), None)


def _is_text(value: Any) -> bool:
    value = value.item() if isinstance(value, np.ndarray) and value.ndim == 0 else value
    return isinstance(value, str)
