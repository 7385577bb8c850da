"""The wire from control unit to sensor: where the break is likely, where to probe next."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from nodrek.desktop.state.proof import LoomScreen, SegmentRow
from nodrek.desktop.views.flow import FlowLayout
from nodrek.desktop.views.number import NumberEntry
from nodrek.desktop.views.theme import STEP, TARGET, Look, Size, font
from nodrek.desktop.views.wrapped import whole_units

ROW = 46
LINE_X = 34
READING_X = 290


class WirePicture(QWidget):
    """The wire from top (control unit) to bottom (sensor); a press chooses where to measure."""

    point_pressed = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self._rows: tuple[SegmentRow, ...] = ()
        self._look: Look | None = None
        self._chosen: int | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Wire")

    def sizeHint(self) -> QSize:
        return QSize(420, ROW * len(self._rows) + 40)

    def show_wire(self, rows: tuple[SegmentRow, ...], chosen: int | None, look: Look) -> None:
        self._rows, self._chosen, self._look = rows, chosen, look
        self.setAccessibleDescription("; ".join(f"{r.name}: {r.share_words} {r.reading}" for r in rows))
        self.updateGeometry()
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        index = int((event.position().y() - 20) // ROW)
        if 0 <= index < len(self._rows):
            self.point_pressed.emit(index)

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._look is None or not self._rows:
            return
        look, painter = self._look, QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(Size.SMALL))
        painter.setPen(QColor(look.quiet))
        painter.drawText(QPointF(LINE_X + 22, 14), "control unit")
        most = max(r.share for r in self._rows)
        for i, row in enumerate(self._rows):
            shade = QColor(look.call)
            shade.setAlphaF(0.06 + 0.6 * row.share / most)
            painter.fillRect(QRectF(LINE_X - 16, 20 + i * ROW, 32, ROW), shade)
        for i, row in enumerate(self._rows):
            top = 20 + i * ROW
            painter.setPen(QPen(QColor(look.ink), 3))
            painter.drawLine(QPointF(LINE_X, top), QPointF(LINE_X, top + ROW))
            self._draw_end(painter, row, i, top + ROW, look)
            painter.setPen(QColor(look.ink))
            painter.setFont(font(Size.BODY, bold=row.likeliest))
            painter.drawText(QRectF(LINE_X + 26, top + 2, 320, 22), row.name)
            painter.setFont(font(Size.SMALL))
            painter.setPen(QColor(look.quiet))
            told = f"{row.kind} · break here {row.share_words}"
            painter.drawText(QRectF(LINE_X + 26, top + 22, 320, 20), told)
        end = 20 + ROW * len(self._rows)
        painter.setPen(QColor(look.quiet))
        painter.drawText(QPointF(LINE_X + 22, end + 16), "sensor")

    def _draw_end(self, painter: QPainter, row: SegmentRow, index: int, y: float, look: Look) -> None:
        """The point at a segment's far end: square for a connector, round else; open where pierced."""
        painter.setBrush(QColor(look.background if row.hole else look.ink))
        painter.setPen(QPen(QColor(look.ink), 2))
        box = QRectF(LINE_X - 7, y - 7, 14, 14)
        if row.is_connector:
            painter.drawRect(box)
        else:
            painter.drawEllipse(box)
        if index == self._chosen:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(look.accent), 2.5))
            painter.drawEllipse(box.adjusted(-6, -6, 6, 6))
        if row.reading:
            painter.setPen(QColor(look.ink))
            painter.setFont(font(Size.SMALL, bold=True))
            painter.drawText(QRectF(READING_X, y - 12, 120, 24), Qt.AlignmentFlag.AlignVCenter, row.reading)


