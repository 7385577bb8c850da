"""The next check: one sentence, why, how, caution, and its answers as buttons."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from nodrek.desktop.state.proof import MOST_OTHERS, NextScreen
from nodrek.desktop.views.number import NumberEntry
from nodrek.desktop.views.theme import STEP, TARGET, Look, Size, font
from nodrek.desktop.views.wrapped import whole_units

NEXT_WIDTH = 312
MOST_ANSWERS = 6


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
        self._screen: NextScreen | None = None
        # every widget is made once and only filled anew: a press must be answered at once
        self._plain, self._title = _line(Size.BODY), _line(Size.LARGE, bold=True)
        self._facts, self._usual = _line(Size.SMALL, quiet=True), _line(Size.SMALL, quiet=True)
        self._cautions, self._warnings = _line(Size.SMALL, call=True), _line(Size.SMALL, call=True)
        self._steps, self._undo, self._why = _line(Size.SMALL), _line(Size.SMALL), _line(Size.SMALL, quiet=True)
        self._question = _line(Size.BODY, call=True)
        self._or = _line(Size.SMALL, quiet=True)
        self._answers = [_button(main=True) for _ in range(MOST_ANSWERS)]
        self._others = [_button() for _ in range(MOST_OTHERS)]
        self._accept, self._enter, self._open = _button(), _button(main=True), _button()
        self._value, self._mate = NumberEntry("Measured here"), NumberEntry("Measured at the mate")
        self._units = (QLabel(), QLabel())
        self._values = self._entries()
        for index, button in enumerate(self._answers):
            button.clicked.connect(lambda _=False, i=index: self._answer(i))
        for index, button in enumerate(self._others):
            button.setStyleSheet("text-align: left;")
            button.clicked.connect(lambda _=False, i=index: self._other(i))
        self._accept.clicked.connect(self.accepted)
        inside = QWidget()
        column = QVBoxLayout(inside)
        column.setContentsMargins(STEP, 0, STEP, 0)
        column.setSpacing(STEP)
        head = _line(Size.SMALL, quiet=True)
        head.setText("Next")
        for widget in (
            head, self._title, self._plain, self._facts, self._cautions, self._steps, self._usual, self._values,
            *self._answers, self._question, self._accept, self._undo, self._why, self._warnings, self._or,
            *self._others,
        ):  # fmt: skip
            column.addWidget(widget)
        column.addStretch(1)
        self._scroll = QScrollArea()
        self._scroll.setWidgetResizable(True)
        self._scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._scroll.setWidget(inside)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(STEP, STEP, 2, STEP)
        layout.addWidget(self._scroll)

    def show_next(self, screen: NextScreen, look: Look) -> None:
        last, self._screen = self._screen, screen
        if screen == last:
            return
        if last is None or (last.check, last.corner) != (screen.check, screen.corner):
            self._value.clear()
            self._mate.clear()
            self._scroll.verticalScrollBar().setValue(0)
        is_check = screen.check is not None
        _fill(self._title, screen.title if is_check else "")
        _fill(self._plain, "" if is_check else screen.title)
        _fill(self._facts, screen.facts)
        _fill(self._cautions, "\n".join(f"Caution: {c}" for c in screen.cautions))
        _fill(self._steps, "\n".join(f"{n}.  {step}" for n, step in enumerate(screen.steps, start=1)))
        _fill(self._usual, screen.usual)
        self._values.setVisible(bool(screen.unit))
        for label in self._units:
            label.setText(screen.unit)
        _fill_buttons(self._answers, tuple(told for _, told in screen.answers))
        _fill(self._question, f"{screen.question[:1].upper()}{screen.question[1:]}." if screen.question else "")
        _fill_buttons([self._accept], (screen.accept,) if screen.accept else ())
        _fill(self._undo, screen.undo)
        _fill(self._why, f"Why: {screen.why}" if screen.why else "")
        _fill(self._warnings, "\n".join(screen.warnings))
        _fill(self._or, "Or" if screen.others else "")
        _fill_buttons(self._others, tuple(told for _, _, told in screen.others))
        self.setAccessibleName(f"Next: {screen.title}. {screen.facts}")

    def _answer(self, index: int) -> None:
        if self._screen is not None:
            self.answered.emit(self._screen.check, self._screen.corner, self._screen.answers[index][0])

    def _other(self, index: int) -> None:
        if self._screen is not None:
            kind, corner, _ = self._screen.others[index]
            self.other_wanted.emit(kind, corner)

    def _entries(self) -> QWidget:
        holder = QWidget()
        holder.setProperty("clear", True)
        box = QVBoxLayout(holder)
        box.setContentsMargins(0, 0, 0, 0)
        for words, entry, unit in (("Here", self._value, self._units[0]), ("Mate", self._mate, self._units[1])):
            entry.returnPressed.connect(self._send_value)
            row = QHBoxLayout()
            name = QLabel(words)
            name.setFixedWidth(44)
            row.addWidget(name)
            row.addWidget(entry, 1)
            row.addWidget(unit)
            box.addLayout(row)
        _fill_buttons([self._enter, self._open], ("Enter the value", "Open, no reading at all"))
        self._enter.clicked.connect(self._send_value)
        self._open.clicked.connect(lambda: self._send(None, self._mate.number))
        box.addWidget(self._enter)
        box.addWidget(self._open)
        return holder

    def _send_value(self) -> None:
        value = self._value.number
        if value is not None:
            self._send(value, self._mate.number)

    def _send(self, value: float | None, mate: float | None) -> None:
        if self._screen is not None:
            self.measured.emit(self._screen.check, self._screen.corner, value, mate)


def _line(size: Size, *, bold: bool = False, quiet: bool = False, call: bool = False) -> QLabel:
    label = QLabel()
    label.setFont(font(size, bold=bold))
    label.setWordWrap(True)
    label.setTextFormat(Qt.TextFormat.PlainText)
    label.setProperty("quiet", quiet)
    label.setProperty("call", call)
    label.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
    return label


def _fill(label: QLabel, text: str) -> None:
    label.setText(whole_units(text))
    label.setVisible(bool(text))


def _button(*, main: bool = False) -> QPushButton:
    button = QPushButton()
    button.setProperty("main", main)
    button.setMinimumHeight(TARGET)
    # as wide as the panel, whatever its words
    button.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
    return button


def _fill_buttons(buttons: list[QPushButton], words: tuple[str, ...]) -> None:
    for index, button in enumerate(buttons):
        told = words[index] if index < len(words) else ""
        button.setVisible(bool(told))
        if told:
            button.setText(_two_lines(told))
            button.setAccessibleName(told)


def _two_lines(words: str, most: int = 32) -> str:
    if len(words) <= most:
        return words
    cut = words.rfind(" ", 0, most)
    return words if cut <= 0 else f"{words[:cut]}\n{words[cut + 1 :]}"
