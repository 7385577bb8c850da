"""Drawing the state of a corner as a small ring: the same everywhere."""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from nodrek.desktop.state.screen import Glyph, RingSign

FULL = 5760
"""A whole turn in Qt's sixteenths of a degree."""
TOP = 1440
BREAKS = (0.06, 0.19, 0.24, 0.47, 0.58, 0.66, 0.83)
"""Irregular places (turns) of the gaps that stand for breaks."""


def draw_ring_sign(painter: QPainter, box: QRectF, sign: RingSign, colour: QColor) -> None:
    """Paint `sign` into the square `box`; the weight of the line is the certainty."""
    side = min(box.width(), box.height())
    thick = side * (0.045 + 0.10 * sign.weight)
    pen = QPen(colour, thick, Qt.PenStyle.SolidLine, Qt.PenCapStyle.FlatCap)
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(pen)
    inset = thick / 2 + side * 0.06
    ring = box.adjusted(inset, inset, -inset, -inset)
    _DRAWERS[sign.glyph](painter, ring, sign, pen)
    painter.restore()


def _arc(painter: QPainter, ring: QRectF, start: float, length: float) -> None:
    """An arc in turns, clockwise from the top."""
    painter.drawArc(ring, round(TOP - start * FULL), round(-length * FULL))


def _even(painter: QPainter, ring: QRectF, sign: RingSign, pen: QPen) -> None:
    painter.drawEllipse(ring)


def _unknown(painter: QPainter, ring: QRectF, sign: RingSign, pen: QPen) -> None:
    pen.setWidthF(max(1.0, pen.widthF() * 0.5))
    painter.setPen(pen)
    painter.drawEllipse(ring)


def _dotted(painter: QPainter, ring: QRectF, sign: RingSign, pen: QPen) -> None:
    for k in range(16):
        _arc(painter, ring, k / 16, 0.6 / 16)


def _notch(painter: QPainter, ring: QRectF, sign: RingSign, pen: QPen) -> None:
    gaps = sorted((c % 1.0, max(w, 0.055)) for c, w in sign.notches)
    for k, (centre, width) in enumerate(gaps):
        following = gaps[(k + 1) % len(gaps)]
        start = centre + width / 2
        length = (following[0] - following[1] / 2 - start) % 1.0 or 1.0 - width
        _arc(painter, ring, start, length)
        # the floor of the notch, thin, so that it reads as a tooth that is gone
        middle = ring.center()
        inner = ring.width() / 2 - pen.widthF()
        angle = 2 * math.pi * centre
        tip = QPointF(middle.x() + inner * math.sin(angle), middle.y() - inner * math.cos(angle))
        painter.save()
        painter.setPen(QPen(pen.color(), 0))
        painter.setBrush(pen.color())
        painter.drawEllipse(tip, pen.widthF() * 0.32, pen.widthF() * 0.32)
        painter.restore()


def _off_centre(painter: QPainter, ring: QRectF, sign: RingSign, pen: QPen) -> None:
    shift = ring.width() * 0.07
    painter.drawEllipse(ring.adjusted(0, shift, -2 * shift, -shift))
    pen.setWidthF(max(1.0, pen.widthF() * 0.35))
    painter.setPen(pen)
    _arc(painter, ring.adjusted(-shift, -shift, shift * 0.4, shift), 0.52, 0.46)


def _broken(painter: QPainter, ring: QRectF, sign: RingSign, pen: QPen) -> None:
    for k, start in enumerate(BREAKS):
        following = BREAKS[(k + 1) % len(BREAKS)]
        _arc(painter, ring, start + 0.012, (following - start) % 1.0 - 0.035)


def _empty(painter: QPainter, ring: QRectF, sign: RingSign, pen: QPen) -> None:
    y = ring.center().y()
    reach = ring.width() * 0.16
    for x in (ring.left(), ring.right()):
        painter.drawLine(QPointF(x, y - reach), QPointF(x, y + reach))


def _bar(painter: QPainter, ring: QRectF, sign: RingSign, pen: QPen) -> None:
    thin = QPen(pen)
    thin.setWidthF(max(1.2, pen.widthF() * 0.45))
    painter.setPen(thin)
    painter.drawEllipse(ring)
    painter.setPen(pen)
    y = ring.center().y()
    painter.drawLine(QPointF(ring.left() - 1, y), QPointF(ring.right() + 1, y))


def _beside(painter: QPainter, ring: QRectF, sign: RingSign, pen: QPen) -> None:
    middle = ring.center().y()
    large, small = ring.width() * 0.58, ring.width() * 0.42
    own, other = (large, small) if sign.larger else (small, large)
    pen.setWidthF(pen.widthF() * 0.8)
    painter.setPen(pen)
    painter.drawEllipse(QRectF(ring.left(), middle - own / 2, own, own))
    pen.setWidthF(max(1.0, pen.widthF() * 0.4))
    painter.setPen(pen)
    painter.drawEllipse(QRectF(ring.right() - other, middle - other / 2, other, other))


def _grainy(painter: QPainter, ring: QRectF, sign: RingSign, pen: QPen) -> None:
    """Short strokes of uneven length and place: a line that is rough all round."""
    grain = QPen(pen)
    grain.setWidthF(max(1.0, pen.widthF() * 0.42))
    painter.setPen(grain)
    for k in range(34):
        shift = ring.width() * 0.055 * math.sin(7.3 * k * k + 1.0)
        _arc(painter, ring.adjusted(-shift, -shift, shift, shift), k / 34, 0.013 + 0.010 * math.sin(3.1 * k))


def _open_below(painter: QPainter, ring: QRectF, sign: RingSign, pen: QPen) -> None:
    """Thin, open at the bottom up to a mark on either side: reads only above that speed."""
    pen.setWidthF(max(1.2, pen.widthF() * 0.5))
    painter.setPen(pen)
    _arc(painter, ring, 0.635, 0.73)
    reach = ring.width() * 0.09
    for turn in (0.365, 0.635):
        x, y = math.sin(2 * math.pi * turn), -math.cos(2 * math.pi * turn)
        middle, radius = ring.center(), ring.width() / 2
        painter.drawLine(
            QPointF(middle.x() + (radius - reach) * x, middle.y() + (radius - reach) * y),
            QPointF(middle.x() + (radius + reach) * x, middle.y() + (radius + reach) * y),
        )


def _exchanged(painter: QPainter, ring: QRectF, sign: RingSign, pen: QPen) -> None:
    """Two half rings, each moved to the other's side."""
    shift = ring.width() * 0.16
    pen.setWidthF(pen.widthF() * 0.8)
    painter.setPen(pen)
    half = ring.adjusted(shift, shift, -shift, -shift)
    _arc(painter, half.translated(-shift, -shift * 0.6), 0.0, 0.5)
    _arc(painter, half.translated(shift, shift * 0.6), 0.5, 0.5)


_DRAWERS = {
    Glyph.UNKNOWN: _unknown,
    Glyph.EVEN: _even,
    Glyph.DOTTED: _dotted,
    Glyph.NOTCH: _notch,
    Glyph.OFF_CENTRE: _off_centre,
    Glyph.BROKEN: _broken,
    Glyph.EMPTY: _empty,
    Glyph.BAR: _bar,
    Glyph.BESIDE: _beside,
    Glyph.GRAINY: _grainy,
    Glyph.OPEN_BELOW: _open_below,
    Glyph.EXCHANGED: _exchanged,
}
