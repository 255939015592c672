# SPDX-License-Identifier: GPL-3.0-or-later
"""All figures of the selection, or of everything, in one table that can be copied."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QDialog, QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from pulizia.audio.source import SpanSource
from pulizia.audio.spans import Span
from pulizia.desktop.controls import button, hairline, label, scrolled
from pulizia.measure.figures import Row, as_text, passage_figures
from pulizia.measure.harm import harm
from pulizia.score.chain import Chain
from pulizia.session.jobs import SOON, Job
from pulizia.session.session import Session
from pulizia.units import format_time
from pulizia.words import tr, translated


def harm_rows(chain: Chain, start: int, stop: int) -> list[Row]:
    """What the whole score takes from the voice in a stretch."""
    found = harm(chain.before, chain.after, (Span(start, stop),), room=chain.takes_room)
    if found is None:
        return [Row(tr("Harm to the voice"), None, "dB", note=tr("no speech here"))]
    names = ("low", "middle", "high")
    parts = [
        Row(tr("Harm, {name}", name=name), level, "dB") for name, level in zip(names, found.regions_db, strict=True)
    ]
    return [
        Row(
            tr("Harm to the voice"), found.level_db, "dB", note=tr("what the steps take from the voice, relative to it")
        ),
        *parts,
        Row(tr("Voice lowered by more than 3 dB"), found.touched_percent, "%"),
    ]


class FiguresDialog(QDialog):
    """Measured when it opens; says of what."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.session = session
        self.rows: list[Row] = []
        self.setWindowTitle(tr("Measurements"))
        self.resize(460, 560)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        column = QVBoxLayout(self)
        column.addWidget(label(tr("Measurements"), 20, bold=True))
        self._of = label("", 12, token="soft", wrap=True)
        column.addWidget(self._of)
        self._inner = QWidget()
        self._grid = QGridLayout(self._inner)
        self._grid.setColumnStretch(0, 1)
        self._grid.setVerticalSpacing(3)
        column.addWidget(scrolled(self._inner), 1)
        row = QHBoxLayout()
        self.copy_button = button(tr("Copy"), self.copy, tip=tr("Copy the table, tabs between columns"))
        row.addWidget(self.copy_button)
        row.addStretch(1)
        row.addWidget(button(tr("Close"), self.accept))
        column.addLayout(row)
        self.copy_button.setEnabled(False)
        self._measure()

    def _measure(self) -> None:
        source, subject = self.session.heard_source, self.session.subject
        if source is None or subject is None:
            return
        marked = self.session.marked
        start, stop = (marked.start, marked.stop) if marked is not None else (0, source.frames)
        whole = tr("the whole recording") if subject.recording is not None else tr("the whole programme")
        what = tr("the selection") if marked is not None else whole
        times = f"{format_time(start / source.rate, 3)}\u2013{format_time(stop / source.rate, 3)}"
        self._title = f"{subject.name}, {what}, {times}, {translated(self.session.listening.value)}"
        self._of.setText(tr("{what}: measuring…", what=self._title))
        names = subject.names
        passage = SpanSource(source, start, stop)
        chain = subject.chain
        scored = chain if chain.stages else None

        def work(job: Job) -> list[Row]:
            rows = passage_figures(passage, names, job.progress)
            return rows + (harm_rows(scored, start, stop) if scored is not None else [])

        job = self.session.pool.submit(
            work, title=tr("Measuring the selection"),
            priority=SOON, slot="figures", on_done=self._show, on_error=self._of.setText,
        )  # fmt: skip
        self.finished.connect(lambda _code: job.cancel())  # an answer to a closed dialog is dropped

    def _show(self, rows: list[Row]) -> None:
        self.rows = rows
        self._of.setText(translated(self._title))
        self.copy_button.setEnabled(True)
        for n, row in enumerate(rows):
            name = label(row.name)
            name.setToolTip(translated(row.note))
            self._grid.addWidget(name, 2 * n, 0)
            self._grid.addWidget(label(row.text, 13, bold=True), 2 * n, 1, Qt.AlignmentFlag.AlignRight)
            self._grid.addWidget(label(row.unit, 12, token="soft"), 2 * n, 2)
            self._grid.addWidget(hairline(), 2 * n + 1, 0, 1, 3)
        self._grid.setRowStretch(2 * len(rows), 1)

    def copy(self) -> None:
        """Put the table on the clipboard."""
        QGuiApplication.clipboard().setText(translated(self._title + "\n" + as_text(self.rows)))
        self.session.say(tr("The measurements were copied."))
