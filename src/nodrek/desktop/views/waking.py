"""The wake-up view: one line a corner, a mark at each speed where it began or stopped to read."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QLabel, QVBoxLayout, QWidget

from nodrek.desktop.state.screen import WakingRow, WakingScreen
from nodrek.desktop.views.empty import OrEmpty
from nodrek.desktop.views.theme import Look, Size, font
from nodrek.desktop.views.wrapped import whole_units

NAME_WIDTH = 190
TOP, BOTTOM = 30, 52
MARK = 6.0


class WakingScale(QWidget):
    """Painted marks: upward above the line where it begins, downward below where it stops."""

    def __init__(self) -> None:
        super().__init__()
        self._screen: WakingScreen | None = None
        self._look: Look | None = None
        self.setMinimumHeight(220)

    def show_waking(self, screen: WakingScreen, look: Look) -> None:
        self._screen, self._look = screen, look
        self.setAccessibleName("Wake-up")
        self.setAccessibleDescription("; ".join(f"{r.name} {r.text}" for r in screen.rows))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._screen is None or self._look is None:
            return
        screen, look, painter = self._screen, self._look, QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        left, right = float(NAME_WIDTH), self.width() - 30.0
        low, high = TOP, self.height() - BOTTOM
        scale = (right - left) / screen.top
        painter.setFont(font(Size.SMALL))
        for value, words in screen.ticks:
            x = left + value * scale
            painter.setPen(QPen(QColor(look.hairline), 1))
            painter.drawLine(QPointF(x, low), QPointF(x, high))
            painter.setPen(QColor(look.quiet))
            painter.drawText(QRectF(x - 30, high + 6, 60, 18), Qt.AlignmentFlag.AlignCenter, words)
        told = f"{screen.unit}   ▲ begins to read   ▽ stops reading"
        painter.drawText(QRectF(left, high + 28, right - left, 20), Qt.AlignmentFlag.AlignRight, told)
        height = (high - low) / max(len(screen.rows), 1)
        for k, row in enumerate(screen.rows):
            self._draw_row(painter, row, low + (k + 0.5) * height, left, right, scale, look)

    def _draw_row(
        self, painter: QPainter, row: WakingRow, y: float, left: float, right: float, scale: float, look: Look
    ) -> None:
        hue = QColor(look.corners[row.corner])
        painter.setPen(QColor(look.ink))
        painter.setFont(font(Size.BODY, bold=row.chosen))
        painter.drawText(QRectF(0, y - 24, NAME_WIDTH - 12, 22), row.name)
        painter.setFont(font(Size.SMALL))
        painter.setPen(QColor(look.quiet))
        painter.drawText(QRectF(0, y, NAME_WIDTH - 12, 20), row.text)
        painter.setPen(QPen(QColor(look.hairline), 1.5))
        painter.drawLine(QPointF(left, y), QPointF(right, y))
        if row.middle is not None:
            painter.setPen(QPen(hue, 3))
            x = left + row.middle * scale
            painter.drawLine(QPointF(x, y - 20), QPointF(x, y + 20))
        painter.setPen(QPen(hue, 1.4))
        for speeds, way, fill in ((row.begins, -1.0, hue), (row.stops, 1.0, QColor(look.background))):
            painter.setBrush(fill)
            for speed in speeds:
                x = left + speed * scale
                tip, foot = y + way * (4 + 2 * MARK), y + way * 4
                corners = (QPointF(x, tip), QPointF(x - MARK, foot), QPointF(x + MARK, foot))
                painter.drawPolygon(QPolygonF(corners))
        painter.setBrush(Qt.BrushStyle.NoBrush)


class WakingView(QWidget):
    """The marks, and a sentence that reads them."""

    def __init__(self) -> None:
        super().__init__()
        self.scale = WakingScale()
        self._sentence = QLabel()
        self._sentence.setWordWrap(True)
        self._sentence.setProperty("quiet", True)
        self._sentence.setMinimumHeight(3 * self._sentence.fontMetrics().lineSpacing() + 2)
        self._sentence.setAlignment(Qt.AlignmentFlag.AlignTop)
        shown = QWidget()
        inside = QVBoxLayout(shown)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.addWidget(self.scale, 1)
        inside.addWidget(self._sentence)
        self._stack = OrEmpty(self, shown)

    def show_waking(self, screen: WakingScreen, look: Look) -> None:
        self._stack.say(screen.empty_text)
        self._sentence.setText(whole_units(screen.sentence))
        self.scale.show_waking(screen, look)
