# SPDX-License-Identifier: GPL-3.0-or-later
"""The ruler over the lanes: times or timecode, markers, and the drop of the play head."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QContextMenuEvent, QFontMetricsF, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from pulizia.desktop.bench.time_axis import GUTTER, TimeAxis
from pulizia.desktop.playhead import BESIDE_HEAD_PX, paint_drop
from pulizia.desktop.theme import colour, font, theme_notice
from pulizia.session.session import Session
from pulizia.units import format_time
from pulizia.words import tr, translated


class AssemblyRuler(QWidget):
    """Times of the programme; a click moves the play head, a drag selects a stretch; a marker has a menu."""

    accessible_role = "picture"

    marker_menu = Signal(int)

    def __init__(self, session: Session, axis: TimeAxis) -> None:
        super().__init__()
        self.session, self.axis = session, axis
        self.head_x = -1.0
        self._anchor: float | None = None
        self.setFixedHeight(24)
        self.setAccessibleName(tr("Time ruler"))
        axis.changed.connect(self.update)
        theme_notice().changed.connect(self.update)

    def move_head(self, x: float) -> None:
        """Show the play head elsewhere."""
        if round(x) != self.head_x:
            self.head_x = float(round(x))
            self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), colour("paper"))
        programme = self.session.assembly.programme
        if programme is None:
            return
        plot = QRectF(GUTTER, 0, self.width() - 2 * GUTTER, self.height())
        painter.setFont(font(11))
        bold = QFontMetricsF(font(11, bold=True))
        flags = [
            (x, x + bold.horizontalAdvance(marker.name) + 6)
            for marker in programme.markers
            if -200 <= (x := plot.left() + self.axis.x_at(marker.frame)) <= plot.right()
        ]
        step, ticks = self.axis.ticks()
        decimals = max(0, -int(np.floor(np.log10(step) + 1e-9))) if step < 1 else 0
        for tick in ticks:
            x = plot.left() + self.axis.x_at(tick * self.axis.rate)
            painter.setPen(QPen(colour("strong"), 1))
            painter.drawLine(QPointF(int(x) + 0.5, plot.bottom() - 4), QPointF(int(x) + 0.5, plot.bottom()))
            if x > plot.right() - 10 or any(a - 16 <= x <= b + 16 for a, b in flags):
                continue
            if self.head_x >= 0 and abs(x - plot.left() - self.head_x) < BESIDE_HEAD_PX:
                continue
            painter.setPen(colour("soft"))
            box = QRectF(max(x - 40, plot.left() - 4), 0, 80, plot.height() - 5)
            side = Qt.AlignmentFlag.AlignLeft if x - 40 < plot.left() - 4 else Qt.AlignmentFlag.AlignHCenter
            painter.drawText(box, side | Qt.AlignmentFlag.AlignVCenter, format_time(tick, decimals))
        painter.setClipRect(plot.adjusted(-6, 0, 6, 0))
        painter.setFont(font(11, bold=True))
        for marker in programme.markers:
            x = plot.left() + self.axis.x_at(marker.frame)
            width = painter.fontMetrics().horizontalAdvance(marker.name) + 6
            painter.fillRect(QRectF(int(x), 0, width, 14), colour("ink"))
            painter.setPen(colour("panel"))
            painter.drawText(QRectF(int(x) + 3, -1, width, 16), Qt.AlignmentFlag.AlignVCenter, translated(marker.name))
        if (span := self.session.assembly.span) is not None:
            left, right = (plot.left() + self.axis.x_at(f) for f in (span.start, span.stop))
            painter.fillRect(QRectF(left, plot.bottom() - 3, right - left, 3), colour("plum"))
        if self.head_x >= 0:
            paint_drop(painter, plot.left() + self.head_x, plot.bottom())

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        programme, at = self.session.assembly.programme, self.axis.frame_at(event.pos().x() - GUTTER)
        reach = 60 * self.axis.frames_per_pixel  # a name reaches to the right of its place
        near = (
            [
                m
                for m in programme.markers
                if (at - m.frame) / self.axis.frames_per_pixel >= -6 and at - m.frame <= reach
            ]
            if programme
            else []
        )
        if near:
            self.marker_menu.emit(near[-1].frame)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        self._anchor = self.axis.frame_at(event.position().x() - GUTTER)
        self.session.seek(max(0, round(self._anchor)))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._anchor is not None:
            frame = self.axis.frame_at(event.position().x() - GUTTER)
            if abs(frame - self._anchor) > 3 * self.axis.frames_per_pixel:
                self.session.assembly.select_span(round(self._anchor), round(frame))

    def mouseReleaseEvent(self, _event: QMouseEvent) -> None:
        self._anchor = None
