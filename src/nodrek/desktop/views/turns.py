"""The turns view: rasters of the chosen corner and its mate, ring faces beside them."""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, qRgb
from PySide6.QtWidgets import QHBoxLayout, QLabel, QSizePolicy, QVBoxLayout, QWidget

from nodrek.desktop.state.screen import RasterScreen, RingFaceScreen, TurnsScreen
from nodrek.desktop.views.empty import OrEmpty
from nodrek.desktop.views.theme import STEP, Look, Size, font

TOP, BOTTOM, LEFT, RIGHT = 46, 40, 8, 8
ROOM_FOR_TICKS = 210
ROOM_FOR_WORDS = 48
"""Radius in pixels inside which the number of teeth finds room."""


class RasterWidget(QWidget):
    """One row a turn, angle across; a press marks a place, arrow keys and Enter do the same."""

    place_pressed = Signal(float, float)

    def __init__(self, pressable: bool) -> None:
        super().__init__()
        self._screen: RasterScreen | None = None
        self._look: Look | None = None
        self._image: QImage | None = None
        self._marked: float | None = None
        self._cursor = (0.5, 0.5)
        self._pressable = pressable
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(90, 110)
        if pressable:
            self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
            self.setCursor(Qt.CursorShape.CrossCursor)

    def show_raster(self, screen: RasterScreen | None, look: Look, marked: float | None) -> None:
        if screen is not self._screen or look is not self._look:
            self._image = _image(screen, look) if screen else None
        self._screen, self._look, self._marked = screen, look, marked
        if screen:
            self.setAccessibleName(f"Turn raster, {screen.title}: {screen.caption}")
        self.update()

    def picture_box(self) -> QRectF:
        return QRectF(LEFT, TOP, self.width() - LEFT - RIGHT, self.height() - TOP - BOTTOM)

    def x_of(self, place: float) -> float:
        """Pixels from the left to a place on the ring (turns)."""
        begins, box = self._screen.begins if self._screen else 0.0, self.picture_box()
        return box.left() + (place - begins) % 1.0 * box.width()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        box = self.picture_box()
        if self._pressable and box.contains(event.position()):
            across = (event.position().x() - box.left()) / box.width()
            down = (event.position().y() - box.top()) / box.height()
            self._press(across, down)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        across, down = self._cursor
        step = {Qt.Key.Key_Left: (-1 / 72, 0), Qt.Key.Key_Right: (1 / 72, 0),
                Qt.Key.Key_Up: (0, -0.05), Qt.Key.Key_Down: (0, 0.05)}.get(Qt.Key(event.key()))  # fmt: skip
        if step is not None and self._pressable:
            self._cursor = ((across + step[0]) % 1.0, min(0.99, max(0.0, down + step[1])))
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space) and self._pressable:
            self._press(across, down)
        else:
            super().keyPressEvent(event)

    def _press(self, across: float, down: float) -> None:
        if self._screen is not None:
            row = int(down * self._screen.height)
            turns = int(self._screen.first_turn + (row + 0.5) * self._screen.turns_per_row)
            turn = turns + self._screen.begins + min(max(across, 0.0), 0.999)
            self.place_pressed.emit(turn, turn % 1.0)

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._screen is None or self._look is None or self._image is None:
            return
        look, painter, box = self._look, QPainter(self), self.picture_box()
        painter.drawImage(box, self._image)
        painter.setPen(QColor(look.ink if self._pressable else look.quiet))
        painter.setFont(font(Size.BODY, bold=True))
        painter.drawText(QRectF(LEFT, 2, box.width(), 22), Qt.AlignmentFlag.AlignLeft, self._screen.title)
        painter.setPen(QColor(look.quiet))
        painter.setFont(font(Size.SMALL))
        shown = painter.fontMetrics().elidedText(self._screen.caption, Qt.TextElideMode.ElideRight, int(box.width()))
        painter.drawText(QRectF(LEFT, 24, box.width(), 20), Qt.AlignmentFlag.AlignLeft, shown)
        ticks = self._screen.ticks
        for k, words in ticks if box.width() > ROOM_FOR_TICKS else ticks[::2]:
            x = box.left() + k * box.width()
            painter.setPen(QColor(look.hairline))
            painter.drawLine(QPointF(x, box.bottom() + 2), QPointF(x, box.bottom() + 7))
            painter.setPen(QColor(look.quiet))
            label = QRectF(min(max(x - 24, 0), self.width() - 48), box.bottom() + 8, 48, 18)
            painter.drawText(label, Qt.AlignmentFlag.AlignCenter, words)
        if self._marked is not None:
            x = self.x_of(self._marked)
            painter.setPen(QPen(QColor(look.call), 1.6, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(x, box.top() - 4), QPointF(x, box.bottom() + 4))
        if self.hasFocus() and self._pressable:
            x = box.left() + self._cursor[0] * box.width()
            y = box.top() + self._cursor[1] * box.height()
            painter.setPen(QPen(QColor(look.accent), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(x - 6, y - 6, 12, 12))


class RingFaceWidget(QWidget):
    """Speed error round the ring: inward is low; the band is what it is uncertain by."""

    def __init__(self) -> None:
        super().__init__()
        self._screen: RingFaceScreen | None = None
        self._look: Look | None = None
        self._quiet = False
        self.setMinimumSize(110, 90)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def sizeHint(self) -> QSize:
        return QSize(260, 260)

    def show_face(self, screen: RingFaceScreen | None, look: Look, quiet: bool) -> None:
        self._screen, self._look, self._quiet = screen, look, quiet
        if screen:
            self.setAccessibleName(f"Ring face, {screen.title}: {screen.arc_text} {screen.caption}")
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._screen is None or self._look is None:
            return
        screen, look, painter = self._screen, self._look, QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        room = QRectF(self.rect()).adjusted(6, 44, -6, -6)
        radius = min(room.width(), room.height()) / 2 - 4
        centre = QPointF(room.center())
        painter.setPen(QColor(look.quiet if self._quiet else look.ink))
        painter.setFont(font(Size.BODY, bold=True))
        painter.drawText(QRectF(6, 0, self.width() - 12, 20), Qt.AlignmentFlag.AlignHCenter, f"{screen.title}, ring")
        painter.setPen(QColor(look.quiet))
        painter.setFont(font(Size.SMALL))
        painter.drawText(QRectF(6, 21, self.width() - 12, 20), Qt.AlignmentFlag.AlignHCenter, screen.caption)
        zero = radius * 0.86
        scale = radius * 0.42 / screen.span
        colour = QColor(look.quiet if self._quiet else look.corners[screen.corner])
        painter.setPen(QPen(QColor(look.hairline), 1.2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(centre, zero, zero)
        for arc_centre, width in screen.arcs:
            self._draw_arc(painter, centre, radius, arc_centre, width, QColor(look.call))
        band = QColor(colour)
        band.setAlpha(55)
        outer, inner, line = QPolygonF(), QPolygonF(), QPolygonF()
        count = len(screen.profile)
        for k, (value, error) in enumerate(zip(screen.profile, screen.error, strict=True)):
            angle = 2 * math.pi * (k + 0.5) / count
            shown, spread = value or 0.0, 2.0 * (error or 0.0)
            for polygon, at in ((line, shown), (outer, shown + spread), (inner, shown - spread)):
                reach = max(radius * 0.12, min(radius, zero + scale * at))
                polygon.append(QPointF(centre.x() + reach * math.sin(angle), centre.y() - reach * math.cos(angle)))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(band)
        painter.drawPolygon(QPolygonF([*outer, *reversed(list(inner))]))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(colour, 2.4 if not self._quiet else 1.6))
        painter.drawPolygon(line)
        if screen.arc_text and zero > ROOM_FOR_WORDS:
            painter.setPen(QColor(look.call))
            painter.setFont(font(Size.LARGE, bold=True))
            painter.drawText(
                QRectF(centre.x() - zero, centre.y() - 14, 2 * zero, 28), Qt.AlignmentFlag.AlignCenter, screen.arc_text
            )
        if screen.marked is not None:
            angle = 2 * math.pi * screen.marked
            painter.setPen(QPen(QColor(look.call), 1.6, Qt.PenStyle.DotLine))
            painter.drawLine(
                QPointF(centre.x() + 0.3 * radius * math.sin(angle), centre.y() - 0.3 * radius * math.cos(angle)),
                QPointF(centre.x() + radius * math.sin(angle), centre.y() - radius * math.cos(angle)),
            )

    def _draw_arc(
        self, painter: QPainter, centre: QPointF, radius: float, at: float, width: float, colour: QColor
    ) -> None:
        box = QRectF(centre.x() - radius, centre.y() - radius, 2 * radius, 2 * radius)
        pen = QPen(colour, 5, Qt.PenStyle.SolidLine, Qt.PenCapStyle.FlatCap)
        painter.setPen(pen)
        painter.drawArc(box, round(1440 - (at - width / 2) * 5760), round(-width * 5760))


class TurnsView(QWidget):
    """The chosen corner large, its mate beside it."""

    place_pressed = Signal(float, float)

    def __init__(self) -> None:
        super().__init__()
        self.own, self._mate = RasterWidget(True), RasterWidget(False)
        self.own.place_pressed.connect(self.place_pressed)
        self._own_face, self._mate_face = RingFaceWidget(), RingFaceWidget()
        faces = QVBoxLayout()
        faces.setSpacing(STEP)
        faces.addWidget(self._own_face, 5)
        faces.addWidget(self._mate_face, 4)
        self._hint = QLabel()
        self._hint.setProperty("quiet", True)
        self._hint.setFont(font(Size.SMALL))
        pictures = QHBoxLayout()
        pictures.setSpacing(STEP)
        pictures.addWidget(self.own, 10)
        pictures.addWidget(self._mate, 6)
        pictures.addLayout(faces, 8)
        full = QWidget()
        column = QVBoxLayout(full)
        column.setContentsMargins(0, 0, 0, 0)
        column.addLayout(pictures, 1)
        column.addWidget(self._hint)
        self._stack = OrEmpty(self, full)

    def show_turns(self, screen: TurnsScreen, look: Look) -> None:
        self._stack.say(screen.empty_text)
        self.own.show_raster(screen.own, look, screen.marked)
        self._mate.show_raster(screen.mate, look, None)
        self._mate.setVisible(screen.mate is not None)
        self._own_face.show_face(screen.own_face, look, quiet=False)
        self._mate_face.show_face(screen.mate_face, look, quiet=True)
        self._hint.setText(screen.hint)


def _image(screen: RasterScreen, look: Look) -> QImage:
    """Cells as a picture with a table of colours: low, level, high, and not looked at."""
    image = QImage(screen.levels, screen.width, screen.height, screen.width, QImage.Format.Format_Indexed8).copy()
    image.setColorTable(_colours(look))
    return image


def _colours(look: Look) -> list[int]:
    low, level, high = QColor(look.low), QColor(look.raised), QColor(look.high)
    table = [QColor(look.unseen).rgb()]
    for k in range(1, 256):
        end, share = (low, (128 - k) / 127) if k < 128 else (high, (k - 128) / 127)
        share = min(1.0, share)
        table.append(
            qRgb(
                round(level.red() + share * (end.red() - level.red())),
                round(level.green() + share * (end.green() - level.green())),
                round(level.blue() + share * (end.blue() - level.blue())),
            )
        )
    return table
