"""The table of all keys, and of what the mouse does."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QGridLayout, QVBoxLayout, QWidget

from pulizia.desktop.controls import button, hairline, label, scrolled
from pulizia.desktop.words import translated

MOUSE = (
    ("Wheel with Ctrl", "zoom"), ("Wheel", "scroll"), ("Wheel with Alt in the sonogram", "frequency range"),
    ("Drag in the waveform", "select time"), ("Drag in the sonogram", "select time and frequency"),
    ("Drag at the sonogram's frequencies", "select a band"), ("Drag at the sonogram's scale", "range of levels"),
    ("Click", "move the playhead"), ("Double-click a marker in the ruler", "rename it"),
    ("Drag the dots of a step's picture", "bend the curve, move a band"),
)  # fmt: skip


class KeysDialog(QDialog):
    """Subject by subject, as in the menus."""

    def __init__(self, rows: Sequence[tuple[str, str, str]], parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle(translated("Keys"))
        self.resize(560, 620)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        inner = QWidget()
        self._grid = QGridLayout(inner)
        self._grid.setColumnStretch(0, 1)
        subject = ""
        for name, words, keys in rows:
            if name != subject:
                self._head(name)
                subject = name
            self._line(words, keys)
        self._head("Mouse")
        for words, does in MOUSE:
            self._line(words, does)
        column = QVBoxLayout(self)
        column.addWidget(label("Keys", 20, bold=True))
        column.addWidget(scrolled(inner), 1)
        column.addWidget(button("Close", self.accept), alignment=Qt.AlignmentFlag.AlignRight)

    def _head(self, words: str) -> None:
        row = self._grid.rowCount()
        self._grid.addWidget(label(words, 15, bold=True), row, 0)
        self._grid.addWidget(hairline(), row + 1, 0, 1, 2)

    def _line(self, words: str, does: str) -> None:
        row = self._grid.rowCount()
        self._grid.addWidget(label(words), row, 0)
        self._grid.addWidget(label(does, 13, token="soft"), row, 1, Qt.AlignmentFlag.AlignRight)
