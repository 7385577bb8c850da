"""Runs a job off the interface thread; results come back as signals, stale ones too."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable

from PySide6.QtCore import QObject, Signal

from nodrek.errors import Cancelled, NodrekError

Job = Callable[[object, Callable[[float, str], None]], object]


class Runner(QObject):
    """One job at a time matters; an older one is told to stop and its result is stale."""

    progressed = Signal(int, float, str, float)
    finished = Signal(int, object)
    failed = Signal(int, object, str)
    stopped = Signal(int)

    def __init__(self, job: Job) -> None:
        super().__init__()
        self._job = job
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None

    def start(self, revision: int, order: object) -> None:
        """Run the job on `order`; what it is only the job knows."""
        self.cancel()
        self._stop = stop = threading.Event()
        self._thread = threading.Thread(target=self._work, args=(revision, order, stop), daemon=True)
        self._thread.start()

    def cancel(self) -> None:
        """Ask the running job to stop; it does at its next progress."""
        self._stop.set()

    def wait(self, seconds: float) -> None:
        """Give a running job time to end (when the window closes)."""
        if self._thread is not None:
            self._thread.join(seconds)

    def _work(self, revision: int, order: object, stop: threading.Event) -> None:
        began = time.monotonic()

        def tell(share: float, doing: str) -> None:
            if stop.is_set():
                raise Cancelled("Stopped.")
            self.progressed.emit(revision, share, doing, time.monotonic() - began)

        try:
            result = self._job(order, tell)
        except Cancelled:
            self.stopped.emit(revision)
        except NodrekError as error:
            self.failed.emit(revision, error, str(error))
        except MemoryError as error:
            self.failed.emit(revision, error, "There is not enough memory for this log: choose a shorter one.")
        except Exception as error:  # a defect of ours must not take the window down with it
            name = type(error).__name__
            self.failed.emit(revision, error, f"Nodrek failed ({name}: {error}); please report this sentence.")
        else:
            self.finished.emit(revision, result)
