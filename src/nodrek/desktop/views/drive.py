"""The drive view: speeds above, deviation from what the others say below, linked."""

from __future__ import annotations

import pyqtgraph as pg
from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QColor, QFontMetricsF, QKeyEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from nodrek.core.model import Corner
from nodrek.desktop.state.screen import DriveScreen, Trace
from nodrek.desktop.views.theme import PATTERNS, STEP, Look, Size, font

LABEL_MARGIN = 46
ZOOM = 1.6
STRIDE = 0.25
"""Share of the visible stretch that an arrow key moves."""


class DriveView(QWidget):
    """Two linked plots. Emits the stretch that should become visible; draws what it is given."""

    window_wanted = Signal(float, float)
    whole_wanted = Signal()
    limit_wanted = Signal()
    unlimit_wanted = Signal()
    back_wanted = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._screen: DriveScreen | None = None
        self._look: Look | None = None
        self._updating = False
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.speeds = _plot("Speed")
        self.deviations = _plot("Deviation from what the other corners say")
        self.deviations.setXLink(self.speeds)
        self.speeds.sigXRangeChanged.connect(self._moved)
        self._lines: dict[tuple[str, Corner], pg.PlotDataItem] = {}
        self._key = CornerKey()
        self._drops: dict[Corner, pg.PlotDataItem] = {}
        self._extras: list[tuple[pg.PlotWidget, object]] = []
        self._extras_of: tuple[object, ...] | None = None
        self._part = QLabel()
        self._part.setProperty("quiet", True)
        self._back = QPushButton("Back to the turns")
        self._limit = QPushButton("Answer for this part only")
        self._unlimit = QPushButton("Answer for the whole log")
        closer, wider, whole = QPushButton("Closer"), QPushButton("Wider"), QPushButton("Whole drive")
        closer.clicked.connect(lambda: self._zoom(1 / ZOOM))
        wider.clicked.connect(lambda: self._zoom(ZOOM))
        whole.clicked.connect(self.whole_wanted)
        self._back.clicked.connect(self.back_wanted)
        self._limit.clicked.connect(self.limit_wanted)
        self._unlimit.clicked.connect(self.unlimit_wanted)
        self._mark = QLabel()
        self._mark.setProperty("call", True)
        row = QHBoxLayout()
        row.setSpacing(STEP)
        row.addWidget(self._back)
        row.addWidget(self._part)
        row.addWidget(self._mark)
        row.addStretch(1)
        for button in (self._limit, self._unlimit, closer, wider, whole):
            row.addWidget(button)
        self._top, self._bottom = QLabel(), QLabel()
        for label in (self._top, self._bottom):
            label.setFont(font(Size.SMALL))
            label.setProperty("quiet", True)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(2)
        heading = QHBoxLayout()
        heading.addWidget(self._top)
        heading.addStretch(1)
        heading.addWidget(self._key)
        layout.addLayout(heading)
        layout.addWidget(self.speeds, 5)
        layout.addWidget(self._bottom)
        layout.addWidget(self.deviations, 6)
        layout.addLayout(row)

    def show_drive(self, screen: DriveScreen, look: Look) -> None:
        self._updating = True
        restyle = look is not self._look
        rescale = (
            self._screen is None
            or self._screen.whole != screen.whole
            or (self._screen.speed_range != screen.speed_range)
        )
        self._screen, self._look = screen, look
        if restyle:
            for plot in (self.speeds, self.deviations):
                _style(plot, look)
        self._top.setText(f"Speed, {screen.speed_unit}, against time, min:s")
        self._bottom.setText("Deviation from what the other corners say, %")
        self._draw_lines("speed", self.speeds, screen.speeds, look)
        self._draw_lines("deviation", self.deviations, screen.deviations, look)
        self._draw_dropouts(screen, look)
        self._draw_extras(screen, look)
        if restyle or rescale:
            self.speeds.setYRange(*screen.speed_range, padding=0.06)
            self.deviations.setYRange(*screen.deviation_range, padding=0.02)
            for plot in (self.speeds, self.deviations):
                plot.setLimits(xMin=screen.whole[0], xMax=screen.whole[1], minXRange=0.2)
        self.speeds.setXRange(*screen.window, padding=0)
        self._key.show_key(screen.speeds or screen.deviations, look)
        self._part.setText(screen.part_text)
        self._mark.setText(screen.mark_text)
        self._mark.setVisible(bool(screen.mark_text))
        self._part.setVisible(not screen.mark_text)
        self._back.setVisible(screen.came_from_turns)
        self._limit.setVisible(screen.can_limit and not screen.came_from_turns)
        self._unlimit.setVisible(screen.is_limited)
        self._updating = False

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        if key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self._zoom(1 / ZOOM)
        elif key == Qt.Key.Key_Minus:
            self._zoom(ZOOM)
        elif key == Qt.Key.Key_0:
            self.whole_wanted.emit()
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self._step(-STRIDE if key == Qt.Key.Key_Left else STRIDE)
        elif key in (Qt.Key.Key_Escape, Qt.Key.Key_Backspace):
            self.back_wanted.emit()
        else:
            super().keyPressEvent(event)

    def _zoom(self, factor: float) -> None:
        if self._screen is None:
            return
        low, high = self._screen.window
        middle, half = (low + high) / 2, (high - low) * factor / 2
        self.window_wanted.emit(
            max(low if factor < 0 else middle - half, self._screen.whole[0]), min(middle + half, self._screen.whole[1])
        )

    def _step(self, share: float) -> None:
        if self._screen is None:
            return
        low, high = self._screen.window
        shift = (high - low) * share
        shift = max(self._screen.whole[0] - low, min(self._screen.whole[1] - high, shift))
        self.window_wanted.emit(low + shift, high + shift)

    def _moved(self, _: object, bounds: tuple[float, float]) -> None:
        if not self._updating:
            self.window_wanted.emit(*bounds)

    def _draw_lines(self, kind: str, plot: pg.PlotWidget, traces: tuple[Trace, ...], look: Look) -> None:
        shown = {(kind, t.corner) for t in traces}
        for key, line in self._lines.items():
            if key[0] == kind:
                line.setVisible(key in shown)
        for order, trace in enumerate(traces):
            key = (kind, trace.corner)
            if key not in self._lines:
                self._lines[key] = plot.plot([], [], connect="finite", skipFiniteCheck=False)
            line = self._lines[key]
            line.setZValue(order)
            line.setPen(_pen(trace, look))
            line.setData(trace.x, trace.y)

    def _draw_dropouts(self, screen: DriveScreen, look: Look) -> None:
        """Short upright strokes near the upper edge of the deviation, one row a corner."""
        low, high = screen.deviation_range
        for row, (corner, times) in enumerate(screen.dropouts):
            if corner not in self._drops:
                self._drops[corner] = self.deviations.plot([], [], pen=None, symbol="t", symbolSize=7)
            item = self._drops[corner]
            item.setSymbolBrush(QColor(look.corners[corner]))
            item.setSymbolPen(None)
            level = low + (0.03 + 0.05 * row) * (high - low)
            item.setData(list(times), [level] * len(times))

    def _draw_extras(self, screen: DriveScreen, look: Look) -> None:
        """Bands where the vehicle stands and strokes at marked moments; made anew only when they change."""
        wanted = (screen.stops, screen.marks, look)
        if wanted == self._extras_of:
            return
        self._extras_of = wanted
        for plot, item in self._extras:
            plot.removeItem(item)
        self._extras = []
        still = QColor(look.hairline)
        still.setAlpha(110)
        starts, ends = [s[0] for s in screen.stops], [s[1] for s in screen.stops]
        xs = [x for moment in screen.marks for x in (moment, moment)]
        mark_pen = pg.mkPen(look.call, width=1, style=Qt.PenStyle.DotLine)
        for plot, (low, high) in (
            (self.speeds, screen.speed_range),
            (self.deviations, screen.deviation_range),
        ):
            # one item for all, since each item costs time in every frame
            reach = 2.0 * (high - low)
            bands = pg.BarGraphItem(x0=starts, x1=ends, y0=low - reach, height=3 * reach, brush=still, pen=None)
            bands.setZValue(-20)
            strokes = pg.PlotDataItem(
                xs, [low - reach, high + reach] * len(screen.marks), connect="pairs", pen=mark_pen
            )
            strokes.setZValue(-10)
            for item in (bands, strokes):
                plot.addItem(item, ignoreBounds=True)
                self._extras.append((plot, item))


