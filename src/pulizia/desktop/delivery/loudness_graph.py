# SPDX-License-Identifier: GPL-3.0-or-later
"""Loudness over time against the target, with the true-peak lane above and shares beside it."""

from __future__ import annotations

from collections.abc import Hashable

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QLinearGradient,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QPixmap,
)
from PySide6.QtWidgets import QWidget

from pulizia.delivery.targets import Target
from pulizia.desktop.bench.time_axis import GUTTER
from pulizia.desktop.layers import layer_of
from pulizia.desktop.strokes import polygon, stroke
from pulizia.desktop.theme import colour, font, theme, theme_notice
from pulizia.dsp.moments import runs
from pulizia.measure.loudness import Measures
from pulizia.units import format_number, format_time
from pulizia.words import tr

PEAK_HEIGHT, RULER_HEIGHT = 34, 24
PEAK_LOW, PEAK_HIGH = -12.0, 3.0
LOUD_SPAN = 30.0
SHARES_WIDTH = 150
BIN_LU = 0.5


class LoudnessGraph(QWidget):
    """True peaks, momentary area, short-term line, target band, and the share of time per level."""

    accessible_role = "chart"

    clicked = Signal(float)  # seconds

    def __init__(self) -> None:
        super().__init__()
        self.measures: Measures | None = None
        self.predicted: Measures | None = None
        self.target: Target | None = None
        self.head_s = -1.0
        self._picture: tuple[Hashable, QPixmap, object] | None = None
        self.setMinimumHeight(260)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setAccessibleName(tr("Loudness over time"))
        self.setToolTip(
            tr("Click to go there. Line: short-term, area: momentary, band: the target with its tolerance.")
        )
        theme_notice().changed.connect(self.update)

    def show_measures(self, measures: Measures | None, predicted: Measures | None, target: Target | None) -> None:
        """Show what was measured, and what will be."""
        self.measures, self.predicted, self.target = measures, predicted, target
        self.update()

    @property
    def _plot(self) -> QRectF:
        top = RULER_HEIGHT + PEAK_HEIGHT + 8
        width = self.width() - 2 * GUTTER - SHARES_WIDTH - 24
        return QRectF(GUTTER, top, max(60, width), max(60, self.height() - top - 26))

    @property
    def _top_lufs(self) -> float:
        return (self.target.integrated_lufs if self.target else -23.0) + 10.0

    def _heights(self, lufs: NDArray[np.floating]) -> list[float]:
        """Places of many levels at once."""
        plot = self._plot
        made: list[float] = (
            plot.top() + (self._top_lufs - lufs.astype(np.float64)) / LOUD_SPAN * plot.height()
        ).tolist()
        return made

    def _y(self, lufs: float) -> float:
        plot = self._plot
        return plot.top() + (self._top_lufs - lufs) / LOUD_SPAN * plot.height()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        plot = self._plot
        if self.measures is not None and plot.left() <= event.position().x() <= plot.right():
            self.clicked.emit((event.position().x() - plot.left()) / plot.width() * self.measures.duration_s)

    def move_head(self, seconds: float) -> None:
        """Show the play position."""
        old, self.head_s = self._head_x(), seconds
        new = self._head_x()
        if old != new:
            for x in (old, new):
                self.update(x - 3, 0, 6, self.height())

    def _head_x(self) -> int:
        """Pixel of the play position; before the view when there is none."""
        plot = self._plot
        if self.measures is None or not self.measures.duration_s or self.head_s < 0:
            return -10
        return round(plot.left() + self.head_s / self.measures.duration_s * plot.width())

    def paintEvent(self, event: QPaintEvent) -> None:
        shown = (self.measures, self.predicted)  # held, so that their identities stay theirs
        key = (*map(id, shown), self.target, self.size().toTuple(), theme().name, self.devicePixelRatioF())
        if self._picture is None or self._picture[0] != key:
            made = layer_of(self, "paper")
            drawing = QPainter(made)
            self._draw(drawing)
            drawing.end()
            self._picture = (key, made, shown)
        painter = QPainter(self)
        painter.setClipRect(event.rect())
        painter.drawPixmap(0, 0, self._picture[1])
        if (x := self._head_x()) >= 0:
            painter.fillRect(QRectF(x - 0.7, RULER_HEIGHT, 1.4, self._plot.bottom() - RULER_HEIGHT), colour("ink"))

    def _draw(self, painter: QPainter) -> None:
        """Everything but the play position."""
        painter.fillRect(self.rect(), colour("paper"))
        plot = self._plot
        painter.fillRect(plot, colour("panel"))
        painter.setFont(font(11))
        self._paint_grid(painter, plot)
        if self.measures is None:
            painter.setPen(colour("soft"))
            painter.drawText(plot, Qt.AlignmentFlag.AlignCenter, tr("Measuring…"))
            return
        self._paint_ruler(painter, plot)
        self._paint_peaks(painter, QRectF(plot.left(), RULER_HEIGHT, plot.width(), PEAK_HEIGHT))
        painter.save()
        painter.setClipRect(plot)
        self._paint_curves(painter, plot)
        painter.restore()
        self._paint_labels(painter, plot)
        self._paint_shares(painter, plot)

    def _paint_grid(self, painter: QPainter, plot: QRectF) -> None:
        top = int(np.floor(self._top_lufs / 5) * 5)
        for lufs in range(top, int(self._top_lufs - LOUD_SPAN), -5):
            y = int(self._y(lufs)) + 0.5
            painter.setPen(QPen(colour("line"), 1))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right() + 24 + SHARES_WIDTH, y))
            painter.setPen(colour("soft"))
            painter.drawText(
                QRectF(0, y - 8, GUTTER - 7, 16),
                Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
                format_number(lufs, 0),
            )
        painter.drawText(QRectF(0, plot.bottom() + 4, GUTTER - 7, 14), Qt.AlignmentFlag.AlignRight, tr("LUFS"))

    def _paint_ruler(self, painter: QPainter, plot: QRectF) -> None:
        assert self.measures is not None  # noqa: S101
        duration = self.measures.duration_s
        choices = [0.5, 1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 1200, 1800, 3600]
        step = next((c for c in choices if c / max(duration, 1e-6) * plot.width() >= 90), 3600)
        painter.setPen(colour("soft"))
        for n in range(int(duration / step) + 1):
            x = plot.left() + n * step / duration * plot.width()
            if x <= plot.right() - 10:
                painter.drawText(
                    QRectF(x - 30 if n else x, 2, 60, 16),
                    Qt.AlignmentFlag.AlignCenter if n else Qt.AlignmentFlag.AlignVCenter,
                    format_time(n * step, 1 if step < 1 else 0),
                )
                painter.fillRect(QRectF(int(x), RULER_HEIGHT - 4, 1, 4), colour("strong"))

    def _columns(self, curve: NDArray[np.float32], count: int) -> NDArray[np.float32]:
        edges = np.linspace(0, len(curve), count + 1).astype(int)
        starts = np.minimum(edges[:-1], len(curve) - 1)
        return np.asarray(np.maximum.reduceat(curve, starts), dtype=np.float32)

    def _paint_peaks(self, painter: QPainter, lane: QRectF) -> None:
        assert self.measures is not None  # noqa: S101
        painter.fillRect(lane, colour("panel"))
        limit = self.target.true_peak_dbtp if self.target else -1.0
        count = int(lane.width())
        db = 20.0 * np.log10(np.maximum(self._columns(self.measures.peak, count), 1e-6))
        scale = lane.height() / (PEAK_HIGH - PEAK_LOW)
        for n, value in enumerate(db.tolist()):
            if value > PEAK_LOW:
                top = lane.bottom() - (min(value, PEAK_HIGH) - PEAK_LOW) * scale
                over = value > limit
                painter.fillRect(
                    QRectF(lane.left() + n, top, 2 if over else 1, lane.bottom() - top),
                    colour("madder" if over else "soft", 1.0 if over else 0.6),
                )
        y = lane.bottom() - (limit - PEAK_LOW) * scale
        painter.setPen(QPen(colour("madder"), 1))
        painter.drawLine(QPointF(lane.left(), int(y) + 0.5), QPointF(lane.right(), int(y) + 0.5))
        painter.drawText(
            QRectF(0, y - 8, GUTTER - 7, 16),
            Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
            format_number(limit, 0),
        )
        painter.setPen(colour("soft"))
        painter.drawText(
            QRectF(0, lane.bottom() - 10, GUTTER - 7, 14), Qt.AlignmentFlag.AlignRight, format_number(PEAK_LOW, 0)
        )
        painter.drawText(QRectF(0, 4, GUTTER - 7, 14), Qt.AlignmentFlag.AlignRight, tr("dBTP"))

    def _paint_curves(self, painter: QPainter, plot: QRectF) -> None:
        assert self.measures is not None  # noqa: S101
        target, measures = self.target, self.measures
        if target is not None:
            high, low = (self._y(target.integrated_lufs + s * target.tolerance_lu) for s in (1, -1))
            painter.fillRect(QRectF(plot.left(), high, plot.width(), max(2.0, low - high)), colour("verd", 0.3))
        if not len(measures.momentary):
            return
        count = int(plot.width())
        momentary = self._columns(measures.momentary, count)
        gradient = QLinearGradient(0, self._y(self._top_lufs - 4), 0, self._y(self._top_lufs - 22))
        gradient.setColorAt(0, colour("soft", 0.42))
        gradient.setColorAt(1, colour("soft", 0.0))
        area = QPainterPath(QPointF(plot.left(), plot.bottom()))
        for n, y in enumerate(self._heights(np.nan_to_num(momentary, neginf=-200.0))):
            area.lineTo(plot.left() + n, min(y, plot.bottom()))
        area.lineTo(plot.right(), plot.bottom())
        painter.fillPath(area, gradient)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._line(painter, plot, measures.short_term, "ink")
        if self.predicted is not None:
            self._line(painter, plot, self.predicted.short_term, "verd")
        if target is not None and target.short_term_max_lufs is not None:
            pen = QPen(colour("madder"), 1)
            pen.setDashPattern([5, 4])
            painter.setPen(pen)
            y = self._y(target.short_term_max_lufs)
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
        if measures.integrated_lufs is not None:
            pen = QPen(colour("ink"), 1.2)
            pen.setDashPattern([2, 3])
            painter.setPen(pen)
            y = self._y(measures.integrated_lufs)
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))

    def _line(self, painter: QPainter, plot: QRectF, curve: NDArray[np.float32], token: str) -> None:
        count = max(2, int(plot.width() / 1.3))
        edges = np.linspace(0, len(curve), count + 1).astype(int)
        starts = np.minimum(edges[:-1], len(curve) - 1)
        sounding = np.isfinite(curve) & (curve > -80.0)
        power = np.where(sounding, 10.0 ** (np.where(sounding, curve, 0.0) / 10.0), 0.0)
        means = np.add.reduceat(power, starts) / np.maximum(np.add.reduceat(sounding.astype(float), starts), 1.0)
        levels = 10.0 * np.log10(np.maximum(means, 1e-20))
        for a, b in runs(levels >= -80.0):
            at = plot.left() + (np.arange(a, b) + 0.5) / count * plot.width()
            stroke(painter, polygon(at, self._heights(levels[a:b])), colour(token))

    def _paint_labels(self, painter: QPainter, plot: QRectF) -> None:
        assert self.measures is not None  # noqa: S101
        x = plot.right() + 24 + SHARES_WIDTH + 4
        taken: list[float] = []

        def put(value: float | None, token: str) -> None:
            if value is None:
                return
            y = min(max(self._y(value), plot.top() + 6), plot.bottom() - 6)
            while any(abs(y - other) < 13 for other in taken):
                y += 1
            taken.append(y)
            painter.setPen(colour(token))
            painter.setFont(font(11, bold=True))
            painter.drawText(QRectF(x, y - 8, GUTTER, 16), Qt.AlignmentFlag.AlignVCenter, format_number(value))

        if self.target is not None:
            put(self.target.integrated_lufs, "verd_text")
            put(self.target.short_term_max_lufs, "madder")
        put(self.measures.integrated_lufs, "ink")

    def _paint_shares(self, painter: QPainter, plot: QRectF) -> None:
        """Share of time per half LU, on its side, on the same LUFS axis."""
        assert self.measures is not None  # noqa: S101
        box = QRectF(plot.right() + 24, plot.top(), SHARES_WIDTH, plot.height())
        painter.fillRect(box, colour("panel"))
        bins = np.arange(self._top_lufs - LOUD_SPAN, self._top_lufs + BIN_LU / 2, BIN_LU)
        shares = [_share(m, bins) for m in (self.measures, self.predicted) if m is not None]
        most = max([float(s.max(initial=0.0)) for s in shares] + [1e-6])
        scale = (box.width() - 8) / most
        for n, share in enumerate(shares[0].tolist()):
            top, bottom = self._y(bins[n + 1]), self._y(bins[n])
            painter.fillRect(
                QRectF(box.left(), top + 0.5, share * scale, max(1.0, bottom - top - 1)), colour("soft", 0.5)
            )
        if len(shares) > 1:
            path = QPainterPath(QPointF(box.left(), self._y(bins[0])))
            for n, share in enumerate(shares[1].tolist()):
                path.lineTo(box.left() + share * scale, self._y(bins[n]))
                path.lineTo(box.left() + share * scale, self._y(bins[n + 1]))
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
            painter.setPen(QPen(colour("verd"), 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPath(path)
            painter.drawPath(path.translated(1, 0))
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(11))
        painter.setPen(colour("soft"))
        painter.drawText(
            QRectF(box.left(), RULER_HEIGHT + 4, box.width(), 16),
            Qt.AlignmentFlag.AlignLeft,
            tr("Share of time"),
        )
        painter.drawText(
            QRectF(box.left(), RULER_HEIGHT + 18, box.width(), 16),
            Qt.AlignmentFlag.AlignLeft,
            tr("short-term loudness"),
        )
        painter.drawText(
            QRectF(box.left(), box.bottom() + 4, box.width(), 14),
            Qt.AlignmentFlag.AlignRight,
            f"{format_number(100 * most, 0)} %",
        )
        low, high = self.measures.range_low_lufs, self.measures.range_high_lufs
        if low is not None and high is not None and high - low > 0.2:
            x = box.right() - 4
            painter.setPen(QPen(colour("ink"), 1.4))
            path = QPainterPath(QPointF(x - 5, self._y(high)))
            for point in (QPointF(x, self._y(high)), QPointF(x, self._y(low)), QPointF(x - 5, self._y(low))):
                path.lineTo(point)
            painter.drawPath(path)


def _share(measures: Measures, bins: NDArray[np.float64]) -> NDArray[np.float64]:
    curve = measures.short_term[np.isfinite(measures.short_term)]
    if not len(curve):
        return np.zeros(len(bins) - 1)
    counts, _ = np.histogram(curve, bins)
    return np.asarray(counts / len(curve))
