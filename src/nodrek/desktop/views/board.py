"""A station's page: large choices, a few numbers, typed codes, what was entered."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget

from nodrek.desktop.state.board import BoardScreen
from nodrek.desktop.views.flow import FlowLayout
from nodrek.desktop.views.number import NumberEntry
from nodrek.desktop.views.theme import STEP, TARGET, Look, Size, font


class BoardView(QWidget):
    """Shows a `BoardScreen`; rebuilt only where its choices are others, else only ticked anew."""

    pressed = Signal(str, str)
    typed = Signal(str)
    number_typed = Signal(str, object)
    remove_wanted = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self._shape: tuple[object, ...] = ()
        self._buttons: dict[tuple[str, str], QPushButton] = {}
        self._titles: dict[str, QLabel] = {}
        self._numbers: dict[str, NumberEntry] = {}
        self._rows = QVBoxLayout()
        self._facts = QLabel()
        self._entry: QLineEdit | None = None
        self._layout = QVBoxLayout(self)
        self._layout.setContentsMargins(STEP, 0, STEP, STEP)
        self._layout.setSpacing(STEP)
        self._inside: QWidget | None = None

    def show_board(self, screen: BoardScreen, look: Look) -> None:
        shape = (
            screen.title,
            tuple((g.key, tuple(c.key for c in g.choices)) for g in screen.groups),
            tuple(f.key for f in screen.fields),
        )
        if shape != self._shape:
            self._shape = shape
            self._build(screen)
        for group in screen.groups:
            self._titles[group.key].setText(group.title)
            for choice in group.choices:
                button = self._buttons[group.key, choice.key]
                button.setText(("✓  " if choice.on else "") + choice.words)
                button.setChecked(choice.on)
        for field in screen.fields:
            entry = self._numbers[field.key]
            if not entry.hasFocus():
                entry.setText(field.value)
        self._facts.setText("\n".join(screen.facts))
        self._facts.setVisible(bool(screen.facts))
        self._list_rows(screen)
        self._claim_height()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._claim_height()

    def _claim_height(self) -> None:
        """As high as its lines need at this width: what is around it scrolls, nothing is squeezed."""
        if self._inside is not None:
            self.setMinimumHeight(max(0, self._layout.totalHeightForWidth(self.width())))

    def _build(self, screen: BoardScreen) -> None:
        if self._inside is not None:
            self._inside.hide()
            self._inside.deleteLater()
        inside = QWidget()
        self._inside = inside
        column = QVBoxLayout(inside)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(STEP)
        self._buttons, self._titles, self._numbers, self._entry = {}, {}, {}, None
        title = _words(screen.title, Size.TITLE, bold=True)
        sentence = _words(screen.sentence, Size.BODY, quiet=True)
        column.addWidget(title)
        column.addWidget(sentence)
        self._facts = _words("", Size.LARGE)
        column.addWidget(self._facts)
        if screen.entry:
            column.addLayout(self._typing(screen.entry))
        for group in screen.groups:
            name = _words(group.title, Size.BODY, bold=True)
            self._titles[group.key] = name
            column.addSpacing(STEP)
            column.addWidget(name)
            holder = QWidget()
            flow = FlowLayout(holder)
            for choice in group.choices:
                button = QPushButton()
                button.setCheckable(True)
                button.setMinimumHeight(TARGET)
                button.setAccessibleName(f"{group.title}: {choice.words}")
                button.clicked.connect(lambda _=False, g=group.key, c=choice.key: self.pressed.emit(g, c))
                self._buttons[group.key, choice.key] = button
                flow.addWidget(button)
            column.addWidget(holder)
        if screen.fields:
            column.addSpacing(STEP)
            column.addWidget(self._number_row(screen))
        self._rows = QVBoxLayout()
        self._rows.setSpacing(4)
        column.addLayout(self._rows)
        column.addStretch(1)
        self._layout.addWidget(inside)

    def _typing(self, asks: str) -> QHBoxLayout:
        entry = QLineEdit()
        entry.setPlaceholderText(asks)
        entry.setAccessibleName(asks)
        entry.setMinimumHeight(TARGET)
        entry.setMaxLength(4000)
        add = QPushButton("Add")
        add.setMinimumHeight(TARGET)
        add.clicked.connect(self._typed)
        entry.returnPressed.connect(self._typed)
        self._entry = entry
        row = QHBoxLayout()
        row.addWidget(entry, 1)
        row.addWidget(add)
        return row

    def _typed(self) -> None:
        if self._entry is not None and self._entry.text().strip():
            self.typed.emit(self._entry.text())
            self._entry.clear()

    def _number_row(self, screen: BoardScreen) -> QWidget:
        holder = QWidget()
        flow = FlowLayout(holder)
        for field in screen.fields:
            box = QWidget()
            row = QHBoxLayout(box)
            row.setContentsMargins(0, 0, 2 * STEP, 0)
            entry = NumberEntry(f"{field.words} {field.unit}".strip())
            entry.setFixedWidth(92)
            entry.setAlignment(Qt.AlignmentFlag.AlignRight)
            entry.editingFinished.connect(lambda key=field.key, e=entry: self._number_done(key, e))
            self._numbers[field.key] = entry
            row.addWidget(QLabel(field.words))
            row.addWidget(entry)
            row.addWidget(QLabel(field.unit))
            flow.addWidget(box)
        return holder

    def _number_done(self, key: str, entry: NumberEntry) -> None:
        self.number_typed.emit(key, entry.number)

    def _list_rows(self, screen: BoardScreen) -> None:
        while self._rows.count():
            item = self._rows.takeAt(0)
            widget = item.widget() if item else None
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        if screen.rows_title:
            self._rows.addWidget(_words(screen.rows_title, Size.BODY, bold=bool(screen.rows), quiet=not screen.rows))
        for listed in screen.rows:
            line = QWidget()
            row = QHBoxLayout(line)
            row.setContentsMargins(0, 0, 0, 0)
            row.addWidget(_words(listed.text, Size.BODY), 1)
            take = QPushButton("Take back")
            take.setMinimumHeight(TARGET)
            take.setAccessibleName(f"Take back: {listed.text}")
            take.clicked.connect(lambda _=False, key=listed.key: self.remove_wanted.emit(key))
            row.addWidget(take)
            self._rows.addWidget(line)


def _words(text: str, size: Size, *, bold: bool = False, quiet: bool = False) -> QLabel:
    label = QLabel(text)
    label.setFont(font(size, bold=bold))
    label.setWordWrap(True)
    label.setTextFormat(Qt.TextFormat.PlainText)
    if quiet:
        label.setProperty("quiet", True)
    return label
