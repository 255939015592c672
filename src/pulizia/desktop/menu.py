# SPDX-License-Identifier: GPL-3.0-or-later
"""Menus that take initials: a letter goes to the row that begins with it, and opens it where it is a menu itself."""

from __future__ import annotations

from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QAction, QKeyEvent
from PySide6.QtWidgets import QMenu, QWidget


class Menu(QMenu):
    """A menu whose rows are reached by their initials; the menus in it are of the same kind."""

    def __init__(self, parent: QWidget | None = None, title: str = "") -> None:
        super().__init__(title, parent)

    def submenu(self, title: str) -> Menu:
        """A menu within this one, as its last row."""
        made = Menu(self, title)
        self.addMenu(made)
        return made

    def keyPressEvent(self, event: QKeyEvent) -> None:
        letter = event.text().casefold()
        held = event.modifiers() & ~(Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.KeypadModifier)
        rows = [] if held or not letter.strip() or not letter.isprintable() else self._beginning_with(letter)
        if not rows:
            super().keyPressEvent(event)
            return
        event.accept()
        wanted = _behind(self.activeAction(), rows, self.actions())
        for _ in self.actions():  # a step at a time: going there at once would open a menu that is only passed
            if self.activeAction() is wanted:
                break
            self._press(Qt.Key.Key_Down)
        if len(rows) == 1 and wanted.menu() is not None:
            self._press(Qt.Key.Key_Left if self.isRightToLeft() else Qt.Key.Key_Right)

    def _press(self, key: Qt.Key) -> None:
        super().keyPressEvent(QKeyEvent(QEvent.Type.KeyPress, key, Qt.KeyboardModifier.NoModifier))

    def _beginning_with(self, letter: str) -> list[QAction]:
        return [a for a in self.actions() if a.isVisible() and a.isEnabled() and a.text().casefold().startswith(letter)]


def _behind(active: QAction | None, rows: list[QAction], order: list[QAction]) -> QAction:
    """The first of the rows behind the active one, round the end."""
    at = order.index(active) if active in order else -1
    return next((row for row in rows if order.index(row) > at), rows[0])
