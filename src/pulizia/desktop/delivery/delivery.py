"""Delivery: a programme against its target, what it will measure, and the file that was written."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QProgressBar,
    QVBoxLayout,
    QWidget,
)

from pulizia.delivery.deliver import Delivered, check_output, deliver
from pulizia.delivery.normalise import Plan, State, plan, verdicts
from pulizia.delivery.targets import Target
from pulizia.desktop.bench.bench import LEFT_WIDTH, RIGHT_WIDTH, Column
from pulizia.desktop.controls import ChoiceBox, button, hairline, label
from pulizia.desktop.delivery.loudness_graph import LoudnessGraph
from pulizia.desktop.delivery.verdicts import LimitTable, ProgrammeCards, VerdictLabel
from pulizia.media.write import BITS, SampleFormat, write_text
from pulizia.project.model import Recording
from pulizia.report.loudness_report import report_html, report_json
from pulizia.session.jobs import SOON, Job
from pulizia.session.studio import Studio
from pulizia.units import format_number, seconds_to_frames

FORMATS: tuple[tuple[str, str, SampleFormat], ...] = (
    ("WAV, 24-bit", ".wav", "int24"), ("WAV, 16-bit, dithered", ".wav", "int16"),
    ("WAV, 32-bit float", ".wav", "float32"), ("FLAC, 24-bit", ".flac", "int24"),
    ("FLAC, 16-bit, dithered", ".flac", "int16"),
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Key:
    source: str
    target: Target


class Delivery(QWidget):
    """The Delivery place."""

    def __init__(self, studio: Studio) -> None:
        super().__init__()
        self.studio = studio
        self.plan: Plan | None = None
        self.delivered: Delivered | None = None
        self._plan_key: _Key | None = None
        self._job: Job | None = None
        self._folder: Path | None = None
        self._build()
        for event in ("document", "current", "measures"):
            studio.on(event, self.refresh)
        studio.on("playing", self.follow)

    # -- building

    def _build(self) -> None:
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        left = QWidget()
        column = QVBoxLayout(left)
        column.setContentsMargins(8, 10, 8, 10)
        head = label("Programmes", bold=True)
        head.setContentsMargins(8, 0, 0, 0)
        column.addWidget(head)
        self.cards = ProgrammeCards(self.studio)
        self.cards.chosen.connect(self.studio.choose_recording)
        column.addWidget(self.cards)
        column.addStretch(1)
        row.addWidget(Column(left, LEFT_WIDTH, line_at_left=False))
        middle = QWidget()
        column = QVBoxLayout(middle)
        column.setContentsMargins(0, 8, 0, 8)
        self.graph = LoudnessGraph()
        self.graph.clicked.connect(self._go_to)
        column.addWidget(self.graph, 1)
        self._explain = label("", 12, token="soft", wrap=True)
        self._explain.setContentsMargins(40, 0, 40, 4)
        column.addWidget(self._explain)
        row.addWidget(middle, 1)
        row.addWidget(Column(self._build_sheet(), RIGHT_WIDTH, line_at_left=True))

    def _build_sheet(self) -> QWidget:
        sheet = QWidget()
        column = QVBoxLayout(sheet)
        column.setContentsMargins(16, 12, 16, 12)
        column.setSpacing(6)
        self.target_box = ChoiceBox()
        self.target_box.setAccessibleName("Target")
        self.target_box.activated.connect(self._choose_target)
        column.addWidget(self.target_box)
        self._purpose = label("", 12, token="soft", wrap=True)
        column.addWidget(self._purpose)
        self.table = LimitTable()
        column.addWidget(self.table)
        column.addWidget(hairline())
        self._gain = _figure_row(column, "Gain")
        self._limiting = _figure_row(column, "Limiting")
        column.addWidget(hairline())
        column.addWidget(label("Deliverable", bold=True))
        self.format_box = ChoiceBox()
        self.format_box.setAccessibleName("File format")
        for text, _, _ in FORMATS:
            self.format_box.addItem(text)
        self.format_box.activated.connect(lambda _index: self._show_size())
        column.addWidget(self.format_box)
        self._size = label("", 12, token="soft")
        column.addWidget(self._size)
        self.report_tick = QCheckBox("write a report beside it (HTML and JSON)")
        self.report_tick.setChecked(True)
        column.addWidget(self.report_tick)
        self.deliver_button = button("Deliver\u2026", self.ask_and_deliver, tip="Write the file and measure it again (Ctrl+D)", main=True)
        column.addWidget(self.deliver_button)
        self._progress_head = label("", 12, token="soft")
        self._progress = QProgressBar()
        self._progress.setTextVisible(False)
        self._progress.setRange(0, 1000)
        self._stop = button("Stop", self._cancel, tip="Stop; nothing is left half-written", quiet=True)
        line = QHBoxLayout()
        line.addWidget(self._progress_head, 1)
        line.addWidget(self._stop)
        column.addLayout(line)
        column.addWidget(self._progress)
        self._written_head = label("Written and measured again", bold=True)
        column.addWidget(self._written_head)
        self._written = label("", 13, wrap=True)
        column.addWidget(self._written)
        self.written_verdict = VerdictLabel()
        column.addWidget(self.written_verdict)
        column.addStretch(1)
        self._show_job(running=False)
        return sheet

    # -- showing

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.studio.read_targets()
        self.refresh()

    @property
    def target(self) -> Target | None:
        """The chosen target."""
        return self.studio.target

    def refresh(self) -> None:
        """Show the programme on the bench against the target."""
        self.cards.fit()
        if not self.isVisible():
            return
        self._fill_targets()
        recording, chain, target = self.studio.recording, self.studio.chain, self.target
        self.deliver_button.setEnabled(chain is not None and target is not None and self._job is None)
        if recording is None or chain is None or target is None:
            self.graph.show_measures(None, None, target)
            self._explain.setText(self._why_nothing())
            return
        for other in self.studio.document.project.recordings:
            self.studio.want_measures(other.id)
        measures = self.studio.measures("after")
        key = _Key(chain.after.key, target)
        if key != self._plan_key:
            self._plan_key, self.plan = key, None
            self._want_plan(key)
        predicted = self.plan.predicted if self.plan else None
        self.graph.show_measures(measures, predicted, target)
        self._purpose.setText(f"{target.purpose}. After {target.source}.")
        if measures is not None:
            self.table.show_rows(verdicts(measures, target), verdicts(predicted, target) if predicted else None)
        self._gain.setText(f"{format_number(self.plan.gain_db, 1, plus=True)} dB" if self.plan else "\u2013")
        self._limiting.setText(self._limiting_text())
        self._show_size()
        channels = "counted as one channel" if recording.channels == 1 else f"{recording.channels} channels together"
        self._explain.setText(
            "Ink: measured short-term loudness of the worked recording; verdigris: what the delivered "
            f"file will have. Whole programme, both gates (ITU-R BS.1770-5), {channels}."
        )

    def _why_nothing(self) -> str:
        if self.studio.recording is None:
            return "Open a recording on the Bench first."
        if self.target is None:
            wanted = self.studio.document.project.target_id
            return f"The project's target {wanted} is not known on this machine. Choose another one."
        return "The recording's file is missing or changed. Relink it on the Bench."

    def _limiting_text(self) -> str:
        if self.plan is None:
            return "\u2013"
        if not self.plan.limited:
            return "none needed"
        return f"up to {self.plan.largest_reduction_db:.1f} dB"

    def _fill_targets(self) -> None:
        targets = self.studio.targets
        ids = [self.target_box.itemData(n) for n in range(self.target_box.count())]
        if ids != list(targets):
            self.target_box.clear()
            for target in targets.values():
                self.target_box.addItem(target.title, target.id)
        self.target_box.setCurrentIndex(self.target_box.findData(self.studio.document.project.target_id))

    def _show_size(self) -> None:
        recording = self.studio.recording
        if recording is None:
            return
        _, suffix, sample_format = FORMATS[self.format_box.currentIndex()]
        size = recording.frames * recording.channels * BITS[sample_format] / 8e6
        about = f"{size:.0f} MB" if suffix == ".wav" else f"at most {size:.0f} MB"
        self._size.setText(f"{recording.rate / 1000:g} kHz, {about}")

    def follow(self) -> None:
        """Bring the play head to the present position."""
        recording = self.studio.recording
        if recording is not None and self.isVisible():
            self.graph.move_head(self.studio.transport.position / recording.rate)

    def _go_to(self, seconds: float) -> None:
        if self.studio.recording is not None:
            self.studio.seek(seconds_to_frames(seconds, self.studio.recording.rate))

    # -- planning

    def _choose_target(self, _index: int) -> None:
        self.studio.document.set_target(self.target_box.currentData())

    def _names(self, recording: Recording) -> tuple[str, ...]:
        return self.studio.document.media[recording.id].channel_names

    def _want_plan(self, key: _Key) -> None:
        chain, recording = self.studio.chain, self.studio.recording
        assert chain is not None and recording is not None  # noqa: S101, PT018
        document, names = self.studio.document, self._names(recording)

        def work(job: Job) -> Plan:
            if job.cancelled_within(0.15):
                job.progress(0.0)
            return plan(
                chain.after, key.target, store=document.segments, cache=document.cache, names=names,
                progress=job.progress,
            )  # fmt: skip

        def done(made: Plan) -> None:
            if key == self._plan_key:
                self.plan = made
                self.refresh()

        def failed(sentence: str) -> None:
            self._explain.setText(sentence)

        self.studio.pool.submit(work, title="Predicting", priority=SOON, slot="plan", on_done=done, on_error=failed)

    # -- delivering

    def ask_and_deliver(self) -> None:
        """Ask for the file's name, then deliver."""
        recording = self.studio.recording
        if recording is None or self._job is not None:
            return
        _, suffix, _ = FORMATS[self.format_box.currentIndex()]
        folder = self._folder or (self.studio.document.path or recording.path).parent
        proposal = folder / f"{recording.name}-{self.studio.document.project.target_id}{suffix}"
        name, _ = QFileDialog.getSaveFileName(self, "Deliver as", str(proposal), f"Sound (*{suffix})")
        if name:
            path = Path(name) if Path(name).suffix else Path(name + suffix)
            self._folder = path.parent
            self.deliver_to(path, overwrite=True)  # the dialog has asked already

    def deliver_to(self, path: Path, *, overwrite: bool = False) -> None:
        """Deliver the programme on the bench to a file, in the background."""
        chain, recording, target = self.studio.chain, self.studio.recording, self.target
        if chain is None or recording is None or target is None:
            return
        _, suffix, sample_format = FORMATS[self.format_box.currentIndex()]
        document, names = self.studio.document, self._names(recording)
        path = path if path.suffix.lower() == suffix else path.with_name(path.name + suffix)
        with_report = self.report_tick.isChecked()
        made = self.plan if self.plan and self._plan_key == _Key(chain.after.key, target) else None
        inputs = [r.path for r in document.project.recordings]

        def work(job: Job) -> Delivered:
            check_output(path, inputs=inputs, overwrite=overwrite)

            def told(share: float, what: str) -> None:
                self.studio.post(lambda: self._told(share, what))
                job.progress(share)

            done = deliver(
                chain.after, target, path, sample_format=sample_format, made=made, names=names,
                markers=recording.markers,
                store=document.segments, cache=document.cache, progress=told,
            )  # fmt: skip
            if with_report:
                write_text(path.with_suffix(".html"), report_html(done))
                write_text(path.with_suffix(".json"), report_json(done))
            return done

        self.delivered = None
        self._job = self.studio.pool.submit(
            work, title=f"Delivering {path.name}", priority=SOON, on_done=self._delivered, on_error=self._failed
        )
        self._show_job(running=True)

    def _told(self, share: float, what: str) -> None:
        self._progress_head.setText(what.capitalize() + f", {100 * share:.0f} %")
        self._progress.setValue(round(1000 * share))

    def _delivered(self, done: Delivered) -> None:
        self._job, self.delivered = None, done
        verdict = next((v for v in done.verdicts if v.state is not State.WITHIN), done.verdicts[0])
        self._show_job(running=False)
        self._written.setText(
            f"{done.path.name}\n{format_number(done.verified.integrated_lufs)} {done.plan.target.scale}, "
            f"true peak {format_number(done.verified.true_peak_dbtp)} dBTP"
            + ("; corrected once" if done.corrected else "")
        )
        self.written_verdict.show_verdict(verdict)
        self.studio.say(f"Delivered to {done.path}.")

    def _failed(self, sentence: str) -> None:
        self._job = None
        self._show_job(running=False)
        self.studio.say(sentence, bad=True)

    def _cancel(self) -> None:
        if self._job is not None:
            self._job.cancel()
            self._job = None
            self._show_job(running=False)
            self.studio.say("Stopped. Nothing was left half-written.")

    def _show_job(self, *, running: bool) -> None:
        while_running: tuple[QWidget, ...] = (self._progress, self._progress_head, self._stop)
        when_done: tuple[QWidget, ...] = (self._written_head, self._written, self.written_verdict)
        for widget in while_running:
            widget.setVisible(running)
        for widget in when_done:
            widget.setVisible(self.delivered is not None)
        self.deliver_button.setEnabled(not running and self.studio.chain is not None)


def _figure_row(column: QVBoxLayout, name: str) -> QLabel:
    line = QHBoxLayout()
    line.addWidget(label(name, 13, bold=True))
    line.addStretch(1)
    figure = label("\u2013", 13, bold=True)
    line.addWidget(figure)
    column.addLayout(line)
    return figure
