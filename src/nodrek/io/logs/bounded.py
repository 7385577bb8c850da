"""Parsing of strangers' files in a child process with bounds on time and memory.

The libraries behind binary formats cannot be bounded from inside: a small hostile file may
make them loop or ask for all memory. The child gives its arrays back through shared memory
without a name, as plain numbers; nothing of it is ever unpickled or copied.
"""

from __future__ import annotations

import json
import mmap
import multiprocessing
import os
import resource
import time
from collections.abc import Callable
from typing import IO, Any

import numpy as np

from nodrek import errors
from nodrek.core.model import RawChannel, RawLog
from nodrek.errors import NodrekError, UnreadableFile

SECONDS = 20.0
SECONDS_PER_BYTE = 1.0 / 1_000_000
MEMORY = 1024**3
MEMORY_PER_BYTE = 12
POLL_S = 0.005


def read_bounded(read: Callable[[], RawLog], size: int, name: str) -> RawLog:
    """Run `read` in a child; `size` of the file in bytes sets how much it may use.

    Raises what `read` raises of the `NodrekError` family, and `UnreadableFile` where it
    does not end in time, asks for too much memory or dies.
    """
    seconds = SECONDS + size * SECONDS_PER_BYTE
    memory = MEMORY + size * MEMORY_PER_BYTE
    with os.fdopen(os.memfd_create("log"), "w+b") as handed:
        context = multiprocessing.get_context("fork")
        child = context.Process(target=_work, args=(read, handed, seconds, memory), daemon=True)
        child.start()
        limit = time.monotonic() + 2.0 * seconds
        while child.is_alive() and time.monotonic() < limit:
            child.join(POLL_S)
        if child.is_alive():
            child.kill()
            child.join()
        if child.exitcode != 0:
            raise UnreadableFile(
                f"{name} takes more time or memory than a log of its size should: export it again, or as CSV."
            )
        return _receive(handed)


def _work(read: Callable[[], RawLog], handed: IO[bytes], seconds: float, memory: int) -> None:
    resource.setrlimit(resource.RLIMIT_CPU, (int(seconds) + 1, int(seconds) + 2))
    _, ceiling = resource.getrlimit(resource.RLIMIT_AS)
    most = _address_space() + memory
    # where this program is itself kept small, its child cannot have more
    most = most if ceiling == resource.RLIM_INFINITY else min(most, ceiling)
    resource.setrlimit(resource.RLIMIT_AS, (most, most))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    # what libraries print about damaged files is nobody's answer
    silence = os.open(os.devnull, os.O_WRONLY)
    os.dup2(silence, 1)
    os.dup2(silence, 2)
    code = 0
    try:
        _hand(read(), handed)
    except NodrekError as error:
        _write(handed, {"error": type(error).__name__, "says": str(error)}, [])
    except BaseException:
        code = 1
    handed.flush()
    # no clean-up of the parent's windows and threads in here
    os._exit(code)


def _address_space() -> int:
    with open("/proc/self/statm", encoding="ascii") as file:
        return int(file.read().split()[0]) * resource.getpagesize()


def _hand(log: RawLog, handed: IO[bytes]) -> None:
    """Shared clocks go over once."""
    arrays: list[np.ndarray] = []
    place: dict[int, int] = {}

    def put(array: np.ndarray) -> int:
        if id(array) not in place:
            place[id(array)] = len(arrays)
            arrays.append(np.ascontiguousarray(array, dtype=np.float64))
        return place[id(array)]

    channels = [[c.name, c.unit, put(c.times_s), put(c.values)] for c in log.channels]
    _write(handed, {"format": log.format, "warnings": log.warnings, "channels": channels}, arrays)


def _write(handed: IO[bytes], header: dict[str, Any], arrays: list[np.ndarray]) -> None:
    header["sizes"] = [a.size for a in arrays]
    text = json.dumps(header).encode()
    # numbers begin at a multiple of their size
    text += b" " * (-len(text) % 8)
    handed.write(len(text).to_bytes(8, "little") + text)
    for array in arrays:
        handed.write(array.data if array.size else b"")


def _receive(handed: IO[bytes]) -> RawLog:
    handed.seek(0)
    length = int.from_bytes(handed.read(8), "little")
    header = json.loads(handed.read(length))
    if "error" in header:
        kind = getattr(errors, str(header["error"]), UnreadableFile)
        raise kind(header["says"])
    # a private view of the shared memory: arrays may be written to, and nothing is copied until then
    held = mmap.mmap(handed.fileno(), 0, access=mmap.ACCESS_COPY)
    ends = 8 + length + 8 * np.cumsum([0, *header["sizes"]])
    arrays = [
        np.frombuffer(held, np.float64, size, int(start))
        for size, start in zip(header["sizes"], ends[:-1], strict=True)
    ]
    channels = tuple(RawChannel(name, unit, arrays[t], arrays[v]) for name, unit, t, v in header["channels"])
    return RawLog(channels, header["format"], tuple(header["warnings"]))
