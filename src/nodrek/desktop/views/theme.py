"""Tokens: every colour, size and type of the window, in two looks.

Corner hues: Okabe & Ito, Color Universal Design (2008), darkened or lightened until strokes
reach 3:1 against the background of their look; each corner has a line pattern and a marker
of its own as well, so that no corner is told by colour alone.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from importlib import resources

from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PySide6.QtWidgets import QApplication

from nodrek.core.model import Corner

STEP = 8
TARGET = 44
"""Smallest side of anything that is pressed, with gloves on."""
RADIUS = 5
PLAN_WIDTH = 288


class Size(StrEnum):
    """The four sizes of type."""

    SMALL = "small"
    BODY = "body"
    LARGE = "large"
    TITLE = "title"


PIXELS = {Size.SMALL: 13, Size.BODY: 15, Size.LARGE: 19, Size.TITLE: 25}
FAMILY = "B612"


@dataclass(frozen=True)
class Look:
    """Colours of one look as ``#rrggbb``; ``low`` and ``high``: ends of the raster's scale."""

    name: str
    background: str
    raised: str
    ink: str
    quiet: str
    hairline: str
    accent: str
    on_accent: str
    call: str
    low: str
    high: str
    unseen: str
    corners: Mapping[Corner, str]


BAY = Look(
    name="bay",
    background="#ece7de", raised="#f7f4ee", ink="#20242a", quiet="#585c5a", hairline="#c9c1b4",
    accent="#0b5a68", on_accent="#ffffff", call="#8a4b00",
    low="#2a1a05", high="#7fb2b8", unseen="#efeae1",
    corners={Corner.FL: "#004080", Corner.FR: "#b84a00", Corner.RL: "#1f8a55", Corner.RR: "#9c4a7b"},
)  # fmt: skip
PIT = Look(
    name="pit",
    background="#1c2023", raised="#272c30", ink="#ece8df", quiet="#a8aba5", hairline="#454b50",
    accent="#7cc7d3", on_accent="#10252a", call="#f0b54a",
    low="#ffd58a", high="#3f7f88", unseen="#22272a",
    corners={Corner.FL: "#8fd0ff", Corner.FR: "#ef8a4c", Corner.RL: "#1fae7f", Corner.RR: "#dc94bd"},
)  # fmt: skip
LOOKS = {BAY.name: BAY, PIT.name: PIT}

PATTERNS: Mapping[Corner, Qt.PenStyle] = {
    Corner.FL: Qt.PenStyle.SolidLine,
    Corner.FR: Qt.PenStyle.DashLine,
    Corner.RL: Qt.PenStyle.DashDotLine,
    Corner.RR: Qt.PenStyle.DotLine,
}


def load_fonts() -> None:
    """Make the shipped family known to Qt; nothing is taken from the system."""
    folder = resources.files("nodrek.desktop").joinpath("fonts")
    for name in ("B612-Regular.otf", "B612-Bold.otf"):
        QFontDatabase.addApplicationFontFromData(folder.joinpath(name).read_bytes())


def font(size: Size, bold: bool = False) -> QFont:
    made = QFont(FAMILY)
    made.setPixelSize(PIXELS[size])
    made.setBold(bold)
    made.setStyleHint(QFont.StyleHint.SansSerif)
    return made


def apply_look(app: QApplication, look: Look) -> None:
    """Palette and style sheet of the whole application."""
    app.setFont(font(Size.BODY))
    palette = QPalette()
    roles = {
        QPalette.ColorRole.Window: look.background,
        QPalette.ColorRole.WindowText: look.ink,
        QPalette.ColorRole.Base: look.raised,
        QPalette.ColorRole.AlternateBase: look.background,
        QPalette.ColorRole.Text: look.ink,
        QPalette.ColorRole.Button: look.raised,
        QPalette.ColorRole.ButtonText: look.ink,
        QPalette.ColorRole.Highlight: look.accent,
        QPalette.ColorRole.HighlightedText: look.on_accent,
        QPalette.ColorRole.ToolTipBase: look.raised,
        QPalette.ColorRole.ToolTipText: look.ink,
        QPalette.ColorRole.PlaceholderText: look.quiet,
        QPalette.ColorRole.Link: look.accent,
    }
    for role, colour in roles.items():
        palette.setColor(role, QColor(colour))
    palette.setColor(QPalette.ColorGroup.Disabled, QPalette.ColorRole.ButtonText, QColor(look.quiet))
    palette.setColor(QPalette.ColorGroup.Disabled, QPalette.ColorRole.Text, QColor(look.quiet))
    app.setPalette(palette)
    app.setStyleSheet(_sheet(look))


