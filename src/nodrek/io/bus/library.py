"""The bus library, without the measurement library that it would pull in.

`python-can` imports an optional writer for measurement files together with everything
else, which costs over a second at each start and is never used here: measurement files
have a reader of their own.
"""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import contextmanager
from importlib import import_module

OPTIONAL = "asammdf"


@contextmanager
def lean_imports() -> Iterator[None]:
    """While this lasts, the optional library counts as not installed (unless it is loaded already)."""
    if OPTIONAL in sys.modules:
        yield
        return
    sys.modules[OPTIONAL] = None  # type: ignore[assignment]
    try:
        yield
    finally:
        del sys.modules[OPTIONAL]


def load_library(module: str) -> None:
    """Import a format's library, as lean as it can be."""
    if module.split(".", maxsplit=1)[0] == OPTIONAL:
        import_module(module)
        return
    with lean_imports():
        import_module(module)
