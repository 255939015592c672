# SPDX-License-Identifier: GPL-3.0-or-later
"""Gauges of the foot: levels of what is heard, and the five figures of loudness."""

from __future__ import annotations

from collections.abc import Hashable

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import (
    QFontMetricsF,
    QPainter,
    QPaintEvent,
    QPixmap,
)
from PySide6.QtWidgets import QWidget

from pulizia.desktop.layers import layer_of
from pulizia.desktop.theme import colour, font, theme, theme_notice
from pulizia.measure.live import Reading
from pulizia.units import format_number, gain_to_db
from pulizia.words import tr, translated

FLOOR_DB = -60.0
FULL_BAR, COMPACT_BAR = 180, 104
FULL_GAUGE, COMPACT_GAUGE = 322, 164


class Gauge(QWidget):
    """Bars per channel with true-peak hold, and the correlation of two channels."""

    accessible_role = "meter"

    def __init__(self) -> None:
        super().__init__()
        self.reading: Reading | None = None
        self.names: tuple[str, ...] = ("L", "R")
        self.ceiling_db = -1.0
        self.compact = False
        self._still: tuple[Hashable, QPixmap] | None = None
        self.setFixedSize(FULL_GAUGE, 48)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setAccessibleName(tr("Levels of what is heard"))
        self.setToolTip(
            tr(
                "Bars: RMS over 0.6 s, sample peak behind it. Tick and figure: true peak held for 1.5 s, in dBTP.\nRight: correlation of the two channels."
            )
        )
        theme_notice().changed.connect(self.update)

    def set_compact(self, compact: bool) -> None:  # noqa: FBT001 - the state itself
        """Leave the correlation out where there is no room for it."""
        if compact != self.compact:
            self.compact = compact
            self.setFixedWidth(COMPACT_GAUGE if compact else FULL_GAUGE)

    def show_reading(self, reading: Reading | None, names: tuple[str, ...]) -> None:
        """Show levels; None empties the bars."""
        if reading is None and self.reading is None and names == self.names:
            return
        self.names = names
        self.reading = reading
        self.update()

    def accessible_words(self) -> str:
        """The held true peaks."""
        if self.reading is None:
            return tr("No sound")
        held = zip(self.names, self.reading.true_peak_hold.tolist(), strict=False)
        return ", ".join(f"{name} {format_number(gain_to_db(peak))} dBTP" for name, peak in held)

    @property
    def _left(self) -> int:
        """Where the bars begin: after the widest name, as far as there is room."""
        return 16 if all(len(name) <= 2 for name in self._rows) else 34

    @property
    def _rows(self) -> tuple[str, ...]:
        """What is written before the bars: names, or how many channels there are."""
        return self.names if len(self.names) <= 2 else (tr("{n} ch.", n=len(self.names)),)

    @property
    def _bar(self) -> int:
        return (COMPACT_BAR if self.compact else FULL_BAR) + 16 - self._left

    def _x(self, db: float) -> float:
        return self._left + (min(max(db, FLOOR_DB), 0.0) - FLOOR_DB) / -FLOOR_DB * self._bar

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._still_parts())
        painter.setFont(font(11))
        for row in range(len(self.names)):
            self._paint_bar(painter, row)
        self._paint_correlation(painter)

    def _top(self, row: int) -> int:
        if len(self.names) > 2:  # as many thin bars as there are channels, over the place of two
            return 6 + 24 * row // len(self.names)
        return 8 + 12 * row if len(self.names) > 1 else 14

    @property
    def _thick(self) -> int:
        return 7 if len(self.names) <= 2 else max(1, 24 // len(self.names) - 1)

    def _still_parts(self) -> QPixmap:
        """Names, tracks and scale, drawn anew only when they change."""
        key = (self.names, self.size().toTuple(), self.devicePixelRatioF(), theme().name)
        if self._still is None or self._still[0] != key:
            pixmap = layer_of(self, "paper")
            painter = QPainter(pixmap)
            painter.setFont(font(11))
            painter.setPen(colour("soft"))
            for row in range(len(self.names)):
                painter.fillRect(QRectF(self._left, self._top(row), self._bar, self._thick), colour("track"))
            for row, name in enumerate(self._rows):
                y = self._top(row) if len(self.names) <= 2 else 14
                fits = painter.fontMetrics().elidedText(translated(name), Qt.TextElideMode.ElideRight, self._left - 4)
                painter.drawText(QRectF(0, y - 4, self._left - 3, 15), Qt.AlignmentFlag.AlignVCenter, fits)
            for db in (-60, -40, -20, 0) if self.compact else (-60, -40, -20, -10, 0):
                painter.drawText(
                    QRectF(self._x(db) - 15, 31, 30, 14), Qt.AlignmentFlag.AlignCenter, format_number(db, 0)
                )
            painter.drawText(QRectF(self._left + self._bar + 8, 31, 34, 14), Qt.AlignmentFlag.AlignRight, tr("dBTP"))
            painter.end()
            self._still = (key, pixmap)
        return self._still[1]

    def _paint_bar(self, painter: QPainter, row: int) -> None:
        y = self._top(row)
        hold: float | None = None
        if self.reading is not None and row < len(self.reading.peak):
            peak = gain_to_db(float(self.reading.peak[row]))
            rms = gain_to_db(float(self.reading.rms[row]))
            painter.fillRect(QRectF(self._left, y, self._x(peak) - self._left, self._thick), colour("soft", 0.55))
            painter.fillRect(QRectF(self._left, y, self._x(rms) - self._left, self._thick), colour("ink"))
            hold = gain_to_db(float(self.reading.true_peak_hold[row]))
            if hold > FLOOR_DB:
                token = "madder" if hold > self.ceiling_db else "verd"
                edge = 2 if len(self.names) <= 2 else 0
                painter.fillRect(QRectF(self._x(hold) - 1, y - edge, 2, self._thick + 2 * edge), colour(token))
        if len(self.names) > 2:
            self._paint_highest(painter, row)
            return
        painter.fillRect(QRectF(self._x(self.ceiling_db), y - 2, 1, 11), colour("madder"))
        self._paint_figure(painter, hold, y)

    def _paint_highest(self, painter: QPainter, row: int) -> None:
        """One mark and one figure for all of many channels, with the last of them."""
        if row < len(self.names) - 1:
            return
        painter.fillRect(QRectF(self._x(self.ceiling_db), 4, 1, 28), colour("madder"))
        held = None if self.reading is None else gain_to_db(float(self.reading.true_peak_hold.max()))
        self._paint_figure(painter, held, 14)

    def _paint_figure(self, painter: QPainter, hold: float | None, y: int) -> None:
        over = hold is not None and hold > self.ceiling_db
        painter.setPen(colour("madder" if over else "soft"))
        box = QRectF(self._left + self._bar + 4, y - 4, 36, 15)
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, format_number(hold))

    def _paint_correlation(self, painter: QPainter) -> None:
        if len(self.names) != 2 or self.compact:
            return
        left = 252.0
        painter.setPen(colour("soft"))
        words = painter.fontMetrics().elidedText(tr("Correlation"), Qt.TextElideMode.ElideRight, 66)
        painter.drawText(QRectF(left, 2, 66, 14), Qt.AlignmentFlag.AlignLeft, words)
        painter.fillRect(QRectF(left, 21, 64, 5), colour("track"))
        middle = left + 32
        value = self.reading.correlation if self.reading else None
        if value is not None:
            x0, x1 = sorted((middle, middle + 32 * value))
            painter.fillRect(QRectF(x0, 21, x1 - x0, 5), colour("verd" if value >= 0 else "madder"))
        painter.fillRect(QRectF(middle, 18, 1, 11), colour("ink"))
        painter.drawText(QRectF(left - 4, 31, 20, 14), Qt.AlignmentFlag.AlignLeft, "\u22121")
        painter.drawText(QRectF(left + 48, 31, 20, 14), Qt.AlignmentFlag.AlignRight, "+1")
        painter.setPen(colour("ink"))
        painter.drawText(
            QRectF(left + 12, 31, 40, 14), Qt.AlignmentFlag.AlignCenter, format_number(value, 2, plus=True)
        )


