# SPDX-License-Identifier: GPL-3.0-or-later
"""The edits of the project as a list; a press goes back to any of them, or forward again."""

from __future__ import annotations

from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QDialog, QHBoxLayout, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from pulizia.desktop.controls import button, label
from pulizia.desktop.theme import colour, font
from pulizia.session.session import Session
from pulizia.words import tr


class HistoryDialog(QDialog):
    """Stays open beside the work and follows it."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.session = session
        self.setWindowTitle(tr("History"))
        self.resize(340, 460)
        column = QVBoxLayout(self)
        column.addWidget(label(tr("History"), 20, bold=True))
        words = tr("Press an edit to go there. What comes after it stays in the list until something else is edited.")
        column.addWidget(label(words, 12, token="soft", wrap=True))
        self.list = QListWidget()
        self.list.setAccessibleName(tr("Edits, the latest last"))
        self.list.setUniformItemSizes(True)
        self.list.currentRowChanged.connect(self._go)
        column.addWidget(self.list, 1)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(button(tr("Close"), self.hide))
        column.addLayout(row)
        self._shown: tuple[tuple[str, ...], tuple[str, ...]] | None = None
        self._filling = False
        session.events.document.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Show the edits as they are now."""
        labels = self.session.document.history.labels
        if labels == self._shown or (not self.isVisible() and self._shown is not None):
            return
        self._shown, self._filling = labels, True
        made, taken_back = labels
        self.list.clear()
        for n, words in enumerate((tr("As it began"), *made, *taken_back)):
            item = QListWidgetItem(words)
            if n > len(made):
                item.setForeground(colour("soft"))
                item.setToolTip(tr("Taken back"))
            elif n == len(made):
                item.setFont(font(13, bold=True))
            self.list.addItem(item)
        self.list.setCurrentRow(len(made))
        self._filling = False

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.refresh()

    def _go(self, row: int) -> None:
        if not self._filling and row >= 0:
            self.session.document.go_to(row)
