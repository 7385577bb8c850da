"""Pictures of the main views from the demo data, for the documentation."""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from nodrek.core.model import Corner
from nodrek.core.model.case import CheckKind
from nodrek.demo import demo_log
from nodrek.desktop.controller import Controller
from nodrek.desktop.state.screen import View
from nodrek.desktop.views.theme import load_fonts


def main(folder: Path) -> None:
    app = QApplication(sys.argv[:1])
    load_fonts()
    with tempfile.TemporaryDirectory() as scratch:
        controller = Controller(app, Path(scratch) / "settings.json")
        controller.window.resize(1280, 800)
        controller.window.show()

        def settle(ready: Callable[[], bool] = lambda: True) -> None:
            end = time.monotonic() + 30
            while time.monotonic() < end:
                app.processEvents()
                if ready() and not controller._pending.isActive():
                    break
                time.sleep(0.01)
            for _ in range(10):
                app.processEvents()
                time.sleep(0.01)

        def shoot(name: str) -> None:
            settle()
            controller.window.grab().save(str(folder / f"{name}.png"))

        def open_demo(name: str, view: View) -> None:
            controller.open(demo_log(name))
            settle(lambda: controller.session.busy is None)
            controller.window.view_chosen.emit(view)
            settle()

        shoot("invitation")
        open_demo("island-van-broken-lead", View.DRIVE)
        shoot("drive")
        open_demo("island-van-lost-tooth", View.TURNS)
        shoot("turns")
        raster = controller.window.turns.own
        answer = controller.session.answer
        assert answer is not None
        arc = answer.analysis.corners[controller.session.corner].turn.arcs[0]
        place = QPoint(round(raster.x_of(arc.centre_turn)), round(raster.picture_box().center().y()))
        QTest.mouseClick(raster, Qt.MouseButton.LeftButton, pos=place)
        shoot("marked-tooth")
        open_demo("island-van-wrong-tyre", View.RATIOS)
        shoot("ratios")
        window = controller.window
        window.view_chosen.emit(View.COMPLAINT)
        settle()
        controller.open(demo_log("island-van-broken-lead"))
        settle(lambda: controller.session.busy is None)
        for group, key in (("lamps", "abs"), ("symptoms", "worse_over_bumps"), ("sensor", "active"), ("work", "brake")):
            window.board.pressed.emit(group, key)
        window.view_chosen.emit(View.COMPLAINT)
        shoot("complaint")
        window.board.typed.emit("C0031-13 current")
        window.view_chosen.emit(View.CODES)
        shoot("codes")
        window.view_chosen.emit(View.PROVE)
        for price, value in (("sensor", 45.0), ("lead", 60.0), ("hour", 80.0)):
            window.board.number_typed.emit(f"price:{price}", value)
        window.board.pressed.emit("cannot", "sensor_frees_easily")
        window.next.answered.emit(CheckKind.CLEAR_AND_WAIT, Corner.FL, "returns_when_moving")
        settle(lambda: bool(controller.session.bench.diagnosis and controller.session.bench.diagnosis.policies))
        shoot("prove")
        window.view_chosen.emit(View.REASONS)
        shoot("reasons")
        window.view_chosen.emit(View.LOOM)
        window.loom.wire_picked.emit("car, front corner")
        settle()
        window.loom.read.emit(3, 0.3, False)
        settle()
        window.loom.read.emit(6, None, True)
        shoot("loom")
        window.view_chosen.emit(View.WAKING)
        shoot("wake-up")
        window.case_new_wanted.emit()
        controller.choose_look("pit")
        open_demo("island-van-lost-tooth", View.TURNS)
        shoot("turns-pit-look")


if __name__ == "__main__":
    main(Path(sys.argv[1]))