class Figures(QWidget):
    """M and S at the play position; I, LRA and TP of the whole."""

    accessible_role = "section"

    NAMES = (("M", "LUFS"), ("S", "LUFS"), ("I", "LUFS"), ("LRA", "LU"), ("TP", "dBTP"))
    WIDTHS = (60, 60, 60, 48, 56)

    def __init__(self) -> None:
        super().__init__()
        self.values: tuple[float | None, ...] = (None,) * 5
        self.over = (False,) * 5
        self.setFixedSize(sum(self.WIDTHS), 48)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setAccessibleName(tr("Loudness"))
        self.setToolTip(
            tr(
                "Momentary and short-term loudness at the play position; integrated loudness,\nloudness range and true peak of the whole (ITU-R BS.1770-5, EBU Tech 3341, 3342)"
            )
        )
        theme_notice().changed.connect(self.update)

    def show_values(self, values: tuple[float | None, ...]) -> None:
        """Show five figures; None is a dash."""
        if values != self.values:
            self.values = values
            self.setAccessibleDescription(
                ", ".join(f"{n} {format_number(v)} {u}" for (n, u), v in zip(self.NAMES, values, strict=True))
            )
            self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), colour("paper"))
        right = 0.0
        for (name, unit), value, width in zip(self.NAMES, self.values, self.WIDTHS, strict=True):
            right += width
            painter.setPen(colour("ink"))
            painter.setFont(font(20, bold=True))
            painter.drawText(
                QRectF(right - width, 2, width, 26),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                format_number(value),
            )
            painter.setPen(colour("soft"))
            painter.setFont(font(11))
            advance = QFontMetricsF(font(11)).horizontalAdvance(unit)
            painter.drawText(QRectF(right - width, 29, width, 15), Qt.AlignmentFlag.AlignRight, translated(unit))
            painter.setPen(colour("ink"))
            painter.setFont(font(11, bold=True))
            painter.drawText(
                QRectF(right - width, 29, width - advance - 3, 15), Qt.AlignmentFlag.AlignRight, translated(name)
            )
