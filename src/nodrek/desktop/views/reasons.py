"""Causes of a corner with their odds, and what speaks for and against each."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent
from PySide6.QtWidgets import QHBoxLayout, QLabel, QSizePolicy, QVBoxLayout, QWidget

from nodrek.core.model import Corner
from nodrek.desktop.state.proof import CauseRow, ReasonsColumn, ReasonsScreen
from nodrek.desktop.views.theme import STEP, Look, Size, font


class OddsBar(QWidget):
    """A share as a bar that is as long as it is likely."""

    def __init__(self, share: float, colour: str, ground: str) -> None:
        super().__init__()
        self._share, self._colour, self._ground = share, QColor(colour), QColor(ground)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        return QSize(120, 10)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        box = QRectF(self.rect())
        painter.fillRect(QRectF(box.left(), box.center().y(), box.width(), 1), self._ground)
        painter.fillRect(QRectF(box.left(), box.top() + 1, box.width() * self._share, box.height() - 2), self._colour)


class ReasonsView(QWidget):
    """One or two suspected corners side by side."""

    def __init__(self) -> None:
        super().__init__()
        self._last: tuple[ReasonsScreen, str] | None = None
        self._layout = QVBoxLayout(self)
        self._layout.setContentsMargins(STEP, 0, STEP, STEP)
        self._inside: QWidget | None = None

    def show_reasons(self, screen: ReasonsScreen, look: Look) -> None:
        if self._last == (screen, look.name):
            return
        self._last = (screen, look.name)
        if self._inside is not None:
            self._inside.hide()
            self._inside.deleteLater()
        self._inside = QWidget()
        row = QHBoxLayout(self._inside)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(3 * STEP)
        if screen.empty_text:
            row.addWidget(_label(screen.empty_text, Size.LARGE))
        for column in screen.columns:
            row.addLayout(_column(column, look), 1)
        self._layout.addWidget(self._inside)
        self._layout.addStretch(1)


def _column(screen: ReasonsColumn, look: Look) -> QVBoxLayout:
    column = QVBoxLayout()
    column.setSpacing(4)
    column.addWidget(_label(screen.title, Size.TITLE, bold=True))
    for place, cause in enumerate(screen.rows):
        _add_cause(column, cause, screen.corner, look, first=place == 0)
    for kind, option in screen.repairs:
        column.addWidget(_label(f"{kind}: {option}", Size.BODY))
    column.addStretch(1)
    return column


def _add_cause(column: QVBoxLayout, cause: CauseRow, corner: Corner, look: Look, *, first: bool) -> None:
    line = QHBoxLayout()
    line.addWidget(_label(cause.name, Size.LARGE if first else Size.BODY, bold=first), 1)
    share = _label(cause.share_words, Size.LARGE if first else Size.BODY, bold=first)
    share.setWordWrap(False)
    line.addWidget(share)
    column.addLayout(line)
    column.addWidget(OddsBar(cause.share, look.corners[corner], look.hairline))
    for words, strength in cause.reasons if first else cause.reasons[:2]:
        column.addWidget(_label(f"{words} · {strength}", Size.SMALL, quiet=True))
    column.addSpacing(STEP)


def _label(text: str, size: Size, *, bold: bool = False, quiet: bool = False) -> QLabel:
    label = QLabel(text)
    label.setFont(font(size, bold=bold))
    label.setWordWrap(True)
    label.setTextFormat(Qt.TextFormat.PlainText)
    label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
    label.setProperty("quiet", quiet)
    return label
