"""The empty stage: drop a log, open one, or try the demo."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QLabel, QPushButton, QVBoxLayout, QWidget

from nodrek.desktop.views.theme import STEP, TARGET, Size, font


class InviteView(QWidget):
    """What to do when there is nothing yet."""

    open_wanted = Signal()
    demo_wanted = Signal(str)

    def __init__(self, demos: tuple[tuple[str, str], ...]) -> None:
        super().__init__()
        title = QLabel("Drop a log of a drive anywhere in this window")
        title.setFont(font(Size.TITLE, bold=True))
        title.setWordWrap(True)
        explain = QLabel(
            "A table with a time column and the speeds of two to four wheels. "
            "Nodrek compares the corners and says which one is bad."
        )
        explain.setWordWrap(True)
        opener = QPushButton("Open a log…")
        opener.setProperty("main", True)
        opener.setMinimumHeight(TARGET + 8)
        opener.clicked.connect(self.open_wanted)
        story = QLabel("Or try one of the island post vans in the workshop:")
        story.setProperty("quiet", True)
        choices = QVBoxLayout()
        choices.setSpacing(STEP)
        for name, words in demos:
            button = QPushButton(words)
            button.setMinimumHeight(TARGET + 8)
            button.setStyleSheet("text-align: left;")
            button.clicked.connect(lambda _=False, chosen=name: self.demo_wanted.emit(chosen))
            choices.addWidget(button)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(4 * STEP, STEP, 4 * STEP, STEP)
        layout.setSpacing(2 * STEP)
        layout.addStretch(2)
        layout.addWidget(title)
        layout.addWidget(explain)
        layout.addWidget(opener, 0, Qt.AlignmentFlag.AlignLeft)
        layout.addWidget(story)
        layout.addLayout(choices)
        layout.addStretch(3)
