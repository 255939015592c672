# SPDX-License-Identifier: GPL-3.0-or-later
"""What dialogs that ask for a few values share: rows of a name and a field, and the answers under them."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QDialog, QDialogButtonBox, QGridLayout, QInputDialog, QWidget

from pulizia.desktop.controls import label
from pulizia.units import format_number
from pulizia.words import tr

Answer = QDialogButtonBox.StandardButton


def answers(dialog: QDialog, yes: Answer = Answer.Ok) -> QDialogButtonBox:
    """The answers of a dialog: ``yes`` accepts it, Cancel rejects it."""
    buttons = QDialogButtonBox(yes | Answer.Cancel)
    buttons.accepted.connect(dialog.accept)
    buttons.rejected.connect(dialog.reject)
    return buttons


def lay_out_form(dialog: QDialog, rows: Sequence[tuple[str, QWidget]]) -> None:
    """Lay the fields out under one another, each named by the words beside it, and the answers under them."""
    grid = QGridLayout(dialog)
    for row, (words, field) in enumerate(rows):
        is_tall = bool(field.sizePolicy().expandingDirections() & Qt.Orientation.Vertical)
        side = Qt.AlignmentFlag.AlignTop if is_tall else Qt.AlignmentFlag.AlignVCenter
        grid.addWidget(label(words), row, 0, side)
        grid.addWidget(field, row, 1)
        field.setAccessibleName(words)
        if isinstance(field, QComboBox):
            field.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
    grid.addWidget(answers(dialog), len(rows), 0, 1, 2)


def ask_number(
    parent: QWidget, title: str, words: str, value: float, low: float, high: float, decimals: int
) -> float | None:
    """Ask for a number; None where there is no answer. The range is told: beyond it nothing can be answered."""
    told = tr(
        "{words} ({low} to {high})", words=words, low=format_number(low, decimals), high=format_number(high, decimals)
    )
    value, good = QInputDialog.getDouble(parent, title, told, value, low, high, decimals)
    return value if good else None
