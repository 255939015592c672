# SPDX-License-Identifier: GPL-3.0-or-later
"""A tool's own picture in the sheet: curves over frequency on one dB axis."""

from __future__ import annotations

from typing import TypeGuard

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from pulizia.desktop.strokes import polygon, stroke
from pulizia.desktop.theme import colour, font, theme_notice
from pulizia.desktop.turns import update_in_turn
from pulizia.tools.base import Curve, Picture
from pulizia.units import format_number
from pulizia.words import tr, translated

LOW_HZ, HIGH_HZ = 40.0, 20_000.0
TICKS = ((100.0, "100 Hz"), (1000.0, "1 kHz"), (10_000.0, "10 kHz"))
GUTTER_RIGHT, GUTTER_BOTTOM = 32, 18
SPAN_DB = 70.0
COLUMNS = 160
HANDLES_HZ = (63.0, 125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0, 16_000.0)
MOST_BEND_DB = 24.0


class ToolPicture(QWidget):
    """Draws a :class:`Picture`; empty until one is there. Where ``bends``, its lower line has handles."""

    accessible_role = "chart"
    heights = 150, 92  # and where there is little room

    bent = Signal(tuple)  # ((Hz, dB added to the reduction), ...)
    let_go = Signal()

    def __init__(self, *, bends: bool = False) -> None:
        super().__init__()
        self.bends = bends
        self.curve: tuple[tuple[float, float], ...] = ()
        self._handle = -1
        self._grabbed = 0.0
        if bends:
            self.setToolTip(
                tr("Drag the dots: more or less reduction at that frequency. Double-click a dot to reset it.")
            )
        self._picture: Picture | None = None
        self._curves: dict[str, np.ndarray] = {}
        self._message = ""
        self.setFixedHeight(self.heights[0])
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)  # else all that lies behind is painted as well
        self.setAccessibleName(tr("Picture of the step"))
        theme_notice().changed.connect(self.update)

    def show_picture(self, picture: Picture | None, message: str = "") -> None:
        """Show curves, or a sentence instead."""
        self._picture, self._message = picture, message
        self._curves = {curve.name: self._columns(curve) for curve in picture.curves} if _is_spectral(picture) else {}
        update_in_turn(self)

    def show_curve(self, curve: tuple[tuple[float, float], ...]) -> None:
        """Show how the reduction is bent."""
        if curve != self.curve:
            self.curve = curve
            self.update()

    def offset_at(self, hz: float) -> float:
        """DB added to the reduction at a handle."""
        if not self.curve:
            return 0.0
        points = np.array(self.curve)
        return float(np.interp(np.log(hz), np.log(np.maximum(points[:, 0], 1.0)), points[:, 1]))

    def handle_places(self) -> list[QPointF]:
        """Where the handles lie, on the line that is left."""
        curves = self._curves
        if not self.bends or "left" not in curves:
            return []
        plot = QRectF(0, 0, self.width() - GUTTER_RIGHT, self.height() - GUTTER_BOTTOM)
        line = self._points(curves["left"], plot, self._top(curves))
        at = [round(COLUMNS * np.log(hz / LOW_HZ) / np.log(HIGH_HZ / LOW_HZ)) for hz in HANDLES_HZ]
        return [line.at(min(max(k, 0), COLUMNS - 1)) for k in at]

    def mousePressEvent(self, event: QMouseEvent) -> None:
        reach = [((p - event.position()).manhattanLength(), n) for n, p in enumerate(self.handle_places())]
        best = min(reach, default=(99.0, -1))
        self._handle = best[1] if best[0] < 12 else -1
        self._grabbed = event.position().y()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._handle < 0 or not event.buttons() & Qt.MouseButton.LeftButton:
            return
        change = (event.position().y() - self._grabbed) / (self.height() - GUTTER_BOTTOM) * SPAN_DB
        self._grabbed = event.position().y()
        self._bend(self._handle, self.offset_at(HANDLES_HZ[self._handle]) + change)

    def mouseReleaseEvent(self, _event: QMouseEvent) -> None:
        if self._handle >= 0:
            self.let_go.emit()
        self._handle = -1

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.mousePressEvent(event)
        if self._handle >= 0:
            self._bend(self._handle, 0.0)

    def _bend(self, handle: int, offset: float) -> None:
        offsets = [round(self.offset_at(hz), 1) for hz in HANDLES_HZ]
        offsets[handle] = round(min(max(offset, -MOST_BEND_DB), MOST_BEND_DB), 1)
        curve = tuple(zip(HANDLES_HZ, offsets, strict=True)) if any(offsets) else ()
        self.curve = curve
        self.bent.emit(curve)
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        plot = QRectF(0, 0, self.width() - GUTTER_RIGHT, self.height() - GUTTER_BOTTOM)
        painter.fillRect(self.rect(), colour("paper"))
        painter.fillRect(plot, colour("panel"))
        painter.setFont(font(11))
        picture = self._picture
        if picture is None:
            painter.setPen(colour("soft"))
            painter.drawText(
                plot.adjusted(12, 12, -12, -12),
                Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap,
                translated(self._message),
            )
            return
        if picture.from_zero:
            draw_from_zero(painter, plot, picture)
            return
        curves = self._curves
        top_db = self._top(curves)
        self._grid(painter, plot, top_db, picture.unit)
        painter.save()
        painter.setClipRect(plot)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        points = {name: self._points(levels, plot, top_db) for name, levels in curves.items()}
        if "left" in curves and "profile" in curves:
            area = _path(points["profile"])
            area.connectPath(_path(points["left"]).toReversed())
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)  # the lines along the edges are smooth
            painter.fillPath(area, colour("verd_soft"))
            below = _path(points["left"])
            below.lineTo(plot.right(), plot.bottom())
            below.lineTo(plot.left(), plot.bottom())
            painter.fillPath(below, colour("line", 0.6))
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        styles = {
            "passage": ("ink", True, False),
            "profile": ("verd", True, False),
            "line": ("verd", False, True),
            "left": ("soft", False, False),
            "lines": ("madder", False, False),
            "response": ("verd", False, False),
        }
        for name, line in points.items():
            token, heavy, dashed = styles.get(name, ("ink", False, False))
            stroke(painter, line, colour(token), heavy=heavy, dashes=(3, 3) if dashed else ())
        for place in self.handle_places():
            painter.setPen(QPen(colour("verd"), 1))
            painter.setBrush(colour("panel"))
            painter.drawEllipse(place, 3.6, 3.6)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.restore()
        self._names(painter, plot, curves, top_db, picture.caption)

    def _columns(self, curve: Curve) -> np.ndarray:
        """Mean power per column of the logarithmic axis, in dB."""
        edges = LOW_HZ * (HIGH_HZ / LOW_HZ) ** (np.arange(COLUMNS + 1) / COLUMNS)
        centres = np.sqrt(edges[1:] * edges[:-1])
        level = np.interp(centres, curve.hz, curve.level_db, right=-200.0)
        power = 10.0 ** (curve.level_db / 10.0)
        a, b = np.searchsorted(curve.hz, edges[:-1]), np.searchsorted(curve.hz, edges[1:])
        wide = b - a >= 2
        sums = np.concatenate([[0.0], np.cumsum(power)])
        level[wide] = 10.0 * np.log10(np.maximum((sums[b] - sums[a])[wide] / (b - a)[wide], 1e-20))
        return np.asarray(level)

    @staticmethod
    def _top(curves: dict[str, np.ndarray]) -> float:
        highest = max(float(c.max()) for c in curves.values())
        return float(np.ceil((highest + 4) / 10) * 10)

    @staticmethod
    def _points(levels: np.ndarray, plot: QRectF, top_db: float) -> QPolygonF:
        x = plot.left() + (np.arange(COLUMNS) + 0.5) / COLUMNS * plot.width()
        y = plot.top() + (top_db - levels) / SPAN_DB * plot.height()
        return polygon(x, y)

    @staticmethod
    def _grid(painter: QPainter, plot: QRectF, top_db: float, unit: str) -> None:
        for db in range(int(top_db), int(top_db - SPAN_DB), -20):
            y = int(plot.top() + (top_db - db) / SPAN_DB * plot.height()) + 0.5
            painter.setPen(QPen(colour("line"), 1))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            painter.setPen(colour("soft"))
            place = QRectF(plot.right() + 4, max(0.0, y - 8), GUTTER_RIGHT, 16)
            painter.drawText(place, Qt.AlignmentFlag.AlignVCenter, format_number(db, 0))
        for hz, text in TICKS:
            x = plot.left() + np.log(hz / LOW_HZ) / np.log(HIGH_HZ / LOW_HZ) * plot.width()
            painter.drawText(QRectF(x - 30, plot.bottom() + 2, 60, 16), Qt.AlignmentFlag.AlignCenter, translated(text))
        painter.drawText(
            QRectF(plot.right() - 20, plot.bottom() + 2, GUTTER_RIGHT + 20, 16),
            Qt.AlignmentFlag.AlignRight,
            translated(unit),
        )

    @staticmethod
    def _names(painter: QPainter, plot: QRectF, curves: dict[str, np.ndarray], top_db: float, caption: str) -> None:
        words = painter.fontMetrics().elidedText(
            translated(caption), Qt.TextElideMode.ElideRight, int(plot.width()) - 16
        )
        width = painter.fontMetrics().horizontalAdvance(words) + 8
        box = QRectF(plot.left() + 4, plot.bottom() - 20, min(width, plot.width() - 8), 17)
        painter.fillRect(box, colour("panel"))  # no curve runs through the words
        painter.setPen(colour("soft"))
        painter.drawText(box.adjusted(4, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, words)
        if "passage" in curves:
            painter.setPen(colour("ink"))
            painter.drawText(
                plot.adjusted(8, 6, -8, 0),
                Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignRight,
                tr("passage"),
            )
        if "profile" in curves:
            painter.setPen(colour("verd_text"))
            painter.setFont(font(11, bold=True))
            at = int(COLUMNS * 0.1)
            y = plot.top() + (top_db - curves["profile"][at]) / SPAN_DB * plot.height()
            y = min(max(y + 4, plot.top() + 20), plot.bottom() - 36)
            words = tr("removed")
            box = QRectF(plot.left() + 6, y, painter.fontMetrics().horizontalAdvance(words) + 8, 15)
            painter.fillRect(box, colour("verd_soft"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)


def _is_spectral(picture: Picture | None) -> TypeGuard[Picture]:
    return picture is not None and not picture.from_zero


def draw_from_zero(painter: QPainter, plot: QRectF, picture: Picture) -> None:
    """Curves on an axis that begins at 0, such as times over frequency."""
    highest = max(float(curve.level_db.max()) for curve in picture.curves)
    step = next((s for s in (0.1, 0.2, 0.5, 1.0, 2.0) if highest / s <= 4.5), 5.0)
    top = step * np.ceil(highest / step + 0.2)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    for n in range(round(float(top / step)) + 1):
        y = int(plot.bottom() - n * step / top * plot.height()) + 0.5
        painter.setPen(QPen(colour("line"), 1))
        painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
        painter.setPen(colour("soft"))
        text = tr("{n:.1f}", n=n * step) + (f" {picture.unit}" if n == 0 else "")
        painter.drawText(
            QRectF(plot.right() + 4, min(max(0.0, y - 8), plot.bottom() - 12), GUTTER_RIGHT, 16),
            Qt.AlignmentFlag.AlignVCenter,
            translated(text),
        )
    for hz, text in TICKS:
        x = plot.left() + np.log(hz / LOW_HZ) / np.log(HIGH_HZ / LOW_HZ) * plot.width()
        painter.drawText(QRectF(x - 30, plot.bottom() + 2, 60, 16), Qt.AlignmentFlag.AlignCenter, translated(text))
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    for curve in picture.curves:
        x = plot.left() + np.log(curve.hz / LOW_HZ) / np.log(HIGH_HZ / LOW_HZ) * plot.width()
        y = plot.bottom() - curve.level_db / top * plot.height()
        stroke(painter, polygon(x, y), colour("verd"))
    painter.setPen(colour("soft"))
    painter.drawText(
        plot.adjusted(8, 0, -6, -5),
        Qt.AlignmentFlag.AlignBottom | Qt.AlignmentFlag.AlignLeft,
        translated(picture.caption),
    )


def _path(points: QPolygonF) -> QPainterPath:
    path = QPainterPath()
    path.addPolygon(points)
    return path
