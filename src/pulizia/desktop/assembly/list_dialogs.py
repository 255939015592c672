# SPDX-License-Identifier: GPL-3.0-or-later
"""Edit lists: where their media are, what was found, and what a kind cannot carry."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from fractions import Fraction
from pathlib import Path

from PySide6.QtWidgets import (
    QDialog,
    QFileDialog,
    QHBoxLayout,
    QListWidget,
    QVBoxLayout,
    QWidget,
)

from pulizia.desktop.controls import ChoiceBox, FigureBox, Tick, button, label
from pulizia.desktop.form import Answer, answers
from pulizia.interchange.edit_list import RATES
from pulizia.interchange.read import says_rate
from pulizia.session.session import Session
from pulizia.words import tr, translated


class MediaDialog(QDialog):
    """Folders in which the media of a list are looked for; those of last time are proposed."""

    def __init__(
        self, path: Path, folders: Sequence[Path], parent: QWidget,
        done: Callable[[list[Path], Fraction | None, bool | None, bool], None],
    ) -> None:  # fmt: skip
        super().__init__(parent)
        self._path, self._done = path, done
        self.setWindowTitle(tr("Media of {name}", name=path.name))
        self.resize(560, 360)
        column = QVBoxLayout(self)
        column.addWidget(label(tr("Where are the media of {name}?", name=path.name), 15, bold=True, wrap=True))
        column.addWidget(
            label(
                tr("Sound and video files are looked for in these folders and below. Nothing else is opened."),
                12,
                token="soft",
                wrap=True,
            )
        )
        self.list = QListWidget()
        self.list.setAccessibleName(tr("Folders"))
        for folder in dict.fromkeys([path.parent, *folders]):
            self.list.addItem(str(folder))
        column.addWidget(self.list, 1)
        row = QHBoxLayout()
        row.addWidget(button(tr("Add a folder…"), self._add))
        row.addWidget(button(tr("Remove"), self._remove))
        row.addStretch(1)
        column.addLayout(row)
        self.rate = ChoiceBox()
        self.rate.setAccessibleName(tr("Frames of the picture a second"))
        for name in ("25", "24", "23.976", "29.97", "29.97df", "30", "50", "59.94", "60"):
            self.rate.addItem(tr("{rate} frames/s", rate=name), name)
        self.rated = QWidget()
        line = QHBoxLayout(self.rated)
        line.setContentsMargins(0, 0, 0, 0)
        line.addWidget(label(tr("Frames of the picture a second")))
        line.addWidget(self.rate, 1)
        self._asks_rate = not says_rate(path)
        self.rated.setVisible(self._asks_rate)
        column.addWidget(self.rated)
        self.field = Tick(tr("Take field recordings of the same moment instead of camera sound"), 500)
        column.addWidget(self.field)
        column.addWidget(answers(self))

    def _remove(self) -> None:
        self.list.takeItem(self.list.currentRow())

    def _add(self) -> None:
        chosen = QFileDialog.getExistingDirectory(self, tr("Add a folder"), str(self._path.parent))
        if chosen:
            self.list.addItem(chosen)

    def accept(self) -> None:
        super().accept()
        folders = [Path(self.list.item(n).text()) for n in range(self.list.count())]
        rate, drop = None, None
        if self._asks_rate:
            name: str = self.rate.currentData()
            rate, drop = RATES[name.removesuffix("df")], True if name.endswith("df") else None
        self._done(folders, rate, drop, self.field.isChecked())


class ListReport(QDialog):
    """What was found, missing or differing, and what the list could not say."""

    def __init__(self, title: str, lines: Sequence[str], parent: QWidget) -> None:
        super().__init__(parent)
        self.lines = list(lines)
        self.setWindowTitle(title)
        self.resize(640, 420)
        column = QVBoxLayout(self)
        column.addWidget(label(title, 20, bold=True, wrap=True))
        self.list = QListWidget()
        self.list.setWordWrap(True)
        self.list.setAccessibleName(title)
        self.list.addItems([translated(line) for line in self.lines])
        column.addWidget(self.list, 1)
        row = QHBoxLayout()
        row.addStretch(1)
        close = button(tr("Close"), self.accept)
        close.setDefault(True)
        close.setFocus()
        row.addWidget(close)
        column.addLayout(row)


class ExportDialog(QDialog):
    """What a list of this kind cannot carry, and whether the clips are rendered for it."""

    def __init__(self, session: Session, path: Path, parent: QWidget) -> None:
        super().__init__(parent)
        self.session, self._path = session, path
        self.setWindowTitle(tr("Export {name}", name=path.name))
        self.setFixedWidth(480)
        column = QVBoxLayout(self)
        column.addWidget(label(tr("Export {name}", name=path.name), 15, bold=True, wrap=True))
        self._told = label("", 13, wrap=True)
        column.addWidget(self._told)
        self.rendered = Tick(tr("Render each clip and name these files in the list"), 420)
        self.rendered.clicked.connect(lambda _on: self._tell())
        column.addWidget(self.rendered)
        row = QHBoxLayout()
        row.addWidget(label(tr("Handles")))
        self.handles = FigureBox()
        self.handles.setRange(0.0, 30.0)
        self.handles.setValue(2.0)
        self.handles.setSuffix(" s")
        self.handles.setAccessibleName(tr("Handles"))
        row.addWidget(self.handles)
        row.addStretch(1)
        column.addLayout(row)
        column.addWidget(answers(self, Answer.Save))
        self._tell()

    def _tell(self) -> None:
        lines = self.session.lists.losses(self._path, rendered=self.rendered.isChecked())
        self._told.setText(
            "\n".join(translated(line) for line in lines) or tr("This kind of list carries all of the programme.")
        )
        self.handles.setEnabled(self.rendered.isChecked())
        self.adjustSize()

    def accept(self) -> None:
        super().accept()
        self.session.lists.export(self._path, rendered=self.rendered.isChecked(), handles_s=self.handles.value())
