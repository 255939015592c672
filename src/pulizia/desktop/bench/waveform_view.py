"""The waveform on a dB axis, and the overview of everything above it."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from functools import partial

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QImage, QMouseEvent, QPainter, QPainterPath, QPen, QPolygonF, QWheelEvent

from pulizia.audio.source import Source, read_padded
from pulizia.desktop.bench.lane import Lane
from pulizia.desktop.bench.tiles import TILE_COLUMNS, Place, Tiles
from pulizia.desktop.bench.time_axis import GUTTER, TimeAxis
from pulizia.desktop.theme import colour, font, theme, theme_notice
from pulizia.measure.overview import BIN_FRAMES, PeakPicture, PeakSegment, sketched_segment
from pulizia.session.jobs import LATER, SOON, Job
from pulizia.session.studio import Studio

FLOOR_DB = -60.0
DOTS_BELOW = 0.25  # frames per pixel under which single samples are drawn


def height_of(amplitude: NDArray[np.float32]) -> NDArray[np.float64]:
    """Share 0..1 of the half height for an amplitude on the dB axis."""
    db = 20.0 * np.log10(np.maximum(amplitude, 1e-6))
    return np.asarray(np.clip(1.0 - db / FLOOR_DB, 0.0, 1.0))


class Pictures:
    """Peak pictures of the sources that are looked at, filled by background jobs."""

    def __init__(self, studio: Studio) -> None:
        self.studio = studio
        self._pictures: dict[str, PeakPicture] = {}
        self._views: list[Lane] = []

    def watch(self, view: Lane) -> None:
        """Repaint this view whenever a picture grows."""
        self._views.append(view)

    def of(self, source: Source) -> PeakPicture:
        """The picture of a source, as far as it is known."""
        picture = self._pictures.get(source.key)
        if picture is None:
            picture = PeakPicture(source, self.studio.peaks)
            self._pictures[source.key] = picture
            while len(self._pictures) > 6:
                self._pictures.pop(next(iter(self._pictures)))
            missing = picture.take_known()
            if missing:
                self._fill(picture, missing)
        return picture

    def _fill(self, picture: PeakPicture, missing: list[int]) -> None:
        source = picture.source
        chain = self.studio.chain
        is_file = chain is not None and source.key == chain.before.key
        slot = "peaks:file" if is_file else "peaks:worked"

        def sketch(job: Job) -> None:
            bins = -(-source.frames // BIN_FRAMES)
            known = self.studio.peaks.load(source.key, source.channels, bins) if is_file else None
            if known is not None:
                for index, segment in enumerate(known):
                    self.studio.peaks.put(picture.segment_key(index), segment)
                self._post(lambda: self._take(picture))
                return
            if is_file:
                for index in missing:
                    self._post(partial(picture.put, index, sketched_segment(source, index), sketch=True))
                    job.progress(0.0)
                self._post(self._repaint)
            for count, index in enumerate(missing):
                self._post(partial(self._grown, picture, index, picture.compute(index)))
                job.progress(count / len(missing))
            if is_file:
                self._post(lambda: self._save(picture))

        self.studio.pool.submit(sketch, title="Drawing the waveform", priority=SOON if is_file else LATER, slot=slot)

    def _post(self, call: Callable[[], None]) -> None:
        self.studio.post(call)

    def _take(self, picture: PeakPicture) -> None:
        picture.take_known()
        self._repaint()

    def _grown(self, picture: PeakPicture, index: int, segment: PeakSegment) -> None:
        picture.put(index, segment)
        self._repaint()

    def _save(self, picture: PeakPicture) -> None:
        if (segments := picture.complete) is not None:
            self.studio.pool.submit(
                lambda _job: self.studio.peaks.save(picture.source.key, segments), title="Keeping the waveform", priority=LATER
            )

    def _repaint(self) -> None:
        for view in self._views:
            view.update()


class Overview(Lane):
    """All of the recording in one strip, with a frame around what is in view."""

    def __init__(self, studio: Studio, axis: TimeAxis, pictures: Pictures) -> None:
        super().__init__(studio, axis)
        self._pictures = pictures
        pictures.watch(self)
        self.setFixedHeight(46)
        self._grab: float | None = None
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
        columns = int(plot.width())
        figures = picture.columns(0.0, source.frames / columns, columns)
        if source.frames < columns * BIN_FRAMES:
            figures = columns_from_samples(source, 0.0, source.frames / columns, columns)
        high = np.maximum(np.abs(figures.low), np.abs(figures.high)).max(axis=0)
        loud = height_of(np.sqrt(figures.power.max(axis=0)))
        middle = plot.center().y()
        tall = height_of(high) * plot.height() / 2
        for token, heights in (("soft", tall), ("ink", loud * plot.height() / 2)):
            painter.setPen(QPen(colour(token, 0.5 if token == "soft" else 0.8), 1))
            lines = _bars(heights, plot.left(), middle)
            painter.drawLines(lines)

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
        elif fpp < BIN_FRAMES * 2:
            self._draw_tiles(painter, plot, source)
        else:
            columns = int(plot.width())
            first = np.floor(self.axis.left / fpp) * fpp
            figures = self._pictures.of(source).columns(first, fpp, columns + 1)
            shift = (first - self.axis.left) / fpp
            draw_columns(painter, figures, plot.left() + shift, middle, half)
        painter.setPen(QPen(colour("panel"), 1))
        painter.drawLine(QPointF(plot.left(), int(middle) + 0.5), QPointF(plot.right(), int(middle) + 0.5))

    def _draw_tiles(self, painter: QPainter, plot: QRectF, source: Source) -> None:
        height = int(plot.height())
        name = theme().name

        def key_of(place: Place) -> Hashable:
            a = max(0, min(int(place.start), source.frames - 1))
            b = max(a + 1, min(int(place.stop) + 1, source.frames))
            return (source.span_key(a, b), place, height, name)

        def work_of(place: Place) -> Callable[[Job], QImage]:
            def work(job: Job) -> QImage:
                job.progress(0.0)
                figures = columns_from_samples(source, place.start, place.frames_per_pixel, TILE_COLUMNS)
                image = QImage(TILE_COLUMNS, height, QImage.Format.Format_ARGB32_Premultiplied)
                image.fill(0)
                drawing = QPainter(image)
                draw_columns(drawing, figures, 0.0, height / 2, height / 2)
                drawing.end()
                return image

            return work

        self._tiles.draw(painter, plot, self.axis.left, self.axis.frames_per_pixel, key_of, work_of)

    def _draw_samples(self, painter: QPainter, plot: QRectF, source: Source) -> None:
        """Closer than two frames a pixel: the samples themselves on a linear scale."""
        first = max(0, int(self.axis.left) - 1)
        last = min(source.frames, int(self.axis.right) + 2)
        if last <= first:
            return
        try:
            samples = source.read(first, last)
        except Exception:  # noqa: BLE001 - told by the transport and the measuring, once
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


def columns_from_samples(source: Source, first: float, frames_per_column: float, count: int) -> PeakSegment:
    """Low, high and mean square per column straight from the samples."""
    edges = np.floor(first + np.arange(count + 1) * frames_per_column).astype(np.int64)
    edges[1:] = np.maximum(edges[1:], edges[:-1] + 1)
    start, stop = int(edges[0]), int(edges[-1])
    block = read_padded(source, start, stop)
    at = np.minimum(edges[:-1] - start, block.shape[1] - 1)
    low = np.minimum.reduceat(block, at, axis=1)
    high = np.maximum.reduceat(block, at, axis=1)
    power = np.add.reduceat(block**2, at, axis=1) / np.maximum(np.diff(edges), 1)
    beyond = edges[:-1] >= source.frames
    for figure in (low, high, power):
        figure[:, beyond] = np.nan
    return PeakSegment(low, high, power.astype(np.float32))


def draw_columns(painter: QPainter, figures: PeakSegment, left: float, middle: float, half: float) -> None:
    """Peak bars with the RMS inside them; one channel above, the other below the middle."""
    peak = np.maximum(np.abs(figures.low), np.abs(figures.high))
    power = figures.power
    above, below = (0, 1) if len(peak) >= 2 else (0, 0)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    for opacity, token, figure in (
        (0.55, "soft", peak), (theme().rms_opacity, "ink", np.sqrt(_calmed(power)))
    ):  # fmt: skip
        painter.setPen(QPen(colour(token, opacity), 1))
        up = height_of(figure[above]) * half
        down = height_of(figure[below]) * half
        painter.drawLines(_bars(up, left, middle, down))


def _calmed(power: NDArray[np.float32]) -> NDArray[np.float32]:
    """RMS over three columns: the body of the sound, not its single periods."""
    if power.shape[1] < 3:
        return power
    calm = power.copy()
    calm[:, 1:-1] = (power[:, :-2] + power[:, 1:-1] + power[:, 2:]) / 3
    return calm


def _bars(
    up: NDArray[np.float64], left: float, middle: float, down: NDArray[np.float64] | None = None
) -> list[QPointF]:
    down = up if down is None else down
    good = np.isfinite(up) & np.isfinite(down) & ((up > 0.4) | (down > 0.4))
    x = np.floor(left) + 0.5 + np.flatnonzero(good)
    top, bottom = middle - up[good], middle + down[good]
    points: list[QPointF] = []
    for a, t, b in zip(x.tolist(), top.tolist(), bottom.tolist(), strict=True):
        points += (QPointF(a, t), QPointF(a, b))
    return points


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