class LoomView(QWidget):
    """Picks a wire, shows the search, takes ohms, counts holes."""

    wire_picked = Signal(str)
    wire_described = Signal(str)
    read = Signal(int, object, bool)
    sealed = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self._screen: LoomScreen | None = None
        self._look: Look | None = None
        self._chosen: int | None = None
        self._title, self._sentence, self._at, self._caution = QLabel(), QLabel(), QLabel(), QLabel()
        self._caution.setProperty("call", True)
        self._caution.setFont(font(Size.SMALL))
        self._title.setFont(font(Size.TITLE, bold=True))
        self._sentence.setFont(font(Size.LARGE))
        for label in (self._sentence, self._at, self._caution):
            label.setWordWrap(True)
        self._picture = WirePicture()
        self._picture.point_pressed.connect(self._choose)
        self._ohm = NumberEntry("Ohms up to the chosen point")
        self._ohm.setFixedWidth(110)
        self._ohm.returnPressed.connect(self._enter)
        self._enter_button, self._open_button = QPushButton("Enter the ohms"), QPushButton("Open")
        self._enter_button.setProperty("main", True)
        self._enter_button.clicked.connect(self._enter)
        self._open_button.clicked.connect(lambda: self._send(None))
        entry = QHBoxLayout()
        entry.addWidget(self._ohm)
        entry.addWidget(QLabel("ohm"))
        entry.addWidget(self._enter_button)
        entry.addWidget(self._open_button)
        entry.addStretch(1)
        self._entry = QWidget()
        self._entry.setLayout(entry)
        self._holes, self._wires = QVBoxLayout(), QWidget()
        self._wire_flow = FlowLayout(self._wires)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(STEP, 0, STEP, STEP)
        layout.setSpacing(STEP)
        for widget in (self._title, self._sentence, self._caution, self._at, self._entry):
            layout.addWidget(widget)
        layout.addLayout(self._holes)
        layout.addWidget(self._picture)
        layout.addWidget(self._wires)
        self._describe = QLineEdit()
        self._describe.setPlaceholderText("Or in words: plug connector, sill under covers, bend, flexing part")
        self._describe.setAccessibleName("Describe the wire from the control unit to the sensor")
        self._describe.setMinimumHeight(TARGET)
        self._describe.setMaxLength(2000)
        self._describe.returnPressed.connect(self._described)
        layout.addWidget(self._describe)
        layout.addStretch(1)

    def show_loom(self, screen: LoomScreen, look: Look) -> None:
        if (self._screen, self._look) == (screen, look):
            return
        if self._screen is None or self._screen.wires != screen.wires:
            for name in screen.wires:
                button = QPushButton(name)
                button.setMinimumHeight(TARGET)
                button.clicked.connect(lambda _=False, n=name: self.wire_picked.emit(n))
                self._wire_flow.addWidget(button)
        self._screen, self._look = screen, look
        self._chosen = screen.probe
        self._title.setText(screen.title)
        self._sentence.setText(whole_units(screen.sentence))
        self._caution.setText(screen.caution)
        self._caution.setVisible(bool(screen.caution))
        while self._holes.count():
            item = self._holes.takeAt(0)
            widget = item.widget() if item else None
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        for index, name in screen.holes:
            button = QPushButton(f"Hole at “{name}” is sealed")
            button.setMinimumHeight(TARGET)
            button.clicked.connect(lambda _=False, i=index: self.sealed.emit(i))
            self._holes.addWidget(button)
        self._show_chosen()

    def _choose(self, index: int) -> None:
        self._chosen = index
        self._show_chosen()

    def _show_chosen(self) -> None:
        if self._screen is None or self._look is None:
            return
        rows = self._screen.segments
        can = bool(rows) and self._chosen is not None
        self._entry.setVisible(can)
        self._at.setVisible(can)
        self._picture.setVisible(bool(rows))
        if can and self._chosen is not None:
            self._at.setText(
                f"Reading up to the far end of “{rows[self._chosen].name}” (press another point to change):"
            )
        self._picture.show_wire(rows, self._chosen, self._look)

    def _described(self) -> None:
        if self._describe.text().strip():
            self.wire_described.emit(self._describe.text())
            self._describe.clear()

    def _enter(self) -> None:
        if self._ohm.number is not None:
            self._send(self._ohm.number)

    def _send(self, ohm: float | None) -> None:
        if self._screen is None or self._chosen is None:
            return
        pierced = not self._screen.segments[self._chosen].is_connector
        self._ohm.clear()
        self.read.emit(self._chosen, ohm, pierced)
