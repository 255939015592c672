# SPDX-License-Identifier: GPL-3.0-or-later
"""A goniometer: the left channel along one diagonal, the right along the other."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QImage, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from pulizia.audio.samples import Samples
from pulizia.desktop.theme import colour, font, theme_notice
from pulizia.units import format_number
from pulizia.words import tr

SIDE = 92
QUIETEST_SHOWN = 0.02  # the picture grows until the loudest sample fills it, but not noise alone


class Goniometer(QWidget):
    """What two channels have in common stands upright, what differs lies flat."""

    accessible_role = "picture"

    def __init__(self) -> None:
        super().__init__()
        self.pair: Samples | None = None
        self.correlation: float | None = None
        self.setFixedSize(268, SIDE + 4)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setAccessibleName(tr("Goniometer and correlation"))
        self.setToolTip(tr("Upright: both channels alike. Flat: opposite polarity. Diagonal: one channel alone."))
        theme_notice().changed.connect(self.update)

    def show_pair(self, pair: Samples | None, correlation: float | None) -> None:
        """Draw the last moments of two channels."""
        self.pair, self.correlation = pair, correlation
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), colour("paper"))
        box = QRectF(0.5, 0.5, SIDE, SIDE)
        painter.fillRect(box, colour("panel"))
        painter.setPen(QPen(colour("line"), 1))
        painter.drawRect(box)
        painter.drawLine(box.topLeft(), box.bottomRight())
        painter.drawLine(box.topRight(), box.bottomLeft())
        painter.setFont(font(11))
        painter.setPen(colour("soft"))
        painter.drawText(QRectF(4, 1, 20, 14), Qt.AlignmentFlag.AlignLeft, tr("L"))
        painter.drawText(QRectF(SIDE - 20, 1, 17, 14), Qt.AlignmentFlag.AlignRight, tr("R"))
        if self.pair is not None:
            painter.drawImage(QPointF(1, 1), self._image(self.pair))
        self._paint_correlation(painter, SIDE + 18.0)

    def _image(self, pair: Samples) -> QImage:
        size = SIDE - 1
        reach = max(QUIETEST_SHOWN, float(np.abs(pair).max())) * 1.02
        across, up = (pair[1] - pair[0]) / (2 * reach), (pair[0] + pair[1]) / (2 * reach)
        x = np.clip((across + 1) / 2 * size, 0, size - 1).astype(np.intp)
        y = np.clip((1 - up) / 2 * size, 0, size - 1).astype(np.intp)
        hits = np.bincount(y * size + x, minlength=size * size)
        alpha = np.minimum(hits * 90, 255).astype(np.uint32)
        ink = colour("ink")
        red, green, blue = ((alpha * c // 255) for c in (ink.red(), ink.green(), ink.blue()))
        argb = np.ascontiguousarray((alpha << 24) | (red << 16) | (green << 8) | blue, dtype=np.uint32)
        return QImage(argb.tobytes(), size, size, size * 4, QImage.Format.Format_ARGB32_Premultiplied).copy()

    def _paint_correlation(self, painter: QPainter, left: float) -> None:
        width = self.width() - left
        painter.setPen(colour("soft"))
        painter.setFont(font(11))
        words = painter.fontMetrics().elidedText(tr("Correlation"), Qt.TextElideMode.ElideRight, int(width))
        painter.drawText(QRectF(left, 20, width, 14), Qt.AlignmentFlag.AlignLeft, words)
        painter.fillRect(QRectF(left, 38, width, 6), colour("track"))
        middle = left + width / 2
        if self.correlation is not None:
            x0, x1 = sorted((middle, middle + width / 2 * self.correlation))
            painter.fillRect(QRectF(x0, 38, x1 - x0, 6), colour("verd" if self.correlation >= 0 else "madder"))
        painter.fillRect(QRectF(middle, 35, 1, 12), colour("ink"))
        painter.drawText(QRectF(left, 48, 30, 14), Qt.AlignmentFlag.AlignLeft, "\u22121")
        painter.drawText(QRectF(left + width - 30, 48, 30, 14), Qt.AlignmentFlag.AlignRight, "+1")
        painter.setPen(colour("ink"))
        painter.setFont(font(15, bold=True))
        painter.drawText(
            QRectF(left, 46, width, 20), Qt.AlignmentFlag.AlignCenter, format_number(self.correlation, 2, plus=True)
        )
