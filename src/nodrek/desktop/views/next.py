"""The next check: one sentence, why, how, caution, and its answers as buttons."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QDoubleValidator
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from nodrek.desktop.state.proof import NextScreen
from nodrek.desktop.views.theme import STEP, TARGET, Look, Size, font

NEXT_WIDTH = 312


class NextPanel(QFrame):
    """``answered``: a result word; ``measured``: value and mate's value (None: open, or not measured)."""

    answered = Signal(object, object, str)
    measured = Signal(object, object, object, object)
    accepted = Signal()
    other_wanted = Signal(object, object)

    def __init__(self) -> None:
        super().__init__()
        self.setProperty("raised", True)
        self.setFixedWidth(NEXT_WIDTH)
        self._last: NextScreen | None = None
        self._inside: QWidget | None = None
        self._value: QLineEdit | None = None
        self._mate: QLineEdit | None = None
        self._scroll = QScrollArea()
        self._scroll.setWidgetResizable(True)
        self._scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(STEP, STEP, 2, STEP)
        layout.addWidget(self._scroll)

    def show_next(self, screen: NextScreen, look: Look) -> None:
        if screen == self._last:
            return
        typed = self._typed_so_far() if self._same_check(screen) else ("", "")
        self._last = screen
        inside = QWidget()
        column = QVBoxLayout(inside)
        column.setContentsMargins(STEP, 0, STEP, 0)
        column.setSpacing(STEP)
        column.addWidget(_line("Next", Size.SMALL, quiet=True))
        title_size = Size.LARGE if screen.check else Size.BODY
        column.addWidget(_line(screen.title, title_size, bold=screen.check is not None))
        if screen.facts:
            column.addWidget(_line(screen.facts, Size.SMALL, quiet=True))
        for caution in screen.cautions:
            column.addWidget(_line(f"Caution: {caution}", Size.SMALL, call=True))
        for number, step in enumerate(screen.steps, start=1):
            column.addWidget(_line(f"{number}.  {step}", Size.SMALL))
        if screen.usual:
            column.addWidget(_line(screen.usual, Size.SMALL, quiet=True))
        self._value = self._mate = None
        if screen.unit:
            column.addLayout(self._entries(screen.unit, typed))
        for word, told in screen.answers:
            button = _button(told)
            button.setProperty("main", True)
            button.clicked.connect(lambda _=False, w=word: self.answered.emit(screen.check, screen.corner, w))
            column.addWidget(button)
        if screen.question:
            column.addWidget(_line(screen.question[:1].upper() + screen.question[1:] + ".", Size.BODY, call=True))
            accept = _button(screen.accept)
            accept.clicked.connect(self.accepted)
            column.addWidget(accept)
        if screen.undo:
            column.addWidget(_line(screen.undo, Size.SMALL))
        if screen.why:
            column.addWidget(_line(f"Why: {screen.why}", Size.SMALL, quiet=True))
        for warning in screen.warnings:
            column.addWidget(_line(warning, Size.SMALL, call=True))
        if screen.others:
            column.addWidget(_line("Or", Size.SMALL, quiet=True))
        for kind, corner, told in screen.others:
            button = _button(told)
            button.setStyleSheet("text-align: left;")
            button.clicked.connect(lambda _=False, k=kind, c=corner: self.other_wanted.emit(k, c))
            column.addWidget(button)
        column.addStretch(1)
        self._inside = inside
        self._scroll.setWidget(inside)
        self._scroll.verticalScrollBar().setValue(0)
        self.setAccessibleName(f"Next: {screen.title}. {screen.facts}")

    def _same_check(self, screen: NextScreen) -> bool:
        last = self._last
        return last is not None and (last.check, last.corner) == (screen.check, screen.corner)

    def _typed_so_far(self) -> tuple[str, str]:
        if self._value is None or self._mate is None:
            return "", ""
        return self._value.text(), self._mate.text()

    def _entries(self, unit: str, typed: tuple[str, str]) -> QVBoxLayout:
        box = QVBoxLayout()
        fields = []
        for words, text in (("Here", typed[0]), ("Mate", typed[1])):
            entry = QLineEdit(text)
            entry.setMinimumHeight(TARGET)
            entry.setValidator(QDoubleValidator(0.0, 1e9, 4, entry))
            entry.setAccessibleName(f"{words}, {unit}")
            entry.returnPressed.connect(self._send_value)
            row = QHBoxLayout()
            name = QLabel(words)
            name.setFixedWidth(44)
            row.addWidget(name)
            row.addWidget(entry, 1)
            row.addWidget(QLabel(unit))
            box.addLayout(row)
            fields.append(entry)
        self._value, self._mate = fields
        enter = _button("Enter the value")
        enter.setProperty("main", True)
        enter.clicked.connect(self._send_value)
        opened = _button("Open, no reading at all")
        opened.clicked.connect(lambda: self._send(None, _number(self._mate)))
        box.addWidget(enter)
        box.addWidget(opened)
        return box

    def _send_value(self) -> None:
        value = _number(self._value)
        if value is not None:
            self._send(value, _number(self._mate))

    def _send(self, value: float | None, mate: float | None) -> None:
        if self._last is not None:
            self.measured.emit(self._last.check, self._last.corner, value, mate)


def _number(entry: QLineEdit | None) -> float | None:
    text = entry.text().strip().replace(",", ".") if entry is not None else ""
    try:
        return float(text)
    except ValueError:
        return None


def _line(text: str, size: Size, *, bold: bool = False, quiet: bool = False, call: bool = False) -> QLabel:
    label = QLabel(text)
    label.setFont(font(size, bold=bold))
    label.setWordWrap(True)
    label.setTextFormat(Qt.TextFormat.PlainText)
    label.setProperty("quiet", quiet)
    label.setProperty("call", call)
    label.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
    return label


def _button(words: str) -> QPushButton:
    """As wide as the panel; its words may take two lines."""
    button = QPushButton()
    button.setAccessibleName(words)
    button.setMinimumHeight(TARGET)
    button.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
    button.setText(_two_lines(words))
    return button


def _two_lines(words: str, most: int = 32) -> str:
    if len(words) <= most:
        return words
    cut = words.rfind(" ", 0, most)
    return words if cut <= 0 else f"{words[:cut]}\n{words[cut + 1 :]}"
