# SPDX-License-Identifier: GPL-3.0-or-later
"""A table of words that can be copied and kept as a file."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QDialog, QFileDialog, QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from pulizia.desktop.controls import button, hairline, label, scrolled
from pulizia.desktop.folders import proposed_folder
from pulizia.errors import PuliziaError
from pulizia.media.write import write_text
from pulizia.report.measurement_log import as_csv
from pulizia.session.session import Session
from pulizia.units import plain_figure
from pulizia.words import tr, translated

Rows = Sequence[Sequence[str]]


class TableDialog(QDialog):
    """Head and rows; ``figures`` of the columns after the first are set to the right in bold, the rest as sentences."""

    def __init__(
        self, session: Session, title: str, words: str, parent: QWidget, *, figures: int, width: int = 640
    ) -> None:
        super().__init__(parent)
        self.session, self._figures = session, figures
        self.head: Sequence[str] = ()
        self.rows: Rows = ()
        self.setWindowTitle(translated(title))
        self.resize(width, 420)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        column = QVBoxLayout(self)
        column.addWidget(label(title, 20, bold=True))
        self.words = label(words, 12, token="soft", wrap=True)
        column.addWidget(self.words)
        inner = QWidget()
        self._grid = QGridLayout(inner)
        self._grid.setContentsMargins(0, 4, 8, 0)
        self._grid.setHorizontalSpacing(16)
        self._grid.setVerticalSpacing(4)
        column.addWidget(scrolled(inner), 1)
        row = QHBoxLayout()
        self.copy_button = button(tr("Copy"), self.copy, tip=tr("Copy the table, tabs between columns"))
        self.save_button = button(tr("Save as CSV…"), self._ask, tip=tr("Save the table to a file"))
        row.addWidget(self.copy_button)
        row.addWidget(self.save_button)
        row.addStretch(1)
        close = button(tr("Close"), self.accept)
        row.addWidget(close)
        column.addLayout(row)
        close.setFocus()  # Enter is for what one has read

    def show_table(self, head: Sequence[str], rows: Rows) -> None:
        """Fill the table."""
        self.head, self.rows = head, rows
        while (item := self._grid.takeAt(0)) is not None:
            if (old := item.widget()) is not None:
                old.deleteLater()
        for n, word in enumerate(head):
            self._grid.addWidget(label(word, 11, token="soft"), 0, n, self._side(n))
        for n, row in enumerate(rows):
            self._grid.addWidget(hairline(), 2 * n + 1, 0, 1, len(head))
            for m, cell in enumerate(row):
                figure = 0 < m <= self._figures
                made = label(
                    cell,
                    13 if m <= self._figures else 12,
                    bold=figure,
                    token="ink" if m <= self._figures else "soft",
                    wrap=m > self._figures,
                )
                self._grid.addWidget(made, 2 * n + 2, m, self._side(m) | Qt.AlignmentFlag.AlignTop)
        self._grid.setColumnStretch(len(head) - 1 if len(head) > self._figures + 1 else 0, 1)
        self._grid.setRowStretch(2 * len(rows) + 2, 1)

    def _side(self, column: int) -> Qt.AlignmentFlag:
        return Qt.AlignmentFlag.AlignRight if 0 < column <= self._figures else Qt.AlignmentFlag(0)

    def copy(self) -> None:
        """Put the table on the clipboard."""
        QGuiApplication.clipboard().setText(
            translated("\n".join("\t".join(row) for row in (self.head, *self.rows)) + "\n")
        )
        self.session.say(tr("The table was copied."))

    def save_to(self, path: Path) -> None:
        """Write the table as CSV."""
        try:
            write_text(path, as_csv([list(self.head), *([plain_figure(cell) for cell in row] for row in self.rows)]))
        except PuliziaError as error:
            self.session.say(str(error), bad=True)
        else:
            self.session.say(tr("Saved as {name}.", name=path.name))

    def _ask(self) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self,
            tr("Save as CSV"),
            str(proposed_folder(self.session) / f"{self.windowTitle().lower().replace(' ', '-')}.csv"),
            tr("CSV (*.csv)"),
        )
        if name:
            self.save_to(Path(name))
