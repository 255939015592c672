# SPDX-License-Identifier: GPL-3.0-or-later
"""The sonogram with its frequency axis, level scale and read-out."""

from __future__ import annotations

from collections.abc import Callable, Hashable

import numpy as np
from PySide6.QtCore import QEvent, QPoint, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QImage,
    QMouseEvent,
    QPainter,
    QPen,
    QPixmap,
    QResizeEvent,
    QWheelEvent,
)

from pulizia.audio.source import Source, picked
from pulizia.desktop.bench.area_outlines import Pen, draw_areas, draw_marked, place_in
from pulizia.desktop.bench.axis_drag import AxisDrag
from pulizia.desktop.bench.harm_shade import draw_shade
from pulizia.desktop.bench.sonogram_gutters import LOWEST_HZ, SonogramGutters
from pulizia.desktop.bench.sonogram_look import SonogramLook
from pulizia.desktop.bench.sonogram_menu import sonogram_menu
from pulizia.desktop.bench.tiles import TILE_COLUMNS, Place, Tiles
from pulizia.desktop.bench.time_axis import GUTTER, TimeAxis
from pulizia.desktop.bench.trouble_marks import found_columns
from pulizia.desktop.controls import button
from pulizia.desktop.menu import Menu
from pulizia.desktop.theme import colour, font, theme_notice
from pulizia.measure.sonogram import CODE_FLOOR_DB, CODE_STEP_DB, sonogram
from pulizia.session.jobs import FIRST, VISIBLE, Job
from pulizia.session.session import Session
from pulizia.units import format_number, format_time, note_name
from pulizia.words import tr, translated

SMALLEST_BAND_PX = 6
SLOPE = 0.04  # a drag that rises less than this is meant to be level
MOST_HARMONICS = 24


