"""What was found in the recording: a list in sentences, places to visit, and steps that treat it."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QHBoxLayout, QProgressBar, QVBoxLayout, QWidget

from pulizia.audio.source import Source
from pulizia.desktop.controls import button, hairline, label, scrolled
from pulizia.inspection.inspect import Finding, inspect
from pulizia.session.jobs import SOON, Job
from pulizia.session.studio import Studio
from pulizia.units import format_time

MOST_PLACES = 6
LEAD_S = 0.5


class InspectionDialog(QDialog):
    """Listens when it opens; stays open beside the Bench."""

    def __init__(self, studio: Studio, parent: QWidget) -> None:
        super().__init__(parent)
        self.studio = studio
        self.findings: list[Finding] = []
        self._recording_id = studio.current_id
        self.setWindowTitle("Inspect")
        self.resize(540, 560)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        column = QVBoxLayout(self)
        column.addWidget(label("Inspect", 20, bold=True))
        self.words = label("", 12, token="soft", wrap=True)
        column.addWidget(self.words)
        self.progress = QProgressBar()
        self.progress.setRange(0, 1000)
        self.progress.setTextVisible(False)
        column.addWidget(self.progress)
        self._inner = QWidget()
        self._rows = QVBoxLayout(self._inner)
        self._rows.setSpacing(4)
        column.addWidget(scrolled(self._inner), 1)
        row = QHBoxLayout()
        self.all_button = button("Treat all", self.treat_all, tip="Add a step for each trouble that a step can mend")
        self.all_button.setEnabled(False)
        row.addWidget(self.all_button)
        row.addWidget(button("Listen again", self.look, tip="Inspect the sound as it is heard now"))
        row.addStretch(1)
        row.addWidget(button("Close", self.accept))
        column.addLayout(row)
        self.job: Job | None = None
        self.finished.connect(lambda _code: self._stop())
        self.look()

    def _stop(self) -> None:
        if self.job is not None:
            self.job.cancel()

    def look(self) -> None:
        """Go through what is heard now, Before or After."""
        source, recording = self.studio.heard_source, self.studio.recording
        if source is None or recording is None:
            return
        self._recording_id = recording.id
        which = self.studio.listening.value.lower()
        self._title = f"{recording.name}, {which}"
        self.words.setText(f"{self._title}: listening\u2026")
        self.progress.setVisible(True)
        names = self.studio.document.media[recording.id].channel_names

        def told(share: float, what: str) -> None:
            self.words.setText(f"{self._title}: {what}\u2026")
            self.progress.setValue(round(1000 * share))

        def work(job: Job) -> list[Finding]:
            return _found(source, names, job, lambda share, what: self.studio.post(lambda: told(share, what) if not job.is_cancelled else None))

        self.job = self.studio.pool.submit(
            work, title="Inspecting", priority=SOON, slot="inspect", on_done=self._show, on_error=self.words.setText
        )

    def _show(self, found: list[Finding]) -> None:
        self.job = None
        self.findings = found
        self.progress.setVisible(False)
        self.words.setText(f"{self._title}: {len(found)} kinds of trouble were found." if found else f"{self._title}: nothing was found.")
        while (item := self._rows.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.deleteLater()
        for finding in found:
            self._rows.addWidget(self._row(finding))
            self._rows.addWidget(hairline())
        self._rows.addStretch(1)
        self.all_button.setEnabled(any(f.tool_id for f in found))

    def _row(self, finding: Finding) -> QWidget:
        row = QWidget()
        column = QVBoxLayout(row)
        column.setContentsMargins(0, 2, 0, 2)
        column.setSpacing(1)
        head = QHBoxLayout()
        head.addWidget(label(finding.kind.capitalize(), 13, bold=True))
        sure = "certain" if finding.certainty >= 0.9 else "likely" if finding.certainty >= 0.7 else "perhaps"
        head.addWidget(label(sure, 12, token="soft"))
        head.addStretch(1)
        if finding.tool_id:
            head.addWidget(button("Treat", lambda: self.treat(finding), tip="Add the step with fitting settings"))
        column.addLayout(head)
        column.addWidget(label(finding.sentence, 13, wrap=True))
        if finding.marks:
            places = QHBoxLayout()
            places.setSpacing(2)
            rate = self.studio.recording.rate if self.studio.recording else 48_000
            for mark in finding.marks[:MOST_PLACES]:
                at = mark.start
                places.addWidget(button(format_time(at / rate, 2), lambda at=at: self.visit(at), tip="Go there and play", quiet=True))  # type: ignore[misc]
            if len(finding.marks) > MOST_PLACES:
                places.addWidget(label(f"and {len(finding.marks) - MOST_PLACES} more", 12, token="soft"))
            places.addStretch(1)
            column.addLayout(places)
        return row

    def visit(self, frame: int) -> None:
        """Go to a place and play it."""
        recording = self.studio.recording
        if recording is None or recording.id != self._recording_id:
            return
        self.studio.transport.stop()
        start = max(0, frame - round(LEAD_S * recording.rate))
        self.studio.seek(start)
        self.studio.transport.play(start, min(recording.frames, start + round(4 * LEAD_S * recording.rate)))
        self.studio.emit("playing")

    def treat(self, finding: Finding) -> None:
        """Add the step that mends this, where it belongs in the score."""
        if finding.tool_id and self._recording_id is not None:
            step = self.studio.document.add_step(self._recording_id, finding.tool_id, finding.settings)
            self.studio.choose_step(step.id)

    def treat_all(self) -> None:
        """Add a step for each trouble."""
        for finding in self.findings:
            self.treat(finding)
        self.all_button.setEnabled(False)


def _found(source: Source, names: tuple[str, ...], job: Job, told: Callable[[float, str], None]) -> list[Finding]:
    def progress(share: float, what: str) -> None:
        job.progress(share)
        told(share, what)

    return inspect(source, names, progress)
