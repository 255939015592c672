# SPDX-License-Identifier: GPL-3.0-or-later
"""What one asks of a measured programme: its loudest moments, other readings, all programmes side by side, a log."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QWidget

from pulizia.audio.spans import Span
from pulizia.delivery.normalise import State, verdicts
from pulizia.desktop.controls import button
from pulizia.desktop.flow import FlowLayout
from pulizia.desktop.folders import proposed_folder
from pulizia.desktop.table_dialog import TableDialog
from pulizia.errors import PuliziaError
from pulizia.measure.loudness import Measures
from pulizia.measure.readings import LOUDEST_S, Reading, loudest, readings
from pulizia.media.names import safe_name
from pulizia.media.write import write_text
from pulizia.report.measurement_log import FIGURES, measurement_csv
from pulizia.session.jobs import Job
from pulizia.session.session import Session
from pulizia.session.subject import Subject
from pulizia.units import format_number, format_time, seconds_to_frames
from pulizia.words import tr, translated

_SHORT = {"Highest momentary": "M max", "Highest short-term": "S max"}


class MeasuringRow(QWidget):
    """The buttons under the loudness graph."""

    def __init__(self, session: Session, window: QWidget) -> None:
        super().__init__()
        self.session, self._window = session, window
        row = FlowLayout(gap=4)
        row.setContentsMargins(36, 0, 36, 0)
        self.setLayout(row)
        for seconds in LOUDEST_S:
            row.addWidget(
                button(
                    tr("Loudest {seconds:.0f} s", seconds=seconds),
                    partial(self.go_to_loudest, seconds),
                    tip=tr("Select the loudest {seconds:.0f} seconds and go there", seconds=seconds),
                    quiet=True,
                )
            )
        row.addWidget(
            button(
                tr("Other readings…"),
                self.show_readings,
                tip=tr("The same programme measured in other ways, and why the figures differ"),
                quiet=True,
            )
        )
        row.addWidget(
            button(tr("Compare…"), self.show_all, tip=tr("The figures of all programmes in one table"), quiet=True)
        )
        row.addWidget(
            button(
                tr("Save log…"),
                self._ask_log,
                tip=tr("Save the measurement as CSV: figures, limits, loudness over time"),
                quiet=True,
            )
        )

    @property
    def _measures(self) -> Measures | None:
        measures = self.session.measures("after")
        if measures is None:
            self.session.say(tr("The programme is still being measured."), bad=True)
        return measures

    def go_to_loudest(self, seconds: float) -> None:
        """Mark the loudest stretch and put the play head there."""
        subject, measures = self.session.subject, self._measures
        if subject is None or measures is None:
            return
        found = loudest(measures, seconds)
        if found is None:
            self.session.say(tr("The programme is silent, or shorter than {seconds:.0f} s.", seconds=seconds), bad=True)
            return
        first = subject.kept.start
        start, stop = (first + seconds_to_frames(s, subject.rate) for s in (found.start_s, found.stop_s))
        if self.session.other is not None:
            self.session.other.select_span(start, stop)
        else:
            self.session.select(start, stop)
        self.session.seek(start)
        self.session.say(
            tr(
                "The loudest {seconds:.0f} s begin at {start}: {lufs} LUFS. They are selected.",
                seconds=seconds,
                start=format_time(start / subject.rate, 1),
                lufs=format_number(found.lufs),
            )
        )

    def show_readings(self) -> None:
        """Read the programme in other ways."""
        subject, measures = self.session.subject, self._measures
        if subject is None or measures is None:
            return
        programme, names, marked = subject.after, subject.names, self._marked(subject)
        self.table = TableDialog(
            self.session,
            tr("Other loudness readings"),
            tr("{name}: measuring…", name=subject.name),
            self._window,
            figures=1,
        )

        def done(found: list[Reading]) -> None:
            self.table.words.setText(
                tr(
                    "{name}. Meters differ because they count different things; this is the processed programme in each of these ways.",
                    name=subject.name,
                )
            )
            self.table.show_table(
                (tr("reading"), "LUFS", tr("why it differs")), [(r.name, format_number(r.lufs), r.why) for r in found]
            )

        def work(job: Job) -> list[Reading]:
            return readings(programme, measures, names, marked, job.progress)

        job = self.session.pool.submit(
            work, title=tr("Measuring in other ways"), slot="readings", on_done=done, on_error=self.table.words.setText
        )
        self.table.finished.connect(lambda _code: job.cancel())
        self.table.open()

    def _marked(self, subject: Subject) -> Span | None:
        """What is marked of the programme, counted from its start."""
        marked, kept = self.session.marked, subject.kept
        if marked is None:
            return None
        start, stop = max(marked.start, kept.start), min(marked.stop, kept.stop)
        return Span(start - kept.start, stop - kept.start) if stop > start else None

    def show_all(self) -> None:
        """All programmes in one table."""
        target = self.session.target
        rows = []
        project = self.session.document.project
        lengths = [(p.id, p.name, p.frames / p.rate) for p in project.programmes]
        lengths += [(r.id, r.name, r.kept_seconds) for r in project.recordings]
        for subject_id, name, seconds in lengths:
            found = self.session.measures("after", subject_id)
            figures = [format_number(getattr(found, field)) if found else "\u2013" for _, field, _ in FIGURES]
            against = verdicts(found, target) if found and target else ()
            bad = next((v for v in against if v.state is not State.WITHIN), None)
            words = (
                tr("not measured yet")
                if not against
                else f"{bad.name} {bad.words}"
                if bad
                else tr("within every limit")
            )
            rows.append((name, format_time(seconds), *figures, words))
        head = (
            tr("programme"),
            tr("length"),
            *(f"{translated(_SHORT.get(name, name))}, {unit}" for name, _, unit in FIGURES),
            tr("against {title}", title=target.title) if target else "",
        )
        self.table = TableDialog(
            self.session,
            tr("Compare programmes"),
            tr("The processed programmes of the project as they are now."),
            self._window,
            figures=1 + len(FIGURES),
            width=1060,
        )
        self.table.show_table(head, rows)
        self.table.open()

    def _ask_log(self) -> None:
        subject = self.session.subject
        if subject is None or self._measures is None:
            return
        proposal = str(proposed_folder(self.session, subject.recording) / f"{safe_name(subject.name)}-loudness.csv")
        name, _ = QFileDialog.getSaveFileName(
            self._window, tr("Save the log of the measurement"), proposal, tr("CSV (*.csv)")
        )
        if name:
            self.save_log(Path(name))

    def save_log(self, path: Path) -> None:
        """Write the measurement of the worked programme."""
        measures, target = self._measures, self.session.target
        if measures is None:
            return
        try:
            write_text(path, measurement_csv(measures, verdicts(measures, target) if target else ()))
        except PuliziaError as error:
            self.session.say(str(error), bad=True)
        else:
            self.session.say(tr("The log was saved as {name}.", name=path.name))
