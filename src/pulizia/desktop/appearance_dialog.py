# SPDX-License-Identifier: GPL-3.0-or-later
"""Colours and size of everything in the window."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QHBoxLayout, QVBoxLayout, QWidget

from pulizia.desktop.controls import ChoiceBox, button, label
from pulizia.desktop.preferences import Preferences
from pulizia.desktop.theme import TITLES, theme, use_theme
from pulizia.words import tr, translated

SIZES = (100, 110, 125, 150, 175, 200)  # percent


class AppearanceDialog(QDialog):
    """The theme changes at once, the size at the next start."""

    def __init__(self, preferences: Preferences, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("Appearance"))
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setFixedWidth(380)
        self._preferences = preferences
        column = QVBoxLayout(self)
        column.setSpacing(8)
        column.addWidget(label(tr("Appearance"), 20, bold=True))
        column.addWidget(label(tr("Colours"), 12, token="soft"))
        self.theme = ChoiceBox()
        self.theme.setAccessibleName(tr("Colours"))
        for name, title in TITLES.items():
            self.theme.addItem(translated(title), name)
        self.theme.setCurrentIndex(self.theme.findData(theme().name))
        self.theme.activated.connect(lambda _n: self._use())
        column.addWidget(self.theme)
        column.addWidget(label(tr("Size of text and controls"), 12, token="soft"))
        self.percent = ChoiceBox()
        self.percent.setAccessibleName(tr("Size of text and controls"))
        for percent in SIZES:
            self.percent.addItem(f"{percent} %", percent)
        self.percent.setCurrentIndex(max(0, self.percent.findData(size_of(preferences))))
        self.percent.activated.connect(lambda _n: preferences.set("scale", [self.percent.currentData()]))
        column.addWidget(self.percent)
        column.addWidget(label(tr("The size changes when Pulizia is started again."), 12, token="soft", wrap=True))
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(button(tr("Close"), self.accept, main=True))
        column.addLayout(row)

    def _use(self) -> None:
        use_theme(self.theme.currentData())
        self._preferences.set("theme", self.theme.currentData())


def size_of(preferences: Preferences) -> int:
    """The size that was chosen, in percent."""
    chosen = preferences.numbers("scale")
    return chosen[0] if len(chosen) == 1 and chosen[0] in SIZES else 100
