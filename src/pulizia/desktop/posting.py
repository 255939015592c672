# SPDX-License-Identifier: GPL-3.0-or-later
"""Bring calls from worker threads to the window's thread."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject, Qt, Signal, Slot


class Poster(QObject):
    """Runs posted calls, in order, on the thread that made it."""

    _posted = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self._posted.connect(self._run, Qt.ConnectionType.QueuedConnection)
        self._open = True

    def post(self, call: Callable[[], None]) -> None:
        """Queue a call; from any thread."""
        if self._open:
            self._posted.emit(call)

    def close(self) -> None:
        """Drop whatever still comes."""
        self._open = False

    @Slot(object)
    def _run(self, call: Callable[[], None]) -> None:
        if self._open:
            call()
