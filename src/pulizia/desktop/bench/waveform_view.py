"""The waveform on a dB axis, and the overview of everything above it."""

from __future__ import annotations

from collections.abc import Callable, Hashable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QImage, QMouseEvent, QPainter, QPainterPath, QPen, QPolygonF, QWheelEvent

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source
from pulizia.desktop.bench.lane import Lane
from pulizia.desktop.bench.pictures import Pictures
from pulizia.desktop.bench.tiles import TILE_COLUMNS, Place, Tiles
from pulizia.desktop.bench.time_axis import GUTTER, TimeAxis
from pulizia.desktop.bench.wave_image import (
    FLOOR_DB,
    columns_of,
    columns_of_picture,
    indexed_image,
    wave_codes,
    wave_table,
)
from pulizia.desktop.theme import colour, font, theme, theme_notice
from pulizia.session.jobs import VISIBLE, Job
from pulizia.session.studio import Studio

SAMPLES_AROUND = 8192
DOTS_BELOW = 0.25  # frames per pixel under which single samples are drawn


class Overview(Lane):
    """All of the recording in one strip, with a frame around what is in view."""

    def __init__(self, studio: Studio, axis: TimeAxis, pictures: Pictures) -> None:
        super().__init__(studio, axis)
        self._pictures = pictures
        pictures.watch(self)
        self.setFixedHeight(46)
        self._grab: float | None = None
        self._image: tuple[Hashable, QImage] | None = None
        self.setAccessibleName("Overview of the recording")
        self.setToolTip("Drag to move the view; wheel with Ctrl zooms")

    @property
    def plot(self) -> QRectF:
        return QRectF(GUTTER, 9, max(16, self.width() - 2 * GUTTER), 33)

    def paint_plot(self, painter: QPainter, plot: QRectF) -> None:
        source = self.studio.heard_source
        if source is None:
            return
        painter.fillRect(plot, colour("paper"))
        picture = self._pictures.of(source)
        key = (source.key, picture.version, plot.width(), theme().name)
        if self._image is None or key != self._image[0]:
            columns = int(plot.width())
            figures = columns_of_picture(picture, 0.0, source.frames / columns, columns)
            self._image = (key, indexed_image(wave_codes(figures, int(plot.height())), wave_table(theme())))
        painter.drawImage(plot.topLeft(), self._image[1])

    def paint_selection(self, painter: QPainter, plot: QRectF) -> None:
        selection = self.studio.selection
        if selection is not None and self.axis.frames:
            scale = plot.width() / self.axis.frames
            x0, x1 = (plot.left() + f * scale for f in (selection.span.start, selection.span.stop))
            painter.fillRect(QRectF(x0, plot.top(), max(1.0, x1 - x0), plot.height()), colour("plum", 0.35))

    def paint_step_ends(self, painter: QPainter, plot: QRectF) -> None:
        """Nothing here: the overview stays quiet."""

    def paint_head(self, painter: QPainter, plot: QRectF) -> None:
        if self.head_x >= 0:
            painter.fillRect(QRectF(plot.left() + self.head_x, plot.top(), 1.4, plot.height()), colour("ink"))

    def paint_gutters(self, painter: QPainter, plot: QRectF) -> None:
        if self.studio.chain is None or not self.axis.frames or self.axis.is_whole:
            return
        scale = plot.width() / self.axis.frames
        x0, x1 = plot.left() + self.axis.left * scale, plot.left() + self.axis.right * scale
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(colour("ink"), 1.4))
        painter.drawRoundedRect(QRectF(x0, plot.top() - 2, max(6.0, x1 - x0), plot.height() + 4), 4, 4)

    def mousePressEvent(self, event: QMouseEvent) -> None:
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
        factor = 1.5 ** (event.angleDelta().y() / 120.0)
        self.axis.zoom(factor, self.axis.width / 2)

    def _centre(self, x: float) -> None:
        frame = (x - GUTTER) / self.plot.width() * self.axis.frames
        self.axis.scroll_to(frame - self.axis.width * self.axis.frames_per_pixel / 2)


