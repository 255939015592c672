# SPDX-License-Identifier: GPL-3.0-or-later
"""Files that are there already: replace them, keep both, or choose another place; asked where they are written."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QMessageBox, QWidget

from pulizia.words import plural, tr

REPLACE, KEEP_BOTH, CHOOSE = "replace", "keep both", "choose"
MOST_NAMED = 4


def ask_existing(parent: QWidget, there: Sequence[Path]) -> str | None:
    """REPLACE, KEEP_BOTH or CHOOSE; None when nothing is to be written."""
    box = QMessageBox(parent)
    box.setTextFormat(Qt.TextFormat.PlainText)
    box.setWindowTitle(tr("Files are there already"))
    box.setText(plural("1 file is there already.", "{n} files are there already.", len(there)))
    named = [path.name for path in there[:MOST_NAMED]] + (["\u2026"] if len(there) > MOST_NAMED else [])
    box.setInformativeText("\n".join(named))
    role = QMessageBox.ButtonRole
    rows = (
        (tr("Replace"), role.DestructiveRole, REPLACE), (tr("Keep both"), role.AcceptRole, KEEP_BOTH),
        (tr("Choose another folder…"), role.ActionRole, CHOOSE), (tr("Cancel"), role.RejectRole, None),
    )  # fmt: skip
    made = {answer: box.addButton(words, of) for words, of, answer in rows}
    box.setDefaultButton(made[KEEP_BOTH])
    box.exec()
    return next((answer for answer, pressed in made.items() if pressed is box.clickedButton()), None)
