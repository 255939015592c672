# SPDX-License-Identifier: GPL-3.0-or-later
"""Three keys (J, K and L at first): backwards, stop, forwards; the middle one held with another is half speed."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QObject
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QApplication

from pulizia.session.session import Session


class ShuttleKeys(QObject):
    """Knows whether the middle key is held."""

    def __init__(self, session: Session, parent: QObject, keys_of: Callable[[str], set[int]]) -> None:
        super().__init__(parent)
        self._keys_of = keys_of  # of a command, as they are bound now
        self.session, self.held = session, False

    def hold(self) -> None:
        """The middle key went down: stop, and remember it until it comes up."""
        application = QApplication.instance()
        if not self.held and application is not None:
            self.held = True
            application.installEventFilter(self)  # only while it is held: every event passes through a filter
        if self.session.transport.is_playing:
            self.session.stop_playing()

    def go(self, direction: int) -> None:
        """Backwards (-1) or forwards (1)."""
        self.session.shuttle(direction, slow=self.held)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.KeyRelease and isinstance(event, QKeyEvent):
            outer = self._keys_of("shuttle_back") | self._keys_of("shuttle_forward")
            if event.key() in self._keys_of("shuttle_stop") and not event.isAutoRepeat():
                self._release()
            elif event.key() in outer and not event.isAutoRepeat():
                self.session.stop_playing()
        elif event.type() == QEvent.Type.ApplicationDeactivate:
            self._release()  # the key may come up in another program
        return super().eventFilter(watched, event)

    def _release(self) -> None:
        self.held = False
        if (application := QApplication.instance()) is not None:
            application.removeEventFilter(self)
