# SPDX-License-Identifier: GPL-3.0-or-later
"""Dragging the playhead with its sound: what lies under it is heard as it goes, and rests when it rests."""

from __future__ import annotations

import time

from PySide6.QtCore import QObject, QTimer

from pulizia.session.session import Session

GRAIN_MS = 110  # that are heard from a place before it is quiet again
EVERY_S = 0.045  # seconds from one place to the next at least


class Scrub(QObject):
    """From the press on the playhead to its release."""

    def __init__(self, session: Session, parent: QObject) -> None:
        super().__init__(parent)
        self._session = session
        self.is_on = False
        self._frame = 0
        self._heard_at = 0.0
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(GRAIN_MS)
        self._timer.timeout.connect(self._rest)

    def begin(self, frame: int) -> None:
        """The playhead is held."""
        self.is_on, self._frame = True, frame
        self._session.stop_playing()

    def move(self, frame: int) -> None:
        """It is over another frame now."""
        if frame == self._frame:
            return
        self._frame = frame
        now = time.monotonic()
        if now - self._heard_at >= EVERY_S:
            self._heard_at = now
            transport = self._session.transport
            if transport.is_playing:
                transport.seek(frame)
            else:
                transport.play(frame)
            self._session.events.playing.emit()
        self._timer.start()

    def end(self) -> None:
        """It was let go."""
        self._timer.stop()
        self._rest()
        self.is_on = False

    def _rest(self) -> None:
        self._session.transport.stop()
        self._session.seek(self._frame)
