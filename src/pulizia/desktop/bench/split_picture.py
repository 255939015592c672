# SPDX-License-Identifier: GPL-3.0-or-later
"""The split compressor's picture: splits and thresholds to drag over the passage's average and maximum."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from pulizia.desktop.strokes import polygon, stroke
from pulizia.desktop.theme import colour, font, theme_notice
from pulizia.desktop.turns import update_in_turn
from pulizia.settings.declare import Number, declared
from pulizia.tools.base import Curve, Picture
from pulizia.tools.split_compressor import BAND_FIELDS, SPLIT_FIELDS, SplitCompressorSettings
from pulizia.units import format_number
from pulizia.words import tr, translated

LOW_HZ, HIGH_HZ = 40.0, 20_000.0
TOP_DB, SPAN_DB = 0.0, 84.0
TICKS = ((100.0, "100"), (1000.0, "1k"), (10_000.0, "10k Hz"))
GUTTER_RIGHT, GUTTER_BOTTOM, HEAD = 28, 18, 14
NEAR_PX = 6.0


class SplitPicture(QWidget):
    """Drag an upright line to move a split, a level one to move a band's threshold."""

    accessible_role = "chart"
    heights = 190, 136  # and where there is little room

    changed = Signal(str, float)
    let_go = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.settings = SplitCompressorSettings()
        self.reductions: tuple[float, ...] = ()
        self._picture: Picture | None = None
        self._message = ""
        self._grabbed = ""
        self.setFixedHeight(self.heights[0])
        self.setMouseTracking(True)
        self.setAccessibleName(tr("Picture of the multiband compressor"))
        self.setToolTip(
            tr(
                "Drag a vertical line to move a crossover, a horizontal line to move the threshold of its band.\nThe bars at the top show the gain reduction of each band at the playhead."
            )
        )
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)  # else all that lies behind is painted as well
        theme_notice().changed.connect(self.update)

    def show_picture(self, picture: Picture | None, message: str = "") -> None:
        """Show curves, or a sentence instead."""
        self._picture, self._message = picture, message
        update_in_turn(self)

    def show_settings(self, settings: SplitCompressorSettings) -> None:
        """Show splits and thresholds."""
        if settings != self.settings:
            self.settings = settings
            self.update()

    def show_reductions(self, reductions: tuple[float, ...]) -> None:
        """Show how far each band is turned down now, in dB."""
        if reductions != self.reductions:
            self.reductions = reductions
            self.update(0, 0, self.width(), HEAD + 1)

    # -- geometry

    @property
    def _plot(self) -> QRectF:
        return QRectF(0, HEAD, self.width() - GUTTER_RIGHT, self.height() - GUTTER_BOTTOM - HEAD)

    def x_of(self, hz: float) -> float:
        """Pixel of a frequency."""
        share = math.log(max(hz, 1.0) / LOW_HZ) / math.log(HIGH_HZ / LOW_HZ)
        return self._plot.width() * min(max(share, 0.0), 1.0)

    def hz_of(self, x: float) -> float:
        """Frequency of a pixel."""
        share = min(max(x / self._plot.width(), 0.0), 1.0)
        return float(LOW_HZ * (HIGH_HZ / LOW_HZ) ** share)

    def y_of(self, db: float) -> float:
        """Pixel of a level."""
        return float(self._plot.top() + (TOP_DB - db) / SPAN_DB * self._plot.height())

    def db_of(self, y: float) -> float:
        """Level of a pixel."""
        return float(TOP_DB - (y - self._plot.top()) / self._plot.height() * SPAN_DB)

    def bands(self) -> list[tuple[str, float, float]]:
        """Field of the threshold, and the left and right pixel of each band."""
        edges = [
            0.0,
            *(self.x_of(hz) for hz in sorted(getattr(self.settings, n) for n in SPLIT_FIELDS[self.settings.bands])),
            self._plot.width(),
        ]
        names = [f"{prefix}threshold_db" for prefix in BAND_FIELDS[self.settings.bands]]
        return list(zip(names, edges[:-1], edges[1:], strict=True))

    def _under(self, place: QPointF) -> str:
        for name in SPLIT_FIELDS[self.settings.bands]:
            if abs(self.x_of(getattr(self.settings, name)) - place.x()) <= NEAR_PX:
                return name
        for name, left, right in self.bands():
            if left <= place.x() < right and abs(self.y_of(getattr(self.settings, name)) - place.y()) <= NEAR_PX:
                return name
        return ""

    # -- mouse

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self._grabbed = self._under(event.position())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if not self._grabbed or not event.buttons() & Qt.MouseButton.LeftButton:
            under = self._under(event.position())
            shape = (
                Qt.CursorShape.SizeHorCursor
                if under.endswith("split_hz")
                else Qt.CursorShape.SizeVerCursor
                if under
                else Qt.CursorShape.ArrowCursor
            )
            self.setCursor(shape)
            return
        declaration = declared(SplitCompressorSettings)[self._grabbed]
        assert isinstance(declaration, Number)  # noqa: S101 - splits and thresholds are
        value = (
            self.hz_of(event.position().x()) if self._grabbed.endswith("split_hz") else self.db_of(event.position().y())
        )
        value = round(value / declaration.step) * declaration.step
        self.changed.emit(self._grabbed, min(max(value, declaration.low), declaration.high))

    def mouseReleaseEvent(self, _event: QMouseEvent) -> None:
        if self._grabbed:
            self.let_go.emit()
        self._grabbed = ""

    # -- painting

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter, plot = QPainter(self), self._plot
        painter.setFont(font(11))
        painter.fillRect(self.rect(), colour("paper"))
        painter.fillRect(plot, colour("panel"))
        self._paint_grid(painter, plot)
        if self._picture is None:
            painter.setPen(colour("soft"))
            painter.drawText(
                plot.adjusted(12, 12, -12, -12),
                Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap,
                translated(self._message),
            )
        else:
            painter.save()
            painter.setClipRect(plot)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            curves = {c.name: c for c in self._picture.curves}
            for name, token in (("maximum", "plum"), ("passage", "ink")):
                if name in curves:
                    self._paint_curve(painter, curves[name], token)
            painter.restore()
        self._paint_lines(painter, plot)
        self._paint_reductions(painter)

    def _paint_grid(self, painter: QPainter, plot: QRectF) -> None:
        for db in (0, -20, -40, -60, -80):
            y = int(self.y_of(db)) + 0.5
            painter.setPen(QPen(colour("line"), 1))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            painter.setPen(colour("soft"))
            painter.drawText(
                QRectF(plot.right() + 3, max(plot.top() - 2, y - 8), GUTTER_RIGHT, 16),
                Qt.AlignmentFlag.AlignVCenter,
                format_number(db, 0),
            )
        for hz, text in TICKS:
            x = self.x_of(hz)
            painter.drawText(QRectF(x - 30, plot.bottom() + 2, 60, 15), Qt.AlignmentFlag.AlignCenter, translated(text))

    def _paint_curve(self, painter: QPainter, curve: Curve, token: str) -> None:
        hz = np.geomspace(LOW_HZ, HIGH_HZ, max(2, int(self._plot.width() / 1.5)))
        edges = np.searchsorted(curve.hz, np.sqrt(hz[1:] * hz[:-1]))
        level = np.interp(hz, curve.hz, curve.level_db)
        # the highest bin of each pixel: lines do not vanish between them
        last = len(curve.level_db) - 1
        highest = np.maximum.reduceat(curve.level_db, np.minimum(edges, last))[:-1]
        level[1:-1] = np.where(np.diff(edges) > 1, highest, level[1:-1])
        x = self._plot.width() * np.log(hz / LOW_HZ) / np.log(HIGH_HZ / LOW_HZ)
        stroke(
            painter,
            polygon(x, self._plot.top() + (TOP_DB - level) / SPAN_DB * self._plot.height()),
            colour(token),
            heavy=False,
        )

    def _paint_lines(self, painter: QPainter, plot: QRectF) -> None:
        for name in SPLIT_FIELDS[self.settings.bands]:
            x = int(self.x_of(getattr(self.settings, name))) + 0.5
            painter.setPen(QPen(colour("strong"), 1))
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
            painter.setBrush(colour("panel"))
            painter.setPen(QPen(colour("verd"), 1.4))
            painter.drawRoundedRect(QRectF(x - 3, plot.bottom() - 12, 6, 12), 3, 3)
        for name, left, right in self.bands():
            level = getattr(self.settings, name)
            y = int(self.y_of(level)) + 0.5
            painter.setPen(QPen(colour("verd"), 1.6))
            painter.drawLine(QPointF(left + 2, y), QPointF(right - 2, y))
            text = format_number(level, 0)
            box = QRectF((left + right) / 2 - 14, y - 17, 28, 14)
            painter.fillRect(box, colour("panel"))
            painter.setPen(colour("verd_text"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, translated(text))
        painter.setBrush(Qt.BrushStyle.NoBrush)

    def _paint_reductions(self, painter: QPainter) -> None:
        """How far each band is turned down: a bar of 24 dB from the band's left, with its figure."""
        painter.fillRect(QRectF(0, 0, self.width(), HEAD), colour("paper"))
        for (_, left, right), down in zip(self.bands(), self.reductions or (), strict=False):
            width = (right - left - 4) * min(-down / 24.0, 1.0)
            painter.fillRect(QRectF(left + 2, 3, right - left - 4, 6), colour("line"))
            painter.fillRect(QRectF(left + 2, 3, max(0.0, width), 6), colour("verd"))
            if right - left > 60 and down < -0.05:
                box = QRectF(right - 36, 0, 34, 12)
                painter.fillRect(box, colour("paper"))
                painter.setPen(colour("verd_text"))
                painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, format_number(down))
