"""Moments in a strip: a tick for each that a tool found, and a line where a gate is open."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from pulizia.desktop.bench.time_axis import GUTTER, TimeAxis
from pulizia.desktop.theme import colour
from pulizia.tools.base import Survey

NARROWEST_PX = 3.0


def paint_survey(painter: QPainter, axis: TimeAxis, box: QRectF, survey: Survey, *, filled: bool, from_x: float) -> None:
    """Draw what was found inside a strip, right of ``from_x`` where the name ends."""
    painter.save()
    painter.setClipRect(box)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    token = "on_verd" if filled else "ink"
    last = -10.0
    for start, stop in survey.lane:
        x0, x1 = GUTTER + axis.x_at(start), GUTTER + axis.x_at(stop)
        if x1 >= box.left() and x0 <= box.right():
            painter.fillRect(QRectF(x0, box.bottom() - 3, max(1.0, x1 - x0), 2), colour(token, 0.8))
    for mark in survey.marks:
        x0, x1 = GUTTER + axis.x_at(mark.start), GUTTER + axis.x_at(mark.stop)
        if x1 < from_x or x0 > box.right() or x0 - last < 1.0:
            continue
        last = x0
        tick = QRectF(x0, box.top() + 4, max(NARROWEST_PX, x1 - x0), box.height() - 9)
        if mark.on:
            painter.fillRect(tick, colour(token, 0.75))
        else:  # left alone: an outline
            pen = QPen(colour(token, 0.75), 1)
            pen.setStyle(Qt.PenStyle.DotLine)
            painter.setPen(pen)
            painter.drawRect(tick.adjusted(0.5, 0.5, -0.5, -0.5))
            painter.drawLine(QPointF(tick.left(), tick.bottom()), QPointF(tick.right(), tick.top()))
    painter.restore()
