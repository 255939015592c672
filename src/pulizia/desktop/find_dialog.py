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
from pulizia.desktop.words import translated
from pulizia.errors import MediaError
from pulizia.measure.same_sound import SameSound, find_same
from pulizia.media.open import OpenMedia, open_media
from pulizia.session.jobs import Job
from pulizia.session.sources import sound_files
from pulizia.session.studio import Studio
from pulizia.units import format_number, format_time


class FindDialog(QDialog):
    """Looks through a folder; the likeliest recordings can be opened at the passage."""

    def __init__(self, studio: Studio, parent: QWidget) -> None:
        super().__init__(parent)
        self.studio = studio
        self.found: list[tuple[Path, SameSound]] = []
        self.setWindowTitle(translated("Find the original"))
        self.setFixedWidth(520)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        column = QVBoxLayout(self)
        column.addWidget(label("Find the original", 20, bold=True))
        self.words = label(
            "Looks for this sound among raw recordings, whatever was done to its level and tone. With a selection, only that section is looked for.",
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
        row.addWidget(button("Close", self.accept))
        row.addWidget(button("Look in a folder\u2026", self._ask, main=True))
        column.addLayout(row)
        self._job: Job | None = None
        self._of = ""
        self._span: Span | None = None  # what was looked for: the recording, and the stretch of it
        self.finished.connect(lambda _code: self._stop())

    def _stop(self) -> None:
        if self._job is not None:
            self._job.cancel()

    def _ask(self) -> None:
        recording = self.studio.recording
        folder = QFileDialog.getExistingDirectory(
            self, translated("Raw recordings"), str(recording.path.parent if recording else "")
        )
        if folder:
            self.look([Path(folder)])

    def look(self, places: list[Path]) -> None:
        """Look through folders and files in the background."""
        recording, chain = self.studio.recording, self.studio.chain
        if recording is None or chain is None:
            return
        self._of, self._span = recording.id, self.studio.selection.span if self.studio.selection else None
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
        self._job = self.studio.pool.submit(
            work, title="Finding the original", slot="find", on_done=self._show, on_error=self.words.setText,
            on_progress=lambda share: self.progress.setValue(round(1000 * share)),
        )  # fmt: skip
        self.words.setText(translated("Listening to the recordings there\u2026"))

    def _show(self, rows: list[tuple[Path, SameSound]]) -> None:
        self._job = None
        self.found = rows
        self.progress.hide()
        self.words.setText(
            translated(
                f"{len(rows)} recordings hold this sound." if rows else "This sound is in none of the recordings."
            )
        )
        while (item := self._rows.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.deleteLater()
        for path, same in rows[:6]:
            drift = f", drift {format_number(same.drift_ppm, 0, plus=True)} ppm" if abs(same.drift_ppm) >= 1 else ""
            row = QWidget()
            line = QHBoxLayout(row)
            line.setContentsMargins(0, 0, 0, 0)
            words = f"{path.name}   from {format_time(max(0.0, same.offset_s), 2)}, {format_number(same.gain_db, plus=True)} dB{drift}"
            line.addWidget(label(words, wrap=True), 1)
            line.addWidget(
                button("Open", partial(self.bring, path, same), tip="Open it on the Bench with the passage selected")
            )
            where = "the selection" if self._span else "the whole recording"
            line.addWidget(
                button(
                    "Put it back",
                    partial(self.put_back, path, same),
                    tip=f"Adds a step that puts this recording in place of {where}, at the same level",
                )
            )
            self._rows.addWidget(row)

    def put_back(self, path: Path, same: SameSound) -> None:
        """Take the raw recording into the project, and put it back where it was looked for."""
        self.studio.job(
            lambda job: open_media(path, job.progress), f"Opening {path.name}",
            lambda media: self.studio.repairs.put_back(self._of, media, same, self._span),
        )  # fmt: skip
        self.accept()

    def bring(self, path: Path, same: SameSound) -> None:
        """Put a recording that was found on the bench, with the passage marked."""
        recording, selection = self.studio.recording, self.studio.selection
        seconds = (selection.span.frames if selection else recording.frames) / recording.rate if recording else 0.0

        def opened(media: OpenMedia) -> None:
            self.studio.choose_recording(self.studio.document.add_media(media))
            rate = media.source.rate
            self.studio.select(round(max(0.0, same.offset_s) * rate), round((same.offset_s + seconds) * rate))

        self.studio.job(lambda job: open_media(path, job.progress), f"Opening {path.name}", opened)
        self.accept()
