"""The sonogram with its frequency axis, level scale, read-out and the ruler above it."""

from __future__ import annotations

from collections.abc import Callable, Hashable

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QImage, QMouseEvent, QPainter, QPainterPath, QPen, QPixmap, QWheelEvent

from pulizia.desktop.bench.lane import Lane
from pulizia.desktop.bench.tiles import TILE_COLUMNS, Place, Tiles
from pulizia.desktop.bench.time_axis import GUTTER, TimeAxis
from pulizia.desktop.theme import colour, font, ramp_table, theme, theme_notice
from pulizia.measure.sonogram import CODE_FLOOR_DB, CODE_STEP_DB, SonogramScale, sonogram
from pulizia.session.jobs import Job
from pulizia.session.studio import Studio
from pulizia.units import format_number, format_time, note_name

TICKS_HZ = (20, 50, 100, 200, 500, 1000, 2000, 5000, 10_000, 20_000)
SCALE_WIDTH, SCALE_HEIGHT = 6, 120
SMALLEST_BAND_PX = 6
MOST_HARMONICS = 24


class Ruler(Lane):
    """Times above the pictures, and the drop of the play head."""

    def __init__(self, studio: Studio, axis: TimeAxis) -> None:
        super().__init__(studio, axis)
        self.setFixedHeight(22)
        self.setAccessibleName("Time ruler")

    def paint_plot(self, painter: QPainter, plot: QRectF) -> None:
        painter.fillRect(plot, colour("paper"))

    def paint_selection(self, painter: QPainter, plot: QRectF) -> None:
        box = self.selection_box(plot)
        if not box.isNull():
            painter.fillRect(QRectF(box.left(), plot.bottom() - 3, box.width(), 3), colour("plum"))

    def paint_step_ends(self, painter: QPainter, plot: QRectF) -> None:
        """The ruler stays quiet."""

    def paint_head(self, painter: QPainter, plot: QRectF) -> None:
        if self.head_x < 0:
            return
        x, y = plot.left() + self.head_x + 0.2, plot.bottom()
        drop = QPainterPath(QPointF(x, y))
        drop.cubicTo(x - 1, y - 4, x - 5, y - 6, x - 5, y - 10)
        drop.arcTo(QRectF(x - 5, y - 15, 10, 10), 180, -180)
        drop.cubicTo(x + 5, y - 6, x + 1, y - 4, x, y)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour("ink"))
        painter.drawPath(drop)

    def paint_gutters(self, painter: QPainter, plot: QRectF) -> None:
        if self.studio.recording is None:
            return
        painter.setFont(font(11))
        step, ticks = self.axis.ticks()
        decimals = max(0, -int(np.floor(np.log10(step) + 1e-9))) if step < 1 else 0
        for tick in ticks:
            x = plot.left() + self.axis.x_at(tick * self.axis.rate)
            painter.setPen(QPen(colour("strong"), 1))
            painter.drawLine(QPointF(int(x) + 0.5, plot.bottom() - 4), QPointF(int(x) + 0.5, plot.bottom()))
            if abs(x - plot.left() - self.head_x) < 30 and self.head_x >= 0:
                continue
            painter.setPen(colour("soft"))
            box = QRectF(x - 40, plot.top(), 80, plot.height() - 5)
            if box.left() < plot.left() - 12:
                box.moveLeft(plot.left() - 2)
                painter.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, format_time(tick, decimals))
            elif box.right() > plot.right() + 30:
                continue
            else:
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, format_time(tick, decimals))


