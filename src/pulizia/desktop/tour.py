# SPDX-License-Identifier: GPL-3.0-or-later
"""A short tour over the demo recordings, shown at the first start and whenever it is asked for."""

from __future__ import annotations

from PySide6.QtWidgets import QFrame, QHBoxLayout, QVBoxLayout, QWidget

from pulizia.desktop.controls import button, label
from pulizia.desktop.words import translated
from pulizia.session.studio import Studio

STEPS = (
    ("Listen", "Space plays. The first recording has fan noise that gets louder half way through. In the sonogram, dark is loud and light is silent."),
    ("Remove the fan noise", "Drag over the quiet second before the first word and press N. A Noise step appears below the waveform."),
    ("Compare", "B switches between Before and After, 3 plays what is removed. Change Reduction while it plays and watch Harm to the voice."),
    ("Find problems", "Ctrl+I inspects the recording. Each row at the left is a problem: click it to hear its places; Treat adds the step that repairs it."),
    ("Undo a repair locally", "Select a few words and press G to restore the original there. Every step stays adjustable, every edit can be undone."),
    ("Deliver", "F4 shows the programme against its target. Ctrl+D writes the file and verifies it. F1 opens the manual."),
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
        self.setAccessibleName(translated("Tour"))
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 12, 16, 12)
        self.head = label("", 15, bold=True)
        self.words = label("", 13, wrap=True)
        column.addWidget(self.head)
        column.addWidget(self.words)
        row = QHBoxLayout()
        row.addWidget(button("Dismiss", self.hide, tip="Close the tour; it stays in the Help menu", quiet=True))
        row.addStretch(1)
        self.back = button("Back", lambda: self.go(-1), tip="The step before", quiet=True)
        self.next = button("Next", lambda: self.go(1), tip="The next step")
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
        self.head.setText(translated(f"{self.index + 1} of {len(STEPS)}   {title}"))
        self.words.setText(translated(words))
        self.back.setVisible(self.index > 0)
        self.next.setText(translated("Done" if self.index == len(STEPS) - 1 else "Next"))
        self.adjustSize()
        self.place()

    def place(self) -> None:
        """Over the middle, clear of the score."""
        over = self._over
        self.move((over.width() - self.width()) // 2, round(0.36 * over.height()))
