"""The vehicle from above with its corners: always there, and the way to choose one."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen
from PySide6.QtWidgets import QGridLayout, QLabel, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from nodrek.core.model import Corner
from nodrek.desktop.state.screen import CornerCard, PlanScreen
from nodrek.desktop.views.ring_sign import draw_ring_sign
from nodrek.desktop.views.theme import PLAN_WIDTH, STEP, Look, Size, font
from nodrek.desktop.views.wrapped import whole_units

RING = 62
BODY = 68
NAMES, VALUES = 5, 6
"""Parts of the panel's width that the names of its numbers take, and these."""


class VehiclePlan(QWidget):
    """Painted plan; a press or a key 1–4 chooses a corner."""

    corner_chosen = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self._screen: PlanScreen | None = None
        self._look: Look | None = None
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Vehicle plan")

    def sizeHint(self) -> QSize:
        return QSize(PLAN_WIDTH, 364)

    def show_plan(self, screen: PlanScreen, look: Look) -> None:
        self._screen, self._look = screen, look
        said = "; ".join(f"{c.name}: {c.state} {c.odds} {c.ratio}" for c in screen.corners)
        self.setAccessibleDescription(said)
        self.update()

    def corner_box(self, corner: Corner) -> QRectF:
        """The pressable area of a corner."""
        half_w, half_h = self.width() / 2, self.height() / 2
        x = 0.0 if corner.is_left else half_w
        y = 0.0 if corner.is_front else half_h
        return QRectF(x, y, half_w, half_h)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for corner in Corner:
            if self.corner_box(corner).contains(event.position()):
                self.corner_chosen.emit(corner)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if self._screen is None:
            return
        chosen = next((c.corner for c in self._screen.corners if c.chosen), Corner.FL)
        moves = {
            Qt.Key.Key_Left: (True, chosen.is_front), Qt.Key.Key_Right: (False, chosen.is_front),
            Qt.Key.Key_Up: (chosen.is_left, True), Qt.Key.Key_Down: (chosen.is_left, False),
        }  # fmt: skip
        wanted = moves.get(Qt.Key(event.key()))
        if wanted is None:
            super().keyPressEvent(event)
            return
        self.corner_chosen.emit(next(c for c in Corner if (c.is_left, c.is_front) == wanted))

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._screen is None or self._look is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._draw_body(painter, self._look)
        for number, card in enumerate(self._screen.corners, start=1):
            self._draw_corner(painter, card, number, self._look)

    def _draw_body(self, painter: QPainter, look: Look) -> None:
        """A van from above: bonnet, windscreen, load floor, rear doors."""
        body = QRectF(self.width() / 2 - BODY / 2, 12, BODY, self.height() - 24)
        path = QPainterPath(QPointF(body.left() + 5, body.bottom()))
        path.lineTo(body.left(), body.bottom() - 5)
        path.lineTo(body.left(), body.top() + 46)
        path.cubicTo(
            QPointF(body.left(), body.top() + 12), QPointF(body.left() + 10, body.top()),
            QPointF(body.center().x(), body.top()),
        )  # fmt: skip
        path.cubicTo(
            QPointF(body.right() - 10, body.top()), QPointF(body.right(), body.top() + 12),
            QPointF(body.right(), body.top() + 46),
        )  # fmt: skip
        path.lineTo(body.right(), body.bottom() - 5)
        path.lineTo(body.right() - 5, body.bottom())
        path.closeSubpath()
        painter.setPen(QPen(QColor(look.hairline), 1.5))
        painter.setBrush(QColor(look.raised))
        painter.drawPath(path)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        # windscreen and mirrors tell front from rear without a word
        glass = QPainterPath(QPointF(body.left() + 5, body.top() + 78))
        glass.quadTo(QPointF(body.center().x(), body.top() + 50), QPointF(body.right() - 5, body.top() + 78))
        glass.lineTo(body.right() - 9, body.top() + 92)
        glass.quadTo(QPointF(body.center().x(), body.top() + 70), QPointF(body.left() + 9, body.top() + 92))
        glass.closeSubpath()
        painter.drawPath(glass)
        for x, reach in ((body.left(), -9), (body.right(), 9)):
            painter.drawLine(QPointF(x, body.top() + 84), QPointF(x + reach, body.top() + 80))
        painter.drawRect(body.adjusted(8, 112, -8, -10))
        painter.drawLine(QPointF(body.center().x(), body.bottom() - 10), QPointF(body.center().x(), body.bottom()))

    def _draw_corner(self, painter: QPainter, card: CornerCard, number: int, look: Look) -> None:
        left = card.corner.is_left
        box = self.corner_box(card.corner)
        frame = box.adjusted(2, 2, -BODY / 2 - 4, -2) if left else box.adjusted(BODY / 2 + 4, 2, -2, -2)
        if card.chosen:
            painter.setPen(QPen(QColor(look.accent), 2.5 if self.hasFocus() else 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(frame, 5, 5)
        text = frame.adjusted(8, 8, -8, -6)
        x = text.left() + 2 if left else text.right() - 2 - RING
        ring_box = QRectF(x, text.top() + 28, RING, RING)
        colour = QColor(look.corners[card.corner] if card.sign.calls or card.chosen else look.ink)
        if not card.known:
            colour = QColor(look.quiet)
        draw_ring_sign(painter, ring_box, card.sign, colour)
        painter.setPen(QColor(look.quiet))
        painter.setFont(font(Size.SMALL))
        # the key that chooses it, beside the ring, so that no state of the ring hides it
        beside = ring_box.translated(RING * 0.72 if left else -RING * 0.72, 0)
        painter.drawText(beside, Qt.AlignmentFlag.AlignCenter, str(number))
        side = Qt.AlignmentFlag.AlignLeft if left else Qt.AlignmentFlag.AlignRight
        painter.setPen(QColor(look.ink))
        painter.setFont(font(Size.BODY, bold=True))
        painter.drawText(QRectF(text.left(), text.top(), text.width(), 22), side, card.name)
        lines = (
            (card.state, look.call if card.sign.calls else look.quiet, card.sign.calls),
            (card.odds, look.call, False),
            (card.ratio, look.quiet, False),
        )
        y = ring_box.bottom() + 6
        for words, ink, bold in lines:
            if words:
                painter.setPen(QColor(ink))
                painter.setFont(font(Size.SMALL, bold=bold))
                painter.drawText(QRectF(text.left(), y, text.width(), 18), side, words)
                y += 18


class PlanPanel(QScrollArea):
    """The plan and, below it, the numbers of the chosen corner; scrolls where the screen is low."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedWidth(PLAN_WIDTH + 2 * STEP)
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.plan = VehiclePlan()
        self._title = QLabel()
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(STEP)
        self._grid.setVerticalSpacing(4)
        inside = QWidget()
        layout = QVBoxLayout(inside)
        layout.setContentsMargins(STEP, 0, STEP, STEP)
        layout.setSpacing(STEP)
        layout.addWidget(self.plan)
        layout.addWidget(self._title)
        layout.addLayout(self._grid)
        layout.addStretch(1)
        self.setWidget(inside)

    def show_plan(self, screen: PlanScreen, look: Look) -> None:
        self.plan.show_plan(screen, look)
        self._title.setText(screen.title)
        self._title.setFont(font(Size.BODY, bold=True))
        while self._grid.count():
            widget = self._grid.takeAt(0).widget()
            if widget is not None:
                widget.deleteLater()
        for row, (name, value) in enumerate(screen.details):
            label, number = QLabel(whole_units(name)), QLabel()
            label.setProperty("quiet", True)
            label.setFont(font(Size.SMALL))
            label.setWordWrap(True)
            number.setFont(font(Size.SMALL))
            # a signal's whole path has no place to break at, and would leave the names beside it none
            metrics, room = number.fontMetrics(), self._room_for_words()
            is_too_wide = any(metrics.horizontalAdvance(word) > room for word in value.split())
            short = metrics.elidedText(value, Qt.TextElideMode.ElideMiddle, room) if is_too_wide else value
            number.setText(whole_units(short))
            number.setToolTip(value if is_too_wide else "")
            number.setWordWrap(True)
            number.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
            number.setAccessibleName(f"{name}: {value}")
            self._grid.addWidget(label, row, 0, Qt.AlignmentFlag.AlignTop)
            self._grid.addWidget(number, row, 1, Qt.AlignmentFlag.AlignTop)
        self._grid.setColumnStretch(0, NAMES)
        self._grid.setColumnStretch(1, VALUES)

    def _room_for_words(self) -> int:
        """Pixels that one word of a value may take."""
        return (PLAN_WIDTH - 3 * STEP) * VALUES // (NAMES + VALUES)
