# SPDX-License-Identifier: GPL-3.0-or-later
"""Files opened lately, offered while nothing is open; projects with a picture of their sound."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from pathlib import Path

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QIcon, QImage, QPixmap
from PySide6.QtWidgets import QVBoxLayout, QWidget

from pulizia.desktop.controls import button, label
from pulizia.media.folders import state_folder
from pulizia.words import tr

MOST, MOST_PICTURES = 5, 60
PICTURE = QSize(180, 24)


def _picture_file(path: Path) -> Path:
    name = hashlib.sha256(str(path.absolute()).encode("utf-8", "surrogatepass")).hexdigest()[:24]
    return state_folder("pictures") / f"{name}.png"


def keep_picture(path: Path, picture: QImage) -> None:
    """Keep a small picture of a project's sound, of twice ``PICTURE``, for the next time it is offered; the oldest ones go."""
    if picture.save(str(_picture_file(path))):
        files = sorted(state_folder("pictures").glob("*.png"), key=lambda f: f.stat().st_mtime)
        for old in files[:-MOST_PICTURES]:
            old.unlink(missing_ok=True)


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
        shown = {path: QPixmap(str(_picture_file(path))) for path in paths[:MOST]}
        blank = QPixmap(PICTURE * 2)  # names stand under one another, with a picture or without
        blank.fill(Qt.GlobalColor.transparent)
        has_pictures = any(not picture.isNull() for picture in shown.values())
        for path, picture in shown.items():
            made = button(path.name, lambda p=path: self.chosen.emit(p), tip=str(path), quiet=True)  # type: ignore[misc]
            if has_pictures:
                icon = blank if picture.isNull() else picture
                icon.setDevicePixelRatio(2)
                made.setIcon(QIcon(icon))
                made.setIconSize(PICTURE)
                made.setText(f"   {path.name}")
            self._column.addWidget(made, alignment=Qt.AlignmentFlag.AlignLeft)
        self.setVisible(bool(paths))
