"""What is drawn, looked at pixel by pixel where it must tell something."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QFontInfo, QImage, QPainter, QTextLayout
from PySide6.QtWidgets import QApplication, QLabel, QScrollArea, QWidget
from pytestqt.qtbot import QtBot

from nodrek.core.model import Corner
from nodrek.demo import demo_log
from nodrek.desktop.controller import Controller
from nodrek.desktop.state.screen import (
    ON_LOG,
    Glyph,
    Place,
    RasterScreen,
    RatioRow,
    RatiosScreen,
    RingSign,
    Station,
    View,
)
from nodrek.desktop.views.answer import StationButton
from nodrek.desktop.views.drive import clock_words
from nodrek.desktop.views.ratios import RatioScale
from nodrek.desktop.views.ring_sign import draw_ring_sign
from nodrek.desktop.views.theme import BAY, FAMILY, LOOKS, PIT, PIXELS, Size, font, load_fonts
from nodrek.desktop.views.turns import RasterWidget
from nodrek.desktop.views.wrapped import NO_BREAK_SPACE, WORD_JOINER, whole_units

SIDE = 120


@pytest.fixture(autouse=True)
def application(qtbot: QtBot) -> None:
    load_fonts()


def ink(sign: RingSign) -> np.ndarray:
    """Where a ring sign puts ink, (SIDE, SIDE) of bool."""
    image = QImage(SIDE, SIDE, QImage.Format.Format_Grayscale8)
    image.fill(Qt.GlobalColor.white)
    painter = QPainter(image)
    draw_ring_sign(painter, QRectF(0, 0, SIDE, SIDE), sign, QColor("black"))
    painter.end()
    return np.frombuffer(image.constBits(), np.uint8).reshape(SIDE, image.bytesPerLine())[:, :SIDE] < 128


def ring_angles(drawn: np.ndarray) -> np.ndarray:
    """Share of ink by angle (72 bins, clockwise from the top) on the outer half of the sign."""
    y, x = np.mgrid[:SIDE, :SIDE] - (SIDE - 1) / 2
    outer = np.hypot(x, y) > 0.345 * SIDE
    angle = np.mod(np.arctan2(x, -y) / (2 * np.pi), 1.0)
    bins = (angle[outer & drawn] * 72).astype(int)
    return np.bincount(bins, minlength=72)


def test_every_state_has_a_shape_of_its_own() -> None:
    drawn = {glyph: ink(RingSign(glyph, 0.6, ((0.2, 0.1),))) for glyph in Glyph}
    for a in Glyph:
        assert drawn[a].any()
        for b in Glyph:
            if a.value < b.value and {a, b} != {Glyph.EVEN, Glyph.UNKNOWN}:
                assert np.mean(drawn[a] ^ drawn[b]) > 0.015, (a, b)


@pytest.mark.parametrize("place", [0.0, 0.25, 0.6, 0.97])
def test_the_notch_stands_where_the_tooth_is_gone(place: float) -> None:
    counts = ring_angles(ink(RingSign(Glyph.NOTCH, 0.5, ((place, 0.08),))))
    gap = (np.flatnonzero(counts == 0) + 0.5) / 72
    assert gap.size > 2
    off = np.mod(gap - place + 0.5, 1.0) - 0.5
    assert np.abs(off).max() < 0.08


def test_several_notches_and_a_whole_ring() -> None:
    two = ring_angles(ink(RingSign(Glyph.NOTCH, 0.5, ((0.1, 0.06), (0.6, 0.06)))))
    assert np.sum(np.diff((two == 0).astype(int)) == 1) == 2
    assert (ring_angles(ink(RingSign(Glyph.EVEN, 0.5))) > 0).all()


def test_certainty_is_the_weight_of_the_line() -> None:
    shares = [ink(RingSign(Glyph.EVEN, weight)).mean() for weight in (0.2, 0.6, 0.99)]
    assert shares == sorted(shares)
    assert shares[-1] > 1.4 * shares[0]


@pytest.mark.parametrize("look", LOOKS.values(), ids=lambda look: look.name)
def test_the_raster_draws_low_dark_or_bright_and_marks_the_unseen(qtbot: QtBot, look: object) -> None:
    assert isinstance(look, type(BAY))
    levels = bytes([1, 128, 255, 0] * 4)
    widget = RasterWidget(True)
    qtbot.addWidget(widget)
    widget.resize(400, 300)
    widget.show_raster(RasterScreen(Corner.FL, "Front left", "4 turns", 4, 4, levels, 0, 1.0), look, None)
    image = widget.grab().toImage()
    box = widget.picture_box()
    seen = [image.pixelColor(int(box.left() + (k + 0.5) * box.width() / 4), int(box.center().y())) for k in range(4)]
    wanted = [QColor(c) for c in (look.low, look.raised, look.high, look.unseen)]
    for got, expected in zip(seen, wanted, strict=True):
        assert abs(got.red() - expected.red()) + abs(got.green() - expected.green()) < 12


def test_a_station_without_room_ends_in_dots_and_says_the_rest(qtbot: QtBot) -> None:
    line = QWidget()
    qtbot.addWidget(line)
    button = StationButton()
    button.setParent(line)
    line.show()
    button.show_station(Station(Place.DRIVE, "Drive", "4:00 min, 50 values a second", True, True), BAY)
    for width, cut in ((120, True), (button.sizeHint().width(), False)):
        button.resize(width, 60)
        shown = [label.text() for label in button.findChildren(QLabel)]
        assert shown[0] == "Drive"
        assert (shown[1] != "4:00 min, 50 values a second") is cut
        assert shown[1].endswith("…") is cut
    assert button.accessibleName() == "Drive: 4:00 min, 50 values a second"


@pytest.mark.parametrize("begins", [0.0, 0.75])
def test_a_press_in_the_raster_tells_turn_and_angle(qtbot: QtBot, begins: float) -> None:
    widget = RasterWidget(True)
    qtbot.addWidget(widget)
    widget.resize(400, 300)
    widget.show_raster(RasterScreen(Corner.FL, "", "", 72, 10, bytes(720), 100, 3.0, begins), BAY, None)
    box = widget.picture_box()
    with qtbot.waitSignal(widget.place_pressed) as pressed:
        where = box.topLeft() + (box.bottomRight() - box.topLeft()) * 0.5
        qtbot.mouseClick(widget, Qt.MouseButton.LeftButton, pos=where.toPoint())
    turn, angle = pressed.args
    assert angle == pytest.approx((0.5 + begins) % 1.0, abs=0.01)
    assert turn % 1.0 == angle
    assert turn == pytest.approx(100 + 5.5 * 3, abs=3.1)


def test_intervals_lie_where_their_numbers_are(qtbot: QtBot) -> None:
    rows = tuple(RatioRow(c, c.value, "+0.50 %  (0 to 1)", 0.0, 0.5, 1.0, True, False) for c in Corner)
    scale = RatioScale()
    qtbot.addWidget(scale)
    scale.resize(700, 420)
    scale.show_ratios(RatiosScreen(rows, 2.0, ((0.0, "0"),), (), "", ""), BAY)
    image = scale.grab().toImage()
    colour = QColor(BAY.corners[Corner.FL])
    columns = [
        x for x in range(150, 690)
        if any(abs(image.pixelColor(x, y).rgb() - colour.rgb()) == 0 for y in range(74, 150))
    ]  # fmt: skip
    left, right = 130, 700 - 24
    start = left + (0.0 + 2.0) / 4.0 * (right - left)
    end = left + (1.0 + 2.0) / 4.0 * (right - left)
    assert min(columns) == pytest.approx(start, abs=4)
    assert max(columns) == pytest.approx(end, abs=4)


@pytest.mark.parametrize(("seconds", "digits", "words"), [
    (0, 0, "0:00"), (100, 0, "1:40"), (59.95, 1, "1:00.0"), (3.25, 2, "0:03.25"), (3725, 0, "1:02:05"),
])  # fmt: skip
def test_clock_words(seconds: float, digits: int, words: str) -> None:
    assert clock_words(seconds, digits) == words


@pytest.mark.parametrize("size", list(Size))
def test_type_is_the_shipped_family_with_even_figures(size: Size) -> None:
    made = font(size)
    assert QFontInfo(made).family() == FAMILY
    assert made.pixelSize() == PIXELS[size]
    from PySide6.QtGui import QFontMetricsF

    widths = {round(QFontMetricsF(made).horizontalAdvance(d), 3) for d in "0123456789"}
    assert len(widths) == 1


def test_corner_hues_stay_apart_for_colour_blind_eyes() -> None:
    """Simulated protan, deutan and tritan sight: Machado, Oliveira & Fernandes 2009 (from memory).

    Patterns and markers tell corners as well; hues must not fall together all the same.
    """
    matrices = {
        "protan": [[0.152, 1.053, -0.205], [0.115, 0.786, 0.099], [-0.004, -0.048, 1.052]],
        "deutan": [[0.367, 0.861, -0.228], [0.280, 0.673, 0.047], [-0.012, 0.043, 0.969]],
        "tritan": [[1.256, -0.077, -0.179], [-0.078, 0.931, 0.148], [0.005, 0.691, 0.304]],
    }
    for look in (BAY, PIT):
        colours = np.array([[int(look.corners[c][k : k + 2], 16) / 255 for k in (1, 3, 5)] for c in Corner])
        linear = colours**2.2
        for name, matrix in matrices.items():
            seen = np.clip(linear @ np.array(matrix).T, 0, 1) ** (1 / 2.2)
            apart = np.abs(seen[:, None] - seen[None]).sum(axis=2)
            assert apart[~np.eye(4, dtype=bool)].min() > 0.12, (look.name, name)


@pytest.fixture
def controller(qtbot: QtBot, tmp_path: Path) -> Iterator[Controller]:
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    made = Controller(app, tmp_path / "settings.json")
    qtbot.addWidget(made.window)
    made.window.show()
    made.open(demo_log("island-van-lost-tooth"))
    qtbot.waitUntil(lambda: made.session.busy is None, timeout=20_000)
    qtbot.wait(50)
    yield made
    made.runner.wait(5.0)


@pytest.mark.parametrize("size", [(1280, 800), (1024, 700), (853, 533)], ids=str)
@pytest.mark.parametrize("view", list(View))
def test_nothing_is_cut_off(controller: Controller, qtbot: QtBot, size: tuple[int, int], view: View) -> None:
    """Each sentence has the room it needs, at 853 × 533 (1280 × 800 at 150 %) by scrolling."""
    controller.window.resize(*size)
    controller.window.view_chosen.emit(view)
    qtbot.wait(80)

    def everything_has_room() -> None:
        for label in controller.window.findChildren(QLabel):
            if not label.isVisible() or not label.text():
                continue
            needed = label.heightForWidth(label.width()) if label.wordWrap() else label.sizeHint().height()
            assert label.height() >= needed - 2, label.text()

    # on a busy machine the weighing of the case ends, and its words are laid out, a little later
    qtbot.waitUntil(everything_has_room, timeout=4000)
    if size == (1280, 800) and view in ON_LOG:
        bars = [a.verticalScrollBar().maximum() for a in controller.window.findChildren(QScrollArea) if a.isVisible()]
        assert max(bars) == 0


def test_names_longer_than_any_line_cut_nothing_off(controller: Controller, qtbot: QtBot, tmp_path: Path) -> None:
    """Of a file that cannot be read, opened beside the complaint; and of the signals of one that can."""
    window, name = controller.window, "TheBrakingSubsystemOnTheWayBackFromTheDepot" * 3
    window.resize(1280, 800)
    (tmp_path / f"{name}.txt").write_text("no log\n")
    window.view_chosen.emit(View.COMPLAINT)
    controller.open(tmp_path / f"{name}.txt")
    qtbot.waitUntil(lambda: controller.session.busy is None and window.answer.isVisible())
    assert window.minimumSizeHint().width() <= 1280
    lines = demo_log("island-van-lost-tooth").read_text().split("\n")
    lines[0] = lines[0].replace("Wheel speed", name)
    (tmp_path / "long.csv").write_text("\n".join(lines))
    controller.open(tmp_path / "long.csv")
    qtbot.waitUntil(lambda: controller.session.busy is None and controller.session.error is None, timeout=20_000)
    qtbot.wait(50)
    names = [label for label in window.plan.findChildren(QLabel) if label.text() == "Against the others"]
    assert names[0].height() < 2 * names[0].fontMetrics().height()


def test_no_line_ends_between_a_number_and_its_unit(qapp: QApplication) -> None:
    """By the rules for line breaks of Unicode (UAX 14) as Qt knows them; the words stay the same to a reader."""
    told = "Silent to 20 km/h with 92 % in 3 min or 7 minutes of 4 km, by 5 sensors"
    shown = whole_units(told)
    layout, parts = QTextLayout(shown), []
    layout.beginLayout()
    while (line := layout.createLine()).isValid():
        line.setLineWidth(1.0)  # so narrow that a line ends wherever it may
        parts.append(shown[line.textStart() : line.textStart() + line.textLength()].strip(" "))
    layout.endLayout()
    plain = [p.replace(NO_BREAK_SPACE, " ").replace(WORD_JOINER, "") for p in parts]
    assert {"20 km/h", "92 %", "3 min", "7 minutes", "4 km,", "5", "sensors"} <= set(plain)
    assert " ".join(plain) == told


def test_every_control_has_a_name_for_screen_readers(controller: Controller) -> None:
    window = controller.window
    assert "Rear left: lost tooth" in window.plan.plan.accessibleDescription()
    assert "lost a tooth" in window.answer.accessibleName()
    for station in window.stations.values():
        assert station.accessibleName()
    controller.window.view_chosen.emit(View.TURNS)
    QApplication.processEvents()
    assert "turns" in window.turns.own.accessibleName()


def test_a_drag_in_the_drive_moves_what_is_seen(controller: Controller, qtbot: QtBot) -> None:
    controller.window.drive.window_wanted.emit(60.0, 90.0)
    qtbot.waitUntil(lambda: controller.session.window == (60.0, 90.0))
    qtbot.wait(50)
    controller.window.drive.speeds.setXRange(70.0, 100.0, padding=0)
    qtbot.waitUntil(lambda: controller.session.window == pytest.approx((70.0, 100.0)))
    shown = controller.window.drive.deviations.viewRange()[0]
    assert shown == pytest.approx([70.0, 100.0], abs=0.5)
