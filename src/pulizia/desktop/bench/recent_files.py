# SPDX-License-Identifier: GPL-3.0-or-later
"""Files opened lately, offered while nothing is open."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QVBoxLayout, QWidget

from pulizia.desktop.controls import button, label
from pulizia.words import tr

MOST = 5


class RecentFiles(QWidget):
    """A row per file, newest first; nothing when there are none."""

    chosen = Signal(Path)

    def __init__(self) -> None:
        super().__init__()
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 20, 0, 0)
        self._column.setSpacing(0)
        self._column.addWidget(label(tr("Recent"), 12, token="soft"), alignment=Qt.AlignmentFlag.AlignHCenter)
        self.hide()

    def show_files(self, paths: Sequence[Path]) -> None:
        """Offer these files."""
        while self._column.count() > 1:
            item = self._column.takeAt(1)
            if item is not None and (old := item.widget()) is not None:
                old.deleteLater()
        for path in paths[:MOST]:
            self._column.addWidget(button(path.name, lambda p=path: self.chosen.emit(p), tip=str(path), quiet=True))  # type: ignore[misc]
        self.setVisible(bool(paths))
