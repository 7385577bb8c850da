"""Causes of a corner with their odds, and what speaks for and against each."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent
from PySide6.QtWidgets import QHBoxLayout, QLabel, QSizePolicy, QVBoxLayout, QWidget

from nodrek.core.model import Corner
from nodrek.desktop.state.proof import MOST_CAUSES, MOST_REASONS, CauseRow, ReasonsColumn, ReasonsScreen
from nodrek.desktop.views.theme import STEP, Look, Size, font

FEW_REASONS = 2


class OddsBar(QWidget):
    """A share as a bar that is as long as it is likely."""

    def __init__(self) -> None:
        super().__init__()
        self._share, self._colour, self._ground = 0.0, QColor(), QColor()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        return QSize(120, 10)

    def show_share(self, share: float, colour: str, ground: str) -> None:
        self._share, self._colour, self._ground = share, QColor(colour), QColor(ground)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        box = QRectF(self.rect())
        painter.fillRect(QRectF(box.left(), box.center().y(), box.width(), 1), self._ground)
        painter.fillRect(QRectF(box.left(), box.top() + 1, box.width() * self._share, box.height() - 2), self._colour)


class CauseLine(QWidget):
    """One cause: its name, its odds, a bar, and what speaks for and against it."""

    def __init__(self, *, first: bool) -> None:
        super().__init__()
        size = Size.LARGE if first else Size.BODY
        self._name, self._share = _label(size, bold=first), _label(size, bold=first)
        self._share.setWordWrap(False)
        self._bar, self._reasons = OddsBar(), _label(Size.SMALL, quiet=True)
        self._most = MOST_REASONS if first else FEW_REASONS
        line = QHBoxLayout()
        line.addWidget(self._name, 1)
        line.addWidget(self._share)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, STEP)
        column.setSpacing(4)
        column.addLayout(line)
        column.addWidget(self._bar)
        column.addWidget(self._reasons)

    def show_cause(self, cause: CauseRow, corner: Corner, look: Look) -> None:
        self._name.setText(cause.name)
        self._share.setText(cause.share_words)
        self._bar.show_share(cause.share, look.corners[corner], look.hairline)
        told = [f"{words} · {strength}" for words, strength in cause.reasons[: self._most]]
        self._reasons.setText("\n".join(told))
        self._reasons.setVisible(bool(told))


class CornerColumn(QWidget):
    """The causes of one suspected corner, likeliest first."""

    def __init__(self) -> None:
        super().__init__()
        self._title, self._repairs = _label(Size.TITLE, bold=True), _label(Size.BODY)
        self._lines = [CauseLine(first=place == 0) for place in range(MOST_CAUSES)]
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        for widget in (self._title, *self._lines, self._repairs):
            column.addWidget(widget)
        column.addStretch(1)

    def show_column(self, screen: ReasonsColumn, look: Look) -> None:
        self._title.setText(screen.title)
        for place, line in enumerate(self._lines):
            line.setVisible(place < len(screen.rows))
            if place < len(screen.rows):
                line.show_cause(screen.rows[place], screen.corner, look)
        self._repairs.setText("\n".join(f"{kind}: {option}" for kind, option in screen.repairs))


class ReasonsView(QWidget):
    """One or two suspected corners side by side. Widgets are made once and filled anew."""

    def __init__(self) -> None:
        super().__init__()
        self._last: tuple[ReasonsScreen, str] | None = None
        self._empty = _label(Size.LARGE)
        self._columns = (CornerColumn(), CornerColumn())
        row = QHBoxLayout()
        row.setSpacing(3 * STEP)
        for column in self._columns:
            row.addWidget(column, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(STEP, 0, STEP, STEP)
        layout.addWidget(self._empty)
        layout.addLayout(row)
        layout.addStretch(1)

    def show_reasons(self, screen: ReasonsScreen, look: Look) -> None:
        if self._last == (screen, look.name):
            return
        self._last = (screen, look.name)
        self._empty.setText(screen.empty_text)
        self._empty.setVisible(bool(screen.empty_text))
        for place, column in enumerate(self._columns):
            column.setVisible(place < len(screen.columns))
            if place < len(screen.columns):
                column.show_column(screen.columns[place], look)


def _label(size: Size, *, bold: bool = False, quiet: bool = False) -> QLabel:
    label = QLabel()
    label.setFont(font(size, bold=bold))
    label.setWordWrap(True)
    label.setTextFormat(Qt.TextFormat.PlainText)
    label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
    label.setProperty("quiet", quiet)
    return label
