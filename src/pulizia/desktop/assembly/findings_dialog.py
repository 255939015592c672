# SPDX-License-Identifier: GPL-3.0-or-later
"""What is wrong with the programme as it sounds now, with a way to each place."""

from __future__ import annotations

from functools import partial

from PySide6.QtWidgets import QDialog, QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from pulizia.desktop.controls import button, hairline, label, scrolled
from pulizia.inspection.inspect import inspect
from pulizia.session.jobs import SOON, Job
from pulizia.session.session import Session
from pulizia.tools.finding import Finding
from pulizia.units import format_time
from pulizia.words import tr, translated


class ProgrammeFindings(QDialog):
    """Listens through the programme, then lists what was found, gravest first."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.session = session
        self.found: list[Finding] = []
        self.setWindowTitle(tr("Inspect"))
        self.resize(620, 400)
        column = QVBoxLayout(self)
        column.addWidget(label(tr("Inspect"), 20, bold=True))
        self.words = label(tr("Listening…"), 12, token="soft", wrap=True)
        column.addWidget(self.words)
        inner = QWidget()
        self._grid = QGridLayout(inner)
        column.addWidget(scrolled(inner), 1)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(button(tr("Close"), self.accept))
        column.addLayout(row)
        sound = session.assembly.sound
        if sound is None:
            self.words.setText(tr("The programme holds no clips. Add recordings to it first."))
            return

        def work(job: Job) -> list[Finding]:
            sound.prepare(lambda share: job.progress(0.2 * share))
            return inspect(sound.after, lambda share, _what: job.progress(0.2 + 0.8 * share))

        job = session.pool.submit(
            work, title=tr("Inspecting"), priority=SOON, slot="inspect:programme", on_done=self._show,
            on_error=self.words.setText,
            on_progress=lambda share: session.post(lambda: self._told(share)),
        )  # fmt: skip
        self.finished.connect(lambda _code: job.cancel())

    def _told(self, share: float) -> None:
        if not self.found and self.isVisible():
            self.words.setText(tr("Listening… {share:.0f} %", share=100 * share))

    def _show(self, found: list[Finding]) -> None:
        self.found = sorted(found, key=lambda f: -f.severity)
        rate = self.session.assembly.programme.rate if self.session.assembly.programme is not None else 48_000
        self.words.setText(
            tr("A repair of one recording is best made on the Bench, one of a microphone on its lane.")
            if found
            else tr("Nothing was found.")
        )
        for n, finding in enumerate(self.found):
            self._grid.addWidget(label(translated(finding.sentence), 13, wrap=True), 2 * n, 0)
            if finding.marks:
                at = finding.marks[0].start
                words = tr("Go to {at}", at=format_time(at / rate, 1))
                self._grid.addWidget(button(words, partial(self.session.seek, at), quiet=True), 2 * n, 1)
            if finding.tool_id:
                words = tr("Add to the lane's steps")
                self._grid.addWidget(button(words, partial(self._treat, finding), quiet=True), 2 * n, 2)
            self._grid.addWidget(hairline(), 2 * n + 1, 0, 1, 3)
        self._grid.setColumnStretch(0, 1)
        self._grid.setRowStretch(2 * len(self.found), 1)

    def _treat(self, finding: Finding) -> None:
        lane = self.session.assembly.lane
        if lane is not None:
            self.session.assembly.choose_lane(lane.id)
            step = self.session.document.add_step(lane.id, finding.tool_id, finding.settings)
            self.session.choose_step(step.id)
