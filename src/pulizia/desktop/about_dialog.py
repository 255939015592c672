# SPDX-License-Identifier: GPL-3.0-or-later
"""Version, licence, third-party notices, and details for reports of faults."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QDialog, QHBoxLayout, QPlainTextEdit, QStackedWidget, QVBoxLayout, QWidget

from pulizia import __version__
from pulizia.desktop.controls import SegmentSwitch, button, label
from pulizia.report.notices import COPYRIGHT, LICENCE, NO_WARRANTY, details, licence_text, notices
from pulizia.words import N_, tr, translated

PAGES = (N_("About"), N_("Licence"), N_("Third-party notices"))


class AboutDialog(QDialog):
    """Three pages of text."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("About Pulizia"))
        self.resize(620, 520)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        column = QVBoxLayout(self)
        column.addWidget(label("Pulizia", 20, bold=True))
        column.addWidget(
            label(tr("Version {version}. Repair, measure and deliver voice recordings.", version=__version__))
        )
        self.switch = SegmentSwitch(PAGES, PAGES, "Page")
        column.addWidget(self.switch)
        self.pages = QStackedWidget()
        first = f"{COPYRIGHT}\n{LICENCE}\n\n{translated(NO_WARRANTY)}\n\n{details()}"
        for name, text in zip(PAGES, (first, licence_text(), notices()), strict=True):
            page = QPlainTextEdit(text)
            page.setReadOnly(True)
            page.setAccessibleName(translated(name))
            self.pages.addWidget(page)
        self.switch.chosen.connect(self.pages.setCurrentIndex)
        column.addWidget(self.pages, 1)
        row = QHBoxLayout()
        row.addWidget(
            button(tr("Copy details"), self.copy, tip=tr("Copy version and system details for a fault report"))
        )
        row.addStretch(1)
        row.addWidget(button(tr("Close"), self.accept))
        column.addLayout(row)

    def copy(self) -> None:
        """Copy what a report of a fault should say."""
        QApplication.clipboard().setText(details())
