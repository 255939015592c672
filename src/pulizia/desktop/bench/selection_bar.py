# SPDX-License-Identifier: GPL-3.0-or-later
"""The small bar at the edge of a selection: what one does with it most."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QHBoxLayout, QWidget

from pulizia.desktop.controls import button, label
from pulizia.desktop.theme import colour
from pulizia.session.studio import Studio
from pulizia.units import format_number
from pulizia.words import tr, translated


class SelectionBar(QWidget):
    """Play, loop, take as noise, treat with, give back the original."""

    treat = Signal()

    def __init__(self, studio: Studio, parent: QWidget) -> None:
        super().__init__(parent)
        self.studio = studio
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 3, 6, 3)
        row.setSpacing(2)
        self._length = label("", 12, token="plum")
        row.addWidget(self._length)
        row.addWidget(button(tr("Play"), studio.play_or_stop, tip=tr("Play the selection (Space)"), quiet=True))
        row.addWidget(button(tr("Loop"), self._loop, tip=tr("Loop the selection (R)"), quiet=True))
        row.addWidget(
            button(
                tr("Learn noise"), studio.repairs.take_as_noise, tip=tr("Learn the selection as noise (N)"), quiet=True
            )
        )
        row.addWidget(
            button(
                tr("Add step here…"),
                self.treat.emit,
                tip=tr("Add a step that acts in the selection only (T)"),
                quiet=True,
            )
        )
        self._blot = button(
            tr("Areas"), studio.repairs.take_as_blot, tip=tr("Lower or replace the selected area (P)"), quiet=True
        )
        row.addWidget(self._blot)
        row.addWidget(
            button(
                tr("Restore original"),
                studio.repairs.give_back,
                tip=tr("Restore the original in the selection (G)"),
                quiet=True,
            )
        )
        self.setAttribute(Qt.WidgetAttribute.WA_NoMousePropagation)
        self.hide()

    def _loop(self) -> None:
        self.studio.toggle_loop()
        if self.studio.transport.loop is not None and not self.studio.transport.is_playing:
            self.studio.play_or_stop()

    def place(self, x: float, y: int, left: int, right: int) -> None:
        """Show the bar near the selection's right end, inside the plot."""
        selection, recording = self.studio.selection, self.studio.recording
        if selection is None or recording is None:
            self.hide()
            return
        seconds = selection.span.frames / recording.rate
        text = (
            tr("{seconds} ms", seconds=format_number(1000 * seconds, 0))
            if seconds < 1
            else f"{format_number(seconds, 2)} s"
        )
        if selection.band_hz:
            low, high = selection.band_hz
            text += ", " + tr("{low:.0f}–{high:.0f} Hz", low=low, high=high)
        self._length.setText(translated(text))
        self._blot.setVisible(bool(selection.band_hz))
        self.adjustSize()
        at = max(min(round(x) - self.width() // 2, right - self.width() - 4), left + 4)
        self.move(at, y)
        self.show()
        self.raise_()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(colour("plum"), 1))
        painter.setBrush(colour("panel"))
        painter.drawRoundedRect(self.rect().toRectF().adjusted(0.5, 0.5, -0.5, -0.5), 6, 6)
