"""One line for a number, typed with point or comma as people are used to."""

from __future__ import annotations

from PySide6.QtCore import QRegularExpression
from PySide6.QtGui import QRegularExpressionValidator
from PySide6.QtWidgets import QLineEdit

from nodrek.desktop.views.theme import TARGET

# Qt's own check of numbers takes a comma for a separator of thousands and drops it: 75,5 would be 755
NUMBER = QRegularExpression(r"\d{0,9}([.,]\d{0,4})?")


class NumberEntry(QLineEdit):
    """Takes digits with one point or comma; nothing else can be typed."""

    def __init__(self, name: str = "") -> None:
        super().__init__()
        self.setValidator(QRegularExpressionValidator(NUMBER, self))
        self.setMinimumHeight(TARGET)
        self.setAccessibleName(name)

    @property
    def number(self) -> float | None:
        """The number; ``None`` where there is none."""
        try:
            return float(self.text().strip().replace(",", "."))
        except ValueError:
            return None
