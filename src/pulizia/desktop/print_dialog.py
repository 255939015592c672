# SPDX-License-Identifier: GPL-3.0-or-later
"""Print the worked sound on purpose: what, how far beyond its ends, and under which name."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QDialog,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QVBoxLayout,
    QWidget,
)

from pulizia.delivery.deliverable import Deliverable
from pulizia.desktop.controls import ChoiceBox, FigureBox, button, label
from pulizia.desktop.delivery.order_sheet import FORMATS
from pulizia.desktop.existing import CHOOSE, KEEP_BOTH, REPLACE, ask_existing
from pulizia.desktop.folders import proposed_folder
from pulizia.errors import PuliziaError
from pulizia.session.print_service import PATTERN
from pulizia.session.session import Session
from pulizia.words import plural, tr, translated


class PrintDialog(QDialog):
    """New files beside the recording; the original stays as it is."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.session = session
        self.setWindowTitle(tr("Render"))
        self.setFixedWidth(440)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        column = QVBoxLayout(self)
        column.addWidget(label(tr("Render"), 20, bold=True))
        column.addWidget(
            label(
                tr("Writes the processed sound to new files. The original recording is never changed."),
                12,
                token="soft",
                wrap=True,
            )
        )
        grid = QGridLayout()
        self.what = ChoiceBox()
        for words, value in (
            (tr("the selection"), "selection"),
            (tr("each section between markers"), "parts"),
            (tr("whole recording as one file"), "whole"),
        ):
            self.what.addItem(translated(words), value)
        self.what.setCurrentIndex(0 if session.selection is not None else 2)
        self.what.setAccessibleName(tr("What"))
        self.what.activated.connect(lambda _n: self._show())
        self.handles = FigureBox()
        self.handles.setRange(0.0, 30.0)
        self.handles.setValue(session.prints.handles_s)
        self.handles.setSuffix(" s")
        self.handles.setAccessibleName(tr("Handles"))
        self.handles.setToolTip(tr("Extra sound at both ends of each file"))
        self.handles.valueChanged.connect(lambda _v: self._show())
        self.format = ChoiceBox()
        for n, (words, *_) in enumerate(FORMATS[:5]):
            self.format.addItem(translated(words), n)
        self.format.setAccessibleName(tr("Format"))
        self.format.activated.connect(lambda _n: self._show())
        self.pattern = QLineEdit(PATTERN)
        self.pattern.setAccessibleName(tr("Name"))
        self.pattern.setToolTip("{name} {steps} {number} {rate} {date}")
        self.pattern.textChanged.connect(lambda _t: self._show())
        for n, (words, widget) in enumerate(
            (
                (tr("What"), self.what),
                (tr("Handles"), self.handles),
                (tr("Format"), self.format),
                (tr("Name"), self.pattern),
            )
        ):
            grid.addWidget(label(words), n, 0)
            grid.addWidget(widget, n, 1)
        column.addLayout(grid)
        self.words = label("", 12, token="soft", wrap=True)
        column.addWidget(self.words)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(button(tr("Close"), self.reject))
        row.addWidget(button(tr("Render to…"), self._ask, main=True))
        column.addLayout(row)
        self._show()

    def _wanted(self) -> Deliverable:
        _, kind, bits, _ = FORMATS[self.format.currentData()]
        return Deliverable(kind=kind, sample_format=bits)

    def _show(self) -> None:
        try:
            made = self.session.prints.paths(
                self.what.currentData(), Path(), self.pattern.text(), self._wanted(), self.handles.value()
            )
        except PuliziaError as error:
            self.words.setText(str(error))
            return
        self.handles.setEnabled(self.what.currentData() != "whole")
        self.words.setText(
            tr("Select a section first.")
            if not made
            else plural("1 file: {first}", "{n} files: {first} and more", len(made), first=made[0][1].name)
        )

    def print_into(self, folder: Path, *, overwrite: bool = False, keep_both: bool = False) -> None:
        """Write the files; what is there already is replaced, or kept beside new names, only as asked."""
        service = self.session.prints
        service.handles_s = self.handles.value()
        try:
            service.write(
                self.what.currentData(), folder, pattern=self.pattern.text(), wanted=self._wanted(),
                handles_s=self.handles.value(), overwrite=overwrite, keep_both=keep_both,
            )  # fmt: skip
        except PuliziaError as error:
            self.words.setText(str(error))
            return
        self.accept()

    def _ask(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, tr("Render to"), str(proposed_folder(self.session)))
        if folder:
            self.ask_into(Path(folder))

    def ask_into(self, folder: Path) -> None:
        """Write the files; where some are there already, ask first."""
        what, handles = self.what.currentData(), self.handles.value()
        try:
            made = self.session.prints.paths(what, folder, self.pattern.text(), self._wanted(), handles)
        except PuliziaError as error:
            self.words.setText(str(error))
            return
        there = [path for _, path in made if path.exists()]
        way = ask_existing(self, there) if there else ""
        if way == CHOOSE:
            self._ask()
        elif way is not None:
            self.print_into(folder, overwrite=way == REPLACE, keep_both=way == KEEP_BOTH)
