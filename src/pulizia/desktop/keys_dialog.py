# SPDX-License-Identifier: GPL-3.0-or-later
"""The table of all keys, by subject, with a search; every key can be changed. And what the mouse does."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QHeaderView,
    QKeySequenceEdit,
    QLineEdit,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from pulizia.desktop.actions import Actions
from pulizia.desktop.controls import button, label
from pulizia.words import N_, tr, translated

MOUSE = (
    (N_("Wheel with Ctrl"), N_("zoom")), (N_("Wheel"), N_("scroll")), (N_("Wheel with Alt in the sonogram"), N_("frequency range")),
    (N_("Drag in the waveform"), N_("select time")), (N_("Drag in the sonogram"), N_("select time and frequency")),
    (N_("Drag at the sonogram's frequencies"), N_("select a band")), (N_("Drag at the sonogram's scale"), N_("range of levels")),
    (N_("Click"), N_("move the playhead")), (N_("Double-click a marker in the ruler"), N_("rename it")),
    (N_("Drag the dots of a step's picture"), N_("bend the curve, move a band")),
)  # fmt: skip
ID = Qt.ItemDataRole.UserRole


class KeysDialog(QDialog):
    """Subject by subject, as in the menus."""

    def __init__(self, actions: Actions, parent: QWidget) -> None:
        super().__init__(parent)
        self.actions_ = actions
        self.setWindowTitle(tr("Keys"))
        self.resize(600, 640)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        column = QVBoxLayout(self)
        column.addWidget(label(tr("Keys"), 20, bold=True))
        self.search = QLineEdit()
        self.search.setPlaceholderText(tr("Search"))
        self.search.setAccessibleName(tr("Search"))
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(self._filter)
        column.addWidget(self.search)
        self._heads: list[QTreeWidgetItem] = []
        self.table = QTreeWidget()
        self.table.setAccessibleName(tr("Keys"))
        self.table.setColumnCount(2)
        self.table.setHeaderHidden(True)
        self.table.setRootIsDecorated(False)
        self.table.setIndentation(12)
        self.table.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.table.header().setStretchLastSection(False)
        self.table.header().setSectionResizeMode(1, QHeaderView.ResizeMode.ResizeToContents)
        self.table.itemActivated.connect(lambda item, _column: self._change(item))
        column.addWidget(self.table, 1)
        row = QHBoxLayout()
        row.addWidget(
            button(tr("Change…"), self._change_current, tip=tr("Choose another key for the selected command"))
        )
        row.addWidget(
            button(tr("All defaults"), self._all_defaults, tip=tr("Every command gets its own key back"), quiet=True)
        )
        row.addStretch(1)
        row.addWidget(button(tr("Close"), self.accept))
        column.addLayout(row)
        self.fill()

    def fill(self) -> None:
        """List everything anew."""
        self.table.clear()
        self._heads.clear()
        heads: dict[str, QTreeWidgetItem] = {}
        for subject, name, words, keys in self.actions_.key_table():
            if subject not in heads:
                heads[subject] = self._head(subject)
            item = QTreeWidgetItem(heads[subject], [translated(words), keys])
            item.setData(0, ID, name)
        mouse = self._head(tr("Mouse"))
        for words, does in MOUSE:
            QTreeWidgetItem(mouse, [translated(words), translated(does)])
        self.table.expandAll()
        self._filter(self.search.text())

    def _head(self, subject: str) -> QTreeWidgetItem:
        item = QTreeWidgetItem(self.table, [translated(subject)])
        font = item.font(0)
        font.setBold(True)
        item.setFont(0, font)
        item.setFlags(Qt.ItemFlag.ItemIsEnabled)
        self._heads.append(item)
        return item

    def _filter(self, text: str) -> None:
        wanted = text.strip().lower()
        for head in self._heads:
            rows = [head.child(n) for n in range(head.childCount())]
            shown = False
            for row in rows:
                if row is not None:
                    found = wanted in f"{row.text(0)} {row.text(1)}".lower()
                    row.setHidden(not found)
                    shown = shown or found
            head.setHidden(not shown)

    def _change_current(self) -> None:
        self._change(self.table.currentItem())

    def _change(self, item: QTreeWidgetItem | None) -> None:
        name = item.data(0, ID) if item is not None else None
        if isinstance(name, str):
            self.asking = KeyDialog(self.actions_, name, self)
            self.asking.accepted.connect(self.fill)
            self.asking.open()

    def _all_defaults(self) -> None:
        self.actions_.use_default_keys()
        self.fill()


class KeyDialog(QDialog):
    """One command and its key; a key that another command has is told before it is taken."""

    def __init__(self, actions: Actions, name: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.actions_, self.name = actions, name
        self.setWindowTitle(tr("Change key"))
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        column = QVBoxLayout(self)
        column.addWidget(label(actions.commands[name].words.replace("\u2026", ""), 15, bold=True))
        self.edit = QKeySequenceEdit(actions.actions[name].shortcut())
        self.edit.setMaximumSequenceLength(1)
        self.edit.setClearButtonEnabled(True)
        self.edit.setAccessibleName(tr("Key"))
        self.edit.keySequenceChanged.connect(self._look)
        column.addWidget(self.edit)
        self.words = label(tr("Press the new key."), 12, token="soft", wrap=True)
        column.addWidget(self.words)
        row = QHBoxLayout()
        row.addWidget(button(tr("Default"), self._default, quiet=True))
        row.addStretch(1)
        row.addWidget(button(tr("Cancel"), self.reject))
        row.addWidget(button(tr("Save"), self.save, main=True))
        column.addLayout(row)

    def _look(self, keys: QKeySequence) -> None:
        other = self.actions_.holder(keys, self.name)
        self.words.setText(
            tr(
                "{keys} belongs to {command}. Saving takes it from there.",
                keys=keys.toString(QKeySequence.SequenceFormat.NativeText),
                command=self.actions_.commands[other].words.replace("\u2026", ""),
            )
            if other
            else tr("Press the new key.")
        )

    def _default(self) -> None:
        keys = self.actions_.commands[self.name].keys
        self.edit.setKeySequence(QKeySequence(keys[0] if keys else ""))

    def save(self) -> None:
        """Give the command its key, and take it from any other."""
        self.actions_.set_key(self.name, self.edit.keySequence())
        self.accept()
