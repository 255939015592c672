# SPDX-License-Identifier: GPL-3.0-or-later
"""What the program keeps on the disk for speed, how much it may keep, and a way to clear it."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from pulizia.desktop.controls import button, label
from pulizia.media.folders import cache_folder
from pulizia.session.session import CACHE_LIMITS, Session
from pulizia.units import format_number
from pulizia.words import N_, tr

KEPT = {
    "decoded": N_("Decoded and converted sound"), "peaks": N_("Waveforms"), "chunks": N_("Rendered steps"),
}  # fmt: skip
SMALL = ("findings", "loudness")  # what is known of sounds: too little for a row
CHUNK_LIMIT = 4 << 30


def held_bytes(folder: Path) -> int:
    """Bytes of all files of a cache folder."""
    return sum(f.stat().st_size for f in folder.iterdir() if f.is_file())


class StorageDialog(QDialog):
    """Everything here can be made again from the recordings."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.session = session
        self.setWindowTitle(tr("Cache"))
        self.setFixedWidth(460)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        column = QVBoxLayout(self)
        column.addWidget(label(tr("Cache"), 20, bold=True))
        column.addWidget(
            label(
                tr(
                    "Kept in {cache_folder} for speed. Everything there can be made again; recordings and projects are elsewhere.",
                    cache_folder=cache_folder(""),
                ),
                12,
                token="soft",
                wrap=True,
            )
        )
        self._grid = QGridLayout()
        self._grid.setColumnStretch(0, 1)
        column.addLayout(self._grid)
        self.figures: dict[str, str] = {}
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(button(tr("Clear"), self.clear, tip=tr("Remove what is not in use")))
        row.addWidget(button(tr("Close"), self.accept))
        column.addLayout(row)
        self._fill()

    def _fill(self) -> None:
        while (item := self._grid.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.deleteLater()
        for n, (name, words) in enumerate(KEPT.items()):
            most = CACHE_LIMITS.get(name, CHUNK_LIMIT)
            self.figures[name] = tr(
                "{held_bytes} MB of {most} GB",
                held_bytes=format_number(held_bytes(cache_folder(name)) / 1e6, 0),
                most=format_number(most / 1e9, 0),
            )
            self._grid.addWidget(label(words), n, 0)
            self._grid.addWidget(label(self.figures[name], 13, token="soft"), n, 1, Qt.AlignmentFlag.AlignRight)

    def clear(self) -> None:
        """Remove what the open recordings do not use."""
        used = {m.source.path for m in self.session.document.media.values()}
        kept = {p.stem for p in used}
        for name in (*KEPT, *SMALL):
            for file in cache_folder(name).iterdir():
                if file.is_file() and file not in used and file.stem not in kept:
                    file.unlink(missing_ok=True)
        self._fill()
