# SPDX-License-Identifier: GPL-3.0-or-later
"""J, K and L: backwards, stop, forwards; K held down with one of the others is half speed."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QApplication

from pulizia.session.studio import Studio


class ShuttleKeys(QObject):
    """Knows whether the middle key is held."""

    def __init__(self, studio: Studio, parent: QObject) -> None:
        super().__init__(parent)
        self.studio, self.held = studio, False

    def hold(self) -> None:
        """The middle key went down: stop, and remember it until it comes up."""
        application = QApplication.instance()
        if not self.held and application is not None:
            self.held = True
            application.installEventFilter(self)  # only while it is held: every event passes through a filter
        if self.studio.transport.is_playing:
            self.studio.stop_playing()

    def go(self, direction: int) -> None:
        """Backwards (-1) or forwards (1)."""
        self.studio.shuttle(direction, slow=self.held)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.KeyRelease and isinstance(event, QKeyEvent):
            if event.key() == Qt.Key.Key_K and not event.isAutoRepeat():
                self._release()
            elif event.key() in (Qt.Key.Key_J, Qt.Key.Key_L) and not event.isAutoRepeat():
                self.studio.stop_playing()
        elif event.type() == QEvent.Type.ApplicationDeactivate:
            self._release()  # the key may come up in another program
        return super().eventFilter(watched, event)

    def _release(self) -> None:
        self.held = False
        if (application := QApplication.instance()) is not None:
            application.removeEventFilter(self)