def _sheet(look: Look) -> str:
    return f"""
    QWidget {{ background: {look.background}; color: {look.ink}; }}
    QMenuBar, QMenu {{ background: {look.background}; color: {look.ink}; }}
    QMenuBar::item {{ padding: 8px 14px; background: transparent; }}
    QMenu::item {{ padding: 10px 28px; }}
    QMenuBar::item:selected, QMenu::item:selected {{ background: {look.accent}; color: {look.on_accent}; }}
    QMenu::item:disabled {{ color: {look.quiet}; }}
    QPushButton {{
        background: {look.raised}; color: {look.accent}; border: 1px solid {look.hairline};
        border-radius: {RADIUS}px; padding: 8px 16px; min-height: {TARGET - 18}px;
    }}
    QPushButton:hover {{ border-color: {look.accent}; }}
    QPushButton:focus {{ border: 2px solid {look.accent}; padding: 7px 15px; }}
    QPushButton:pressed, QPushButton:checked {{ background: {look.accent}; color: {look.on_accent}; }}
    QPushButton:disabled {{ color: {look.quiet}; }}
    QPushButton[main="true"] {{ background: {look.accent}; color: {look.on_accent}; border-color: {look.accent}; }}
    QPushButton[main="true"]:focus {{ border: 2px solid {look.ink}; }}
    QComboBox {{ background: {look.raised}; color: {look.ink}; border: 1px solid {look.hairline};
        border-radius: {RADIUS}px; padding: 4px 12px; }}
    QComboBox::drop-down {{ border: none; width: 36px; }}
    QComboBox QAbstractItemView {{ background: {look.raised}; color: {look.ink};
        selection-background-color: {look.accent}; selection-color: {look.on_accent}; }}
    QProgressBar {{ border: 1px solid {look.hairline}; border-radius: {RADIUS}px; background: {look.raised};
        min-height: 12px; max-height: 12px; }}
    QProgressBar::chunk {{ background: {look.accent}; border-radius: {RADIUS - 1}px; }}
    QLabel[quiet="true"] {{ color: {look.quiet}; }}
    QLabel[call="true"] {{ color: {look.call}; }}
    QScrollArea {{ border: none; }}
    QScrollBar:vertical {{ background: {look.background}; width: 18px; margin: 0; }}
    QScrollBar::handle:vertical {{ background: {look.hairline}; border-radius: 7px;
        min-height: {TARGET}px; margin: 2px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; width: 0; }}
    QScrollBar::add-page, QScrollBar::sub-page {{ background: none; }}
    QFrame[raised="true"] {{ background: {look.raised}; border: 1px solid {look.hairline};
        border-radius: {RADIUS}px; }}
    QFrame[raised="true"] QLabel {{ background: transparent; border: none; }}
    QFrame[raised="true"] QScrollArea, QFrame[raised="true"] QScrollArea > QWidget > QWidget {{
        background: {look.raised}; border: none; }}
    QWidget[clear="true"] {{ background: transparent; }}
    QLineEdit {{ background: {look.raised}; color: {look.ink}; border: 1px solid {look.quiet};
        border-radius: {RADIUS}px; padding: 4px 10px; }}
    QLineEdit:focus {{ border: 2px solid {look.accent}; padding: 3px 9px; }}
    QFrame[hairline="true"] {{ background: {look.hairline}; border: none; }}
    QSplitter::handle {{ background: {look.hairline}; }}
    QToolTip {{ background: {look.raised}; color: {look.ink}; border: 1px solid {look.hairline}; padding: 6px; }}
    """
