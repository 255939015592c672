# SPDX-License-Identifier: GPL-3.0-or-later
"""A long menu in which one types what one looks for."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QKeyEvent
from PySide6.QtWidgets import QMenu, QWidget, QWidgetAction

from pulizia.desktop.controls import label, retone
from pulizia.words import tr


class TypedMenu(QMenu):
    """Typed letters leave the rows that hold them; the others stay where they are, dimmed. Only Return chooses.

    A row is found by a word of its name, and from three letters on by what stands behind it as well; names come
    first. Backspace takes the last letter back, Escape all of them, and a second Escape closes the menu.
    """

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.typed = ""
        self.words = label(tr("Type a name or a problem…"), 13, token="soft")
        self.words.setContentsMargins(12, 4, 12, 4)
        self._first = QWidgetAction(self)
        self._first.setDefaultWidget(self.words)
        self._first.setEnabled(False)
        self.addAction(self._first)
        self.words.setEnabled(True)  # not to be chosen, but to be read

    @property
    def rows(self) -> list[QAction]:
        """What can be chosen, dimmed or not."""
        return [a for a in self.actions() if a is not self._first and not a.isSeparator()]

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, letter = event.key(), event.text()
        held = event.modifiers() & ~(Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.KeypadModifier)
        if self.typed and key == Qt.Key.Key_Escape:
            self._look_for("")
        elif self.typed and key == Qt.Key.Key_Backspace:
            self._look_for(self.typed[:-1])
        elif not held and letter.isprintable() and (letter.strip() or (letter and self.typed)):
            self._look_for(self.typed + letter)
        else:
            super().keyPressEvent(event)
            return
        event.accept()

    def _look_for(self, typed: str) -> None:
        self.typed = typed
        ranks = {row: rank for row in self.rows if (rank := _rank(row.text(), typed)) is not None}
        by_name = [row for row in ranks if ranks[row] < BEHIND_THE_NAME]
        found = list(ranks) if len(typed) >= SHORTEST_PART or not by_name else by_name
        for row in self.rows:
            row.setEnabled(row in found)
        if found:
            self.words.setText(typed or tr("Type a name or a problem…"))
        else:
            self.words.setText(tr("{typed}: not found", typed=typed))
        retone(self.words, "ink" if typed else "soft")
        if typed and found:
            self.setActiveAction(min(found, key=ranks.__getitem__))
        else:
            self.setActiveAction(self._first)  # nothing that Return would choose


BEHIND_THE_NAME = 2
SHORTEST_PART = 3
"""Letters that say enough for what stands behind a name; fewer are looked for there only where no name fits."""


def _rank(text: str, typed: str) -> int | None:
    """How well a row fits: 0 by the start of its name, 1 by a word in it, 2 by a word behind it."""
    name, _, behind = text.casefold().replace("&", "").partition("\t")
    looked_for = typed.casefold()
    if name.startswith(looked_for):
        return 0
    if f" {looked_for}" in f" {name}".replace("-", " "):
        return 1
    if len(looked_for) < SHORTEST_PART:
        behind, looked_for = f" {behind}".replace("-", " "), f" {looked_for}"
    return BEHIND_THE_NAME if looked_for in behind else None
