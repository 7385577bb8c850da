"""Start the window."""

from __future__ import annotations

import sys
import threading
from pathlib import Path

from nodrek.errors import BadRequest


def start(path: Path | None = None, *, demo: bool = False) -> int:
    """Open the window, with a log or the demo in it; returns the exit code of the program.

    Raises `BadRequest` where there is no screen to open a window on.
    """
    from PySide6.QtWidgets import QApplication

    if not _has_screen():
        raise BadRequest("There is no screen to open a window on: use nodrek analyze LOG in this terminal.")
    from nodrek.desktop.controller import Controller
    from nodrek.desktop.views.theme import load_fonts
    from nodrek.io.logs.formats import warm_up
    from nodrek.io.settings import settings_file

    app = QApplication(sys.argv[:1])
    app.setApplicationName("nodrek")
    app.setApplicationDisplayName("Nodrek")
    app.setDesktopFileName("nodrek")
    load_fonts()
    controller = Controller(app, settings_file())
    controller.window.show()
    # libraries load while the person looks for a log; nothing waits for them
    threading.Thread(target=warm_up, daemon=True).start()
    if demo:
        from nodrek.demo import DEMOS, demo_log

        controller.open(demo_log(DEMOS[0][0]))
    elif path is not None:
        controller.open(path)
    return int(app.exec())


def _has_screen() -> bool:
    import os

    return any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"))
