# SPDX-License-Identifier: GPL-3.0-or-later
"""Clips of the programme as files: each or joined, how far beyond their ends, and what their steps learn from."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QDialog, QFileDialog, QWidget

from pulizia.desktop.controls import ChoiceBox, FigureBox
from pulizia.desktop.form import lay_out_form
from pulizia.session.session import Session
from pulizia.words import tr

USUAL_HANDLES_S = 2.0


class RenderClipsDialog(QDialog):
    """Asks how, then for a folder."""

    def __init__(self, session: Session, parent: QWidget, folder: Path) -> None:
        super().__init__(parent)
        self.session, self._folder = session, folder
        self.setWindowTitle(tr("Render clips"))
        self.joined, self.alone, self.handles = ChoiceBox(), ChoiceBox(), FigureBox()
        self.joined.addItem(tr("a file for each clip"), userData=False)
        self.joined.addItem(tr("one continuous file for each lane"), userData=True)
        self.handles.setRange(0.0, 30.0)
        self.handles.setSuffix(" s")
        self.handles.setValue(USUAL_HANDLES_S)
        self.alone.addItem(tr("from the whole recording"), userData=False)
        self.alone.addItem(tr("from each clip alone"), userData=True)
        rows = ((tr("Files"), self.joined), (tr("Handles"), self.handles), (tr("Steps learn"), self.alone))
        lay_out_form(self, rows)

    def accept(self) -> None:
        super().accept()
        chosen = QFileDialog.getExistingDirectory(self.parentWidget(), tr("Render clips to"), str(self._folder))
        if chosen:
            self.session.programme_out.render_clips(
                Path(chosen),
                handles_s=self.handles.value(),
                joined=self.joined.currentData(),
                alone=self.alone.currentData(),
            )
