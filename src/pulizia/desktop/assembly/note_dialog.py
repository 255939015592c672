# SPDX-License-Identifier: GPL-3.0-or-later
"""A marker of the programme as a note: its kind, scene, who it is for, and what it says."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from PySide6.QtWidgets import QDialog, QLineEdit, QPlainTextEdit, QWidget

from pulizia.audio.markers import LONGEST_NAME, LONGEST_NOTE, Marker
from pulizia.desktop.controls import ChoiceBox
from pulizia.desktop.form import lay_out_form
from pulizia.session.programme_notes import KIND_WORDS
from pulizia.words import tr, translated


class NoteDialog(QDialog):
    """Edits one marker; ``done`` is called with what it has become."""

    def __init__(self, marker: Marker, parent: QWidget, done: Callable[[Marker], None]) -> None:
        super().__init__(parent)
        self._marker, self._done = marker, done
        self.setProperty("manual", "assembly#" + tr("Notes"))
        self.setWindowTitle(tr("Note"))
        self.resize(420, 320)
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
        lay_out_form(self, rows)
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
