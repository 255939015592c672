# SPDX-License-Identifier: GPL-3.0-or-later
"""A short tour over the demo recordings, shown at the first start and whenever it is asked for."""

from __future__ import annotations

from PySide6.QtWidgets import QFrame, QHBoxLayout, QVBoxLayout, QWidget

from pulizia.desktop.controls import button, label
from pulizia.session.studio import Studio
from pulizia.words import N_, tr, translated

STEPS = (
    (N_("Listen"), N_("Space plays. The first recording has fan noise that gets louder half way through. In the sonogram, dark is loud and light is silent.")),
    (N_("Remove the fan noise"), N_("Drag over the quiet second before the first word and press N. A Noise step appears below the waveform.")),
    (N_("Compare"), N_("B switches between Before and After, 3 plays what is removed. Change Reduction while it plays and watch Harm to the voice.")),
    (N_("Find problems"), "Ctrl+I inspects the recording. Each row at the left is a problem: click it to hear its places; Treat adds the step that repairs it."),
    (N_("Undo a repair locally"), N_("Select a few words and press G to restore the original there. Every step stays adjustable, every edit can be undone.")),
    (N_("Deliver"), N_("F4 shows the programme against its target. Ctrl+D writes the file and verifies it. F1 opens the manual.")),
)  # fmt: skip
WIDTH = 430


class Tour(QFrame):
    """A card over the Bench with one step at a time."""

    def __init__(self, studio: Studio, parent: QWidget) -> None:
        super().__init__(parent)
        self.studio, self._over = studio, parent
        self.index = 0
        self.setObjectName("tour")
        self.setFixedWidth(WIDTH)
        self.setAccessibleName(tr("Tour"))
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 12, 16, 12)
        self.head = label("", 15, bold=True)
        self.words = label("", 13, wrap=True)
        column.addWidget(self.head)
        column.addWidget(self.words)
        row = QHBoxLayout()
        row.addWidget(button(tr("Dismiss"), self.hide, tip=tr("Close the tour; it stays in the Help menu"), quiet=True))
        row.addStretch(1)
        self.back = button(tr("Back"), lambda: self.go(-1), tip=tr("The step before"), quiet=True)
        self.next = button(tr("Next"), lambda: self.go(1), tip=tr("The next step"))
        row.addWidget(self.back)
        row.addWidget(self.next)
        column.addLayout(row)
        self.hide()

    def begin(self) -> None:
        """Show the first step."""
        self.index = 0
        self.go(0)
        self.show()
        self.raise_()

    def go(self, by: int) -> None:
        """Another step; after the last the tour ends."""
        if self.index + by >= len(STEPS):
            self.hide()
            return
        self.index = max(0, self.index + by)
        title, words = STEPS[self.index]
        self.head.setText(
            tr("{index} of {count}   {title}", index=self.index + 1, count=len(STEPS), title=translated(title))
        )
        self.words.setText(translated(words))
        self.back.setVisible(self.index > 0)
        self.next.setText(tr("Done") if self.index == len(STEPS) - 1 else tr("Next"))
        self.adjustSize()
        self.place()

    def place(self) -> None:
        """Over the middle, clear of the score."""
        over = self._over
        self.move((over.width() - self.width()) // 2, round(0.36 * over.height()))
