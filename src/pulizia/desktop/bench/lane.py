# SPDX-License-Identifier: GPL-3.0-or-later
"""What all views on the time axis share: gutters, selection, play head, mouse and wheel."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QWidget

from pulizia.desktop.bench.time_axis import GUTTER, ZOOM_STEP, TimeAxis
from pulizia.desktop.menu import Menu
from pulizia.desktop.playhead import paint_line
from pulizia.desktop.theme import colour, theme_notice
from pulizia.desktop.turns import update_in_turn
from pulizia.session.heard_subject import Selection
from pulizia.session.session import Session
from pulizia.units import format_time
from pulizia.words import tr

EDGE_PX = 5


class Lane(QWidget):
    """A view over the shared time axis."""

    menu_asked = Signal(QWidget, QPoint)  # for its commands, at a place of the screen
    head_reach = 7  # pixels to both sides of the play head that change with it
    menu_ids: tuple[str, ...] = ()  # of the commands in its right-click menu; "" is a line between them

    def __init__(self, session: Session, axis: TimeAxis) -> None:
        super().__init__()
        self.session, self.axis = session, axis
        self.head_x = -1.0
        self.dirty = QRectF()  # what is being painted
        self._waits = False  # for its turn, since its size has changed
        self._anchor: int | None = None
        self._drag_edge: str | None = None
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setAttribute(Qt.WidgetAttribute.WA_StaticContents)  # a new size is painted in turn, not all panes at once
        self.setMouseTracking(True)
        axis.changed.connect(self.update)
        theme_notice().changed.connect(self.update)

    @property
    def is_there(self) -> bool:
        """Whether there is something to show."""
        return self.session.chain is not None

    @property
    def selection(self) -> Selection | None:
        """The selection that is shown."""
        return self.session.selection

    def accessible_words(self) -> str:
        """What is in view, and what is selected."""
        rate = self.axis.rate
        shown = [format_time(f / rate, 2) for f in (max(0.0, self.axis.left), min(self.axis.right, self.axis.frames))]
        words = tr("In view {start}–{stop}", start=shown[0], stop=shown[1])
        selection = self.selection
        if selection is None:
            return words
        edges = [format_time(f / rate, 2) for f in (selection.span.start, selection.span.stop)]
        words += "; " + tr("selected {start}–{stop}", start=edges[0], stop=edges[1])
        if selection.band_hz is not None:
            low, high = selection.band_hz
            words += ", " + tr("{low:.0f}–{high:.0f} Hz", low=low, high=high)
        return words

    def renew(self) -> None:
        """Be painted again in turn: something in view has come."""
        update_in_turn(self)

    @property
    def plot(self) -> QRectF:
        """The area between the gutters."""
        return QRectF(GUTTER, 0, max(16, self.width() - 2 * GUTTER), self.height())

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._waits = True
        update_in_turn(self)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        self.dirty = QRectF(event.rect())
        painter.fillRect(event.rect(), colour("paper"))
        seen = self.visibleRegion().boundingRect()
        if self._waits and seen.isValid() and not event.rect().contains(seen):
            return  # a new size: what stood here stays until the turn comes
        self._waits = False
        plot = self.plot
        painter.save()
        painter.setClipRect(plot)
        painter.fillRect(plot, colour("panel"))
        if self.is_there:
            self.paint_plot(painter, plot)
            self.paint_trimmed(painter, plot)
            self.paint_selection(painter, plot)
            self.paint_step_ends(painter, plot)
            self.paint_head(painter, plot)
        painter.restore()
        self.paint_gutters(painter, plot)

    def paint_plot(self, painter: QPainter, plot: QRectF) -> None:
        """Draw the sound."""

    def paint_gutters(self, painter: QPainter, plot: QRectF) -> None:
        """Draw axis labels."""

    def paint_selection(self, painter: QPainter, plot: QRectF) -> None:
        """Draw the marked stretch: plum edges and a light fill."""
        selection = self.session.selection
        if selection is None:
            return
        box = self.selection_box(plot)
        painter.fillRect(box, colour("plum", 0.18))
        painter.setPen(QPen(colour("plum"), 1))
        left, right = int(box.left()) + 0.5, int(box.right()) + 0.5
        painter.drawLine(QPointF(left, box.top()), QPointF(left, box.bottom()))
        painter.drawLine(QPointF(right, box.top()), QPointF(right, box.bottom()))
        if selection.band_hz is not None and box.height() < plot.height():
            painter.drawLine(box.topLeft(), box.topRight())
            painter.drawLine(box.bottomLeft(), box.bottomRight())

    def paint_trimmed(self, painter: QPainter, plot: QRectF) -> None:
        """What does not belong to the programme lies under paper."""
        recording = self.session.recording
        if recording is None or recording.trim is None:
            return
        for start, stop in ((0, recording.trim.start), (recording.trim.stop, recording.frames)):
            left, right = self.x_of(start, plot), self.x_of(stop, plot)
            if right <= plot.left() or left >= plot.right() or start == stop:
                continue
            painter.fillRect(QRectF(left, plot.top(), right - left, plot.height()), colour("paper", 0.78))
            edge = int(left if start else right) + 0.5
            painter.setPen(QPen(colour("strong"), 1))
            painter.drawLine(QPointF(edge, plot.top()), QPointF(edge, plot.bottom()))

    def x_of(self, frame: int, plot: QRectF) -> float:
        """Where a frame lies."""
        return plot.left() + self.axis.x_at(frame)

    def selection_box(self, plot: QRectF) -> QRectF:
        """Where the selection lies in this view."""
        selection = self.selection
        if selection is None:
            return QRectF()
        x0 = plot.left() + self.axis.x_at(selection.span.start)
        x1 = plot.left() + self.axis.x_at(selection.span.stop)
        return QRectF(x0, plot.top(), x1 - x0, plot.height())

    def paint_step_ends(self, painter: QPainter, plot: QRectF) -> None:
        """The selected step's real ends go up through the pictures as dashes."""
        step, recording = self.session.step, self.session.recording
        if step is None or recording is None or not step.enabled:
            return
        pen = QPen(colour("verd"), 1, Qt.PenStyle.CustomDashLine)
        pen.setDashPattern([3, 3])
        painter.setPen(pen)
        spans = step.acts_in(recording.frames)
        for edge in {e for s in spans for e in (s.start, s.stop)} - {0, recording.frames}:
            x = int(plot.left() + self.axis.x_at(edge)) + 0.5
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))

    def paint_head(self, painter: QPainter, plot: QRectF) -> None:
        """The play position: ink over a pale halo."""
        if self.head_x < 0:
            return
        paint_line(painter, plot.left() + self.head_x, plot)

    def move_head(self, x: float) -> None:
        """Repaint only the two thin strips that the play head leaves and enters, pixel by pixel."""
        x = float(round(x))
        if x == self.head_x:
            return
        old, self.head_x = self.head_x, x
        for place in (old, x):
            if -8 <= place <= self.plot.width() + 8:
                reach = self.head_reach
                self.update(round(GUTTER + place) - reach, 0, 2 * reach + 1, self.height())

    # -- mouse

    def wheelEvent(self, event: QWheelEvent) -> None:
        delta = event.angleDelta()
        x = event.position().x() - GUTTER
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.axis.zoom(ZOOM_STEP ** (delta.y() / 120.0), x)
        else:
            self.axis.scroll(-(delta.x() or delta.y()) * 0.6)
        event.accept()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton or self.session.recording is None:
            return
        x = event.position().x() - GUTTER
        frame = self.axis.clamped_frame(x)
        selection = self.session.selection
        self._drag_edge = self._edge_under(event.position())
        if self._drag_edge is not None and selection is not None:
            other = selection.span.stop if self._drag_edge == "start" else selection.span.start
            self._anchor = other
        elif event.modifiers() & Qt.KeyboardModifier.ShiftModifier and selection is not None:
            middle = (selection.span.start + selection.span.stop) / 2
            self._anchor = selection.span.stop if frame < middle else selection.span.start
            self.drag_to(event.position())
        else:
            self._anchor = frame
            self.begin_drag(event.position())

    def begin_drag(self, place: QPointF) -> None:
        """A new selection begins."""

    def drag_to(self, place: QPointF) -> None:
        """The mouse moved with the button held."""
        if self._anchor is not None:
            self.session.select(self._anchor, self.axis.clamped_frame(place.x() - GUTTER))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._anchor is not None and event.buttons() & Qt.MouseButton.LeftButton:
            moved = abs(self.axis.x_at(self._anchor) - (event.position().x() - GUTTER))
            if moved >= 3 or self.session.selection is not None or self._drag_edge:
                self.drag_to(event.position())
            return
        edge = self._edge_under(event.position())
        shape = Qt.CursorShape.SizeHorCursor if edge else Qt.CursorShape.IBeamCursor
        self.setCursor(shape)
        self.hover(event.position())

    def hover(self, place: QPointF) -> None:
        """The mouse moves over the view."""

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._anchor is None:
            return
        x = event.position().x() - GUTTER
        still = abs(self.axis.x_at(self._anchor) - x) < 3 and self._drag_edge is None
        if still and not event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.session.clear_selection()
            self.session.seek(self.axis.clamped_frame(x))
        self._anchor = self._drag_edge = None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.session.phrases.select_at(self.axis.clamped_frame(event.position().x() - GUTTER))

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """What one does there; outside the selection the playhead goes there first, unless it is playing."""
        session = self.session
        if session.recording is None or not self.menu_ids:
            return
        frame = self.axis.clamped_frame(event.pos().x() - GUTTER)
        span = session.selection.span if session.selection is not None else None
        if not session.transport.is_playing and (span is None or not span.start <= frame < span.stop):
            session.seek(frame)
        self.menu_asked.emit(self, event.globalPos())

    def extend_menu(self, menu: Menu) -> None:
        """Add to the right-click menu what only this view has."""

    def _edge_under(self, place: QPointF) -> str | None:
        if self.session.selection is None:
            return None
        box = self.selection_box(self.plot)
        if abs(place.x() - box.left()) <= EDGE_PX:
            return "start"
        return "stop" if abs(place.x() - box.right()) <= EDGE_PX else None
