# SPDX-License-Identifier: GPL-3.0-or-later
"""The language of the window."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QHBoxLayout, QVBoxLayout, QWidget

from pulizia.desktop.controls import ChoiceBox, button, label
from pulizia.desktop.language import NAMES, own_languages
from pulizia.desktop.preferences import Preferences
from pulizia.words import tr

SYSTEM = "system"


class LanguageDialog(QDialog):
    """The system's language, or one of those that there are."""

    def __init__(self, preferences: Preferences, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("Language"))
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setFixedWidth(360)
        self._preferences = preferences
        column = QVBoxLayout(self)
        column.setSpacing(8)
        column.addWidget(label(tr("Language"), 20, bold=True))
        self.box = ChoiceBox()
        self.box.setAccessibleName(tr("Language"))
        self.box.addItem(tr("Language of the system"), SYSTEM)
        for name, title in (NAMES | {n: n for n in own_languages()}).items():
            self.box.addItem(title, name)
        self.box.setCurrentIndex(max(0, self.box.findData(preferences.text("language", SYSTEM))))
        column.addWidget(self.box)
        words = tr("Words, dates and figures change when Pulizia is started again.")
        column.addWidget(label(words, 12, token="soft", wrap=True))
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(button(tr("Cancel"), self.reject))
        row.addWidget(button(tr("Save"), self.save, main=True))
        column.addLayout(row)

    def save(self) -> None:
        """Keep the choice for the next start."""
        self._preferences.set("language", self.box.currentData())
        self.accept()
