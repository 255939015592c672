# SPDX-License-Identifier: GPL-3.0-or-later
"""The row under the pictures: where the selection lies, to be typed too, and what one does with it most."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from pulizia.desktop.bench.time_axis import GUTTER
from pulizia.desktop.controls import button, label
from pulizia.desktop.menu import Menu
from pulizia.desktop.time_box import TimeBox
from pulizia.session.session import Session
from pulizia.units import format_number
from pulizia.words import tr

HEIGHT, BOX_WIDTH = 30, 76


class SelectionRow(QWidget):
    """Always in its place, so that it covers nothing; without a selection it says how one is made."""

    accessible_role = "group"

    treat = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setFixedHeight(HEIGHT)
        self.setAccessibleName(tr("Selection"))
        row = QHBoxLayout(self)
        row.setContentsMargins(GUTTER, 2, GUTTER, 2)
        row.setSpacing(4)
        self._hint = label(tr("Drag to select; double-click for a phrase."), 12, token="soft")
        self.start, self.stop = self._time_box(tr("Start of the selection")), self._time_box(tr("End of the selection"))
        self._dash = label("\u2013", 12, token="soft")
        self._length = label("", 12, token="plum")
        for part in (self._hint, self.start, self._dash, self.stop, self._length):
            row.addWidget(part)
        row.addStretch(1)
        self.area = self._button(
            tr("Areas"), session.repairs.take_as_area, tr("Lower or replace the selected area (P)")
        )
        self._buttons = (
            self._button(tr("Learn noise"), session.repairs.take_as_noise, tr("Learn the selection as noise (N)")),
            self._button(tr("Add step here…"), self.treat.emit, tr("Add a step that acts in the selection only (T)")),
            self.area,
            self._button(
                tr("Restore original"), session.repairs.give_back, tr("Restore the original in the selection (G)")
            ),
        )
        for made in self._buttons:
            row.addWidget(made)
        self._rest = self._button("\u2026", self._show_rest, tr("More for the selection"))
        row.addWidget(self._rest)
        self.refresh()

    def _time_box(self, name: str) -> TimeBox:
        box = TimeBox(clock=True)
        box.setFixedWidth(BOX_WIDTH)
        box.setAccessibleName(name)
        box.typed.connect(lambda _seconds: self._typed())
        box.refused.connect(lambda text: self.session.say(text, bad=True))
        return box

    def _button(self, words: str, call: Callable[[], None], tip: str) -> QPushButton:
        return button(words, call, tip=tip, quiet=True)

    def _typed(self) -> None:
        session = self.session
        if session.recording is not None and session.selection is not None:
            rate = session.recording.rate
            start, stop = round(self.start.value() * rate), round(self.stop.value() * rate)
            if start >= stop:
                session.say(tr("The selection would end before it starts. Type a later end."), bad=True)
                self.refresh()
            else:
                session.select(start, stop, session.selection.band_hz)

    def refresh(self) -> None:
        """Show the selection as it is now."""
        selection, recording = self.session.selection, self.session.recording
        there = selection is not None and recording is not None
        self._hint.setVisible(not there)
        for part in (self.start, self._dash, self.stop, self._length, *self._buttons):
            part.setVisible(there)
        self._rest.hide()
        if selection is None or recording is None:
            return
        rate = recording.rate
        self.start.setValue(selection.span.start / rate)
        self.stop.setValue(selection.span.stop / rate)
        self._length.setText(self._length_text())
        self._fit()

    def _length_text(self, *, short: bool = False) -> str:
        selection, recording = self.session.selection, self.session.recording
        if selection is None or recording is None:
            return ""
        seconds = selection.span.frames / recording.rate
        text = (
            tr("{seconds} ms", seconds=format_number(1000 * seconds, 0))
            if seconds < 1
            else f"{format_number(seconds, 2)} s"
        )
        if selection.band_hz and not short:
            low, high = selection.band_hz
            text += ", " + tr("{low:.0f}–{high:.0f} Hz", low=low, high=high)
        return text

    @property
    def _offered(self) -> list[QPushButton]:
        """What can be done with the selection; an area has a band of frequencies."""
        selection = self.session.selection
        banded = selection is not None and selection.band_hz is not None
        return [made for made in self._buttons if banded or made is not self.area]

    def _fit(self) -> None:
        """In a narrow window the length goes first: start and end tell it too; then the last buttons, into a menu."""
        offered = self._offered
        self.area.setVisible(self.area in offered)
        for count in range(len(offered), 0, -1):
            for number, made in enumerate(offered):
                made.setVisible(number < count)
            self._rest.setVisible(count < len(offered))
            for text in (self._length_text(), self._length_text(short=True), "") if count == len(offered) else ("",):
                self._length.setText(text)
                layout = self.layout()
                if layout is None or layout.sizeHint().width() <= self.width():
                    return

    def _show_rest(self) -> None:
        """The buttons for which there is no room, as a menu."""
        menu = Menu(self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        for made in self._offered:
            if made.isHidden():
                menu.addAction(made.text()).triggered.connect(made.click)
        menu.popup(self._rest.mapToGlobal(self._rest.rect().bottomLeft()))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if self._length.isVisible():
            self._fit()
