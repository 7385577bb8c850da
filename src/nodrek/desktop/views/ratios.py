"""The ratio view: one interval a corner on one scale, with what may explain it."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QLabel, QVBoxLayout, QWidget

from nodrek.core.model import Corner
from nodrek.desktop.state.screen import RatioRow, RatiosScreen
from nodrek.desktop.views.empty import OrEmpty
from nodrek.desktop.views.theme import Look, Size, font
from nodrek.desktop.views.wrapped import whole_units

NAME_WIDTH = 130
TOP, BOTTOM = 74, 56


class RatioScale(QWidget):
    """Painted intervals."""

    def __init__(self) -> None:
        super().__init__()
        self._screen: RatiosScreen | None = None
        self._look: Look | None = None
        self.setMinimumHeight(210)

    def show_ratios(self, screen: RatiosScreen, look: Look) -> None:
        self._screen, self._look = screen, look
        self.setAccessibleName("Ratios")
        self.setAccessibleDescription("; ".join(f"{r.name} {r.text}" for r in screen.rows))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._screen is None or self._look is None:
            return
        screen, look, painter = self._screen, self._look, QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        left, right = NAME_WIDTH, self.width() - 24
        low, high = TOP, self.height() - BOTTOM

        def at(value: float) -> float:
            return left + (value + screen.span) / (2 * screen.span) * (right - left)

        painter.setFont(font(Size.SMALL))
        for k, (value, words) in enumerate(screen.marks):
            x = at(value)
            painter.setPen(QPen(QColor(look.hairline), 1.4, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(x, low - 8), QPointF(x, high))
            if words:
                painter.setPen(QColor(look.quiet))
                box = QRectF(x - 100, 8 + 22 * (k % 2), 200, 20)
                box.moveLeft(min(max(box.left(), float(left) - 60), right - 200.0))
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)
        for value, words in screen.ticks:
            x = at(value)
            painter.setPen(QPen(QColor(look.ink if value == 0 else look.hairline), 1))
            painter.drawLine(QPointF(x, high), QPointF(x, high + 6))
            if value == 0:
                painter.drawLine(QPointF(x, low - 8), QPointF(x, high))
            painter.setPen(QColor(look.quiet))
            painter.drawText(QRectF(x - 40, high + 8, 80, 20), Qt.AlignmentFlag.AlignCenter, words)
        painter.drawText(
            QRectF(left, high + 30, right - left, 20), Qt.AlignmentFlag.AlignRight, "% faster than the others say"
        )
        pitch = (high - low) / max(1, len(screen.rows))
        for k, row in enumerate(screen.rows):
            self._draw_row(painter, row, low + (k + 0.5) * pitch, at, look)

    def _draw_row(self, painter: QPainter, row: RatioRow, y: float, at: object, look: Look) -> None:
        assert callable(at)
        colour = QColor(look.corners[row.corner])
        painter.setPen(QColor(look.ink))
        painter.setFont(font(Size.BODY, bold=row.chosen))
        painter.drawText(QRectF(0, y - 22, NAME_WIDTH - 8, 22), Qt.AlignmentFlag.AlignLeft, row.name)
        painter.setPen(QColor(look.quiet))
        painter.setFont(font(Size.SMALL))
        if not row.known:
            painter.drawText(QRectF(0, y, NAME_WIDTH - 8, 20), Qt.AlignmentFlag.AlignLeft, row.text)
            return
        value = row.text.split("  ")[0]
        painter.drawText(QRectF(0, y, NAME_WIDTH - 8, 20), Qt.AlignmentFlag.AlignLeft, value)
        x0, x1, x = at(row.low), at(row.high), at(row.value)
        painter.setPen(QPen(colour, 3 if row.chosen else 2))
        painter.drawLine(QPointF(x0, y), QPointF(x1, y))
        for end in (x0, x1):
            painter.drawLine(QPointF(end, y - 7), QPointF(end, y + 7))
        painter.setBrush(colour)
        painter.setPen(Qt.PenStyle.NoPen)
        _marker(painter, row.corner, x, y)


def _marker(painter: QPainter, corner: Corner, x: float, y: float) -> None:
    """A shape of its own for each corner."""
    if corner is Corner.FL:
        painter.drawRect(QRectF(x - 6, y - 6, 12, 12))
    elif corner is Corner.FR:
        painter.drawPolygon(QPolygonF([QPointF(x, y - 8), QPointF(x + 8, y + 6), QPointF(x - 8, y + 6)]))
    elif corner is Corner.RL:
        painter.drawEllipse(QPointF(x, y), 7, 7)
    else:
        painter.drawPolygon(QPolygonF([QPointF(x, y - 8), QPointF(x + 8, y), QPointF(x, y + 8), QPointF(x - 8, y)]))


class RatiosView(QWidget):
    """The scale and one sentence under it."""

    def __init__(self) -> None:
        super().__init__()
        self._scale = RatioScale()
        self._sentence = QLabel()
        self._sentence.setWordWrap(True)
        self._sentence.setProperty("quiet", True)
        self._sentence.setMinimumHeight(2 * self._sentence.fontMetrics().lineSpacing() + 2)
        self._sentence.setAlignment(Qt.AlignmentFlag.AlignTop)
        full = QWidget()
        layout = QVBoxLayout(full)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self._scale, 1)
        layout.addWidget(self._sentence)
        self._stack = OrEmpty(self, full)

    def show_ratios(self, screen: RatiosScreen, look: Look) -> None:
        self._scale.show_ratios(screen, look)
        self._sentence.setText(whole_units(screen.sentence))
        self._stack.say(screen.empty_text)
