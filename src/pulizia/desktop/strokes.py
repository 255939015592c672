"""Lines through many points: a wide antialiased pen costs thirty times as much as two thin lines side by side."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPointF
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

APART = 0.3  # of a pixel


def stroke(
    painter: QPainter,
    points: Sequence[QPointF] | QPolygonF,
    tone: QColor,
    *,
    heavy: bool = True,
    dashes: Sequence[float] = (),
) -> None:
    """Draw a line of one pixel, or of about one and a half where it is ``heavy``."""
    pen = QPen(tone, 1.0)
    if dashes:
        pen.setDashPattern(list(dashes))
    polygon = points if isinstance(points, QPolygonF) else QPolygonF(points)
    painter.setPen(pen)
    painter.drawPolyline(polygon)
    if heavy and not dashes:
        painter.translate(0.0, APART)
        painter.drawPolyline(polygon)
        painter.translate(0.0, -APART)
