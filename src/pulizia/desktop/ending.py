# SPDX-License-Identifier: GPL-3.0-or-later
"""Being ended from outside: SIGTERM, SIGHUP and the end of the desktop's session keep what was not saved."""

from __future__ import annotations

import signal
import socket

from PySide6.QtCore import QObject, QSocketNotifier
from PySide6.QtGui import QSessionManager
from PySide6.QtWidgets import QApplication

from pulizia.desktop.window import MainWindow

SIGNALS = (signal.SIGTERM, signal.SIGHUP)


class OrderlyEnd(QObject):
    """Writes what is not saved to the journal and closes without a question; the next start offers it again."""

    def __init__(self, application: QApplication, window: MainWindow) -> None:
        super().__init__(window)
        self._window = window
        # Python's handlers run only between its own instructions: the system writes to a socket that wakes Qt's loop
        self._wakes, self._woken = socket.socketpair()
        self._wakes.setblocking(False)
        self._woken.setblocking(False)
        self._before = signal.set_wakeup_fd(self._wakes.fileno(), warn_on_full_buffer=False)
        self._handlers = {number: signal.signal(number, lambda *_: None) for number in SIGNALS}
        self._notifier = QSocketNotifier(self._woken.fileno(), QSocketNotifier.Type.Read, self)
        self._notifier.activated.connect(self._end)
        application.commitDataRequest.connect(self._keep)

    def _keep(self, manager: QSessionManager) -> None:
        """The session ends: nothing is asked, all is kept."""
        manager.setRestartHint(QSessionManager.RestartHint.RestartIfRunning)
        self._window.session.document.write_journal()

    def _end(self) -> None:
        if not any(number in SIGNALS for number in self._woken.recv(64)):
            return
        self._notifier.setEnabled(False)
        self._window.end_unasked()
        QApplication.exit(0)

    def release(self) -> None:
        """Leave the signals as they were."""
        signal.set_wakeup_fd(self._before)
        for number, handler in self._handlers.items():
            signal.signal(number, handler)
        self._notifier.setEnabled(False)
        self._wakes.close()
        self._woken.close()
