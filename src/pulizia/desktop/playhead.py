# SPDX-License-Identifier: GPL-3.0-or-later
"""How the playhead is drawn: a line over the sound, a drop in the ruler."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath

from pulizia.desktop.theme import colour

BESIDE_HEAD_PX = 30  # no time is written nearer to the drop


def paint_line(painter: QPainter, x: float, plot: QRectF) -> None:
    """The play position: ink over a pale halo."""
    halo = QColor(colour("panel"))
    halo.setAlphaF(0.7)
    painter.fillRect(QRectF(x - 1.5, plot.top(), 3.4, plot.height()), halo)
    painter.fillRect(QRectF(x - 0.5, plot.top(), 1.4, plot.height()), colour("ink"))


def paint_drop(painter: QPainter, x: float, y: float) -> None:
    """A drop whose tip points at a place of the ruler's lower edge."""
    drop = QPainterPath(QPointF(x, y))
    drop.cubicTo(x - 1, y - 4, x - 5, y - 6, x - 5, y - 10)
    drop.arcTo(QRectF(x - 5, y - 15, 10, 10), 180, -180)
    drop.cubicTo(x + 5, y - 6, x + 1, y - 4, x, y)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(colour("ink"))
    painter.drawPath(drop)
