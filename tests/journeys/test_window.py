"""Whole ways through the real window."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QTimer, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QApplication, QLabel, QPushButton
from pytestqt.qtbot import QtBot

from nodrek.core.model import Corner, RawChannel, RawLog
from nodrek.demo import DEMOS, demo_log
from nodrek.desktop.controller import Controller
from nodrek.desktop.state.screen import View
from nodrek.desktop.views.mapping import MappingDialog
from nodrek.desktop.views.theme import BAY, LOOKS, TARGET, load_fonts
from nodrek.io.settings import Settings, load_settings, save_settings, with_recent


@pytest.fixture
def controller(qtbot: QtBot, tmp_path: Path) -> Iterator[Controller]:
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    load_fonts()
    made = Controller(app, tmp_path / "settings.json")
    qtbot.addWidget(made.window)
    made.window.show()
    yield made
    made.runner.cancel()
    made.runner.wait(5.0)


def done(controller: Controller, qtbot: QtBot) -> None:
    qtbot.waitUntil(lambda: controller.session.busy is None, timeout=20_000)
    qtbot.wait(50)


def texts(controller: Controller) -> str:
    labels = controller.window.findChildren(QLabel)
    return "\n".join(label.text() for label in labels if label.isVisible())


def button(controller: Controller, words: str) -> QPushButton:
    return next(b for b in controller.window.findChildren(QPushButton) if b.text() == words and b.isVisible())


def test_from_the_demo_to_the_tooth_and_back(controller: Controller, qtbot: QtBot) -> None:
    """Start, open the demo log, see corner and fault, click the streak, come back."""
    assert "Drop a log" in texts(controller)
    qtbot.mouseClick(button(controller, DEMOS[0][1]), Qt.MouseButton.LeftButton)
    done(controller, qtbot)
    assert "Rear left: the ring has lost a tooth" in texts(controller)

    qtbot.mouseClick(controller.window.view_buttons[View.TURNS], Qt.MouseButton.LeftButton)
    qtbot.waitUntil(controller.window.turns.isVisible)
    raster = controller.window.turns.own
    assert controller.session.answer is not None
    arc = controller.session.answer.analysis.corners[Corner.RL].turn.arcs[0]
    box = raster.picture_box()
    # the streak stands near the middle, not torn in two at the edges
    assert raster.x_of(arc.centre_turn) == pytest.approx(box.center().x(), abs=0.13 * box.width())
    where = QPoint(round(raster.x_of(arc.centre_turn)), round(box.center().y()))
    qtbot.mouseClick(raster, Qt.MouseButton.LeftButton, pos=where)
    qtbot.waitUntil(controller.window.drive.isVisible)
    assert "passes the sensor here" in texts(controller)
    assert len(controller.session.marks) >= 3

    qtbot.mouseClick(button(controller, "Back to the turns"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(controller.window.turns.isVisible)
    assert controller.session.marked == pytest.approx(arc.centre_turn, abs=0.02)


@pytest.mark.parametrize(("name", "words"), [
    ("island-van-lost-tooth", "Rear left: the ring has lost a tooth"),
    ("island-van-wrong-tyre", "Front right: the tyre does not match"),
    ("island-van-broken-lead", "Front left: the signal breaks"),
    ("island-van-healthy", "Nothing found at any corner"),
])  # fmt: skip
def test_each_demo_log_gives_its_answer(controller: Controller, qtbot: QtBot, name: str, words: str) -> None:
    controller.open(demo_log(name))
    done(controller, qtbot)
    assert words in texts(controller)


def test_everything_by_keyboard(controller: Controller, qtbot: QtBot) -> None:
    controller.open(demo_log("island-van-lost-tooth"))
    done(controller, qtbot)
    window = controller.window
    for key, view in ((Qt.Key.Key_T, View.TURNS), (Qt.Key.Key_R, View.RATIOS), (Qt.Key.Key_D, View.DRIVE)):
        qtbot.keyClick(window, key)
        qtbot.waitUntil(lambda v=view: controller.session.view is v)
    for key, corner in ((Qt.Key.Key_1, Corner.FL), (Qt.Key.Key_4, Corner.RR), (Qt.Key.Key_3, Corner.RL)):
        qtbot.keyClick(window, key)
        qtbot.waitUntil(lambda c=corner: controller.session.corner is c)
    qtbot.keyClick(window.plan.plan, Qt.Key.Key_Up)
    qtbot.waitUntil(lambda: controller.session.corner is Corner.FL)
    drive = window.drive
    qtbot.keyClick(drive, Qt.Key.Key_Plus)
    qtbot.waitUntil(lambda: controller.session.window is not None)
    before = controller.session.window
    qtbot.keyClick(drive, Qt.Key.Key_Right)
    qtbot.waitUntil(lambda: controller.session.window != before)
    qtbot.keyClick(drive, Qt.Key.Key_0)
    qtbot.waitUntil(lambda: controller.session.window is None)
    qtbot.keyClick(window, Qt.Key.Key_3)
    qtbot.keyClick(window, Qt.Key.Key_T)
    qtbot.waitUntil(window.turns.isVisible)
    qtbot.keyClick(window.turns.own, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: controller.session.view is View.DRIVE)
    qtbot.keyClick(drive, Qt.Key.Key_Escape)
    qtbot.waitUntil(lambda: controller.session.view is View.TURNS)


def test_dropping_a_log_opens_it_and_remembers_it(
    controller: Controller, qtbot: QtBot, lost_tooth_raw: RawLog, log_file: Callable[[RawLog], Path]
) -> None:
    path = log_file(lost_tooth_raw)
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path))])
    buttons, keys = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    controller.window.dropEvent(QDropEvent(QPointF(50, 50), Qt.DropAction.CopyAction, data, buttons, keys))
    done(controller, qtbot)
    assert "Rear left" in texts(controller)
    assert [a.text() for a in controller.window.recent_menu.actions()] == [str(path)]
    assert load_settings(controller._settings_path).recent == (str(path),)


def test_a_bad_log_gets_its_sentence_and_the_last_result_stays(
    controller: Controller, qtbot: QtBot, tmp_path: Path
) -> None:
    controller.open(demo_log("island-van-lost-tooth"))
    done(controller, qtbot)
    bad = tmp_path / "bad.csv"
    bad.write_text("this is\nno log\n")
    controller.open(bad)
    done(controller, qtbot)
    assert "bad.csv is not a log" in texts(controller)
    assert controller.window.drive.isVisible()
    assert controller.session.answer is not None


def test_a_person_says_which_column_is_which(
    controller: Controller, qtbot: QtBot, lost_tooth_raw: RawLog, log_file: Callable[[RawLog], Path]
) -> None:
    """Columns named by numbers: the window asks, shows the traces, and takes the answer."""
    channels = tuple(
        RawChannel(f"Wheel speed {k}", c.unit, c.times_s, c.values) for k, c in enumerate(lost_tooth_raw.channels)
    )
    controller.open(log_file(RawLog(channels, "test")))
    done(controller, qtbot)
    assert "do not tell the corners" in texts(controller)

    def answer() -> None:
        dialog = controller.window.findChild(MappingDialog)
        if dialog is None or not dialog.isVisible():
            QTimer.singleShot(50, answer)
            return
        assert not dialog.accept_button.isEnabled()
        for k, corner in enumerate(Corner):
            dialog.choices[corner].setCurrentText(f"Wheel speed {k}")
        # a column cannot be a corner and the independent speed at once
        dialog.reference.setCurrentText("Wheel speed 0")
        assert not dialog.accept_button.isEnabled()
        dialog.reference.setCurrentIndex(0)
        qtbot.mouseClick(dialog.accept_button, Qt.MouseButton.LeftButton)

    QTimer.singleShot(50, answer)
    qtbot.mouseClick(button(controller, "Say which column is which…"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: controller.session.answer is not None, timeout=20_000)
    qtbot.wait(50)
    assert "Rear left: the ring has lost" in texts(controller)


def test_a_raw_bus_log_asks_for_its_database(
    controller: Controller, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    bus = tmp_path / "bus.log"
    bus.write_text("".join(f"({k * 0.02:.6f}) can0 1A0#{1000 + k:04X}{1000 + k:04X}00000000\n" for k in range(400)))
    described = tmp_path / "bus.dbc"
    signals = "".join(
        f' SG_ WheelSpeed_{c} : {16 * k + 7}|16@0+ (0.05,0) [0|0] "km/h" X\n' for k, c in enumerate(("FL", "FR"))
    )
    described.write_text(f"BO_ 416 Wheels: 8 X\n{signals}")
    controller.open(bus)
    done(controller, qtbot)
    assert "--database" in texts(controller)
    monkeypatch.setattr(controller.window, "ask_for_databases", lambda: (described,))
    qtbot.mouseClick(button(controller, "Give a bus database…"), Qt.MouseButton.LeftButton)
    done(controller, qtbot)
    assert controller.session.answer is not None
    assert list(controller.session.answer.log.corners) == [Corner.FL, Corner.FR]


def test_part_of_a_drive_can_be_answered_for_alone(controller: Controller, qtbot: QtBot) -> None:
    controller.open(demo_log("island-van-broken-lead"))
    done(controller, qtbot)
    controller.window.drive.window_wanted.emit(60.0, 120.0)
    qtbot.waitUntil(lambda: controller.session.window is not None)
    qtbot.wait(50)
    qtbot.mouseClick(button(controller, "Answer for this part only"), Qt.MouseButton.LeftButton)
    done(controller, qtbot)
    assert controller.session.answer is not None
    assert controller.session.answer.log.duration == pytest.approx(60.0)
    assert "Only 60 s to 120 s" in texts(controller)
    qtbot.mouseClick(button(controller, "Answer for the whole log"), Qt.MouseButton.LeftButton)
    done(controller, qtbot)
    assert controller.session.answer.log.duration == pytest.approx(240.0, abs=1.0)


def test_stopping_a_job_leaves_everything_as_it_was(controller: Controller, qtbot: QtBot) -> None:
    controller.open(demo_log("island-van-lost-tooth"))
    done(controller, qtbot)
    answer = controller.session.answer
    controller.open(demo_log("island-van-healthy"))
    controller.cancel()
    assert controller.session.busy is None
    qtbot.wait(800)
    assert controller.session.answer is answer


def test_looks_units_and_copying(controller: Controller, qtbot: QtBot) -> None:
    controller.open(demo_log("island-van-wrong-tyre"))
    done(controller, qtbot)
    controller.choose_look("pit")
    controller.choose_unit("mph")
    qtbot.wait(50)
    assert "Speed, mph" in texts(controller)
    assert load_settings(controller._settings_path) == Settings(look="pit", speed_unit="mph")
    controller.copy()
    assert "tyre does not match" in QApplication.clipboard().text()


def test_targets_are_large_enough_for_gloves(controller: Controller, qtbot: QtBot) -> None:
    controller.open(demo_log("island-van-lost-tooth"))
    done(controller, qtbot)
    for pressed in controller.window.findChildren(QPushButton):
        if pressed.isVisible():
            assert min(pressed.width(), pressed.height()) >= TARGET - 2, pressed.text()


def contrast(one: str, other: str) -> float:
    """Contrast ratio of two colours: W3C, WCAG 2.1, relative luminance (from memory)."""

    def luminance(colour: str) -> float:
        parts = [int(colour[k : k + 2], 16) / 255 for k in (1, 3, 5)]
        linear = [p / 12.92 if p <= 0.03928 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    light, dark = sorted((luminance(one), luminance(other)), reverse=True)
    return (light + 0.05) / (dark + 0.05)


@pytest.mark.parametrize("look", LOOKS.values(), ids=lambda look: look.name)
def test_colours_can_be_told_from_their_ground(look: object) -> None:
    assert isinstance(look, type(BAY))
    for ground in (look.background, look.raised):
        for text in (look.ink, look.quiet, look.accent, look.call):
            assert contrast(text, ground) >= 4.5, (text, ground)
        for stroke in look.corners.values():
            assert contrast(stroke, ground) >= 3.0, (stroke, ground)
    assert contrast(look.on_accent, look.accent) >= 4.5


def test_settings_survive_damage(tmp_path: Path) -> None:
    path = tmp_path / "deep" / "settings.json"
    save_settings(path, with_recent(Settings(look="pit"), tmp_path / "a.csv"))
    assert load_settings(path).look == "pit"
    for damage in ("", "[]", '{"recent": 5, "look": "neon"}', "\x00"):
        path.write_text(damage)
        assert load_settings(path) == Settings()
