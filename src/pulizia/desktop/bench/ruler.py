# SPDX-License-Identifier: GPL-3.0-or-later
"""The ruler above the pictures: times, markers and the drop of the play head."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QFontMetricsF,
    QMouseEvent,
    QPainter,
    QPen,
)

from pulizia.audio.markers import Marker
from pulizia.desktop.bench.axis_drag import AxisDrag
from pulizia.desktop.bench.lane import Lane
from pulizia.desktop.bench.scrub import Scrub
from pulizia.desktop.bench.time_axis import GUTTER, TimeAxis
from pulizia.desktop.menu import Menu
from pulizia.desktop.playhead import BESIDE_HEAD_PX, paint_drop
from pulizia.desktop.theme import colour, font
from pulizia.session.session import Session
from pulizia.units import format_time
from pulizia.words import tr, translated

FLAG_REACH_PX = 6
HEAD_REACH_PX = 7
LONGEST_SHOWN_PX = 140
LABEL_PX = 44  # half of the room that a time may take


class Ruler(Lane):
    """Times above the pictures, the markers, and the drop of the play head."""

    accessible_role = "picture"

    rename_asked = Signal(object)
    head_reach = BESIDE_HEAD_PX + LABEL_PX
    menu_ids = (
        "play", "go_to_time", "", "mark_start", "mark_stop", "phrase", "", "marker", "marker_previous", "marker_next", "",
        "zoom_marked", "zoom_whole",
    )  # fmt: skip

    def __init__(self, session: Session, axis: TimeAxis) -> None:
        super().__init__(session, axis)
        self.setFixedHeight(22)
        self._drag: AxisDrag | None = None
        self._scrub = Scrub(session, self)
        self.setAccessibleName(tr("Time ruler"))

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
        paint_drop(painter, plot.left() + self.head_x + 0.2, plot.bottom())

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton and not event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            x = event.position().x() - GUTTER
            if self.session.recording is not None and abs(x - self.head_x) <= HEAD_REACH_PX:
                self._scrub.begin(self.axis.clamped_frame(x))
                return
            self._drag = AxisDrag(event.position(), Qt.Orientation.Horizontal)
        else:
            super().mousePressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._scrub.is_on:
            self._scrub.move(self.axis.clamped_frame(event.position().x() - GUTTER))
            return
        if self._drag is None:
            super().mouseMoveEvent(event)
            near = abs(event.position().x() - GUTTER - self.head_x) <= HEAD_REACH_PX
            self.setCursor(Qt.CursorShape.PointingHandCursor if near else Qt.CursorShape.SizeHorCursor)
            return
        along, factor = self._drag.move(event.position())
        if factor != 1.0:
            self.axis.zoom(factor, self._drag.start.x() - GUTTER)
        elif along:
            self.axis.scroll(-along)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._scrub.is_on:
            self._scrub.end()
            return
        drag, self._drag = self._drag, None
        if drag is None:
            super().mouseReleaseEvent(event)
        elif not drag.way and self.session.recording is not None:
            self.session.seek(self.axis.clamped_frame(event.position().x() - GUTTER))

    def _paint_markers(self, painter: QPainter, plot: QRectF) -> None:
        painter.setFont(font(11, bold=True))
        metrics = QFontMetricsF(font(11, bold=True))
        markers = self._markers_in_view()
        for n, marker in enumerate(markers):
            x = plot.left() + self.axis.x_at(marker.frame)
            if x > plot.right():
                return
            room = LONGEST_SHOWN_PX
            if n + 1 < len(markers):
                room = int(min(room, self.axis.x_at(markers[n + 1].frame) - self.axis.x_at(marker.frame) - 6))
            words = metrics.elidedText(marker.name, Qt.TextElideMode.ElideRight, max(0, room - 6)) if room > 24 else ""
            width = metrics.horizontalAdvance(words) + 6 if words else 0.0
            painter.fillRect(QRectF(int(x), plot.top() + 1, 1, plot.height() - 1), colour("ink"))
            if words:
                painter.fillRect(QRectF(int(x), plot.top() + 1, width, 14), colour("ink"))
                painter.setPen(colour("panel"))
                box = QRectF(int(x) + 3, plot.top(), width, 16)
                painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, translated(words))
            else:
                painter.fillRect(QRectF(int(x), plot.top() + 1, 5, 5), colour("ink"))

    def _is_under_marker(self, x: float) -> bool:
        """Whether the time at a pixel would be written across a marker."""
        places = (self.axis.x_at(m.frame) - x for m in self._markers_in_view())
        return any(-LONGEST_SHOWN_PX / 2 < place < 30 for place in places)

    def _markers_in_view(self) -> tuple[Marker, ...]:
        reach = LONGEST_SHOWN_PX * self.axis.frames_per_pixel
        return self.session.markers.between(self.axis.left - reach, self.axis.right)

    def _marker_under(self, x: float) -> Marker | None:
        return self.session.markers.near(self.axis.frame_at(x - GUTTER), FLAG_REACH_PX * self.axis.frames_per_pixel)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        marker = self._marker_under(event.position().x())
        if marker is not None:
            self.rename_asked.emit(marker)
        else:
            super().mouseDoubleClickEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        marker = self._marker_under(event.pos().x())
        if marker is None:
            super().contextMenuEvent(event)
            return
        menu = Menu(self)
        menu.addAction(tr("Rename the marker…")).triggered.connect(lambda: self.rename_asked.emit(marker))
        menu.addAction(tr("Remove the marker")).triggered.connect(lambda: self.session.markers.remove(marker))
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(event.globalPos())

    def hover(self, place: QPointF) -> None:
        marker = self._marker_under(place.x())
        self.setToolTip(
            tr("{name}\nDouble-click to rename", name=marker.name)
            if marker
            else tr(
                "Press to go there; drag along to move, up or down to zoom, with Shift to select.\nDrag the playhead to hear what it passes."
            )
        )

    def paint_gutters(self, painter: QPainter, plot: QRectF) -> None:
        if self.session.recording is None:
            return
        painter.save()
        painter.setClipRect(plot)
        self._paint_markers(painter, plot)
        painter.restore()
        painter.setFont(font(11))
        step, ticks = self.axis.ticks()
        decimals = max(0, -int(np.floor(np.log10(step) + 1e-9))) if step < 1 else 0
        for tick in ticks:
            x = plot.left() + self.axis.x_at(tick * self.axis.rate)
            if not self.dirty.left() - 42 <= x <= self.dirty.right() + 42:
                continue
            painter.setPen(QPen(colour("strong"), 1))
            painter.drawLine(QPointF(int(x) + 0.5, plot.bottom() - 4), QPointF(int(x) + 0.5, plot.bottom()))
            if abs(x - plot.left() - self.head_x) < BESIDE_HEAD_PX and self.head_x >= 0:
                continue
            if self._is_under_marker(x - plot.left()):
                continue
            painter.setPen(colour("soft"))
            box = QRectF(x - 40, plot.top(), 80, plot.height() - 5)
            if box.left() < plot.left() - 12:
                box.moveLeft(plot.left() - 2)
                painter.drawText(
                    box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, format_time(tick, decimals)
                )
            elif box.right() > plot.right() + 30:
                continue
            else:
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, format_time(tick, decimals))
