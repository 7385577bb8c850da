"""The question which column is which corner, with each column's trace beside its name."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from nodrek.core.model import Corner
from nodrek.desktop.state.mapping import ColumnRow, MappingScreen
from nodrek.desktop.views.theme import STEP, TARGET, Look, Size, font

NOTHING = "not in this log"


class TraceWidget(QWidget):
    """One small trace."""

    def __init__(self, row: ColumnRow | None, look: Look) -> None:
        super().__init__()
        self._row, self._look = row, look
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        return QSize(220, TARGET)

    def show_row(self, row: ColumnRow | None) -> None:
        self._row = row
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._row is None or not self._row.trace:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(self._look.ink), 1.2))
        box = QRectF(self.rect()).adjusted(2, 6, -2, -6)
        line = QPolygonF()
        step = box.width() / max(1, len(self._row.trace) - 1)
        for k, value in enumerate(self._row.trace):
            if value is None:
                painter.drawPolyline(line)
                line = QPolygonF()
                continue
            line.append(QPointF(box.left() + k * step, box.bottom() - value * box.height()))
        painter.drawPolyline(line)


class MappingDialog(QDialog):
    """One line a corner: the column that is its, and the trace of it; all traces below."""

    def __init__(self, screen: MappingScreen, look: Look, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Columns and corners")
        self.resize(860, 640)
        self._rows = {row.name: row for row in screen.rows}
        title, explain = QLabel(screen.title), QLabel(screen.explain)
        title.setFont(font(Size.LARGE, bold=True))
        explain.setProperty("quiet", True)
        for label in (title, explain):
            label.setWordWrap(True)
        self.choices: dict[Corner, QComboBox] = {}
        grid = QGridLayout()
        grid.setSpacing(STEP)
        for corner, name in screen.chosen:
            label = corner.words.capitalize()
            self.choices[corner] = self._line(grid, label, f"Column of the {corner.words} corner", name, look)
        self.reference = self._line(grid, "Independent speed", "Column of an independent speed", screen.reference, look)
        grid.setColumnStretch(1, 3)
        grid.setColumnStretch(2, 2)
        self.accept_button, refuse = QPushButton("Take these"), QPushButton("Leave it")
        self.accept_button.setProperty("main", True)
        self.accept_button.clicked.connect(self.accept)
        refuse.clicked.connect(self.reject)
        buttons = QHBoxLayout()
        buttons.addStretch(1)
        buttons.addWidget(refuse)
        buttons.addWidget(self.accept_button)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(2 * STEP, 2 * STEP, 2 * STEP, 2 * STEP)
        layout.setSpacing(2 * STEP)
        layout.addWidget(title)
        layout.addWidget(explain)
        layout.addLayout(grid)
        layout.addWidget(self._all_columns(screen, look), 1)
        layout.addLayout(buttons)
        self._check()

    def _line(self, grid: QGridLayout, words: str, accessible: str, name: str | None, look: Look) -> QComboBox:
        """One line to choose a column in, its trace beside it."""
        choice = QComboBox()
        choice.setMinimumHeight(TARGET)
        choice.addItems([NOTHING, *self._rows])
        choice.setCurrentText(name if name in self._rows else NOTHING)
        choice.setAccessibleName(accessible)
        trace = TraceWidget(self._rows.get(name or ""), look)
        choice.currentTextChanged.connect(lambda text: trace.show_row(self._rows.get(text)))
        choice.currentTextChanged.connect(self._check)
        line = grid.rowCount()
        grid.addWidget(QLabel(words), line, 0)
        grid.addWidget(choice, line, 1)
        grid.addWidget(trace, line, 2)
        return choice

    def chosen_reference(self) -> str | None:
        """The independent speed, if one was chosen."""
        text = self.reference.currentText()
        return None if text == NOTHING else text

    def mapping(self) -> dict[Corner, str]:
        """What was chosen."""
        return {c: b.currentText() for c, b in self.choices.items() if b.currentText() != NOTHING}

    def _check(self) -> None:
        own = self.chosen_reference()
        names = [*self.mapping().values(), *([own] if own else [])]
        self.accept_button.setEnabled(len(self.mapping()) >= 2 and len(set(names)) == len(names))

    def _all_columns(self, screen: MappingScreen, look: Look) -> QScrollArea:
        inside = QWidget()
        grid = QGridLayout(inside)
        grid.setContentsMargins(0, 0, STEP, 0)
        for line, row in enumerate(screen.rows):
            name, words = QLabel(row.name), QLabel(row.words)
            name.setWordWrap(True)
            words.setProperty("quiet", True)
            words.setFont(font(Size.SMALL))
            grid.addWidget(name, line, 0)
            grid.addWidget(words, line, 1)
            grid.addWidget(TraceWidget(row, look), line, 2)
        grid.setColumnStretch(0, 3)
        grid.setColumnStretch(2, 3)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(inside)
        return scroll
