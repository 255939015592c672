# SPDX-License-Identifier: GPL-3.0-or-later
"""Outlines in the sonogram: the areas of Blots steps, and the one that is being drawn."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPainterPath, QPen

from pulizia.desktop.bench.time_axis import GUTTER, TimeAxis
from pulizia.desktop.theme import colour
from pulizia.dsp.moments import overlaps_any
from pulizia.measure.sonogram_scale import SonogramScale
from pulizia.session.session import Session
from pulizia.settings.areas import Area, bounds_s, outline

Place = Callable[[float, float], QPointF]
SMALLEST_PX = 4.0
STEP_PX, MOST_DRAWN = 3, 300


def place_in(plot: QRectF, axis: TimeAxis, row_of_hz: Callable[[float], float]) -> Place:
    """Where a moment and a frequency lie in the view."""
    return lambda seconds, hz: QPointF(
        plot.left() + axis.x_at(seconds * axis.rate), min(max(row_of_hz(max(hz, 1.0)), -4.0), plot.bottom() + 4.0)
    )


def draw_areas(painter: QPainter, session: Session, axis: TimeAxis, place: Place) -> None:
    """Areas of all Blots steps that are on, those of the selected step stronger."""
    recording = session.recording
    if recording is None:
        return
    first, last = axis.left / axis.rate, axis.right / axis.rate
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    for step in recording.score:
        if step.tool_id != "areas" or not step.enabled:
            continue
        left = getattr(step.settings, "left_s", ())
        for area in getattr(step.settings, "areas", ()):
            start, stop = bounds_s(area)
            if stop >= first and start <= last:
                treated = not overlaps_any((round(start * axis.rate), round(stop * axis.rate)), left, axis.rate)
                _draw(
                    painter,
                    [place(t, hz) for t, hz in outline(area)],
                    chosen=step.id == session.step_id,
                    treated=treated,
                )
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)


class Pen:
    """Draws an area by hand; it becomes the selection."""

    def __init__(self, session: Session, axis: TimeAxis) -> None:
        self._session, self._axis = session, axis
        self.points: list[QPointF] = []  # in the view, while the button is held

    def move(self, place: QPointF) -> bool:
        """Follow the mouse; False when nothing is being drawn."""
        if self.points and (place - self.points[-1]).manhattanLength() >= STEP_PX:
            self.points.append(place)
        return bool(self.points)

    def finish(self, scale: SonogramScale) -> None:
        """What was drawn becomes the selection."""
        points, self.points = self.points, []
        points = points[:: max(1, len(points) // MOST_DRAWN + 1)]
        seconds = [self._axis.clamped_frame(p.x() - GUTTER) / self._axis.rate for p in points]
        hz = [float(scale.hz_of_row(min(max(p.y(), 0.0), scale.rows))) for p in points]
        self._session.select_outline(tuple(zip(seconds, hz, strict=True)))

    def paint(self, painter: QPainter) -> None:
        """The line so far."""
        if len(self.points) > 1:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(QPen(colour("plum"), 1.4))
            painter.drawPolyline(self.points)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)


def draw_marked(painter: QPainter, area: Area, place: Place) -> None:
    """The selection that was drawn by hand."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(colour("plum"), 1.2))
    painter.setBrush(colour("plum", 0.22))
    painter.drawPath(_closed([place(t, hz) for t, hz in area]))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)


def _draw(painter: QPainter, points: list[QPointF], *, chosen: bool, treated: bool) -> None:
    path = _closed(points)
    box = path.boundingRect()
    if box.width() < SMALLEST_PX or box.height() < SMALLEST_PX:
        path = QPainterPath()
        path.addRect(
            QRectF(
                box.center().x() - 2,
                box.center().y() - 2,
                max(SMALLEST_PX, box.width()),
                max(SMALLEST_PX, box.height()),
            )
        )
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(colour("panel", 0.8), 3.5))
    painter.drawPath(path)
    pen = QPen(colour("ink" if chosen else "soft"), 1.3)
    if not treated:
        pen.setStyle(Qt.PenStyle.DotLine)
    painter.setPen(pen)
    painter.drawPath(path)


def _closed(points: Sequence[QPointF]) -> QPainterPath:
    path = QPainterPath(points[0])
    for point in points[1:]:
        path.lineTo(point)
    path.closeSubpath()
    return path
