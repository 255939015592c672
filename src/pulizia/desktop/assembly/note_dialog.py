# SPDX-License-Identifier: GPL-3.0-or-later
"""A marker of the programme as a note: its kind, scene, who it is for, and what it says."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from PySide6.QtWidgets import QDialog, QDialogButtonBox, QGridLayout, QLineEdit, QPlainTextEdit, QWidget

from pulizia.audio.markers import LONGEST_NAME, LONGEST_NOTE, Marker
from pulizia.desktop.controls import ChoiceBox, label
from pulizia.session.programme_notes import KIND_WORDS
from pulizia.words import tr, translated


class NoteDialog(QDialog):
    """Edits one marker; ``done`` is called with what it has become."""

    def __init__(self, marker: Marker, parent: QWidget, done: Callable[[Marker], None]) -> None:
        super().__init__(parent)
        self._marker, self._done = marker, done
        self.setProperty("manual", f"assembly#{tr('Notes')}")
        self.setWindowTitle(tr("Note"))
        self.resize(420, 320)
        grid = QGridLayout(self)
        self.kind = ChoiceBox()
        for kind, words in KIND_WORDS.items():
            self.kind.addItem(translated(words), kind)
        self.kind.setCurrentIndex(self.kind.findData(marker.kind))
        self.name, self.scene, self.who = QLineEdit(marker.name), QLineEdit(marker.scene), QLineEdit(marker.who)
        for line in (self.name, self.scene, self.who):
            line.setMaxLength(LONGEST_NAME)
        self.note = QPlainTextEdit(marker.note)
        self.note.setTabChangesFocus(True)
        rows = (
            (tr("Kind"), self.kind),
            (tr("Name"), self.name),
            (tr("Scene"), self.scene),
            (tr("Who"), self.who),
            (tr("Note"), self.note),
        )
        for row, (words, part) in enumerate(rows):
            grid.addWidget(label(words), row, 0)
            grid.addWidget(part, row, 1)
            part.setAccessibleName(words)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        grid.addWidget(buttons, len(rows), 0, 1, 2)
        self.name.selectAll()
        self.name.setFocus()

    def accept(self) -> None:
        super().accept()
        self._done(
            replace(
                self._marker, kind=self.kind.currentData(), name=self.name.text().strip() or self._marker.name,
                scene=self.scene.text().strip(), who=self.who.text().strip(), note=self.note.toPlainText().strip()[:LONGEST_NOTE],
            )
        )  # fmt: skip
