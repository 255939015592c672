# SPDX-License-Identifier: GPL-3.0-or-later
"""The foot of the window: play, loop, clock, listening switch, gauges and the five figures."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QResizeEvent,
)
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QSpacerItem, QWidget

from pulizia.audio.layouts import shown_names
from pulizia.desktop.controls import SegmentSwitch
from pulizia.desktop.gauges import FULL_GAUGE, Figures, Gauge
from pulizia.desktop.theme import colour, font, theme_notice
from pulizia.session.heard import Listening
from pulizia.session.session import Session
from pulizia.units import format_clock, format_number
from pulizia.words import tr, translated

NARROW_WINDOW = 1200
LEFT_OF_SWITCH, APART = 260, 44  # what stands before the listening switch; gaps between what follows
ORDER = (Listening.BEFORE, Listening.AFTER, Listening.REMOVED, Listening.STEP)


class RoundButton(QWidget):
    """Play and loop: drawn signs, no text."""

    accessible_role = "button"

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
        sign = "ink" if self.isEnabled() else "strong"
        if self.sign == "play":
            painter.setPen(QPen(colour("verd" if self.hasFocus() else sign), 1.6))
            painter.setBrush(colour("ink") if self.on else Qt.BrushStyle.NoBrush)
            painter.drawEllipse(centre, 17, 17)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour("panel" if self.on else sign))
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
                colour("verd" if self.on else "soft" if self.isEnabled() else "strong"),
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


class Foot(QWidget):
    """Everything at the foot, fed from the session 50 times a second while playing."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setFixedHeight(56)
        row = self._row = QHBoxLayout(self)
        row.setContentsMargins(14, 0, 16, 0)
        row.setSpacing(0)
        self.play = RoundButton("play", tr("Play or stop"), tr("Play or stop (Space)"))
        self.play.pressed.connect(session.play_or_stop)
        self.loop = RoundButton("loop", tr("Loop"), tr("Loop the selection (R)"))
        self.loop.pressed.connect(session.toggle_loop)
        self.clock = Clock()
        self.switch = SegmentSwitch(
            [o.value for o in ORDER],
            [
                tr("The untouched recording (1; B switches)"),
                tr("After all steps (2; B switches)"),
                tr("What all steps remove together (3)"),
                tr("What the selected step removes (Alt+3)"),
            ],
            tr("What is heard and seen"),
        )
        self.switch.chosen.connect(lambda index: session.set_listening(ORDER[index]))
        self.matched = QCheckBox(tr("Matched level"))
        self.matched.setToolTip(
            tr(
                "Match the loudness of After to Before, so that the louder one is not mistaken for the better one (Shift+M)"
            )
        )
        self.matched.clicked.connect(session.set_matched)
        self.gauge, self.figures = Gauge(), Figures()
        row.addWidget(self.play)
        row.addSpacing(6)
        row.addWidget(self.loop)
        row.addSpacing(8)
        row.addWidget(self.clock)
        self._gap = QSpacerItem(40, 1)
        row.addItem(self._gap)
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
        parts = self.switch.sizeHint().width() + self.matched.sizeHint().width() + self.figures.width()
        narrow = self.width() < max(NARROW_WINDOW, LEFT_OF_SWITCH + parts + FULL_GAUGE + APART)
        self.gauge.set_compact(narrow)
        self._gap.changeSize(8 if narrow else 40, 1)
        # on a screen that is smaller than the least window the gauge goes first, then the figures: nothing lies on anything
        taken = LEFT_OF_SWITCH + self.switch.sizeHint().width() + self.matched.sizeHint().width()
        self.figures.setVisible(taken + self.figures.width() <= self.width())
        self.gauge.setVisible(taken + self.figures.width() + self.gauge.width() <= self.width())
        self._row.invalidate()

    def refresh(self) -> None:
        """Show the choices as they are now."""
        session = self.session
        self.switch.set_index(ORDER.index(session.listening))
        self.matched.setChecked(session.matched)
        gain = session.match_gain_db() if session.matched else 0.0
        self.matched.setText(tr("Matched level"))
        self.matched.setToolTip(
            tr(
                "Match the loudness of After to Before, so that the louder one is not mistaken for the better one (Shift+M)\nAfter plays at {gain} dB",
                gain=format_number(gain, 1, plus=True),
            )
        )
        for part in (self.play, self.loop, self.switch, self.matched):
            part.setEnabled(session.heard_source is not None)
        self.play.set_on(session.transport.is_playing)
        self.loop.set_on(session.transport.loop is not None)
        self.tick()

    def tick(self) -> None:
        """Bring clock, gauges and figures up to the present position."""
        session = self.session
        position = session.transport.position
        rate = session.rate
        self.clock.show_seconds(position / rate)
        self.play.set_on(session.transport.is_playing)
        names = session.heard_names
        names = shown_names(names) if names else ("L", "R")
        reading = session.transport.heard_levels() if session.transport.is_playing else None
        self.gauge.show_reading(reading, names)
        measures = session.heard_measures
        if measures is None:
            self.figures.show_values((None,) * 5)
            return
        self.figures.show_values((
            *session.loudness_now(), measures.integrated_lufs, measures.loudness_range_lu, measures.true_peak_dbtp,
        ))  # fmt: skip


class Clock(QWidget):
    """The position, in figures that stand still; a press asks for another one."""

    accessible_role = "clock"

    pressed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._text = format_clock(0.0)
        self.setFixedSize(124, 32)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setAccessibleName(tr("Position"))
        self.setToolTip(tr("Press to type a time (Ctrl+G)"))
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        theme_notice().changed.connect(self.update)

    def mousePressEvent(self, _event: QMouseEvent) -> None:
        self.pressed.emit()

    def accessible_words(self) -> str:
        """The position."""
        return self._text

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