class ClockAxis(pg.AxisItem):
    """Seconds of the log as people say them: 1:40, and tenths where they are seen."""

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        digits = 0 if spacing >= 1 else 1 if spacing >= 0.1 else 2
        return [clock_words(v, digits) for v in values]


def clock_words(seconds: float, digits: int = 0) -> str:
    """``100.0`` → ``"1:40"``; hours only where there are some."""
    whole = round(seconds, digits)
    hours, rest = divmod(whole, 3600)
    minutes, left = divmod(rest, 60)
    width = 3 + digits if digits else 2
    tail = f"{int(minutes):02d}:{left:0{width}.{digits}f}" if hours else f"{int(minutes)}:{left:0{width}.{digits}f}"
    return f"{int(hours)}:{tail}" if hours else tail


class CornerKey(QWidget):
    """Line samples with the corners' names, the chosen one first."""

    WIDTH = 62

    def __init__(self) -> None:
        super().__init__()
        self._traces: tuple[Trace, ...] = ()
        self._look: Look | None = None
        self.setFixedHeight(20)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        return QSize(self.WIDTH * 4, 20)

    def show_key(self, traces: tuple[Trace, ...], look: Look) -> None:
        self._traces, self._look = tuple(sorted(traces, key=lambda t: t.corner.value)), look
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._look is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for k, trace in enumerate(self._traces):
            x = self.width() - self.WIDTH * (len(self._traces) - k)
            pen = QPen(QColor(self._look.corners[trace.corner]), 3 if trace.prominent else 1.6)
            pen.setStyle(Qt.PenStyle.SolidLine if trace.prominent else PATTERNS[trace.corner])
            painter.setPen(pen)
            painter.drawLine(x, 10, x + 26, 10)
            painter.setFont(font(Size.SMALL, bold=trace.prominent))
            painter.drawText(x + 32, 15, trace.corner.value)


