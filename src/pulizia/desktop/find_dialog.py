# SPDX-License-Identifier: GPL-3.0-or-later
"""Find the original: from which raw recording the one on the bench was made."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QFileDialog, QHBoxLayout, QProgressBar, QVBoxLayout, QWidget

from pulizia.audio.source import SpanSource
from pulizia.audio.spans import Span
from pulizia.desktop.controls import button, label
from pulizia.errors import MediaError
from pulizia.measure.same_sound import SameSound, find_same
from pulizia.media.open import OpenMedia, open_media
from pulizia.session.jobs import Job
from pulizia.session.session import Session
from pulizia.session.sources import sound_files
from pulizia.units import format_number, format_time
from pulizia.words import plural, tr


class FindDialog(QDialog):
    """Looks through a folder; the likeliest recordings can be opened at the passage."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.session = session
        self.found: list[tuple[Path, SameSound]] = []
        self.setWindowTitle(tr("Find the original"))
        self.setFixedWidth(520)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        column = QVBoxLayout(self)
        column.addWidget(label(tr("Find the original"), 20, bold=True))
        self.words = label(
            tr(
                "Looks for this sound among raw recordings, whatever was done to its level and tone. With a selection, only that section is looked for."
            ),
            12,
            token="soft",
            wrap=True,
        )
        column.addWidget(self.words)
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setRange(0, 1000)
        self.progress.hide()
        column.addWidget(self.progress)
        self._rows = QVBoxLayout()
        column.addLayout(self._rows)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(button(tr("Close"), self.accept))
        row.addWidget(button(tr("Look in a folder…"), self._ask, main=True))
        column.addLayout(row)
        self._job: Job | None = None
        self._of = ""
        self._span: Span | None = None  # what was looked for: the recording, and the stretch of it
        self.finished.connect(lambda _code: self._stop())

    def _stop(self) -> None:
        if self._job is not None:
            self._job.cancel()

    def _ask(self) -> None:
        recording = self.session.recording
        folder = QFileDialog.getExistingDirectory(
            self, tr("Raw recordings"), str(recording.path.parent if recording else "")
        )
        if folder:
            self.look([Path(folder)])

    def look(self, places: list[Path]) -> None:
        """Look through folders and files in the background."""
        recording, chain = self.session.recording, self.session.chain
        if recording is None or chain is None:
            return
        self._of, self._span = recording.id, self.session.selection.span if self.session.selection else None
        worked = SpanSource(chain.before, self._span.start, self._span.stop) if self._span else chain.before

        def work(job: Job) -> list[tuple[Path, SameSound]]:
            rows = []
            candidates = [p for p in sound_files(places) if p.absolute() != recording.path]
            for n, path in enumerate(candidates):
                job.progress(n / len(candidates))
                try:
                    same = find_same(worked, open_media(path, lambda _p: job.progress(job.share)).source)
                except MediaError:
                    continue  # a file of another kind among the recordings
                if same is not None:
                    rows.append((path, same))
            return sorted(rows, key=lambda row: -row[1].likeness)

        self.progress.show()
        self._job = self.session.pool.submit(
            work, title=tr("Finding the original"), slot="find", on_done=self._show, on_error=self.words.setText,
            on_progress=lambda share: self.progress.setValue(round(1000 * share)),
        )  # fmt: skip
        self.words.setText(tr("Listening to the recordings there…"))

    def _show(self, rows: list[tuple[Path, SameSound]]) -> None:
        self._job = None
        self.found = rows
        self.progress.hide()
        self.words.setText(
            plural("1 recording holds this sound.", "{n} recordings hold this sound.", len(rows))
            if rows
            else tr("This sound is in none of the recordings.")
        )
        while (item := self._rows.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.deleteLater()
        for path, same in rows[:6]:
            row = QWidget()
            line = QHBoxLayout(row)
            line.setContentsMargins(0, 0, 0, 0)
            words = tr(
                "{name}   from {time}, {gain_db} dB",
                name=path.name,
                time=format_time(max(0.0, same.offset_s), 2),
                gain_db=format_number(same.gain_db, plus=True),
            )
            if abs(same.drift_ppm) >= 1:
                words += ", " + tr("drift {drift_ppm} ppm", drift_ppm=format_number(same.drift_ppm, 0, plus=True))
            line.addWidget(label(words, wrap=True), 1)
            line.addWidget(
                button(
                    tr("Open"),
                    partial(self.bring, path, same),
                    tip=tr("Open it on the Bench with the passage selected"),
                )
            )
            where = tr("the selection") if self._span else tr("the whole recording")
            line.addWidget(
                button(
                    tr("Put it back"),
                    partial(self.put_back, path, same),
                    tip=tr("Adds a step that puts this recording in place of {where}, at the same level", where=where),
                )
            )
            self._rows.addWidget(row)

    def put_back(self, path: Path, same: SameSound) -> None:
        """Take the raw recording into the project, and put it back where it was looked for."""
        self.session.job(
            lambda job: open_media(path, job.progress), tr("Opening {name}", name=path.name),
            lambda media: self.session.repairs.put_back(self._of, media, same, self._span),
        )  # fmt: skip
        self.accept()

    def bring(self, path: Path, same: SameSound) -> None:
        """Put a recording that was found on the bench, with the passage marked."""
        recording, selection = self.session.recording, self.session.selection
        seconds = (selection.span.frames if selection else recording.frames) / recording.rate if recording else 0.0

        def opened(media: OpenMedia) -> None:
            self.session.choose_recording(self.session.document.add_media(media))
            rate = media.source.rate
            self.session.select(round(max(0.0, same.offset_s) * rate), round((same.offset_s + seconds) * rate))

        self.session.job(lambda job: open_media(path, job.progress), tr("Opening {name}", name=path.name), opened)
        self.accept()
