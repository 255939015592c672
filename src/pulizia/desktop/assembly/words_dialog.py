# SPDX-License-Identifier: GPL-3.0-or-later
"""Other takes of the selected words: each is heard in its place before one is laid there."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from pulizia.desktop.controls import button, hairline, label, scrolled
from pulizia.session.session import Session
from pulizia.session.words_service import OtherTakes
from pulizia.units import format_number, format_time
from pulizia.words import tr

SURE, MOST_ROWS = 0.5, 60


def _length(longer: float) -> str:
    share = format_number(100 * abs(longer), 0)
    if share == "0":
        return tr("as long")
    return tr("{share} % longer", share=share) if longer > 0 else tr("{share} % shorter", share=share)


class WordsDialog(QDialog):
    """A row for each take: from where, how alike, how much longer or shorter it is."""

    def __init__(self, session: Session, found: OtherTakes, parent: QWidget) -> None:
        super().__init__(parent)
        self.session, self.found = session, found
        self.setProperty("manual", "assembly#" + tr("Words from another take"))
        self.setWindowTitle(tr("Words from another take"))
        self.resize(600, 380)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        column = QVBoxLayout(self)
        column.addWidget(label(tr("Words from another take"), 20, bold=True))
        words = tr("Each take is fitted to the length of what is there, moment by moment, and to its level.")
        column.addWidget(label(words, 12, token="soft", wrap=True))
        inner = QWidget()
        grid = QGridLayout(inner)
        grid.setContentsMargins(0, 4, 8, 0)
        grid.setHorizontalSpacing(14)
        for n, take in enumerate(found.takes[:MOST_ROWS]):
            at = format_time(take.start_s, 1)
            grid.addWidget(label(tr("{name} at {at}", name=take.taken.name, at=at)), 2 * n, 0)
            alike = tr("very alike") if take.likeness >= SURE else tr("alike")
            longer = _length(take.longer)
            grid.addWidget(label(alike, 12, token="soft"), 2 * n, 1)
            grid.addWidget(label(longer, 12, token="soft"), 2 * n, 2)
            for place, (text, deed, tip) in enumerate((
                (tr("Hear"), self.hear, tr("Hear the take of {name} at {at} in its place", name=take.taken.name, at=at)),
                (tr("Use"), self.use, tr("Lay the take of {name} at {at} in its place", name=take.taken.name, at=at)),
            )):  # fmt: skip
                made = button(text, partial(deed, n), tip=tip)
                made.setAccessibleName(tip)
                grid.addWidget(made, 2 * n, 3 + place)
            grid.addWidget(hairline(), 2 * n + 1, 0, 1, 5)
        grid.setColumnStretch(0, 1)
        grid.setRowStretch(2 * len(found.takes), 1)
        column.addWidget(scrolled(inner), 1)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(button(tr("Close"), self.reject))
        column.addLayout(row)
        self.finished.connect(lambda _code: session.words.end_hearing())

    def hear(self, number: int) -> None:
        """Hear a take in its place."""
        self.session.words.hear(self.found, number)

    def use(self, number: int) -> None:
        """Lay a take in its place."""
        self.accept()
        self.session.words.put(self.found, number)