def _plot(name: str) -> pg.PlotWidget:
    plot = pg.PlotWidget(axisItems={"bottom": ClockAxis("bottom")})
    plot.setMenuEnabled(False)
    plot.hideButtons()
    plot.setMouseEnabled(x=True, y=False)
    plot.setAccessibleName(name)
    plot.setFrameShape(plot.Shape.NoFrame)
    for side in ("left", "bottom"):
        axis = plot.getAxis(side)
        axis.setStyle(tickLength=5, tickTextOffset=5)
        axis.setTickFont(font(Size.SMALL))
    plot.getAxis("left").setWidth(LABEL_MARGIN)
    plot.getViewBox().setDefaultPadding(0.0)
    # room for the upper half of a label at the very top of the axis
    plot.getPlotItem().setContentsMargins(0.0, QFontMetricsF(font(Size.SMALL)).height() / 2.0, 0.0, 0.0)
    return plot


def _style(plot: pg.PlotWidget, look: Look) -> None:
    plot.setBackground(look.background)
    for side in ("left", "bottom"):
        axis = plot.getAxis(side)
        axis.setPen(pg.mkPen(look.hairline))
        axis.setTextPen(pg.mkPen(look.quiet))


def _pen(trace: Trace, look: Look) -> QPen:
    """Strong for the chosen corner, pale for its mates.

    An envelope of many samples a pixel is drawn thin and without pattern: a pattern would
    not be seen in it, and patterns on long lines take most of a frame's time.
    """
    if trace.prominent:
        return pg.mkPen(look.corners[trace.corner], width=1 if trace.thinned else 1.8)
    colour = QColor(look.corners[trace.corner])
    colour.setAlpha(150)
    style = Qt.PenStyle.SolidLine if trace.thinned else PATTERNS[trace.corner]
    return pg.mkPen(colour, width=1, style=style)
