# SPDX-License-Identifier: GPL-3.0-or-later
"""A line that takes a time as people write it: seconds, minutes and seconds, milliseconds, picture frames, timecode."""

from __future__ import annotations

from fractions import Fraction

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QLineEdit

from pulizia.audio.timecode import TimecodeError, typed_seconds
from pulizia.units import format_number, format_time
from pulizia.words import tr


class TimeBox(QLineEdit):
    """Shows seconds; what is typed is taken when Return is pressed or the line is left."""

    changed = Signal(float)  # whoever changed it
    typed = Signal(float)
    refused = Signal(str)

    def __init__(self, *, low: float = 0.0, counts_from_start: bool = False, clock: bool = False) -> None:
        super().__init__()
        self._low, self._from_start, self._clock = low, counts_from_start, clock
        self._value = 0.0
        self.picture_rate, self.start_frame, self.drop = Fraction(25), 0, False
        self.setToolTip(tr("Seconds, 1:23.4, 400 ms, 12 f, or a timecode 10:01:23:10"))
        self.editingFinished.connect(self._take)

    def value(self) -> float:
        """In seconds."""
        return self._value

    def setValue(self, seconds: float) -> None:
        """Show a time; told when it is another one."""
        other = abs(seconds - self._value) > 5e-7
        self._value = seconds
        if not self.hasFocus() or other:
            self.setText(self._shown(seconds))
        if other:
            self.changed.emit(seconds)

    def show_value(self, seconds: float, *, several: bool = False) -> None:
        """Show a time; ``several`` shows a word in its place: such a line is to be switched off."""
        self.setValue(seconds)
        if several or not self.hasFocus():
            self.setText(tr("several") if several else self._shown(seconds))

    def _shown(self, seconds: float) -> str:
        return format_time(seconds, 3) if self._clock else f"{format_number(seconds, 3)} s"

    def _take(self) -> None:
        try:
            start = self.start_frame if self._from_start else 0
            text = self.text().replace("\u2212", "-").strip()
            sign = -1 if text.startswith("-") else 1
            found = sign * float(typed_seconds(text.lstrip("-"), self.picture_rate, start, drop=self.drop))
        except TimecodeError as error:
            self.refused.emit(str(error))
            found = self._value
        self.setText(self._shown(max(found, self._low)))
        if abs(found - self._value) > 5e-4:  # more than the text shows
            self.setValue(max(found, self._low))
            self.typed.emit(self._value)
