# SPDX-License-Identifier: GPL-3.0-or-later
"""One kind of problem in the list of findings: its name, its measure, its places as a small strip."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPoint, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QFocusEvent,
    QFontMetricsF,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
)

from pulizia.desktop.controls import ENTER, ArrowKeys
from pulizia.desktop.theme import colour, font, theme_notice
from pulizia.inspection.names import name_of
from pulizia.session.inspection_service import Entry
from pulizia.units import format_number
from pulizia.words import N_, tr, translated

ROW_HEIGHT, STRIP_WIDTH = 46, 60
GRAVE, MILD = 0.6, 0.15
UNTREATED, TREATED, IGNORED, RESOLVED = N_("Untreated"), N_("Treated, some left"), N_("Ignored"), N_("Resolved")
STATES = (UNTREATED, TREATED, IGNORED, RESOLVED)
FIGURES = {"noise": "SNR ", "room": N_("reverb "), "level": N_("spread "), "sound": N_("to voice ")}
"""What a figure is, where the unit alone does not say it; a higher SNR is better."""


def name_of_entry(entry: Entry) -> str:
    """A kind of trouble, of one microphone where there are several."""
    kind = translated(name_of(entry.kind))
    return f"{kind}, {entry.now.microphone}" if entry.now.microphone else kind


def measure_text(entry: Entry) -> str:
    """The measure before, and now where it differs."""
    unit = entry.now.unit
    shown = [format_number(f.measure, entry.now.decimals) for f in (entry.before, entry.after) if f is not None]
    what = translated(FIGURES.get(entry.kind, ""))
    figure = f"{what}{shown[-1]} {translated(unit)}".strip()
    if entry.before is not None and entry.after is None:
        return tr("was {figure}", figure=figure)
    if len(shown) == 2 and shown[0] != shown[1]:
        return tr("{figure}, was {before}", figure=figure, before=shown[0])
    return figure


class FindingRow(ArrowKeys):
    """One kind of trouble: dot, name, measure, its places as a small strip."""

    accessible_role = "item"

    pressed = Signal(str)
    menu = Signal(str, QPoint)

    def __init__(self, entry: Entry, step: int | None, frames: int) -> None:
        super().__init__()
        self.entry, self._step, self._frames = entry, step, max(1, frames)
        self.chosen = False
        self.setFixedHeight(ROW_HEIGHT)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setToolTip(translated(entry.now.sentence))
        self.setAccessibleName(f"{name_of_entry(entry)}: {entry.now.sentence}")
        theme_notice().changed.connect(self.update)

    @property
    def state_words(self) -> str:
        """What is being done about it."""
        return tr("step {step}", step=self._step) if self._step is not None and not self.entry.left else ""

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        self.menu.emit(self.entry.id, event.globalPos())

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.pressed.emit(self.entry.id)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in ENTER:
            self.pressed.emit(self.entry.id)
        elif event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.focusNextPrevChild(event.key() == Qt.Key.Key_Down)
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent) -> None:
        super().focusInEvent(event)
        self.update()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(0.5, 0.5, self.width() - 1, self.height() - 1)
        if self.chosen or self.hasFocus():
            painter.setPen(QPen(colour("verd" if self.hasFocus() else "strong"), 1))
            painter.setBrush(colour("panel"))
            painter.drawRoundedRect(box, 6, 6)
        else:
            painter.setPen(QPen(colour("line"), 1))
            painter.drawLine(box.bottomLeft() + QPointF(8, 0), box.bottomRight() - QPointF(8, 0))
        self._paint_dot(painter, QPointF(14, 15))
        quiet = self.entry.left or self.entry.is_gone
        painter.setFont(font(12))
        room = box.width() - 26 - 8 - painter.fontMetrics().horizontalAdvance(self.state_words + " ")
        name, shown = translated(name_of_entry(self.entry)), font(13, bold=not quiet)
        if QFontMetricsF(shown).horizontalAdvance(name) > room:
            shown = font(12, bold=not quiet)
        painter.setFont(shown)
        painter.setPen(colour("soft" if quiet else "ink"))
        name = QFontMetricsF(shown).elidedText(name, Qt.TextElideMode.ElideRight, room)
        painter.drawText(box.adjusted(26, 5, 0, 0), Qt.AlignmentFlag.AlignTop, name)
        painter.setFont(font(12))
        painter.setPen(colour("soft"))
        painter.drawText(
            box.adjusted(0, 6, -8, 0),
            Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignRight,
            self.state_words,
        )
        painter.drawText(box.adjusted(26, 24, -8, 0), Qt.AlignmentFlag.AlignTop, translated(measure_text(self.entry)))
        self._paint_places(
            painter,
            QRectF(box.right() - 8 - STRIP_WIDTH, 28, STRIP_WIDTH, 9),
            painter.fontMetrics().horizontalAdvance(measure_text(self.entry)),
        )

    def _paint_dot(self, painter: QPainter, at: QPointF) -> None:
        severity = self.entry.now.severity
        if self.entry.left or self.entry.is_gone or severity < MILD:
            painter.setPen(QPen(colour("soft"), 1.3))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(at, 3.2, 3.2)
            return
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour("madder" if severity >= GRAVE else "ochre"))
        painter.drawEllipse(at, 4, 4)

    def _paint_places(self, painter: QPainter, strip: QRectF, text_width: int) -> None:
        if 26 + text_width + 8 > strip.left():
            return  # the figures need the room
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.fillRect(QRectF(strip.left(), strip.bottom(), strip.width(), 1), colour("strong"))
        finding = self.entry.now
        if not finding.marks:
            painter.fillRect(QRectF(strip.left(), strip.bottom() - 4, strip.width(), 4), colour("soft", 0.5))
            return
        starts = np.array([m.start for m in finding.marks]) / self._frames * strip.width()
        for x in np.unique(starts.astype(int)).tolist():
            painter.fillRect(
                QRectF(strip.left() + x, strip.top(), 1, strip.height()),
                colour("ink" if not self.entry.is_gone else "strong"),
            )
