# SPDX-License-Identifier: GPL-3.0-or-later
"""The walk through a changed cut: every change in a table, and the way to each."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt
from PySide6.QtWidgets import QDialog, QHBoxLayout, QHeaderView, QTableView, QVBoxLayout, QWidget

from pulizia.desktop.controls import button, label
from pulizia.interchange.conform_rows import Change, Conformed, ConformRow, count_words, row_words
from pulizia.session.session import Session
from pulizia.units import format_time
from pulizia.words import N_, tr, translated

COLUMNS = (N_("Change"), N_("Recording"), N_("Lane"), N_("Length"), N_("Was at"), N_("Now at"))
RECORDING, LANE = 1, 2
CHANGES: dict[Change, str] = {
    "gone": N_("Gone"), "new": N_("New"), "left out": N_("Left out as before"), "trimmed": N_("A part"), "longer": N_("Longer"), "moved": N_("Moved"),
}  # fmt: skip
Index = QModelIndex | QPersistentModelIndex
NOWHERE = QModelIndex()


class ConformWalk(QDialog):
    """Every change of a new cut; undo takes all of it back."""

    def __init__(self, session: Session, found: Conformed, parent: QWidget) -> None:
        super().__init__(parent)
        self.session, self.found = session, found
        self.setWindowTitle(tr("Changes of the cut"))
        self.resize(720, 480)
        column = QVBoxLayout(self)
        column.addWidget(label(tr("Changes of the cut"), 20, bold=True))
        column.addWidget(label(count_words(found), 13, token="soft"))
        self.changes = found.rows
        self.table = _table(_Changes(self.changes, found.programme.rate, self), lanes=len(found.programme.lanes) > 1)
        self.table.selectRow(0)  # shown, and gone to by the next choice
        self.table.selectionModel().currentRowChanged.connect(lambda now, _before: self._go_to(now.row()))
        column.addWidget(self.table, 1)
        row = QHBoxLayout()
        row.addWidget(button(tr("Undo"), self._undo, tip=tr("The programme as it was before the new cut")))
        row.addWidget(label(tr("Choose a row to go to its place."), 12, token="soft"))
        row.addStretch(1)
        row.addWidget(button(tr("Keep"), self.accept, main=True))
        column.addLayout(row)

    def _go_to(self, at: int) -> None:
        if 0 <= at < len(self.changes) and self.changes[at].change != "gone":
            self.session.seek(self.changes[at].at)

    def _undo(self) -> None:
        self.session.document.undo()
        self.reject()


class _Changes(QAbstractTableModel):
    """The rows of a comparison; a cut of a feature has thousands, of which a screen shows twenty."""

    def __init__(self, rows: tuple[ConformRow, ...], rate: int, parent: QWidget) -> None:
        super().__init__(parent)
        self._rows, self._rate = rows, rate

    def rowCount(self, parent: Index = NOWHERE) -> int:
        return 0 if parent.isValid() else len(self._rows)

    def columnCount(self, parent: Index = NOWHERE) -> int:
        return 0 if parent.isValid() else len(COLUMNS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:  # noqa: ANN401 - Qt's
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return translated(COLUMNS[section])
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:  # noqa: ANN401 - Qt's
        row = self._rows[index.row()]
        if role in (Qt.ItemDataRole.ToolTipRole, Qt.ItemDataRole.AccessibleTextRole):
            return row_words(row, self._rate)
        if role != Qt.ItemDataRole.DisplayRole:
            return None
        is_gone = row.change == "gone"
        was, now = (row.at, None) if is_gone else (row.was, row.at)
        texts = (
            translated(CHANGES[row.change]),
            row.name,
            row.lane,
            self._time(row.frames),
            self._time(was),
            self._time(now),
        )
        return texts[index.column()]

    def _time(self, frames: int | None) -> str:
        return "" if frames is None else format_time(frames / self._rate, 2)


def _table(model: _Changes, *, lanes: bool) -> QTableView:
    table = QTableView()
    table.setModel(model)
    table.setAccessibleName(tr("Changes of the cut"))
    table.verticalHeader().hide()
    table.setShowGrid(False)
    table.setWordWrap(False)
    table.setTabKeyNavigation(False)
    table.setSelectionBehavior(QTableView.SelectionBehavior.SelectRows)
    table.setSelectionMode(QTableView.SelectionMode.SingleSelection)
    table.setColumnHidden(LANE, not lanes)
    header = table.horizontalHeader()
    header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
    header.setHighlightSections(False)
    table.resizeColumnsToContents()
    header.setSectionResizeMode(RECORDING, QHeaderView.ResizeMode.Stretch)
    return table
