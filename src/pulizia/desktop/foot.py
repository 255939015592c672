"""The foot of the window: play, loop, clock, listening switch, gauges and the five figures."""

from __future__ import annotations

from collections.abc import Hashable

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QFontMetricsF,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QPixmap,
    QResizeEvent,
)
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QWidget

from pulizia.desktop.controls import SegmentSwitch
from pulizia.desktop.theme import colour, font, theme, theme_notice
from pulizia.desktop.words import translated
from pulizia.measure.blocks import BLOCKS_PER_SECOND
from pulizia.measure.live import Reading
from pulizia.session.studio import Studio
from pulizia.session.transport import Listening
from pulizia.units import format_clock, format_number, gain_to_db

FLOOR_DB = -60.0
FULL_BAR, COMPACT_BAR = 180, 140
FULL_GAUGE, COMPACT_GAUGE = 322, 200
NARROW_WINDOW = 1200
FIGURES_EVERY = 5  # turns of the gauges between two sets of figures: what changes faster is not read
ORDER = (Listening.BEFORE, Listening.AFTER, Listening.REMOVED)


class RoundButton(QWidget):
    """Play and loop: drawn signs, no text."""

    pressed = Signal()

    def __init__(self, sign: str, name: str, tip: str) -> None:
        super().__init__()
        self.sign, self.on = sign, False
        self.setFixedSize(40 if sign == "play" else 28, 40)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(translated(name))
        self.setToolTip(translated(tip))
        theme_notice().changed.connect(self.update)

    def set_on(self, on: bool) -> None:  # noqa: FBT001 - the state itself
        """Show the state."""
        if on != self.on:
            self.on = on
            self.update()

    def mousePressEvent(self, _event: QMouseEvent) -> None:
        self.pressed.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.pressed.emit()
        else:
            super().keyPressEvent(event)

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        centre = QPointF(self.width() / 2, self.height() / 2)
        if self.sign == "play":
            painter.setPen(QPen(colour("verd" if self.hasFocus() else "ink"), 1.6))
            painter.setBrush(colour("ink") if self.on else Qt.BrushStyle.NoBrush)
            painter.drawEllipse(centre, 17, 17)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour("panel" if self.on else "ink"))
            if self.on:
                painter.drawRect(QRectF(centre.x() - 6, centre.y() - 6, 12, 12))
            else:
                triangle = QPainterPath(centre + QPointF(-5, -7.5))
                triangle.lineTo(centre + QPointF(8, 0))
                triangle.lineTo(centre + QPointF(-5, 7.5))
                triangle.closeSubpath()
                painter.drawPath(triangle)
            return
        painter.setPen(
            QPen(
                colour("verd" if self.on else "soft"),
                2.0 if self.on else 1.5,
                Qt.PenStyle.SolidLine,
                Qt.PenCapStyle.RoundCap,
            )
        )
        box = QRectF(centre.x() - 8, centre.y() - 5, 16, 10)
        path = QPainterPath(QPointF(box.left() + 4, box.top()))
        path.lineTo(box.right() - 4, box.top())
        path.arcTo(QRectF(box.right() - 8, box.top(), 8, 10), 90, -180)
        path.lineTo(box.left() + 4, box.bottom())
        path.arcTo(QRectF(box.left(), box.top(), 8, 10), 270, -120)
        painter.drawPath(path)
        painter.drawLine(QPointF(box.left() + 4, box.top()), QPointF(box.left() + 7, box.top() - 3))
        painter.drawLine(QPointF(box.left() + 4, box.top()), QPointF(box.left() + 7, box.top() + 3))
        if self.hasFocus():
            painter.setPen(QPen(colour("verd"), 1, Qt.PenStyle.DotLine))
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 6, -1, -6), 4, 4)


