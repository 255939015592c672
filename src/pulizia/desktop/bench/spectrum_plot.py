# SPDX-License-Identifier: GPL-3.0-or-later
"""The plot of a spectrum: curves or bands, pointer, kept curve, reference."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QImage,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
)
from PySide6.QtWidgets import QWidget

from pulizia.desktop.layers import layer_of
from pulizia.desktop.strokes import polygon
from pulizia.desktop.theme import colour, font, theme, theme_notice
from pulizia.desktop.turns import update_in_turn
from pulizia.measure.spectrum import (
    Spectrum,
    band_centres,
    band_levels_db,
    reference_curve,
    smoothed,
)
from pulizia.units import format_number, powers_to_db
from pulizia.words import tr, translated

LOW_HZ = 20.0
TALL_PX, LOW_PX = 112, 72  # at least; and where there is little room
GUTTER_RIGHT, GUTTER_BOTTOM = 32, 18
LABEL_PX = 13.0  # from one figure of the level axis to the next, at least
TICKS = ((50.0, "50"), (200.0, "200"), (1000.0, "1k"), (5000.0, "5k"), (20_000.0, "20k Hz"))
FALL_DB = 0.45  # of the live maximum per turn: about 22 dB a second


ToHeight = Callable[[Any], Any]
"""From dB to pixels, for single levels and for arrays."""


@dataclass(slots=True)
class Options:
    """How the spectrum is made and drawn."""

    size: int = 8192
    window: str = "hann"
    per_octave: int = 24
    tilt_db: float = 0.0
    bands: int = 0  # 0 lines, 1 octaves, 3 third octaves
    linear: bool = False
    reference: str = ""
    hold: bool = False  # the live maximum stays instead of falling


@dataclass(frozen=True, slots=True)
class Lines:
    """A spectrum ready to be drawn: levels over frequency."""

    hz: NDArray[np.float64]
    average_db: NDArray[np.float64]
    maximum_db: NDArray[np.float64]


def lines_of(found: Spectrum, options: Options) -> Lines:
    """Smoothing and tilt applied."""
    tilt = options.tilt_db * np.log2(np.maximum(found.hz, 1.0) / 1000.0)
    average = powers_to_db(smoothed(found.average, found.hz, options.per_octave)) + tilt
    maximum = powers_to_db(smoothed(found.maximum, found.hz, options.per_octave)) + tilt
    return Lines(found.hz, average, maximum)


class SpectrumPlot(QWidget):
    """Draws curves; the read-out follows the mouse."""

    accessible_role = "chart"

    pointed = Signal(float)  # Hz, 0 when the mouse leaves

    def __init__(self) -> None:
        super().__init__()
        self.options = Options()
        self.found: Spectrum | None = None
        self.kept: Lines | None = None
        self._lines: Lines | None = None
        self._live_most: NDArray[np.float64] | None = None
        self._message = ""
        self._is_live = False
        self._pixels = np.zeros((1, 1), dtype=np.uint32)
        self._at_hz = 0.0
        self._columns: tuple[Hashable, tuple[slice, NDArray[np.intp], list[float]]] | None = None
        self._grid: tuple[Hashable, QPixmap] | None = None
        self.setMinimumHeight(TALL_PX)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)  # else all that lies behind is painted as well
        self.setMouseTracking(True)
        self.setAccessibleName(tr("Spectrum"))
        theme_notice().changed.connect(self.update)

    def show_spectrum(self, found: Spectrum | None, message: str = "", *, live: bool = False) -> None:
        """Show a spectrum, or a sentence; live ones keep a falling maximum."""
        self.found, self._message, self._is_live = found, message, live
        self._lines = None
        if found is not None and live:
            most = found.average
            if self._live_most is not None and len(self._live_most) == len(most):
                fall = 1.0 if self.options.hold else 10.0 ** (-FALL_DB / 10.0)
                most = np.maximum(most, self._live_most * fall)
            self._live_most = most
            self.found = Spectrum(found.rate, found.size, found.window, found.average, most, found.frames)
        elif not live:
            self._live_most = None
        update_in_turn(self)

    def refresh(self) -> None:
        """The options changed."""
        self._lines = None
        self.update()

    def keep(self) -> None:
        """Keep the curve to compare the next with; a second call drops it."""
        self.kept = None if self.kept is not None else self.lines()
        self.update()

    def lines(self) -> Lines | None:
        """The curves as they are drawn."""
        if self._lines is None and self.found is not None:
            self._lines = lines_of(self.found, self.options)
        return self._lines

    @property
    def _plot(self) -> QRectF:
        return QRectF(0, 0, self.width() - GUTTER_RIGHT, self.height() - GUTTER_BOTTOM)

    @property
    def _high_hz(self) -> float:
        return min(24_000.0, self.found.rate / 2) if self.found else 24_000.0

    def _x(self, hz: NDArray[np.float64] | float) -> NDArray[np.float64]:
        plot = self._plot
        if self.options.linear:
            return np.asarray(plot.left() + np.asarray(hz) / self._high_hz * plot.width())
        share = np.log(np.maximum(hz, 1.0) / LOW_HZ) / np.log(self._high_hz / LOW_HZ)
        return np.asarray(plot.left() + share * plot.width())

    def hz_at(self, x: float) -> float:
        """Frequency under a pixel."""
        share = (x - self._plot.left()) / max(1.0, self._plot.width())
        if self.options.linear:
            return float(max(share, 0.0) * self._high_hz)
        return float(LOW_HZ * (self._high_hz / LOW_HZ) ** share)

    def _range(self, lines: Lines) -> tuple[float, float]:
        heard = (lines.hz >= LOW_HZ) & (lines.hz <= self._high_hz)
        top = float(np.ceil((lines.maximum_db[heard].max(initial=-120.0) + 3) / 10) * 10)
        top = min(max(top, -90.0), 20.0)
        return top, top - 90.0

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self._at_hz = self.hz_at(event.position().x())
        self.pointed.emit(self._at_hz)
        self.update()

    def leaveEvent(self, event: QEvent) -> None:
        self._at_hz = 0.0
        self.pointed.emit(0.0)
        self.update()
        super().leaveEvent(event)

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        plot = self._plot
        if isinstance(painter.device(), QWidget):
            painter.fillRect(self.rect(), colour("paper"))
        painter.fillRect(plot, colour("panel"))
        painter.setFont(font(11))
        lines = self.lines()
        if lines is None or self.found is None:
            painter.setPen(colour("soft"))
            painter.drawText(
                plot.adjusted(12, 8, -12, -8),
                Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap,
                translated(self._message),
            )
            return
        top, low = self._range(lines)
        if isinstance(painter.device(), QWidget):
            self._paint_grid(painter, top, low)
        else:
            self._draw_grid(painter, plot, top, low)  # a drawing keeps its lines and letters
        painter.save()
        painter.setClipRect(plot)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)

        def y(db: Any) -> Any:  # noqa: ANN401 - a level or an array of them
            return plot.top() + (top - db) / (top - low) * plot.height()

        if self.options.bands:
            self._paint_bands(painter, plot, y)
        else:
            self._paint_line(painter, lines.hz, y(lines.maximum_db), QPen(colour("plum"), 1.0))
            self._paint_line(painter, lines.hz, y(lines.average_db), QPen(colour("ink"), 1.4))
        if self.kept is not None:
            self._paint_line(painter, self.kept.hz, y(self.kept.average_db), QPen(colour("verd"), 1.2))
        curve = reference_curve(self.options.reference, self.found)
        if curve is not None:
            pen = QPen(colour("ochre"), 1.4)
            pen.setDashPattern([4, 3])
            tilt = self.options.tilt_db * np.log2(np.maximum(curve[0], 1.0) / 1000.0)
            self._paint_line(painter, curve[0], y(curve[1] + tilt), pen)
        if self._at_hz:
            self._paint_pointer(painter, plot, lines, y)
        painter.restore()

    def _paint_grid(self, painter: QPainter, top: float, low: float) -> None:
        """Grid and labels, drawn anew only when the axes change."""
        key = (
            top,
            low,
            self.options.linear,
            self._high_hz,
            self.size().toTuple(),
            self.devicePixelRatioF(),
            theme().name,
        )
        if self._grid is None or self._grid[0] != key:
            pixmap = layer_of(self)
            drawing = QPainter(pixmap)
            drawing.setFont(font(11))
            self._draw_grid(drawing, self._plot, top, low)
            drawing.end()
            self._grid = (key, pixmap)
        painter.drawPixmap(0, 0, self._grid[1])

    def _draw_grid(self, painter: QPainter, plot: QRectF, top: float, low: float) -> None:
        written = plot.bottom() + LABEL_PX
        for db in reversed(range(int(top), int(low) - 1, -20)):  # the one at the top may have no room above it
            y = int(plot.top() + (top - db) / (top - low) * plot.height()) + 0.5
            painter.setPen(QPen(colour("line"), 1))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            painter.setPen(colour("soft"))
            at = min(max(y, 8.0), plot.bottom() - 6)
            if written - at < LABEL_PX:
                continue
            written = at
            painter.drawText(
                QRectF(plot.right() + 4, at - 8, GUTTER_RIGHT, 16), Qt.AlignmentFlag.AlignVCenter, format_number(db, 0)
            )
        ticks = (
            TICKS
            if not self.options.linear
            else tuple((k * 4000.0, f"{4 * k}k" + (" Hz" if k == 5 else "")) for k in range(1, 6))
        )
        for hz, text in ticks:
            if hz > self._high_hz:
                continue
            x = float(self._x(hz))
            painter.setPen(QPen(colour("line"), 1))
            painter.drawLine(QPointF(int(x) + 0.5, plot.top()), QPointF(int(x) + 0.5, plot.bottom()))
            painter.setPen(colour("soft"))
            left = min(max(x - 25, 0.0), plot.right() - 36)
            painter.drawText(QRectF(left, plot.bottom() + 2, 50, 15), Qt.AlignmentFlag.AlignCenter, translated(text))

    def _paint_line(self, painter: QPainter, hz: NDArray[np.float64], y: NDArray[np.float64], pen: QPen) -> None:
        """One point per pixel column: the highest of the bins that fall into it."""
        columns = self._columns_of(hz)
        if columns is None:
            return
        inside, starts, x = columns
        tops = np.minimum(np.minimum.reduceat(y[inside], starts), self._plot.bottom() + 5)
        if self._is_live and pen.style() == Qt.PenStyle.SolidLine:
            image, top = self._moving_line(np.array(x), tops, pen.color(), heavy=pen.widthF() > 1.0)
            painter.drawImage(self._plot.topLeft() + QPointF(0, top), image)
            return
        line = polygon(x, tops)
        heavy = pen.widthF() > 1.0 and pen.style() == Qt.PenStyle.SolidLine
        if heavy:  # two thin lines: a wide one costs thirty times as much
            pen = QPen(pen.color(), 1.0)
        painter.setPen(pen)
        painter.drawPolyline(line)
        if heavy:
            painter.drawPolyline(line.translated(0.0, 0.5))

    def _moving_line(
        self, x: NDArray[np.float64], y: NDArray[np.float64], ink: QColor, *, heavy: bool
    ) -> tuple[QImage, int]:
        """A line that changes 50 times a second, as an image and its top row: columns from height to height."""
        plot = self._plot
        width, height = max(1, int(plot.width())), max(1, int(plot.height()))
        here = np.interp(np.arange(width), x, y)
        following = np.append(here[1:], here[-1])
        low = np.floor(np.minimum(here, following))
        high = np.maximum(np.maximum(here, following), low + 1.0 + heavy)
        top = int(min(max(low.min(), 0.0), height - 1.0))
        bottom = int(min(max(np.ceil(high.max()), top + 1.0), float(height)))
        rows = np.arange(top, bottom, dtype=np.int16)[:, None]
        inside = (rows >= low.astype(np.int16)) & (rows < np.ceil(high).astype(np.int16))
        self._pixels = inside.astype(np.uint32) * np.uint32(ink.rgba())  # kept: the image only refers to it
        return QImage(self._pixels.data, width, bottom - top, 4 * width, QImage.Format.Format_ARGB32_Premultiplied), top

    def _columns_of(self, hz: NDArray[np.float64]) -> tuple[slice, NDArray[np.intp], list[float]] | None:
        """Which bins are in view, where pixel columns begin among them, and the x of each column."""
        key = (len(hz), float(hz[-1]), self.size().toTuple(), self.options.linear, self._high_hz)
        if self._columns is None or self._columns[0] != key:
            part = np.flatnonzero((hz >= LOW_HZ * 0.9) & (hz <= self._high_hz))
            if not len(part):
                return None
            inside = slice(int(part[0]), int(part[-1]) + 1)
            x = self._x(hz[inside])
            column = np.floor(x).astype(int)
            starts = np.flatnonzero(np.diff(column, prepend=column[0] - 1))
            self._columns = (key, (inside, starts, x[starts].tolist()))
        return self._columns[1]

    def _paint_bands(self, painter: QPainter, plot: QRectF, y: ToHeight) -> None:
        assert self.found is not None  # noqa: S101
        fraction = self.options.bands
        centres, levels = band_centres(fraction), band_levels_db(self.found, fraction)
        reach = 10.0 ** (0.15 / fraction)
        for centre, level in zip(centres.tolist(), levels.tolist(), strict=True):
            x0, x1 = float(self._x(centre / reach)) + 1, float(self._x(centre * reach)) - 1
            top = float(y(level))
            if top < plot.bottom():
                painter.fillRect(QRectF(x0, top, max(1.0, x1 - x0), plot.bottom() - top), colour("soft", 0.7))

    def _paint_pointer(self, painter: QPainter, plot: QRectF, lines: Lines, y: ToHeight) -> None:
        pen = QPen(colour("ink"), 1)
        pen.setDashPattern([2, 2])
        painter.setPen(pen)
        x = int(float(self._x(self._at_hz))) + 0.5
        painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
        level = float(np.interp(self._at_hz, lines.hz, lines.average_db))
        painter.setBrush(colour("ink"))
        painter.drawEllipse(QPointF(x, float(y(level))), 2.6, 2.6)
