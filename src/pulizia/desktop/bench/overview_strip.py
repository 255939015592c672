# SPDX-License-Identifier: GPL-3.0-or-later
"""All of the recording in one strip above everything."""

from __future__ import annotations

from collections.abc import Hashable

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QContextMenuEvent, QImage, QMouseEvent, QPainter, QPen, QWheelEvent

from pulizia.desktop.bench.lane import Lane
from pulizia.desktop.bench.pictures import Pictures
from pulizia.desktop.bench.time_axis import GUTTER, ZOOM_STEP, TimeAxis
from pulizia.desktop.bench.trouble_marks import found_columns, troubled_columns
from pulizia.desktop.bench.wave_image import (
    columns_of_picture,
    indexed_image,
    wave_codes,
    wave_table,
)
from pulizia.desktop.theme import colour, theme
from pulizia.session.session import Session
from pulizia.words import tr


class Overview(Lane):
    """All of the recording in one strip, with a frame around what is in view."""

    accessible_role = "picture"

    menu_ids = (
        "zoom_whole",
        "zoom_marked",
        "zoom_in",
        "zoom_out",
        "",
        "start",
        "end",
        "go_to_time",
        "",
        "inspect",
        "figures",
    )

    def __init__(self, session: Session, axis: TimeAxis, pictures: Pictures) -> None:
        super().__init__(session, axis)
        self._pictures = pictures
        pictures.watch(self)
        self.setFixedHeight(46)
        self._grab: float | None = None
        self._image: tuple[Hashable, QImage] | None = None
        self.setAccessibleName(tr("Overview of the recording"))
        self.setToolTip(tr("Drag to move the view; the wheel scrolls, with Ctrl it zooms; double-click shows all"))

    @property
    def plot(self) -> QRectF:
        return QRectF(GUTTER, 9, max(16, self.width() - 2 * GUTTER), 33)

    def paint_plot(self, painter: QPainter, plot: QRectF) -> None:
        source = self.session.heard_source
        if source is None:
            return
        painter.fillRect(plot, colour("paper"))
        chain = self.session.chain
        worked = chain is not None and source is chain.after
        picture = self._pictures.of_chain(chain) if chain is not None and worked else self._pictures.of(source)
        key = (source.key, picture.version_in(0, source.frames), plot.width(), theme().name)
        if self._image is None or key != self._image[0]:
            columns = int(plot.width())
            figures = columns_of_picture(picture, 0.0, source.frames / columns, columns)
            self._image = (key, indexed_image(wave_codes(figures, int(plot.height())), wave_table(theme())))
        painter.drawImage(plot.topLeft(), self._image[1])
        self._paint_marks(painter, plot)

    def whole_sound(self, width: int, height: int) -> QImage | None:
        """The recording on the bench without anything over it, whatever place is shown; nothing until all of it was read."""
        chain = self.session.chain
        if chain is None or not self._pictures.of(chain.before).is_complete:
            return None
        picture = self._pictures.of_chain(chain)
        figures = columns_of_picture(picture, 0.0, chain.before.frames / width, width)
        return indexed_image(wave_codes(figures, height), wave_table(theme()))

    def x_of(self, frame: int, plot: QRectF) -> float:
        return plot.left() + frame / max(1, self.axis.frames) * plot.width()

    def paint_selection(self, painter: QPainter, plot: QRectF) -> None:
        selection = self.session.selection
        if selection is not None and self.axis.frames:
            x0, x1 = (self.x_of(f, plot) for f in (selection.span.start, selection.span.stop))
            painter.fillRect(QRectF(x0, plot.top(), max(1.0, x1 - x0), plot.height()), colour("plum", 0.35))

    def paint_step_ends(self, painter: QPainter, plot: QRectF) -> None:
        """Nothing here: the overview stays quiet."""

    def paint_head(self, painter: QPainter, plot: QRectF) -> None:
        if self.head_x >= 0:
            painter.fillRect(QRectF(plot.left() + self.head_x, plot.top(), 1.4, plot.height()), colour("ink"))

    def _paint_marks(self, painter: QPainter, plot: QRectF) -> None:
        """Overload along the upper edge, markers along the lower."""
        columns = int(plot.width())
        for column in troubled_columns(self.session, 0.0, self.axis.frames / columns, columns):
            painter.fillRect(QRectF(plot.left() + column, plot.top(), 1, 4), colour("madder"))
        for column in found_columns(self.session, 0.0, self.axis.frames / columns, columns):
            painter.fillRect(QRectF(plot.left() + column, plot.top() - 4, 1, 3), colour("ochre"))
        for marker in self.session.markers.all:
            painter.fillRect(QRectF(int(self.x_of(marker.frame, plot)), plot.bottom() - 5, 1, 5), colour("ink"))

    def paint_gutters(self, painter: QPainter, plot: QRectF) -> None:
        if self.session.chain is None or not self.axis.frames or self.axis.is_whole:
            return
        scale = plot.width() / self.axis.frames
        x0, x1 = plot.left() + self.axis.left * scale, plot.left() + self.axis.right * scale
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(colour("ink"), 1.4))
        painter.drawRoundedRect(QRectF(x0, plot.top() - 2, max(6.0, x1 - x0), plot.height() + 4), 4, 4)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self._grab = 0.0
            self._centre(event.position().x())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._grab is not None:
            self._centre(event.position().x())

    def mouseReleaseEvent(self, _event: QMouseEvent) -> None:
        self._grab = None

    def mouseDoubleClickEvent(self, _event: QMouseEvent) -> None:
        self.axis.show_whole()

    def wheelEvent(self, event: QWheelEvent) -> None:
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.axis.zoom(ZOOM_STEP ** (event.angleDelta().y() / 120.0), self.axis.width / 2)
        else:
            super().wheelEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        self.menu_asked.emit(self, event.globalPos())

    def _centre(self, x: float) -> None:
        frame = (x - GUTTER) / self.plot.width() * self.axis.frames
        self.axis.scroll_to(frame - self.axis.width * self.axis.frames_per_pixel / 2)
