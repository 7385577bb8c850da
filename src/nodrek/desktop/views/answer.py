"""The answer in plain words, and the job line above it."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QProgressBar,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from nodrek.desktop.state.screen import AnswerScreen, BusyScreen, RingSign, Station
from nodrek.desktop.views.ring_sign import draw_ring_sign
from nodrek.desktop.views.theme import STEP, TARGET, Look, Size, font
from nodrek.desktop.views.wrapped import whole_units


class SignWidget(QWidget):
    """One ring sign, alone."""

    def __init__(self, side: int) -> None:
        super().__init__()
        self._side = side
        self._sign: RingSign | None = None
        self._colour = QColor()
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        return QSize(self._side, self._side)

    def show_sign(self, sign: RingSign, colour: str) -> None:
        self._sign, self._colour = sign, QColor(colour)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._sign is not None:
            draw_ring_sign(QPainter(self), QRectF(self.rect()), self._sign, self._colour)


class AnswerPanel(QFrame):
    """Headline, sureness, reasons; where a log was refused, what would help."""

    remedy_wanted = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setProperty("raised", True)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Maximum)
        self._sign = SignWidget(72)
        self._headline, self._sure = QLabel(), QLabel()
        self._headline.setFont(font(Size.TITLE, bold=True))
        self._sure.setFont(font(Size.LARGE))
        self._body = QLabel()
        self._others = QLabel()
        self._others.setProperty("quiet", True)
        self._others.setFont(font(Size.SMALL))
        for label in (self._headline, self._sure, self._body, self._others):
            label.setWordWrap(True)
            label.setTextFormat(Qt.TextFormat.PlainText)
            label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        words = QVBoxLayout()
        words.setSpacing(4)
        for widget in (self._headline, self._sure, self._body, self._others):
            words.addWidget(widget)
        self._remedy = QPushButton()
        self._remedy.setProperty("main", True)
        self._remedy.clicked.connect(self.remedy_wanted)
        words.addWidget(self._remedy, 0, Qt.AlignmentFlag.AlignLeft)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(2 * STEP, STEP + 4, 2 * STEP, STEP + 4)
        layout.setSpacing(2 * STEP)
        layout.addWidget(self._sign, 0, Qt.AlignmentFlag.AlignTop)
        layout.addLayout(words, 1)

    def show_answer(self, screen: AnswerScreen, look: Look) -> None:
        self._headline.setText(screen.headline)
        self._sure.setText(screen.sureness)
        self._sure.setVisible(bool(screen.sureness))
        self._body.setText(whole_units(" ".join(screen.lines)))
        self._others.setText(whole_units("\n".join(screen.others[:3])))
        self._others.setVisible(bool(screen.others))
        self._remedy.setText(screen.remedy)
        self._remedy.setVisible(bool(screen.remedy))
        calls = screen.sign.calls or screen.is_error
        self._sign.show_sign(screen.sign, look.call if calls else look.ink)
        self._sign.setVisible(not screen.is_error)
        self._headline.setProperty("call", calls)
        self._headline.style().unpolish(self._headline)
        self._headline.style().polish(self._headline)
        self.setAccessibleName(f"Answer: {screen.headline}. {screen.sureness}")


class BusyPanel(QFrame):
    """Progress with time left and a cancel that works."""

    cancelled = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._doing, self._left = QLabel(), QLabel()
        self._left.setProperty("quiet", True)
        self._bar = QProgressBar()
        self._bar.setTextVisible(False)
        self._bar.setRange(0, 1000)
        stop = QPushButton("Stop")
        stop.clicked.connect(self.cancelled)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self._doing)
        layout.addWidget(self._bar, 1)
        layout.addWidget(self._left)
        layout.addWidget(stop)

    def show_busy(self, screen: BusyScreen) -> None:
        self._doing.setText(screen.doing)
        self._left.setText(screen.left)
        self._bar.setValue(int(1000 * screen.share))


class StationButton(QPushButton):
    """One place of the job line: its name, and what is there in a few words."""

    def __init__(self) -> None:
        super().__init__()
        self._name, self._state = QLabel(), QLabel()
        self._words = ("", "")
        self._name.setFont(font(Size.BODY, bold=True))
        self._state.setFont(font(Size.SMALL))
        for label in (self._name, self._state):
            label.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
            label.setTextFormat(Qt.TextFormat.PlainText)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(2 * STEP, 4, 2 * STEP, 4)
        layout.setSpacing(0)
        layout.addWidget(self._name)
        layout.addWidget(self._state)
        self.setMinimumHeight(TARGET + 8)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        labels = zip((self._name, self._state), self._words, strict=True)
        wide = max(label.fontMetrics().horizontalAdvance(words) for label, words in labels)
        # a pixel to each side: widths of words are rounded, and three dots need less than a whole one to come
        return QSize(wide + 2 + 4 * STEP, TARGET + 8)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        """What finds no room ends in three dots, not in half a letter."""
        room = self.width() - 4 * STEP
        for label, words in zip((self._name, self._state), self._words, strict=True):
            label.setText(label.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, room))

    def show_station(self, station: Station, look: Look) -> None:
        self._words = (station.name, station.state)
        self._fit()
        self.setEnabled(station.enabled)
        self.setAccessibleName(f"{station.name}: {station.state}")
        # a bar under the place one is at: shape, not colour alone
        edge = f"border-bottom: 4px solid {look.accent};" if station.current else ""
        self.setStyleSheet(f"QPushButton {{ background: transparent; border: none; border-radius: 0; {edge} }}")
        name = look.accent if station.enabled else look.quiet
        self._name.setStyleSheet(f"background: transparent; color: {name};")
        self._state.setStyleSheet(f"background: transparent; color: {look.quiet};")
        self.updateGeometry()