class SonogramView(SonogramGutters):
    """Level over time and frequency. Dragging marks time and frequency."""

    accessible_role = "picture"

    read_out = Signal(str)

    def __init__(self, session: Session, axis: TimeAxis) -> None:
        super().__init__(session, axis)
        self.low_db, self.high_db = -84.0, -34.0
        self.low_hz, self.high_hz = 40.0, 20_000.0
        self.look = SonogramLook()
        self._tiles = Tiles(session.pool, self.renew)
        self._shade = Tiles(session.pool, self.renew, dims=False)
        self._stand_in = Tiles(session.pool, self.renew, dims=False)
        self.shows_harm = False
        self._gutters: tuple[Hashable, QPixmap] | None = None
        self.comb = False
        self._pointer: QPointF | None = None
        self._band_from: float | None = None
        self._pen = Pen(session, axis)
        self._scale_grab: tuple[str, float, float, float] | None = None
        self._axis_from: float | None = None  # of a band that is being selected on the axis
        self._axis_drag: AxisDrag | None = None
        self.setMinimumHeight(120)
        self.view_button = button(
            "\u22ef", self.show_menu, tip=tr("Transform size, window, frequency axis, colours, channels"), quiet=True
        )
        self.view_button.setParent(self)
        self.view_button.setAccessibleName(tr("Sonogram display options"))
        self.view_button.setFixedSize(GUTTER, 24)
        self.setAccessibleName(tr("Sonogram"))
        theme_notice().changed.connect(self._recolour)

    def set_levels(self, low_db: float, high_db: float) -> None:
        """Which levels are paper and which are ink."""
        self.low_db, self.high_db = low_db, max(high_db, low_db + 10.0)
        self._recolour()

    def choose(self, **changes: object) -> None:
        """Change the look by name."""
        for name, value in changes.items():
            setattr(self.look, name, value)
        self._recolour()

    def set_band(self, low_hz: float, high_hz: float) -> None:
        """Which frequencies are in view."""
        self.low_hz = min(max(low_hz, LOWEST_HZ if self.look.axis != "log" else 10.0), 20_000.0)
        self.high_hz = min(max(high_hz, self.low_hz * 1.5), 96_000.0)
        self.update()

    def zoom_band(self, factor: float, at_y: float) -> None:
        """Show a smaller (below 1) or larger stretch of frequencies around a height of the view."""
        axis, share = self.scale.frequency, 1.0 - at_y / self.scale.rows
        low, high = (float(axis.hz_at(share + (edge - share) * factor)) for edge in (0.0, 1.0))
        self.set_band(low, high)
        if factor > 1 and self.low_hz <= LOWEST_HZ + 2:
            self.set_band(LOWEST_HZ, min(self.high_hz, 20_000.0))

    def move_band(self, pixels: float) -> None:
        """Show higher (above 0) or lower frequencies, as far as there are any."""
        scale = self.scale
        share = pixels / scale.rows
        low, high = (float(scale.frequency.hz_at(edge + share)) for edge in (0.0, 1.0))
        if low >= LOWEST_HZ and high <= min(20_000.0, self.axis.rate / 2):
            self.set_band(low, high)

    def forget(self) -> None:
        """Another recording comes."""
        for tiles in (self._tiles, self._shade, self._stand_in):
            tiles.forget()

    def _recolour(self) -> None:
        for tiles in (self._tiles, self._stand_in):
            tiles.recoloured(self._table())
        self.update()

    def paint_plot(self, painter: QPainter, plot: QRectF) -> None:
        source = self.session.heard_source
        if source is None:
            return
        chain = self.session.chain

        def recording() -> None:
            if chain is not None and source is chain.after is not chain.before:
                self._draw(painter, plot, self._stand_in, chain.before, FIRST)

        self._draw(painter, plot, self._tiles, source, VISIBLE, recording)
        if self.shows_harm and chain is not None and (found := self.session.surveys.harm_of_score()) is not None:
            draw_shade(painter, plot, self._shade, self.axis, chain, found, self.scale)
        draw_areas(painter, self.session, self.axis, place_in(plot, self.axis, self.scale.row_of_hz))
        self._pen.paint(painter)
        for column in found_columns(self.session, self.axis.left, self.axis.frames_per_pixel, int(plot.width())):
            painter.fillRect(QRectF(plot.left() + column, plot.top(), 1.5, 6), colour("ochre"))

    def _draw(
        self, painter: QPainter, plot: QRectF, tiles: Tiles, source: Source, priority: int,
        below: Callable[[], object] = lambda: None,
    ) -> None:  # fmt: skip
        if self.look.channel and source.channels == 2:
            source = picked(source, self.look.channel)
        scale = self.scale
        table = self._table()

        def key_of(place: Place) -> Hashable:
            reach = 16384
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

        tiles.draw(painter, plot, self.axis.left, self.axis.frames_per_pixel, key_of, work_of, priority, below)

    def paint_selection(self, painter: QPainter, plot: QRectF) -> None:
        selection = self.session.selection
        if selection is not None and selection.outline:
            draw_marked(painter, selection.outline, place_in(plot, self.axis, self.scale.row_of_hz))
        else:
            super().paint_selection(painter, plot)

    def toggle_harm(self) -> None:
        """Show or hide where the score took from the voice."""
        self.shows_harm = not self.shows_harm
        self.update()

    # -- mouse

    def selection_box(self, plot: QRectF) -> QRectF:
        box = super().selection_box(plot)
        selection = self.session.selection
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
        band = self.session.selection.band_hz if self.session.selection else None
        if self._band_from is not None and self._drag_edge is None:
            band = None
            across = abs(place.x() - GUTTER - self.axis.x_at(self._anchor))
            if abs(place.y() - self._band_from) > min(max(SMALLEST_BAND_PX, SLOPE * across), 2 * SMALLEST_BAND_PX):
                scale = self.scale
                hz = sorted(float(scale.hz_of_row(min(max(y, 0.0), scale.rows))) for y in (place.y(), self._band_from))
                band = (hz[0], hz[1])
        self.session.select(self._anchor, self.axis.clamped_frame(place.x() - GUTTER), band)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        place = event.position()
        if place.x() > self.plot.right() + 2 and event.button() == Qt.MouseButton.LeftButton:
            box = self._scale_box()
            which = "high" if place.y() < box.center().y() else "low"
            self._scale_grab = (which, place.y(), self.low_db, self.high_db)
            return
        if place.x() < self.plot.left() and event.button() == Qt.MouseButton.LeftButton:
            if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
                self._axis_from = place.y()
            else:
                self._axis_drag = AxisDrag(place, Qt.Orientation.Vertical)
            return
        if event.modifiers() & Qt.KeyboardModifier.AltModifier and event.button() == Qt.MouseButton.LeftButton:
            self._pen.points = [place]
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
        if self._axis_from is not None:
            self._mark_band(self._axis_from, event.position().y())
            return
        if self._axis_drag is not None:
            along, factor = self._axis_drag.move(event.position())
            if factor != 1.0:
                self.zoom_band(1 / factor, self._axis_drag.start.y())
            elif along:
                self.move_band(along)
            return
        if self._pen.move(event.position()):
            self.update()
            return
        if event.position().x() < self.plot.left():
            self.setCursor(Qt.CursorShape.SizeVerCursor)
            self.setToolTip(
                tr("Drag along to move, across to zoom, with Shift to select a band; double-click shows all")
            )
            return
        if event.position().x() > self.plot.right() + 2:
            self.setCursor(Qt.CursorShape.SizeVerCursor)
            self.setToolTip(tr("Drag the upper half to set the highest level shown, the lower half for the lowest"))
            return
        self.setToolTip("")
        super().mouseMoveEvent(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._scale_grab = self._axis_from = self._axis_drag = None
        if self._pen.points:
            self._pen.finish(self.scale)
            self.update()
            return
        super().mouseReleaseEvent(event)
        self._band_from = None

    def _mark_band(self, from_y: float, to_y: float) -> None:
        """Mark a band over all time, or over the time that is marked already."""
        recording, selection = self.session.recording, self.session.selection
        if recording is None or abs(to_y - from_y) < SMALLEST_BAND_PX:
            return
        span = (selection.span.start, selection.span.stop) if selection else (0, recording.frames)
        scale = self.scale
        low, high = sorted(float(scale.hz_of_row(min(max(y, 0.0), scale.rows))) for y in (from_y, to_y))
        self.session.select(*span, (low, high))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if event.position().x() < self.plot.left():
            self.set_band(LOWEST_HZ, 20_000.0)
        elif event.position().x() <= self.plot.right():
            super().mouseDoubleClickEvent(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        over_axis = event.position().x() < self.plot.left()
        if over_axis and not event.modifiers() & (
            Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier
        ):
            self.move_band(event.angleDelta().y() * 0.3)
            return
        if over_axis or event.modifiers() & Qt.KeyboardModifier.AltModifier:
            self.zoom_band(
                0.8 if (event.angleDelta().y() or event.angleDelta().x()) > 0 else 1.25, event.position().y()
            )
            return
        super().wheelEvent(event)

    def hover(self, place: QPointF) -> None:
        if self.session.recording is None or not self.plot.contains(place):
            self.read_out.emit("")
            return
        seconds = self.axis.frame_at(place.x() - GUTTER) / self.axis.rate
        hz = float(self.scale.hz_of_row(place.y()))
        level = self.level_at(place.x() - GUTTER, place.y())
        shown = f"{format_number(level, 0)} dBFS" if level is not None else ""
        self.read_out.emit(
            f"{format_time(seconds, 2)}   {format_number(hz, 0 if hz >= 100 else 1)} Hz   {shown}   {note_name(hz)}"
        )
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
                words = tr(
                    "{order}×  {base} Hz  {level}",
                    order=order,
                    base=format_number(base * order, 0),
                    level=format_number(level, 0),
                )
                box = QRectF(plot.right() - 118, y - 7, 114, 14)
                painter.fillRect(box, colour("panel"))
                painter.setPen(colour("ink"))
                painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, translated(words))
                last_y = y

    def show_menu(self) -> None:
        """Open the choices."""
        self._open_menu(self.view_button.mapToGlobal(self.view_button.rect().bottomLeft()))

    def _open_menu(self, place: QPoint) -> None:
        menu = sonogram_menu(self, self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(place)

    menu_ids = (
        "play", "loop", "only_band", "", "phrase", "noise", "area", "mend", "treat", "give_back", "", "marker",
        "zoom_marked", "zoom_whole", "closer_hz", "wider_hz", "", "comb", "harm",
    )  # fmt: skip

    def extend_menu(self, menu: Menu) -> None:
        options = sonogram_menu(self, menu)
        options.setTitle(tr("Display options"))
        menu.addMenu(options)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        if self.plot.contains(event.pos().toPointF()):
            super().contextMenuEvent(event)
        else:
            self._open_menu(event.globalPos())

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.view_button.move(self.width() - GUTTER, self.height() - 26)

    def leaveEvent(self, event: QEvent) -> None:
        self.read_out.emit("")
        super().leaveEvent(event)