class Gauge(QWidget):
    """Bars per channel with true-peak hold, and the correlation of two channels."""

    def __init__(self) -> None:
        super().__init__()
        self.reading: Reading | None = None
        self.names: tuple[str, ...] = ("L", "R")
        self.ceiling_db = -1.0
        self.compact = False
        self._still: tuple[Hashable, QPixmap] | None = None
        self.setFixedSize(FULL_GAUGE, 48)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setAccessibleName(translated("Levels of what is heard"))
        self.setToolTip(
            translated(
                "Bars: RMS over 0.6 s in ink, sample peak behind it. Tick and figure: true peak held for 1.5 s, in dBTP.\nRight: correlation of the two channels."
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
        self.names = names[:2]
        if reading is None and self.reading is None:
            return
        self.reading = reading
        self.update()

    @property
    def _bar(self) -> int:
        return COMPACT_BAR if self.compact else FULL_BAR

    def _x(self, db: float) -> float:
        return 16.0 + (min(max(db, FLOOR_DB), 0.0) - FLOOR_DB) / -FLOOR_DB * self._bar

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._still_parts())
        painter.setFont(font(11))
        for row in range(len(self.names)):
            self._paint_bar(painter, row)
        self._paint_correlation(painter)

    def _top(self, row: int) -> int:
        return 8 + 12 * row if len(self.names) > 1 else 14

    def _still_parts(self) -> QPixmap:
        """Names, tracks and scale, drawn anew only when they change."""
        key = (self.names, self.size().toTuple(), self.devicePixelRatioF(), theme().name)
        if self._still is None or self._still[0] != key:
            pixmap = QPixmap(self.size() * self.devicePixelRatioF())
            pixmap.setDevicePixelRatio(self.devicePixelRatioF())
            pixmap.fill(colour("paper"))
            painter = QPainter(pixmap)
            painter.setFont(font(11))
            painter.setPen(colour("soft"))
            for row, name in enumerate(self.names):
                y = self._top(row)
                painter.drawText(QRectF(0, y - 4, 12, 15), Qt.AlignmentFlag.AlignVCenter, translated(name))
                painter.fillRect(QRectF(16, y, self._bar, 7), colour("line"))
            for db in (-60, -40, -20, 0) if self.compact else (-60, -40, -20, -10, 0):
                painter.drawText(
                    QRectF(self._x(db) - 15, 31, 30, 14), Qt.AlignmentFlag.AlignCenter, format_number(db, 0)
                )
            painter.drawText(QRectF(16 + self._bar + 8, 31, 34, 14), Qt.AlignmentFlag.AlignRight, translated("dBTP"))
            painter.end()
            self._still = (key, pixmap)
        return self._still[1]

    def _paint_bar(self, painter: QPainter, row: int) -> None:
        y = self._top(row)
        hold: float | None = None
        if self.reading is not None and row < len(self.reading.peak):
            peak = gain_to_db(float(self.reading.peak[row]))
            rms = gain_to_db(float(self.reading.rms[row]))
            painter.fillRect(QRectF(16, y, self._x(peak) - 16, 7), colour("soft", 0.55))
            painter.fillRect(QRectF(16, y, self._x(rms) - 16, 7), colour("ink"))
            hold = gain_to_db(float(self.reading.true_peak_hold[row]))
            if hold > FLOOR_DB:
                token = "madder" if hold > self.ceiling_db else "verd"
                painter.fillRect(QRectF(self._x(hold) - 1, y - 2, 2, 11), colour(token))
        painter.fillRect(QRectF(self._x(self.ceiling_db), y - 2, 1, 11), colour("madder"))
        over = hold is not None and hold > self.ceiling_db
        painter.setPen(colour("madder" if over else "soft"))
        box = QRectF(16 + self._bar + 4, y - 4, 36, 15)
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, format_number(hold))

    def _paint_correlation(self, painter: QPainter) -> None:
        if len(self.names) < 2 or self.compact:
            return
        left = 252.0
        painter.setPen(colour("soft"))
        painter.drawText(QRectF(left, 2, 66, 14), Qt.AlignmentFlag.AlignLeft, translated("Correlation"))
        painter.fillRect(QRectF(left, 21, 64, 5), colour("line"))
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

    NAMES = (("M", "LUFS"), ("S", "LUFS"), ("I", "LUFS"), ("LRA", "LU"), ("TP", "dBTP"))
    WIDTHS = (60, 60, 60, 48, 56)

    def __init__(self) -> None:
        super().__init__()
        self.values: tuple[float | None, ...] = (None,) * 5
        self.over = (False,) * 5
        self.setFixedSize(sum(self.WIDTHS), 48)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setAccessibleName(translated("Loudness"))
        self.setToolTip(
            translated(
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


class Foot(QWidget):
    """Everything at the foot, fed from the studio 50 times a second while playing."""

    def __init__(self, studio: Studio) -> None:
        super().__init__()
        self.studio = studio
        self._ticks = 0
        self.setFixedHeight(56)
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 0, 16, 0)
        row.setSpacing(0)
        self.play = RoundButton("play", "Play or stop", "Play or stop (Space)")
        self.play.pressed.connect(studio.play_or_stop)
        self.loop = RoundButton("loop", "Loop", "Repeat the selection (L)")
        self.loop.pressed.connect(studio.toggle_loop)
        self.clock = Clock()
        self.switch = SegmentSwitch(
            [o.value for o in ORDER],
            [
                "The untouched recording (1; B goes to and fro)",
                "After all steps (2; B goes to and fro)",
                "What the steps take away (3)",
            ],
            "What is heard and seen",
        )
        self.switch.chosen.connect(lambda index: studio.set_listening(ORDER[index]))
        self.matched = QCheckBox(translated("matched level"))
        self.matched.setToolTip(
            translated("Bring After to the loudness of Before, so that louder does not pass as better (M)")
        )
        self.matched.clicked.connect(studio.set_matched)
        self.gauge, self.figures = Gauge(), Figures()
        row.addWidget(self.play)
        row.addSpacing(6)
        row.addWidget(self.loop)
        row.addSpacing(8)
        row.addWidget(self.clock)
        row.addSpacing(40)
        row.addWidget(self.switch)
        row.addSpacing(12)
        row.addWidget(self.matched)
        row.addStretch(1)
        row.addWidget(self.gauge)
        row.addStretch(1)
        row.addWidget(self.figures)
        self.refresh()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), colour("paper"))
        painter.setPen(QPen(colour("line"), 1))
        painter.drawLine(QPointF(0, 0.5), QPointF(self.width(), 0.5))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.gauge.set_compact(self.width() < NARROW_WINDOW)

    def refresh(self) -> None:
        """Show the choices as they are now."""
        studio = self.studio
        self.switch.set_index(ORDER.index(studio.listening))
        self.matched.setChecked(studio.matched)
        gain = studio.match_gain_db() if studio.matched else 0.0
        self.matched.setText(translated("matched level"))
        self.matched.setToolTip(
            translated(
                "Bring After to the loudness of Before, so that louder does not pass as better (M)\n"
                f"After plays at {format_number(gain, 1, plus=True)} dB"
            )
        )
        self.play.set_on(studio.transport.is_playing)
        self.loop.set_on(studio.transport.loop is not None)
        self.tick()

    def tick(self) -> None:
        """Bring clock, gauges and figures up to the present position."""
        studio = self.studio
        recording = studio.recording
        position = studio.transport.position
        rate = recording.rate if recording else 48_000
        self.clock.show_seconds(position / rate)
        self.play.set_on(studio.transport.is_playing)
        media = studio.document.media.get(recording.id) if recording else None
        names = media.channel_names if media else ("L", "R")
        reading = studio.transport.heard_levels() if studio.transport.is_playing else None
        self.gauge.show_reading(reading, names)
        what = "before" if studio.listening is Listening.BEFORE else "after"
        measures = studio.measures(what)
        if measures is None or studio.listening is Listening.REMOVED:
            self.figures.show_values((None,) * 5)
            return
        self._ticks += 1
        if studio.transport.is_playing and self._ticks % FIGURES_EVERY:
            return
        block = min(int(position * BLOCKS_PER_SECOND / rate), len(measures.momentary) - 1)
        self.figures.show_values((
            _level_at(measures.momentary, block), _level_at(measures.short_term, block),
            measures.integrated_lufs, measures.loudness_range_lu, measures.true_peak_dbtp,
        ))  # fmt: skip


def _level_at(curve: NDArray[np.float32], block: int) -> float | None:
    return float(curve[block]) if block >= 0 and np.isfinite(curve[block]) else None


class Clock(QWidget):
    """The position, in figures that stand still."""

    def __init__(self) -> None:
        super().__init__()
        self._text = format_clock(0.0)
        self.setFixedSize(124, 32)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setAccessibleName(translated("Position"))
        theme_notice().changed.connect(self.update)

    def show_seconds(self, seconds: float) -> None:
        """Show a position."""
        text = format_clock(seconds)
        if text != self._text:
            self._text = text
            self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), colour("paper"))
        painter.setPen(colour("ink"))
        painter.setFont(font(20, bold=True))
        painter.drawText(
            QRectF(self.rect()), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, translated(self._text)
        )
