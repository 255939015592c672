# SPDX-License-Identifier: GPL-3.0-or-later
"""The waveform: levels on a dB or linear axis, and single samples with the sound between them."""

from __future__ import annotations

from collections.abc import Callable, Hashable

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QImage, QMouseEvent, QPainter, QPainterPath, QPen, QPolygonF

from pulizia.audio.layouts import shown_names
from pulizia.audio.samples import Samples
from pulizia.audio.source import Source
from pulizia.desktop.bench.axis_drag import AxisDrag
from pulizia.desktop.bench.lane import Lane
from pulizia.desktop.bench.pictures import Pictures
from pulizia.desktop.bench.ride_curve import RideCurve
from pulizia.desktop.bench.tiles import TILE_COLUMNS, Place, Tiles
from pulizia.desktop.bench.time_axis import GUTTER, TimeAxis
from pulizia.desktop.bench.trouble_marks import troubled_columns
from pulizia.desktop.bench.wave_image import (
    FLOOR_DB,
    columns_of,
    indexed_image,
    row_codes,
    wave_codes,
    wave_table,
)
from pulizia.desktop.theme import colour, font, theme, theme_notice
from pulizia.dsp.oversample import TAPS, interpolator
from pulizia.measure.overview import BIN_FRAMES
from pulizia.session.jobs import FIRST, VISIBLE, Job
from pulizia.session.session import Session
from pulizia.words import tr, translated

SAMPLES_AROUND = 8192
ROOM_FOR_ZERO = 110  # pixels of a row in which 0 and -20 dB do not touch
SAMPLE_TOPS = (0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0)
SMALLEST_TOP, LOWEST_FLOOR_DB = 0.01, -120.0
DOTS_BELOW = 0.25  # frames per pixel under which single samples are drawn


