# SPDX-License-Identifier: GPL-3.0-or-later
"""Repaints in turn: one view per turn of the event loop, so that an edit that touches every view never holds it long."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache

import shiboken6
from PySide6.QtCore import QObject, QTimer
from PySide6.QtWidgets import QWidget


class _Turns(QObject):
    def __init__(self) -> None:
        super().__init__()
        self._waiting: dict[QWidget, None] = {}
        self._timer = QTimer(self)
        self._timer.timeout.connect(self._next)

    def ask(self, view: QWidget) -> None:
        self._waiting[view] = None
        if not self._timer.isActive():
            self._timer.start(0)

    def _next(self) -> None:
        while self._waiting:
            view = next(iter(self._waiting))
            del self._waiting[view]
            if not shiboken6.isValid(view):
                continue
            if not view.updatesEnabled():
                view.setUpdatesEnabled(True)  # which has it painted
                return
            if view.isVisible():
                view.update()
                return
        self._timer.stop()


@cache
def _turns() -> _Turns:
    return _Turns()


def update_in_turn(*views: QWidget) -> None:
    """Have views painted again soon, in this order, each in a turn of its own.

    For what follows from an edit or a finished job; what the pointer holds is repainted at once by ``update``.
    """
    for view in views:
        _turns().ask(view)


@contextmanager
def painted_in_turn(view: QWidget) -> Iterator[None]:
    """Whatever is done to a view and the widgets in it is painted together, in a later turn of its own."""
    view.setUpdatesEnabled(False)
    try:
        yield
    finally:
        _turns().ask(view)
