# SPDX-License-Identifier: GPL-3.0-or-later
"""Loudness over time: short-term as a line over momentary, for the selection or the whole."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from pulizia.desktop.strokes import polygon, stroke
from pulizia.desktop.theme import colour, font, theme_notice
from pulizia.measure.blocks import BLOCKS_PER_SECOND
from pulizia.measure.loudness import Measures
from pulizia.units import format_number, format_time
from pulizia.words import tr

LOW, HIGH = -50.0, -5.0
GUTTER = 28.0


class History(QWidget):
    """A small graph with the target as a line and the play head."""

    accessible_role = "chart"

    def __init__(self) -> None:
        super().__init__()
        self._measures: Measures | None = None
        self._span_s = (0.0, 1.0)
        self._head_s = self._began_s = 0.0
        self._target = -23.0
        self.setMinimumHeight(70)
        self.setAccessibleName(tr("Loudness over time"))
        self.setToolTip(tr("Short-term loudness as a line over momentary; the dotted line is the target"))
        theme_notice().changed.connect(self.update)

    def show_measures(
        self, measures: Measures | None, span_s: tuple[float, float], head_s: float, target: float, began_s: float = 0.0
    ) -> None:
        """Draw a stretch of the recording; what was measured begins at ``began_s``."""
        self._measures, self._span_s, self._head_s, self._target = measures, span_s, head_s, target
        self._began_s = began_s
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        plot = QRectF(0, 0, self.width() - GUTTER, self.height() - 15)
        painter.fillRect(plot, colour("panel"))
        painter.setFont(font(11))

        def y(lufs: NDArray[np.floating] | float) -> NDArray[np.float64]:
            return np.asarray(plot.top() + (HIGH - np.clip(lufs, LOW, HIGH)) / (HIGH - LOW) * plot.height())

        pen = QPen(colour("verd"), 1)
        pen.setDashPattern([2, 3])
        painter.setPen(pen)
        line = int(float(y(self._target))) + 0.5
        painter.drawLine(QPointF(plot.left(), line), QPointF(plot.right(), line))
        painter.setPen(colour("soft"))
        painter.drawText(
            QRectF(plot.right() + 3, line - 8, GUTTER, 16),
            Qt.AlignmentFlag.AlignVCenter,
            format_number(self._target, 0),
        )
        painter.drawText(QRectF(0, plot.bottom() + 1, 80, 14), Qt.AlignmentFlag.AlignLeft, format_time(self._span_s[0]))
        painter.drawText(
            QRectF(plot.right() - 80, plot.bottom() + 1, 80, 14),
            Qt.AlignmentFlag.AlignRight,
            format_time(self._span_s[1]),
        )
        if self._measures is None:
            painter.drawText(plot, Qt.AlignmentFlag.AlignCenter, tr("measuring…"))
            return
        first, last = (int((s - self._began_s) * BLOCKS_PER_SECOND) for s in self._span_s)
        columns = max(2, int(plot.width()))
        edges = np.linspace(first, max(first + 2, last), columns + 1).astype(int)
        momentary = _columns(self._measures.momentary, edges)
        short = _columns(self._measures.short_term, edges)
        for column, level in enumerate(momentary.tolist()):
            if level > LOW:
                top = float(y(level))
                painter.fillRect(QRectF(column, top, 1, plot.bottom() - top), colour("soft", 0.35))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        good = np.flatnonzero(np.isfinite(short))
        stroke(painter, polygon(good + 0.5, y(short)[good]), colour("ink"))
        share = (self._head_s - self._span_s[0]) / max(1e-9, self._span_s[1] - self._span_s[0])
        if 0 <= share <= 1:
            painter.fillRect(QRectF(plot.width() * share - 0.7, 0, 1.4, plot.height()), colour("ink"))


def _columns(curve: NDArray[np.float32], edges: NDArray[np.intp]) -> NDArray[np.float64]:
    """Highest value per column; -inf where nothing was measured."""
    if not len(curve):
        return np.full(len(edges) - 1, -np.inf)
    starts = np.clip(edges[:-1], 0, len(curve) - 1)
    values = np.maximum.reduceat(curve, starts)
    return np.where((edges[:-1] >= 0) & (edges[:-1] < len(curve)), values, -np.inf)