class WaveformView(Lane):
    """Levels over time: left channel above, right below the middle line; mono is mirrored."""

    accessible_role = "picture"

    def __init__(self, session: Session, axis: TimeAxis, pictures: Pictures) -> None:
        super().__init__(session, axis)
        self._pictures = pictures
        pictures.watch(self)
        self._tiles = Tiles(session.pool, self.renew)
        self._stand_in = Tiles(session.pool, self.renew, dims=False)
        self._known_samples: tuple[str, int, Samples] | None = None
        self._asked_samples: tuple[str, int, int] | None = None
        self.ride = RideCurve(session, axis)
        self.linear = False
        self.in_rows = False  # each channel around its own middle line
        self.floor_db, self.top = FLOOR_DB, 1.0  # in the middle of a row in dB; at the edges of a linear one
        self._level_drag: AxisDrag | None = None
        self.setMinimumHeight(64)
        self.setAccessibleName(tr("Waveform"))
        theme_notice().changed.connect(self.update)

    def forget(self) -> None:
        """Another recording comes."""
        self._tiles.forget()
        self._stand_in.forget()

    def paint_plot(self, painter: QPainter, plot: QRectF) -> None:
        source = self.session.heard_source
        if source is None:
            return
        rows = self._rows(source)
        if self.axis.frames_per_pixel < DOTS_BELOW * 8:
            self._draw_samples(painter, plot, source)
            return
        self._draw_grid(painter, plot, rows)
        chain, measured = self.session.chain, self.axis.frames_per_pixel >= 2 * BIN_FRAMES

        def recording() -> None:
            if not measured and chain is not None and source is chain.after is not chain.before:
                self._draw_tiles(painter, plot, self._stand_in, chain.before, rows, FIRST)

        # from what is measured already it is there in an instant
        self._draw_tiles(painter, plot, self._tiles, source, rows, FIRST if measured else VISIBLE, recording)
        painter.setPen(QPen(colour("panel"), 1))
        each = plot.height() / max(rows, 1)
        for row in range(max(rows, 1)):
            y = int(plot.top() + (row + 0.5) * each) + 0.5
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
        for x in troubled_columns(self.session, self.axis.left, self.axis.frames_per_pixel, int(plot.width())):
            painter.fillRect(QRectF(plot.left() + x, plot.top(), 1, 5), colour("madder"))
            painter.fillRect(QRectF(plot.left() + x, plot.bottom() - 5, 1, 5), colour("madder"))

    menu_ids = (
        "play", "loop", "", "phrase", "mark_start", "mark_stop", "", "noise", "mend", "treat", "give_back", "", "trim",
        "untrim", "marker", "", "zoom_marked", "zoom_whole", "wave_larger", "wave_smaller", "wave_linear", "wave_rows",
    )  # fmt: skip

    def enlarge(self, factor: float) -> None:
        """Show quiet sound taller (above 1) or less tall."""
        if self.linear:
            self.top = min(max(self.top / factor, SMALLEST_TOP), 1.0)
        else:
            self.floor_db = min(max(self.floor_db * factor, LOWEST_FLOOR_DB), FLOOR_DB / 2)
        self.update()

    def mouse_on_levels(self, place: QPointF) -> bool:
        """Whether the mouse is over the level axis."""
        return place.x() > self.plot.right() + 2

    def paint_head(self, painter: QPainter, plot: QRectF) -> None:
        self.ride.paint(painter, plot)
        super().paint_head(painter, plot)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self.mouse_on_levels(event.position()):
            if event.button() == Qt.MouseButton.LeftButton:
                self._level_drag = AxisDrag(event.position(), Qt.Orientation.Horizontal)  # up and down zooms
            return
        if event.button() != Qt.MouseButton.LeftButton or not self.ride.press(event.position(), self.plot):
            super().mousePressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self.ride.grabbed is not None:
            self.ride.move(event.position(), self.plot)
            self.update()
            return
        if self._level_drag is not None:
            self.enlarge(self._level_drag.move(event.position())[1])
            return
        if self.mouse_on_levels(event.position()):
            self.setCursor(Qt.CursorShape.SizeVerCursor)
            self.setToolTip(tr("Drag up to see quiet sound taller; double-click shows the usual range"))
            return
        over = self.ride.under(event.position(), self.plot) is not None
        self.setToolTip(
            translated(tr("Drag: the gain of this phrase. Double-click: automatic again, or 0 dB.") if over else "")
        )
        super().mouseMoveEvent(event)
        if over:
            self.setCursor(Qt.CursorShape.SizeVerCursor)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self.ride.grabbed is not None:
            self.ride.release()
            return
        if self._level_drag is not None:
            self._level_drag = None
            return
        super().mouseReleaseEvent(event)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self.mouse_on_levels(event.position()):
            self.floor_db, self.top = FLOOR_DB, 1.0
            self.update()
        elif not self.ride.remove(event.position(), self.plot):
            super().mouseDoubleClickEvent(event)

    def _rows(self, source: Source) -> int:
        """Rows with a middle line of their own; 0 for the first channel above and the second below one line."""
        return source.channels if self.linear or self.in_rows or source.channels > 2 else 0

    def set_look(self, *, linear: bool | None = None, in_rows: bool | None = None) -> None:
        """Linear amplitude or dB; channels in rows or around one line."""
        self.linear = self.linear if linear is None else linear
        self.in_rows = self.in_rows if in_rows is None else in_rows
        self.update()

    def _draw_grid(self, painter: QPainter, plot: QRectF, rows: int) -> None:
        painter.setPen(QPen(colour("line"), 1))
        each = plot.height() / max(rows, 1)
        shares = (0.5,) if self.linear else tuple(1.0 - db / self.floor_db for db in self._lines_db() if db)
        for row in range(max(rows, 1)):
            middle = plot.top() + (row + 0.5) * each
            for share in shares:
                for sign in (-1, 1):
                    y = int(middle + sign * each / 2 * share) + 0.5
                    painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))

    def _lines_db(self) -> tuple[int, ...]:
        """Levels that are labelled, from the edge inwards."""
        step = 10 if self.floor_db > FLOOR_DB else 20 if self.floor_db >= 1.2 * FLOOR_DB else 40
        return tuple(range(0, round(self.floor_db) + step // 2, -step))

    def _draw_tiles(
        self, painter: QPainter, plot: QRectF, tiles: Tiles, source: Source, rows: int, priority: int,
        below: Callable[[], object] = lambda: None,
    ) -> None:  # fmt: skip
        height, table, name, linear = int(plot.height()), wave_table(theme()), theme().name, self.linear
        floor_db, top = self.floor_db, self.top
        chain = self.session.chain
        worked = chain is not None and source is chain.after
        picture = self._pictures.of_chain(chain) if chain is not None and worked else self._pictures.of(source)

        def key_of(place: Place) -> Hashable:
            a = max(0, min(int(place.start), source.frames - 1))
            b = max(a + 1, min(int(place.stop) + 1, source.frames))
            return (source.span_key(a, b), place, height, name, rows, linear, floor_db, top, picture.version_in(a, b))

        def work_of(place: Place) -> Callable[[Job], QImage]:
            def work(job: Job) -> QImage:
                job.progress(0.0)
                figures = columns_of(source, picture, place.start, place.frames_per_pixel, TILE_COLUMNS)
                if rows:
                    codes = row_codes(figures, height, linear=linear, floor_db=floor_db, top=top)
                else:
                    codes = wave_codes(figures, height, floor_db)
                return indexed_image(codes, table)

            return work

        tiles.draw(painter, plot, self.axis.left, self.axis.frames_per_pixel, key_of, work_of, priority, below)

    def _draw_samples(self, painter: QPainter, plot: QRectF, source: Source) -> None:
        """Closer than two frames a pixel: the samples themselves on a linear scale."""
        first = max(0, int(self.axis.left) - 1)
        last = min(source.frames, int(self.axis.right) + 2)
        if last <= first:
            return
        context = TAPS // 2
        samples = self._samples_of(source, max(0, first - context), min(source.frames, last + context))
        if samples is None:
            return
        lead = min(first, context)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        dots = self.axis.frames_per_pixel < DOTS_BELOW
        rows = samples.shape[0]
        height = plot.height() / rows
        for row, channel in enumerate(samples):
            middle = plot.top() + (row + 0.5) * height
            painter.setPen(QPen(colour("line"), 1))
            painter.drawLine(QPointF(plot.left(), int(middle) + 0.5), QPointF(plot.right(), int(middle) + 0.5))
            frames, values = np.arange(first, last, dtype=np.float64), channel[lead : lead + last - first]
            if dots:
                padded = np.pad(channel, (context - lead, context))[: last - first + 2 * context]
                curve = self._points(*between_samples(padded, first, last), middle, height)
            else:
                curve = self._points(frames, values, middle, height)
            painter.setPen(QPen(colour("soft"), 1.2))
            painter.drawPolyline(QPolygonF(curve))
            if dots:
                painter.setPen(Qt.PenStyle.NoPen)
                for point, value in zip(self._points(frames, values, middle, height), values.tolist(), strict=True):
                    painter.setBrush(colour("madder" if abs(value) > 1.0 else "ink"))
                    painter.drawEllipse(point, 2.2, 2.2)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)

    def _points(
        self, frames: NDArray[np.floating], values: NDArray[np.floating], middle: float, height: float
    ) -> list[QPointF]:
        x = GUTTER + (frames - self.axis.left) / self.axis.frames_per_pixel
        y = middle - np.clip(values / self._sample_top(), -1.05, 1.05) * height / 2
        return [QPointF(a, b) for a, b in zip(x.tolist(), y.tolist(), strict=True)]

    def _paint_edges(self, painter: QPainter, plot: QRectF, rows: int, top: float) -> None:
        """Amplitudes at both edges and in the middle of each row."""
        each = plot.height() / max(rows, 1)
        for row in range(max(rows, 1)):
            centre = plot.top() + (row + 0.5) * each
            for sign in (-1, 0, 1) if each >= 48 else (0,):
                y = min(max(centre + sign * (each / 2 - 7), plot.top() + 7), plot.bottom() - 7)
                box = QRectF(plot.right() + 6, y - 8, GUTTER - 8, 16)
                painter.drawText(
                    box, Qt.AlignmentFlag.AlignVCenter, translated(_amplitude(-sign * top) if sign else "0")
                )

    def _sample_top(self) -> float:
        """Amplitude at the edge where single samples are drawn: a round one over the loudest around."""
        known = self._known_samples
        if known is None:
            return 1.0
        _, begin, samples = known
        width = self.axis.right - self.axis.left
        low, high = max(0, int(self.axis.left - width) - begin), max(0, int(self.axis.right + width) - begin)
        loudest = float(np.abs(samples[:, low:high]).max(initial=0.0))
        return next((top for top in SAMPLE_TOPS if top >= loudest), float(np.ceil(loudest)))

    def _paint_names(self, painter: QPainter, plot: QRectF) -> None:
        recording = self.session.recording
        media = self.session.document.media.get(recording.id) if recording else None
        if recording is not None and media is not None and recording.channels > 1:
            each = plot.height() / recording.channels
            for row, name in enumerate(shown_names(media.channel_names)[: recording.channels]):
                if each >= 13:
                    _paint_channel_name(painter, translated(name), plot, plot.top() + row * each, each)

    def _rows_now(self) -> int:
        source = self.session.heard_source
        return self._rows(source) if source is not None else 0

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
            self.session.pool.submit(
                lambda _job: source.read(a, b), title=tr("Reading samples"), priority=VISIBLE,
                slot="samples", on_done=done,
            )  # fmt: skip
        return None

    def paint_gutters(self, painter: QPainter, plot: QRectF) -> None:
        painter.setFont(font(11))
        painter.setPen(colour("soft"))
        recording = self.session.recording
        self._paint_names(painter, plot)
        middle, half = plot.center().y(), plot.height() / 2
        x = plot.right() + 6
        close = self.axis.frames_per_pixel < DOTS_BELOW * 8
        rows = recording.channels if recording is not None and close else self._rows_now()
        if close or self.linear:
            self._paint_edges(painter, plot, rows, self._sample_top() if close else self.top)
            return
        if rows > 1:
            each = plot.height() / rows
            for row in range(rows):
                lines = self._lines_db()
                for db in lines[:2] if each >= ROOM_FOR_ZERO else lines[1:2]:
                    y = plot.top() + row * each + max(each / 2 * (db / self.floor_db), 7.0)
                    text = "0" if db == 0 else f"\u2212{-db}"
                    painter.drawText(QRectF(x, y - 8, GUTTER - 8, 16), Qt.AlignmentFlag.AlignVCenter, translated(text))
            return
        lines = self._lines_db()
        for db in lines:
            for sign in (-1, 1):
                if half < 60 and db != lines[1]:
                    continue
                y = middle + sign * half * (1.0 - db / self.floor_db)
                y = min(max(y, plot.top() + 7), plot.bottom() - 7)
                text = "0" if db == 0 else f"\u2212{-db}"
                painter.drawText(QRectF(x, y - 8, GUTTER - 8, 16), Qt.AlignmentFlag.AlignVCenter, translated(text))
        _draw_infinity(painter, QPointF(x + 12, middle))


def _amplitude(value: float) -> str:
    return f"{value:g}".replace("-", "\u2212")


def between_samples(
    padded: NDArray[np.float32], first: int, last: int
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Places (frames) and values of the band-limited curve through samples [first, last).

    ``padded`` has TAPS / 2 samples before the first and after the last of them.
    """
    filter_ = interpolator(8)
    half = TAPS // 2
    windows = np.lib.stride_tricks.sliding_window_view(padded.astype(np.float64), TAPS)
    count = last - first
    between = windows[1 : count + 1] @ filter_.phases.T
    values = np.concatenate([padded[half : half + count, None], between], axis=1)
    places = np.arange(first, last)[:, None] + np.arange(8) / 8
    return places.ravel(), values.ravel()


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


def _paint_channel_name(painter: QPainter, name: str, plot: QRectF, top: float, height: float) -> None:
    """Beside the row of a channel; a long name stands in the row, on paper."""
    width = painter.fontMetrics().horizontalAdvance(name)
    if width <= GUTTER - 10:
        box = QRectF(0, top, GUTTER - 8, height)
        painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, name)
        return
    box = QRectF(plot.left() + 4, top + 2, min(width + 8, plot.width() / 3), min(height - 4, 17))
    painter.fillRect(box, colour("paper", 0.85))
    shown = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, int(box.width() - 6))
    painter.drawText(box.adjusted(4, 0, 0, 0), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, shown)
