"""Keeps the open case on disk while it is worked on: nothing entered is lost, nothing waits.

A thread of its own writes the newest state; states that came in between are skipped.
"""

from __future__ import annotations

import contextlib
import os
import threading
from pathlib import Path

from nodrek.core.model.case import Case
from nodrek.errors import NodrekError


class Keeper:
    """Writes the open case to ``path`` (and to the person's own file) whole or not at all."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._waiting: dict[Path, Case] = {}
        self._lock = threading.Condition()
        self._writing = False
        self._thread: threading.Thread | None = None

    def keep(self, case: Case) -> None:
        """Write this state soon."""
        self.keep_copy(case, self.path)

    def keep_copy(self, case: Case, path: Path) -> None:
        """Write this state to another file soon."""
        with self._lock:
            self._waiting[path] = case
            if self._thread is None:
                self._thread = threading.Thread(target=self._work, daemon=True)
                self._thread.start()
            self._lock.notify_all()

    def flush(self, seconds: float = 5.0) -> None:
        """Wait until everything is on disk."""
        with self._lock:
            self._lock.wait_for(lambda: not self._waiting and not self._writing, seconds)

    def bring_back(self) -> Case | None:
        """The case kept last; None where there is none.

        Raises `NodrekError` where the file is damaged; it is put aside under another name first.
        """
        if not self.path.is_file():
            return None
        from nodrek.io.contract.case import read_case  # brings the modelling library in: not at each start

        try:
            return read_case(self.path)
        except NodrekError as error:
            aside = self.path.with_suffix(".damaged.json")
            with contextlib.suppress(OSError):
                os.replace(self.path, aside)
            raise NodrekError(
                f"The case that was open last cannot be read; it is kept as {aside}. ({error})"
            ) from error

    def _work(self) -> None:
        from nodrek.io.contract.case import write_case

        while True:
            with self._lock:
                self._lock.wait_for(lambda: bool(self._waiting))
                path, case = self._waiting.popitem()
                self._writing = True
            try:
                path.parent.mkdir(parents=True, exist_ok=True)
                write_case(case, path)
            except (NodrekError, OSError):
                pass  # a full disk or a locked folder: the next entry tries again
            finally:
                with self._lock:
                    self._writing = False
                    self._lock.notify_all()