class SonogramView(Lane):
    """Level over time and frequency. Dragging marks time and frequency."""

    read_out = Signal(str)

    def __init__(self, studio: Studio, axis: TimeAxis) -> None:
        super().__init__(studio, axis)
        self.low_db, self.high_db = -84.0, -34.0
        self.low_hz, self.high_hz = 40.0, 20_000.0
        self.transform_size = 0
        self._tiles = Tiles(studio.pool, self.update)
        self._known_table: tuple[Hashable, list[int]] | None = None
        self._gutters: tuple[Hashable, QPixmap] | None = None
        self.comb = False
        self._pointer: QPointF | None = None
        self._band_from: float | None = None
        self._scale_grab: tuple[str, float, float, float] | None = None
        self.setMinimumHeight(120)
        self.setAccessibleName("Sonogram")
        theme_notice().changed.connect(self._recolour)

    @property
    def scale(self) -> SonogramScale:
        """Axis and transforms at the present size."""
        rate = self.axis.rate
        high = min(self.high_hz, rate / 2)
        return SonogramScale(min(self.low_hz, high / 4), high, max(16, self.height()), self.transform_size)

    def set_levels(self, low_db: float, high_db: float) -> None:
        """Which levels are paper and which are ink."""
        self.low_db, self.high_db = low_db, max(high_db, low_db + 10.0)
        self._recolour()

    def set_size(self, size: int) -> None:
        """One transform length, or 0 for blended lengths."""
        self.transform_size = size
        self.update()

    def set_band(self, low_hz: float, high_hz: float) -> None:
        """Which frequencies are in view."""
        self.low_hz = min(max(low_hz, 10.0), 20_000.0)
        self.high_hz = min(max(high_hz, self.low_hz * 1.5), 96_000.0)
        self.update()

    def forget(self) -> None:
        """Another recording comes."""
        self._tiles.forget()

    def _table(self) -> list[int]:
        key = (theme().name, self.low_db, self.high_db)
        if self._known_table is None or self._known_table[0] != key:
            table = ramp_table(theme(), self.low_db, self.high_db, CODE_FLOOR_DB, CODE_STEP_DB)
            self._known_table = (key, table)
        return self._known_table[1]

    def _recolour(self) -> None:
        self._tiles.recoloured(self._table())
        self.update()

    def paint_plot(self, painter: QPainter, plot: QRectF) -> None:
        source = self.studio.heard_source
        if source is None:
            return
        scale = self.scale
        table = self._table()

        def key_of(place: Place) -> Hashable:
            reach = 8192
            a = max(0, min(int(place.start) - reach, source.frames - 1))
            b = max(a + 1, min(int(place.stop) + reach, source.frames))
            return (source.span_key(a, b), place, scale)

        def work_of(place: Place) -> Callable[[Job], QImage]:
            def work(job: Job) -> QImage:
                job.progress(0.0)
                codes = sonogram(source, place.start, place.frames_per_pixel, TILE_COLUMNS, scale)
                codes = np.ascontiguousarray(codes)
                image = QImage(codes.data, TILE_COLUMNS, scale.rows, TILE_COLUMNS, QImage.Format.Format_Indexed8)
                image.setColorTable(table)
                return image.copy()

            return work

        self._tiles.draw(painter, plot, self.axis.left, self.axis.frames_per_pixel, key_of, work_of)

    def paint_gutters(self, painter: QPainter, plot: QRectF) -> None:
        key = (self.size().toTuple(), theme().name, self.scale, self.low_db, self.high_db, self.devicePixelRatioF())
        if self._gutters is None or self._gutters[0] != key:
            ratio = self.devicePixelRatioF()
            pixmap = QPixmap(self.size() * ratio)
            pixmap.setDevicePixelRatio(ratio)
            pixmap.fill(Qt.GlobalColor.transparent)
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
        for hz in TICKS_HZ:
            if not scale.low_hz * 1.05 <= hz <= scale.high_hz:
                continue
            y = scale.row_of_hz(hz)
            painter.setPen(QPen(colour("strong"), 1))
            painter.drawLine(QPointF(plot.left() - 4, int(y) + 0.5), QPointF(plot.left(), int(y) + 0.5))
            painter.setPen(colour("soft"))
            text = f"{hz // 1000}k" if hz >= 1000 else str(hz)
            if not labelled:
                text, labelled = f"{text} Hz", True
            y = min(max(y, 7.0), plot.bottom() - 7)
            painter.drawText(QRectF(0, y - 8, GUTTER - 7, 16), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text)
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
                painter.drawText(QRectF(box.right() + 3, y - 8, 24, 16), Qt.AlignmentFlag.AlignVCenter, format_number(db, 0))
        painter.drawText(QRectF(plot.right() + 4, box.bottom() + 4, GUTTER - 4, 14), Qt.AlignmentFlag.AlignLeft, "dBFS")

    # -- mouse

    def selection_box(self, plot: QRectF) -> QRectF:
        box = super().selection_box(plot)
        selection = self.studio.selection
        if selection is not None and selection.band_hz is not None:
            scale = self.scale
            low, high = selection.band_hz
            top = max(plot.top(), scale.row_of_hz(max(high, 1.0)))
            bottom = min(plot.bottom(), scale.row_of_hz(max(low, 1.0)))
            box.setTop(top)
            box.setBottom(bottom)
        return box

    def begin_drag(self, place: QPointF) -> None:
        self._band_from = place.y()

    def drag_to(self, place: QPointF) -> None:
        if self._anchor is None:
            return
        band = self.studio.selection.band_hz if self.studio.selection else None
        if self._band_from is not None and self._drag_edge is None:
            band = None
            if abs(place.y() - self._band_from) > SMALLEST_BAND_PX * 4:
                scale = self.scale
                hz = sorted(float(scale.hz_of_row(min(max(y, 0.0), scale.rows))) for y in (place.y(), self._band_from))
                band = (hz[0], hz[1])
        self.studio.select(self._anchor, self.axis.clamped_frame(place.x() - GUTTER), band)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        place = event.position()
        if place.x() > self.plot.right() + 2 and event.button() == Qt.MouseButton.LeftButton:
            box = self._scale_box()
            which = "high" if place.y() < box.center().y() else "low"
            self._scale_grab = (which, place.y(), self.low_db, self.high_db)
            return
        super().mousePressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._scale_grab is not None:
            which, y0, low, high = self._scale_grab
            change = (event.position().y() - y0) / 2.0
            if which == "high":
                self.set_levels(low, min(0.0, max(low + 10, high - change)))
            else:
                self.set_levels(max(-127.0, min(high - 10, low - change)), high)
            return
        if event.position().x() > self.plot.right() + 2:
            self.setCursor(Qt.CursorShape.SizeVerCursor)
            self.setToolTip("Drag the upper half for the level of ink, the lower for the level of paper")
            return
        self.setToolTip("")
        super().mouseMoveEvent(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._scale_grab = None
        super().mouseReleaseEvent(event)
        self._band_from = None

    def wheelEvent(self, event: QWheelEvent) -> None:
        if event.modifiers() & Qt.KeyboardModifier.AltModifier:
            factor = 0.8 if (event.angleDelta().y() or event.angleDelta().x()) > 0 else 1.25
            scale = self.scale
            here = float(scale.hz_of_row(event.position().y()))
            self.set_band(here * (self.low_hz / here) ** factor, here * (self.high_hz / here) ** factor)
            if self.low_hz <= 42 and factor > 1:
                self.set_band(40.0, min(self.high_hz, 20_000.0))
            return
        super().wheelEvent(event)

    def hover(self, place: QPointF) -> None:
        if self.studio.recording is None or not self.plot.contains(place):
            self.read_out.emit("")
            return
        seconds = self.axis.frame_at(place.x() - GUTTER) / self.axis.rate
        hz = float(self.scale.hz_of_row(place.y()))
        level = self.level_at(place.x() - GUTTER, place.y())
        shown = f"{format_number(level, 0)} dBFS" if level is not None else ""
        self.read_out.emit(f"{format_time(seconds, 2)}   {format_number(hz, 0 if hz >= 100 else 1)} Hz   {shown}   {note_name(hz)}")
        if self.comb:
            self._pointer = place
            self.update()

    def level_at(self, x: float, y: float) -> float | None:
        """Level in dBFS under a point of the plot, as the picture has it."""
        code = self._tiles.code_at(x, y, self.axis.left, self.axis.frames_per_pixel)
        return None if code is None else CODE_FLOOR_DB + CODE_STEP_DB * code

    def toggle_comb(self) -> None:
        """Show or hide the harmonics of the frequency under the pointer."""
        self.comb = not self.comb
        self._pointer = None
        self.update()

    def paint_head(self, painter: QPainter, plot: QRectF) -> None:
        super().paint_head(painter, plot)
        if not self.comb or self._pointer is None:
            return
        scale, x = self.scale, self._pointer.x() - GUTTER
        base = float(scale.hz_of_row(self._pointer.y()))
        painter.setFont(font(11))
        last_y = plot.bottom() + 99
        for order in range(1, MOST_HARMONICS + 1):
            y = scale.row_of_hz(base * order)
            if y < plot.top() or last_y - y < 4:
                return
            pen = QPen(colour("ink"), 1.4 if order == 1 else 1)
            pen.setDashPattern([4, 3])
            painter.setPen(pen)
            painter.drawLine(QPointF(plot.left(), int(y) + 0.5), QPointF(plot.right(), int(y) + 0.5))
            if last_y - y >= 14:
                level = self.level_at(x, y)
                words = f"{order}\u00d7  {format_number(base * order, 0)} Hz  {format_number(level, 0)}"
                box = QRectF(plot.right() - 118, y - 7, 114, 14)
                painter.fillRect(box, colour("panel"))
                painter.setPen(colour("ink"))
                painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, words)
                last_y = y

    def leaveEvent(self, event: QEvent) -> None:
        self.read_out.emit("")
        super().leaveEvent(event)
