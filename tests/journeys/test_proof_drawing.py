"""What the views of the case draw and how they fold, by their pixels and their sizes."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QApplication, QLabel, QLineEdit, QPushButton, QWidget
from pytestqt.qtbot import QtBot

from nodrek.core.model import Corner
from nodrek.core.model.case import CheckKind
from nodrek.desktop.controller import Controller
from nodrek.desktop.state.board import BoardScreen, Choice, ChoiceGroup, ListedRow, NumberField
from nodrek.desktop.state.proof import CauseRow, NextScreen, ReasonsColumn, ReasonsScreen, SegmentRow
from nodrek.desktop.state.screen import View, WakingRow, WakingScreen
from nodrek.desktop.views.board import BoardView
from nodrek.desktop.views.flow import FlowLayout
from nodrek.desktop.views.loom import ROW, WirePicture
from nodrek.desktop.views.next import NextPanel
from nodrek.desktop.views.reasons import OddsBar, ReasonsView
from nodrek.desktop.views.theme import BAY, LOOKS, PIT, TARGET, load_fonts
from nodrek.desktop.views.waking import NAME_WIDTH, WakingScale
from nodrek.desktop.views.window import NARROW


@pytest.fixture(autouse=True)
def application(qtbot: QtBot) -> None:
    load_fonts()


def pixels(widget: QWidget) -> np.ndarray:
    """The widget as (height, width, 3) of int."""
    image = widget.grab().toImage().convertToFormat(widget.grab().toImage().Format.Format_RGB888)
    rows = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine())
    return rows[:, : 3 * image.width()].reshape(image.height(), image.width(), 3).astype(int)


def near(picture: np.ndarray, colour: str, reach: int = 40) -> np.ndarray:
    wanted = QColor(colour)
    return np.abs(picture - (wanted.red(), wanted.green(), wanted.blue())).sum(axis=2) < reach


# ---- wake-up


def waking(speeds: tuple[float, ...], middle: float | None) -> WakingScreen:
    rows = tuple(WakingRow(c, c.value, "", speeds, (), middle, c is Corner.FL) for c in Corner)
    return WakingScreen(rows, "km/h", 20.0, ((0.0, "0"), (10.0, "10")), "", "")


@pytest.mark.parametrize("look", LOOKS.values(), ids=lambda look: look.name)
@pytest.mark.parametrize("speed", [3.0, 12.0])
def test_marks_of_waking_stand_at_their_speeds(qtbot: QtBot, look: object, speed: float) -> None:
    assert isinstance(look, type(BAY))
    scale = WakingScale()
    qtbot.addWidget(scale)
    scale.resize(720, 400)
    scale.show_waking(waking((speed,), speed), look)
    inked = near(pixels(scale), look.corners[Corner.RL])
    columns = np.flatnonzero(inked[:, NAME_WIDTH:].any(axis=0)) + NAME_WIDTH
    expected = NAME_WIDTH + speed / 20.0 * (720 - 30 - NAME_WIDTH)
    assert abs(columns.mean() - expected) < 3


def test_nothing_is_drawn_for_a_corner_that_never_stopped(qtbot: QtBot) -> None:
    scale = WakingScale()
    qtbot.addWidget(scale)
    scale.resize(720, 400)
    scale.show_waking(waking((), None), BAY)
    assert near(pixels(scale), BAY.corners[Corner.RR], 20).sum() == 0


# ---- odds


@pytest.mark.parametrize("share", [0.0, 0.25, 0.9, 1.0])
def test_a_bar_is_as_long_as_its_odds(qtbot: QtBot, share: float) -> None:
    bar = OddsBar()
    qtbot.addWidget(bar)
    bar.resize(400, 12)
    bar.show_share(share, BAY.accent, BAY.hairline)
    length = near(pixels(bar), BAY.accent).any(axis=0).sum()
    assert length == pytest.approx(400 * share, abs=2)


def column(corner: Corner, count: int) -> ReasonsColumn:
    rows = tuple(
        CauseRow(f"cause {k}", 1 / (k + 2), f"{k} %", (("code: circuit", "for it, +6 dB"),) * 4) for k in range(count)
    )
    return ReasonsColumn(corner, corner.words, rows, (("Repair", "fit a new one"),))


def visible_texts(widget: QWidget) -> list[str]:
    return [label.text() for label in widget.findChildren(QLabel) if label.isVisible() and label.text()]


def test_reasons_are_filled_anew_without_leftovers(qtbot: QtBot) -> None:
    view = ReasonsView()
    qtbot.addWidget(view)
    view.show()
    view.show_reasons(ReasonsScreen((column(Corner.FL, 6), column(Corner.FR, 3)), ""), BAY)
    both = visible_texts(view)
    assert sum(t.startswith("cause") for t in both) == 9
    view.show_reasons(ReasonsScreen((column(Corner.RL, 2),), ""), PIT)
    one = visible_texts(view)
    assert sum(t.startswith("cause") for t in one) == 2
    assert "rear left" in one
    assert "front left" not in one
    view.show_reasons(ReasonsScreen((), "No corner is suspected yet."), PIT)
    assert visible_texts(view) == ["No corner is suspected yet."]


def test_more_reasons_are_shown_for_the_leading_cause(qtbot: QtBot) -> None:
    view = ReasonsView()
    qtbot.addWidget(view)
    view.show()
    view.show_reasons(ReasonsScreen((column(Corner.FL, 2),), ""), BAY)
    counts = [t.count("code: circuit") for t in visible_texts(view) if "code: circuit" in t]
    assert counts == [4, 2]


# ---- the next check


def asking(**changes: object) -> NextScreen:
    usual: dict[str, object] = {
        "title": "Front left: wiggle", "corner": Corner.FL, "check": CheckKind.WIGGLE, "facts": "7 minutes",
        "why": "because", "steps": ("one", "two", "three"), "usual": "", "cautions": ("stands",), "undo": "",
        "answers": (("changes", "Changes"), ("steady", "Steady")), "unit": "", "others": (), "question": "",
        "accept": "", "warnings": (),
    }  # fmt: skip
    return NextScreen(**{**usual, **changes})  # type: ignore[arg-type]


def shown_buttons(panel: NextPanel) -> list[str]:
    return [b.text() for b in panel.findChildren(QPushButton) if b.isVisible()]


@pytest.fixture
def panel(qtbot: QtBot) -> NextPanel:
    made = NextPanel()
    qtbot.addWidget(made)
    made.resize(312, 700)
    made.show()
    return made


def test_an_answer_is_one_press(panel: NextPanel, qtbot: QtBot) -> None:
    panel.show_next(asking(), BAY)
    assert shown_buttons(panel) == ["Changes", "Steady"]
    button = next(b for b in panel.findChildren(QPushButton) if b.text() == "Steady")
    assert button.height() >= TARGET
    with qtbot.waitSignal(panel.answered) as sent:
        qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
    assert sent.args == [CheckKind.WIGGLE, Corner.FL, "steady"]


def test_values_are_typed_with_comma_or_point_and_kept_while_asked(panel: NextPanel, qtbot: QtBot) -> None:
    measure = asking(answers=(), unit="mV", check=CheckKind.AC_MILLIVOLTS)
    panel.show_next(measure, BAY)
    panel._value.setText("75,5")
    panel._mate.setText("320")
    with qtbot.waitSignal(panel.measured) as sent:
        qtbot.keyClick(panel._value, Qt.Key.Key_Return)
    assert sent.args == [CheckKind.AC_MILLIVOLTS, Corner.FL, 75.5, 320.0]
    panel.show_next(
        asking(answers=(), unit="mV", check=CheckKind.AC_MILLIVOLTS, question="is it volts", accept="Right"), BAY
    )
    assert panel._value.text() == "75,5"
    assert "Is it volts." in visible_texts(panel)
    panel.show_next(asking(), BAY)
    panel.show_next(measure, BAY)
    assert panel._value.text() == ""


def test_open_is_a_value_of_its_own(panel: NextPanel, qtbot: QtBot) -> None:
    panel.show_next(asking(answers=(), unit="ohm", check=CheckKind.WIRE_CONTINUITY), BAY)
    with qtbot.waitSignal(panel.measured) as sent:
        qtbot.mouseClick(panel._open, Qt.MouseButton.LeftButton)
    assert sent.args == [CheckKind.WIRE_CONTINUITY, Corner.FL, None, None]
    with qtbot.assertNotEmitted(panel.measured):
        qtbot.mouseClick(panel._enter, Qt.MouseButton.LeftButton)


def test_long_words_wrap_and_hidden_parts_take_no_room(panel: NextPanel, qtbot: QtBot) -> None:
    long = "A very long answer that nobody would fit into one line of this panel"
    panel.show_next(asking(answers=(("a", long),), others=((CheckKind.WIGGLE, Corner.FR, long),)), BAY)
    qtbot.wait(20)
    for button in panel.findChildren(QPushButton):
        if button.isVisible():
            assert "\n" in button.text()
            assert button.width() <= 300
    panel.show_next(asking(title="Settled.", check=None, corner=None, answers=(), steps=(), cautions=()), BAY)
    assert shown_buttons(panel) == []
    assert "Settled." in visible_texts(panel)


# ---- boards


def board(on: bool, count: int = 3) -> BoardScreen:
    choices = tuple(Choice(f"key{k}", f"choice number {k}", on and k == 1) for k in range(count))
    rows = (ListedRow("code:0", "Front left · circuit"),) if on else ()
    return BoardScreen("Title", "Sentence.", (ChoiceGroup("group", "Group", choices),),
                       (NumberField("age", "Age", "years", "9"),), "type here", "Rows", rows)  # fmt: skip


def test_a_board_ticks_without_being_built_again(qtbot: QtBot) -> None:
    view = BoardView()
    qtbot.addWidget(view)
    view.resize(500, 600)
    view.show()
    view.show_board(board(False), BAY)
    before = view._buttons["group", "key1"]
    view.show_board(board(True), BAY)
    assert view._buttons["group", "key1"] is before
    assert before.isChecked()
    assert before.text() == "✓  choice number 1"
    with qtbot.waitSignal(view.pressed) as sent:
        qtbot.mouseClick(before, Qt.MouseButton.LeftButton)
    assert sent.args == ["group", "key1"]
    with qtbot.waitSignal(view.remove_wanted) as sent:
        qtbot.mouseClick(
            next(b for b in view.findChildren(QPushButton) if b.text() == "Take back"), Qt.MouseButton.LeftButton
        )
    assert sent.args == ["code:0"]
    view.show_board(board(True, 4), BAY)
    assert len(view._buttons) == 4


def test_what_is_typed_goes_out_once(qtbot: QtBot) -> None:
    view = BoardView()
    qtbot.addWidget(view)
    view.show()
    view.show_board(board(False), BAY)
    entry = next(e for e in view.findChildren(QLineEdit) if e.placeholderText() == "type here")
    qtbot.keyClicks(entry, "C0031-13")
    with qtbot.waitSignal(view.typed) as sent:
        qtbot.keyClick(entry, Qt.Key.Key_Return)
    assert sent.args == ["C0031-13"]
    assert entry.text() == ""
    with qtbot.assertNotEmitted(view.typed):
        qtbot.keyClick(entry, Qt.Key.Key_Return)
    age = view._numbers["age"]
    age.setText("12,5")
    with qtbot.waitSignal(view.number_typed) as sent:
        age.editingFinished.emit()
    assert sent.args == ["age", 12.5]


@pytest.mark.parametrize("width", [200, 420, 900])
def test_buttons_flow_into_lines_and_never_overlap(qtbot: QtBot, width: int) -> None:
    holder = QWidget()
    qtbot.addWidget(holder)
    flow = FlowLayout(holder)
    buttons = [QPushButton("x" * (3 + 4 * (k % 5))) for k in range(14)]
    for button in buttons:
        flow.addWidget(button)
    holder.resize(width, flow.heightForWidth(width))
    holder.show()
    boxes = [b.geometry() for b in buttons]
    assert all(not a.intersects(b) for k, a in enumerate(boxes) for b in boxes[:k])
    assert all(box.right() <= width or box.left() == 0 for box in boxes)
    assert max(box.bottom() for box in boxes) < flow.heightForWidth(width)


# ---- the wire


def segments(likeliest: int, count: int = 5) -> tuple[SegmentRow, ...]:
    return tuple(
        SegmentRow(f"part {k}", "bend", 0.8 if k == likeliest else 0.05, "", False, "", False, k == likeliest, False)
        for k in range(count)
    )


@pytest.mark.parametrize("likeliest", [0, 2, 4])
def test_the_likeliest_part_is_shaded_most(qtbot: QtBot, likeliest: int) -> None:
    picture = WirePicture()
    qtbot.addWidget(picture)
    picture.show_wire(segments(likeliest), None, BAY)
    picture.resize(picture.sizeHint())
    seen = pixels(picture)
    ground = QColor(BAY.background)
    shades = [
        np.abs(seen[20 + ROW * k + ROW // 2, 24] - (ground.red(), ground.green(), ground.blue())).sum()
        for k in range(5)
    ]
    assert int(np.argmax(shades)) == likeliest


def test_a_press_chooses_the_point(qtbot: QtBot) -> None:
    picture = WirePicture()
    qtbot.addWidget(picture)
    picture.show_wire(segments(1), None, BAY)
    picture.resize(picture.sizeHint())
    with qtbot.waitSignal(picture.point_pressed) as sent:
        qtbot.mouseClick(picture, Qt.MouseButton.LeftButton, pos=QPoint(40, 20 + 3 * ROW + 10))
    assert sent.args == [3]
    with qtbot.assertNotEmitted(picture.point_pressed):
        qtbot.mouseClick(picture, Qt.MouseButton.LeftButton, pos=QPoint(40, 4))


# ---- the window round them


@pytest.fixture
def controller(qtbot: QtBot, tmp_path: Path) -> Iterator[Controller]:
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    made = Controller(app, tmp_path / "settings.json")
    qtbot.addWidget(made.window)
    made.window.show()
    yield made
    made.costs.wait(5.0)


def test_next_folds_under_the_plan_where_the_window_is_narrow(controller: Controller, qtbot: QtBot) -> None:
    window = controller.window
    window.view_chosen.emit(View.COMPLAINT)
    for width in (NARROW + 100, NARROW - 100, NARROW + 100):
        window.resize(width, 760)
        qtbot.wait(60)
        beside = window.next.mapTo(window, QPoint(0, 0)).x() > window.plan.mapTo(window, QPoint(0, 0)).x() + 200
        assert beside is (width > NARROW)
        assert window.next.isVisible()


def test_letters_choose_views_but_not_while_one_types(controller: Controller, qtbot: QtBot) -> None:
    window = controller.window
    for key, view in (
        ("C", View.COMPLAINT),
        ("P", View.PROVE),
        ("W", View.REASONS),
        ("L", View.LOOM),
        ("O", View.CODES),
    ):
        qtbot.keyClick(window, getattr(Qt.Key, f"Key_{key}"))
        qtbot.waitUntil(lambda v=view: controller.session.view is v)
    qtbot.waitUntil(window.board.isVisible)
    entry = next(e for e in window.board.findChildren(QLineEdit) if e.placeholderText().startswith("Type or paste"))
    entry.setFocus()
    qtbot.keyClicks(entry, "plc")
    assert entry.text() == "plc"
    assert controller.session.view is View.CODES


def test_without_a_case_there_is_no_next(controller: Controller, qtbot: QtBot) -> None:
    controller.window.view_chosen.emit(View.DRIVE)
    qtbot.wait(40)
    assert not controller.window.next.isVisible()
    controller.window.board.pressed.emit("lamps", "abs")
    qtbot.waitUntil(controller.window.next.isVisible)
    controller.window.undo_action.trigger()
    qtbot.waitUntil(lambda: not controller.window.next.isVisible())


def test_every_control_of_the_case_has_a_name(controller: Controller, qtbot: QtBot) -> None:
    window = controller.window
    controller.window.board.pressed.emit("codes", "circuit")
    for view in (View.COMPLAINT, View.CODES, View.PROVE, View.LOOM):
        window.view_chosen.emit(view)
        qtbot.wait(40)
        for control in (*window.findChildren(QPushButton), *window.findChildren(QLineEdit)):
            if control.isVisible():
                told = control.accessibleName() or (control.text() if isinstance(control, QPushButton) else "")
                assert told, control
                if isinstance(control, QPushButton):
                    assert control.height() >= TARGET, control.text()
