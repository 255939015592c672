# SPDX-License-Identifier: GPL-3.0-or-later
"""Moments in a strip: a tick for each that a tool found, and a line where a gate is open."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QFontMetricsF, QPainter, QPainterPath, QPen

from pulizia.desktop.bench.time_axis import GUTTER, TimeAxis
from pulizia.desktop.strokes import polygon
from pulizia.desktop.theme import colour, font
from pulizia.tools.base import LaneCurve, Survey

NARROWEST_PX = 3.0
LEAST_SHOWN_DB, DEEPEST_DB = 0.2, 12.0


class SurveyTicks:
    """Ticks of one survey, kept as arrays so that drawing looks at what is in view only."""

    def __init__(self, survey: Survey) -> None:
        self.survey = survey
        self._starts = np.array([m.start for m in survey.marks], dtype=np.int64)
        self._stops = np.array([m.stop for m in survey.marks], dtype=np.int64)
        self._on = np.array([m.on for m in survey.marks], dtype=bool)
        self._opened = np.array(survey.lane, dtype=np.int64).reshape(-1, 2)

    def paint(self, painter: QPainter, axis: TimeAxis, box: QRectF, *, filled: bool, from_x: float) -> None:
        """Draw what was found inside a strip, right of ``from_x`` where the name ends."""
        painter.save()
        painter.setClipRect(box)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        ink = colour("on_verd" if filled else "ink", 0.8)
        for x0, x1 in _pixels(self._opened[:, 0], self._opened[:, 1], axis, box.left(), box.right()):
            painter.fillRect(QRectF(x0, box.bottom() - 3, x1 - x0, 2), ink)
        if not self.survey.handles:  # a ride is drawn over the waveform
            faint = QColor(ink)
            faint.setAlphaF(0.35)
            for curve in self.survey.curves:
                _hanging(painter, curve, axis, box, faint, from_x)
        height = box.height() - 9
        if self.survey.handles:
            painter.restore()
            return
        for x0, x1 in _pixels(self._starts[self._on], self._stops[self._on], axis, from_x, box.right()):
            painter.fillRect(QRectF(x0, box.top() + 4, max(NARROWEST_PX, x1 - x0), height), ink)
        pen = QPen(ink, 1)
        pen.setStyle(Qt.PenStyle.DotLine)  # left alone: an outline
        painter.setPen(pen)
        for x0, x1 in _pixels(self._starts[~self._on], self._stops[~self._on], axis, from_x, box.right()):
            painter.drawRect(QRectF(x0 + 0.5, box.top() + 4.5, max(NARROWEST_PX, x1 - x0) - 1, height - 1))
        painter.restore()


def _hanging(painter: QPainter, curve: LaneCurve, axis: TimeAxis, box: QRectF, ink: QColor, from_x: float) -> None:
    """Gain reduction, hanging from the upper edge: 12 dB reach the lower one."""
    columns = np.arange(int(max(box.left(), from_x)), int(box.right()))
    frames = (
        axis.left + (np.arange(len(columns) + 1) + (columns[0] - GUTTER if len(columns) else 0)) * axis.frames_per_pixel
    )
    places = np.clip((frames / curve.step).astype(np.int64), 0, len(curve.level_db))
    if not len(columns) or not len(curve.level_db):
        return
    starts = np.minimum(places[:-1], len(curve.level_db) - 1)
    stops = np.minimum(np.maximum(places[1:], starts + 1), len(curve.level_db))
    part = curve.level_db[starts[0] : stops[-1]]
    down = -np.minimum.reduceat(part, np.minimum(starts - starts[0], len(part) - 1))
    down = np.where(down > LEAST_SHOWN_DB, np.minimum(down / DEEPEST_DB, 1.0), 0.0) * (box.height() - 2)
    x, top = np.repeat(columns, 2) + np.tile([0.0, 1.0], len(columns)), box.top() + 1
    path = QPainterPath()
    path.addPolygon(polygon([x[0], *x, x[-1]], [top, *(top + np.repeat(down, 2)), top]))
    painter.fillPath(path, ink)


def _pixels(
    starts: NDArray[np.int64], stops: NDArray[np.int64], axis: TimeAxis, left: float, right: float
) -> list[tuple[float, float]]:
    """Stretches in view as pixels, those in the same pixel once."""
    x0 = GUTTER + (starts - axis.left) / axis.frames_per_pixel
    x1 = np.maximum(x0 + 1.0, GUTTER + (stops - axis.left) / axis.frames_per_pixel)
    seen = (x1 >= left) & (x0 <= right)
    x0, x1 = x0[seen], x1[seen]
    x0 = np.maximum(x0, left)
    if not len(x0):
        return []
    fresh = np.diff(np.floor(x0), prepend=-1e9) > 0
    first = np.flatnonzero(fresh)
    return list(zip(x0[first].tolist(), np.maximum.reduceat(x1, first).tolist(), strict=True))


@lru_cache(maxsize=512)
def text_width(text: str, *, bold: bool) -> float:
    """Width of a text at 13 pixels."""
    return QFontMetricsF(font(13, bold=bold)).horizontalAdvance(text)
