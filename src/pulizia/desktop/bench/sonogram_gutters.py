# SPDX-License-Identifier: GPL-3.0-or-later
"""The frequency axis of the sonogram at its left, and the scale of its levels at its right."""

from __future__ import annotations

from collections.abc import Hashable

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import (
    QPainter,
    QPen,
    QPixmap,
)

from pulizia.desktop.bench.lane import Lane
from pulizia.desktop.bench.sonogram_look import SonogramLook
from pulizia.desktop.bench.time_axis import GUTTER
from pulizia.desktop.layers import layer_of
from pulizia.desktop.ramps import ramp_table
from pulizia.desktop.theme import colour, font, theme
from pulizia.measure.sonogram import CODE_FLOOR_DB, CODE_STEP_DB
from pulizia.measure.sonogram_scale import SonogramScale
from pulizia.units import format_number
from pulizia.words import tr, translated

SCALE_WIDTH, SCALE_HEIGHT = 6, 120
LOWEST_HZ = 40.0


class SonogramGutters(Lane):
    """The lane of the sonogram with its axes."""

    look: SonogramLook
    low_db: float
    high_db: float
    low_hz: float
    high_hz: float
    _gutters: tuple[Hashable, QPixmap] | None

    @property
    def scale(self) -> SonogramScale:
        """Axis and transforms at the present size."""
        rate = self.axis.rate
        look, high = self.look, min(self.high_hz, rate / 2)
        low = 0.0 if look.axis in ("linear", "mel") and self.low_hz <= LOWEST_HZ else min(self.low_hz, high / 4)
        return SonogramScale(low, high, max(16, self.height()), look.size, look.axis, look.window, look.sharpened)

    def _table(self) -> list[int]:
        return ramp_table(self.look.ramp, theme(), self.low_db, self.high_db, CODE_FLOOR_DB, CODE_STEP_DB)

    def paint_gutters(self, painter: QPainter, plot: QRectF) -> None:
        key = (
            self.size().toTuple(),
            theme().name,
            self.scale,
            self.low_db,
            self.high_db,
            self.look.ramp,
            self.devicePixelRatioF(),
        )
        if self._gutters is None or self._gutters[0] != key:
            pixmap = layer_of(self)
            drawing = QPainter(pixmap)
            self._draw_gutters(drawing, plot)
            drawing.end()
            self._gutters = (key, pixmap)
        left, right = QRectF(0, 0, plot.left(), plot.height()), QRectF(plot.right(), 0, GUTTER, plot.height())
        ratio = self.devicePixelRatioF()
        for part in (left, right):
            source = QRectF(part.topLeft() * ratio, part.size() * ratio)
            painter.drawPixmap(part, self._gutters[1], source)

    def _draw_gutters(self, painter: QPainter, plot: QRectF) -> None:
        painter.setFont(font(11))
        scale, labelled = self.scale, False
        for hz in scale.frequency.ticks():
            y = scale.row_of_hz(hz)
            painter.setPen(QPen(colour("strong"), 1))
            painter.drawLine(QPointF(plot.left() - 4, int(y) + 0.5), QPointF(plot.left(), int(y) + 0.5))
            painter.setPen(colour("soft"))
            text = f"{hz / 1000:g}k" if hz >= 1000 else f"{hz:g}"
            if not labelled:
                text, labelled = tr("{text} Hz", text=text), True
            y = min(max(y, 7.0), plot.bottom() - 7)
            painter.drawText(
                QRectF(0, y - 8, GUTTER - 7, 16),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                translated(text),
            )
        self._paint_scale(painter, plot)

    def _scale_box(self) -> QRectF:
        return QRectF(self.plot.right() + 8, 0, SCALE_WIDTH, min(SCALE_HEIGHT, self.height() - 30))

    def _paint_scale(self, painter: QPainter, plot: QRectF) -> None:
        box = self._scale_box()
        table = self._table()
        rows = int(box.height())
        for row in range(rows):
            db = self.high_db + (self.low_db - self.high_db) * row / rows
            code = min(max(round((db - CODE_FLOOR_DB) / CODE_STEP_DB), 0), 255)
            painter.fillRect(QRectF(box.left(), box.top() + row, box.width(), 1), table[code])
        painter.setPen(QPen(colour("strong"), 1))
        painter.drawRect(box.adjusted(-0.5, 0, 0.5, -0.5))
        painter.setPen(colour("soft"))
        for db in range(-120, 1, 20):
            if self.low_db < db < self.high_db:
                y = box.top() + box.height() * (self.high_db - db) / (self.high_db - self.low_db)
                painter.drawText(
                    QRectF(box.right() + 3, y - 8, 24, 16), Qt.AlignmentFlag.AlignVCenter, format_number(db, 0)
                )
        painter.drawText(
            QRectF(plot.right() + 4, box.bottom() + 4, GUTTER - 4, 14), Qt.AlignmentFlag.AlignLeft, tr("dBFS")
        )