class WaveformView(Lane):
    """Levels over time: left channel above, right below the middle line; mono is mirrored."""

    def __init__(self, studio: Studio, axis: TimeAxis, pictures: Pictures) -> None:
        super().__init__(studio, axis)
        self._pictures = pictures
        pictures.watch(self)
        self._tiles = Tiles(studio.pool, self.update)
        self._known_samples: tuple[str, int, Samples] | None = None
        self._asked_samples: tuple[str, int, int] | None = None
        self.setMinimumHeight(64)
        self.setAccessibleName("Waveform")
        theme_notice().changed.connect(self.update)

    def forget(self) -> None:
        """Another recording comes."""
        self._tiles.forget()

    def paint_plot(self, painter: QPainter, plot: QRectF) -> None:
        source = self.studio.heard_source
        if source is None:
            return
        middle, half = plot.center().y(), plot.height() / 2
        painter.setPen(QPen(colour("line"), 1))
        for db in (-20, -40):
            for sign in (-1, 1):
                y = int(middle + sign * half * (1.0 - db / FLOOR_DB)) + 0.5
                painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
        fpp = self.axis.frames_per_pixel
        if fpp < DOTS_BELOW * 8:
            self._draw_samples(painter, plot, source)
        else:
            self._draw_tiles(painter, plot, source)
        painter.setPen(QPen(colour("panel"), 1))
        painter.drawLine(QPointF(plot.left(), int(middle) + 0.5), QPointF(plot.right(), int(middle) + 0.5))

    def _draw_tiles(self, painter: QPainter, plot: QRectF, source: Source) -> None:
        height, table, name = int(plot.height()), wave_table(theme()), theme().name
        picture = self._pictures.of(source)

        def key_of(place: Place) -> Hashable:
            a = max(0, min(int(place.start), source.frames - 1))
            b = max(a + 1, min(int(place.stop) + 1, source.frames))
            return (source.span_key(a, b), place, height, name, picture.version_in(a, b))

        def work_of(place: Place) -> Callable[[Job], QImage]:
            def work(job: Job) -> QImage:
                job.progress(0.0)
                figures = columns_of(source, picture, place.start, place.frames_per_pixel, TILE_COLUMNS)
                return indexed_image(wave_codes(figures, height), table)

            return work

        self._tiles.draw(painter, plot, self.axis.left, self.axis.frames_per_pixel, key_of, work_of)

    def _draw_samples(self, painter: QPainter, plot: QRectF, source: Source) -> None:
        """Closer than two frames a pixel: the samples themselves on a linear scale."""
        first = max(0, int(self.axis.left) - 1)
        last = min(source.frames, int(self.axis.right) + 2)
        if last <= first:
            return
        samples = self._samples_of(source, first, last)
        if samples is None:
            return
        rows = 2 if source.channels >= 2 else 1
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        dots = self.axis.frames_per_pixel < DOTS_BELOW
        for row in range(rows):
            height = plot.height() / rows
            middle = plot.top() + (row + 0.5) * height
            x = plot.left() + (np.arange(first, last) - self.axis.left) / self.axis.frames_per_pixel
            y = middle - np.clip(samples[row], -1.05, 1.05) * height / 2
            points = [QPointF(a, b) for a, b in zip(x.tolist(), y.tolist(), strict=True)]
            painter.setPen(QPen(colour("soft"), 1.2))
            painter.drawPolyline(QPolygonF(points))
            if dots:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(colour("ink"))
                for point in points:
                    painter.drawEllipse(point, 2.2, 2.2)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)

    def _samples_of(self, source: Source, first: int, last: int) -> Samples | None:
        """Samples as far as a worker has brought them; asks for more around the view."""
        known = self._known_samples
        if known is not None and known[0] == source.key and known[1] <= first:
            have = known[2].shape[1]
            if last <= known[1] + have:
                return known[2][:, first - known[1] : last - known[1]]
        a, b = max(0, first - SAMPLES_AROUND), min(source.frames, last + SAMPLES_AROUND)

        def done(samples: Samples) -> None:
            self._known_samples = (source.key, a, samples)
            self.update()

        if self._asked_samples != (source.key, a, b):
            self._asked_samples = (source.key, a, b)
            self.studio.pool.submit(
                lambda _job: source.read(a, b), title="Reading samples", priority=VISIBLE,
                slot="samples", on_done=done,
            )  # fmt: skip
        return None

    def paint_gutters(self, painter: QPainter, plot: QRectF) -> None:
        painter.setFont(font(11))
        painter.setPen(colour("soft"))
        recording = self.studio.recording
        if recording is not None and recording.channels == 2:
            painter.drawText(QRectF(0, plot.top(), GUTTER - 8, 16), Qt.AlignmentFlag.AlignRight, "L")
            painter.drawText(QRectF(0, plot.bottom() - 16, GUTTER - 8, 16), Qt.AlignmentFlag.AlignRight, "R")
        middle, half = plot.center().y(), plot.height() / 2
        x = plot.right() + 6
        linear = self.axis.frames_per_pixel < DOTS_BELOW * 8
        if linear:
            for share, text in ((-1, "1"), (0, "0"), (1, "\u22121")):
                y = min(max(middle + share * half, plot.top() + 7), plot.bottom() - 7)
                painter.drawText(QRectF(x, y - 8, GUTTER - 8, 16), Qt.AlignmentFlag.AlignVCenter, text)
            return
        for db in (0, -20, -40):
            for sign in (-1, 1):
                if half < 60 and db == -40:
                    continue
                y = middle + sign * half * (1.0 - db / FLOOR_DB)
                y = min(max(y, plot.top() + 7), plot.bottom() - 7)
                text = "0" if db == 0 else f"\u2212{-db}"
                painter.drawText(QRectF(x, y - 8, GUTTER - 8, 16), Qt.AlignmentFlag.AlignVCenter, text)
        _draw_infinity(painter, QPointF(x + 12, middle))


def _draw_infinity(painter: QPainter, centre: QPointF) -> None:
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(colour("soft"), 1.2))
    path = QPainterPath()
    x, y = centre.x(), centre.y()
    path.moveTo(x, y)
    path.cubicTo(x + 3, y - 5, x + 8, y - 4, x + 8, y)
    path.cubicTo(x + 8, y + 4, x + 3, y + 5, x, y)
    path.cubicTo(x - 3, y - 5, x - 8, y - 4, x - 8, y)
    path.cubicTo(x - 8, y + 4, x - 3, y + 5, x, y)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawPath(path)
    painter.drawLine(QPointF(x - 13, y), QPointF(x - 10, y))
