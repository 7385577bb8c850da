"""A view that explains itself where it has nothing to show."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel, QStackedLayout, QWidget


class OrEmpty(QStackedLayout):
    """Shows `full`, or one sentence in its place."""

    def __init__(self, owner: QWidget, full: QWidget) -> None:
        super().__init__(owner)
        self._sentence = QLabel()
        self._sentence.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._sentence.setWordWrap(True)
        self.addWidget(full)
        self.addWidget(self._sentence)

    def say(self, sentence: str) -> None:
        """The sentence in place of the view; an empty one shows the view."""
        self._sentence.setText(sentence)
        self.setCurrentIndex(1 if sentence else 0)
