# SPDX-License-Identifier: GPL-3.0-or-later
"""Delivery: a programme against its target, what it will measure, and the file that was written."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QHideEvent, QShowEvent
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLabel,
    QVBoxLayout,
    QWidget,
)

from pulizia.delivery.normalise import Plan, verdicts
from pulizia.delivery.targets import Target
from pulizia.desktop.columns import LEFT_WIDTH, RIGHT_WIDTH, Column, Columns, ColumnWidths
from pulizia.desktop.controls import ChoiceBox, Tick, button, hairline, label
from pulizia.desktop.delivery.loudness_graph import LoudnessGraph
from pulizia.desktop.delivery.measuring import MeasuringRow
from pulizia.desktop.delivery.order_sheet import OrderSheet, QueueView
from pulizia.desktop.delivery.ordering import Ordering
from pulizia.desktop.delivery.verdicts import LimitTable, ProgrammeCards
from pulizia.desktop.delivery.written import Written
from pulizia.measure.loudness import Measures
from pulizia.session.heard import Heard
from pulizia.session.plan_service import Aim
from pulizia.session.session import Session
from pulizia.units import db_to_gain, format_number, seconds_to_frames
from pulizia.words import tr, translated


class Delivery(Ordering):
    """The Delivery place."""

    def __init__(self, session: Session, widths: ColumnWidths) -> None:
        super().__init__()
        self.session, self._widths = session, widths
        self._folder: Path | None = None
        self._build()
        for event in (session.events.document, session.events.current, session.events.measures):
            event.connect(self.refresh)
        session.events.playing.connect(self.follow)

    # -- building

    def _build(self) -> None:
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        left = QWidget()
        column = QVBoxLayout(left)
        column.setContentsMargins(8, 10, 8, 10)
        head = label(tr("Programmes"), bold=True)
        head.setContentsMargins(8, 0, 0, 0)
        column.addWidget(head)
        self.cards = ProgrammeCards(self.session, self.counted)
        self.cards.chosen.connect(self.choose)
        column.addWidget(self.cards)
        column.addWidget(QueueView(self.session))
        column.addStretch(1)
        middle = QWidget()
        column = QVBoxLayout(middle)
        column.setContentsMargins(0, 8, 0, 8)
        self.graph = LoudnessGraph()
        self.graph.clicked.connect(self._go_to)
        column.addWidget(self.graph, 1)
        self._explain = label("", 12, token="soft", wrap=True)
        self._explain.setContentsMargins(40, 0, 40, 4)
        column.addWidget(self._explain)
        self.measuring = MeasuringRow(self.session, self)
        column.addWidget(self.measuring)
        sheet = Column(self._build_sheet(), RIGHT_WIDTH, line_at_left=True, foot=self._build_foot())
        side = Column(left, LEFT_WIDTH, line_at_left=False)
        row.addWidget(Columns(self._widths, side, middle, sheet))
        self.key_areas: tuple[QWidget, ...] = (side, middle, sheet)

    def _build_foot(self) -> QWidget:
        """What stays in view however small the window is."""
        foot = QWidget()
        column = QVBoxLayout(foot)
        column.setContentsMargins(16, 10, 16, 12)
        self.deliver_button = button(
            tr("Deliver…"), self.ask_and_deliver, tip=tr("Write the files and verify them (Ctrl+D)"), main=True
        )
        column.addWidget(self.deliver_button)
        return foot

    def _build_sheet(self) -> QWidget:
        sheet = QWidget()
        column = QVBoxLayout(sheet)
        column.setContentsMargins(16, 12, 16, 12)
        column.setSpacing(6)
        self.target_box = ChoiceBox()
        self.target_box.setAccessibleName(tr("Target"))
        self.target_box.activated.connect(self._choose_target)
        column.addWidget(self.target_box)
        self._for_all = button(
            tr("Use for all"), self._use_for_all, tip=tr("Every programme and recording gets this target"), quiet=True
        )
        column.addWidget(self._for_all, alignment=Qt.AlignmentFlag.AlignLeft)
        self._purpose = label("", 12, token="soft", wrap=True)
        column.addWidget(self._purpose)
        self.table = LimitTable()
        column.addWidget(self.table)
        column.addWidget(hairline())
        self._gain = _figure_row(column, tr("Gain"))
        self._limiting = _figure_row(column, tr("Limiting"))
        self.preview_tick = Tick(tr("Preview delivery"))
        self.preview_tick.setToolTip(
            tr(
                "After plays with the gain, levelling and limiting of the delivery; with Matched level, as loud as Before"
            )
        )
        self.preview_tick.clicked.connect(lambda _on: self._show_preview())
        column.addWidget(self.preview_tick)
        self._note = label("", 12, token="madder", wrap=True)
        column.addWidget(self._note)
        self.hard_tick = Tick(tr("Allow more than 20 dB of limiting"))
        self.hard_tick.hide()
        column.addWidget(self.hard_tick)
        column.addWidget(hairline())
        self.orders = OrderSheet(self.session)
        self.orders.changed.connect(self.refresh)
        column.addWidget(self.orders)
        self._size = label("", 12, token="soft")
        column.addWidget(self._size)
        self.report_tick = Tick(tr("Write a report beside the file"))
        self.report_tick.setToolTip(
            tr("As a page that prints well (HTML), as JSON, and as a log of the measurement (CSV)")
        )
        self.report_tick.setChecked(True)
        column.addWidget(self.report_tick)
        self.all_tick = Tick(tr("All programmes of the project"))
        self.all_tick.setToolTip(tr("Queue every programme of the project, or every recording when it has none"))
        column.addWidget(self.all_tick)
        self.written = Written(self.session)
        column.addWidget(self.written)
        column.addStretch(1)
        for part, section in (
            (self.graph, tr("Loudness over time")), (self.measuring, tr("Figures that differ")), (self.target_box, tr("Targets")), (self.table, tr("Targets")),
            (self.orders, tr("Deliverables")), (self.report_tick, tr("Report")), (self.written, tr("Report")),
        ):  # fmt: skip
            part.setProperty("manual", f"delivery#{section}")
        return sheet

    # -- showing

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.session.read_targets()
        self.refresh()

    @property
    def target(self) -> Target | None:
        """The chosen target."""
        return self.session.target

    def refresh(self) -> None:
        """Show the programme on the bench against the target."""
        self.cards.fit()
        if not self.isVisible():
            return
        self._fill_targets()
        subject, target = self.session.subject, self.target
        self.deliver_button.setEnabled(subject is not None and target is not None)
        self.orders.refresh()
        if subject is None or target is None:
            self.graph.show_measures(None, None, target)
            self._explain.setText(translated(self._why_nothing()))
            return
        project = self.session.document.project
        for other_id in [*(p.id for p in project.programmes), *(r.id for r in project.recordings)]:
            self.session.want_measures(other_id)
        self.session.plans.want(subject.id, self.aim_at(target), self.refresh, self._explain.setText)
        made = self.plan
        measures = self.counted(subject.id)
        predicted = made.predicted if made else None
        self.graph.show_measures(measures, predicted, target)
        self._purpose.setText(
            tr("{purpose}. After {source}.", purpose=translated(target.purpose), source=target.source).replace(
                "R 128", "R\u00a0128"
            )
        )
        if measures is not None:
            self.table.show_rows(verdicts(measures, target), verdicts(predicted, target) if predicted else None)
        self._gain.setText(translated(f"{format_number(made.gain_db, 1, plus=True)} dB" if made else "\u2013"))
        self._limiting.setText(translated(self._limiting_text()))
        self._note.setText("\n".join(translated(text) for text in made.cautions) if made else "")
        self._note.setVisible(bool(self._note.text()))
        self.hard_tick.setVisible(made is not None and bool(made.too_hard))
        self._show_size()
        self._show_preview()
        channels = tr("{channels} channels together", channels=subject.channels)
        if subject.channels == 1:
            channels = (
                tr("measured as dual mono") if self.orders.dual_tick.isChecked() else tr("measured as one channel")
            )
        gate = (
            tr("Speech only, by the program's own speech detection")
            if target.gate == "dialogue"
            else tr("Whole programme, both gates")
        )
        self._explain.setText(
            tr(
                "Short-term loudness measured after all steps; in green, predicted for the delivered file. {gate} (ITU-R BS.1770-5), {channels}.",
                gate=gate,
                channels=channels,
            ).replace("ITU-R ", "ITU-\u2060R\u00a0")
        )

    def aim_at(self, target: Target) -> Aim:
        """What the controls say of a target."""
        return Aim(target, self.orders.way, self.orders.dual_tick.isChecked())

    @property
    def plan(self) -> Plan | None:
        """What delivering the programme on the bench would do, once that is known."""
        subject_id, target = self.session.subject_id, self.target
        return None if not subject_id or target is None else self.session.plans.of(subject_id, self.aim_at(target))

    def counted(self, subject_id: str) -> Measures | None:
        """The measures of a processed recording or programme as the target counts."""
        target = self.session.target_of(subject_id)
        return None if target is None else self.session.plans.counted(subject_id, self.aim_at(target))

    def choose(self, subject_id: str) -> None:
        """Show and hear another programme or recording."""
        session = self.session
        if any(p.id == subject_id for p in session.document.project.programmes):
            session.assembly.choose_programme(subject_id)
            session.assembly.enter(shown=False)
        else:
            session.assembly.leave()
            session.choose_recording(subject_id)
        self.refresh()

    def _show_preview(self) -> None:
        """Let the ears have what will be delivered, where that is wanted and known."""
        made = self.plan if self.preview_tick.isChecked() and self.isVisible() else None
        if made is None:
            self.session.set_preview(None)
            return
        before, after = made.measured.integrated_lufs, made.predicted.integrated_lufs
        louder_db = (after - before) if before is not None and after is not None else made.gain_db
        matched = db_to_gain(self.session.match_gain_db() - louder_db)
        subject = self.session.subject
        assert subject is not None  # noqa: S101 - there is a plan for it
        self.session.set_preview(Heard(subject.in_place(made.result), matched))

    def hideEvent(self, event: QHideEvent) -> None:
        super().hideEvent(event)
        self.session.set_preview(None)

    def _why_nothing(self) -> str:
        if self.session.subject_id is None:
            return tr("Open a recording on the Bench first.")
        if self.target is None:
            wanted = self.session.document.project.target_of(self.session.subject_id)
            return tr("The project's target {wanted} is not known on this machine. Choose another one.", wanted=wanted)
        if self.session.other is not None:
            return tr("The programme holds no clips. Add recordings to it first.")
        return tr("The recording's file is missing or changed. Relink it on the Bench.")

    def _limiting_text(self) -> str:
        made = self.plan
        if made is None:
            return "\u2013"
        return (
            tr("up to {largest_reduction_db:.1f} dB", largest_reduction_db=made.largest_reduction_db)
            if made.limited
            else tr("none needed")
        )

    def _fill_targets(self) -> None:
        targets, project = self.session.targets, self.session.document.project
        ids = [self.target_box.itemData(n) for n in range(self.target_box.count())]
        if ids != list(targets):
            self.target_box.clear()
            for target in targets.values():
                self.target_box.addItem(translated(target.title), target.id)
        self.target_box.setCurrentIndex(self.target_box.findData(project.target_of(self.session.subject_id)))
        own = {project.target_of(p.id) for p in project.programmes}
        own |= {project.target_of(r.id) for r in project.recordings}
        self._for_all.setVisible(len(own) > 1)

    def _show_size(self) -> None:
        subject = self.session.subject
        if subject is None:
            return
        parts = []
        for wanted in self._wanted():
            size = wanted.most_bytes(subject.seconds, subject.rate, subject.channels, subject.metadata.picture) / 1e6
            parts.append(
                tr("{kind} at most {size:.1f} MB", kind=wanted.words.split(",")[0], size=max(size, 0.1))
                if wanted.kind in ("flac", "picture")
                else tr("{kind} about {size:.1f} MB", kind=wanted.words.split(",")[0], size=max(size, 0.1))
            )
        self._size.setText(translated("; ".join(parts)))

    def follow(self) -> None:
        """Bring the play head to the present position."""
        subject = self.session.subject if self.isVisible() else None
        if subject is not None:
            self.graph.move_head((self.session.transport.position - subject.kept.start) / subject.rate)

    def _go_to(self, seconds: float) -> None:
        subject = self.session.subject
        if subject is not None:
            self.session.seek(subject.kept.start + seconds_to_frames(seconds, subject.rate))

    # -- planning

    def _choose_target(self, _index: int) -> None:
        self.session.document.set_target(self.target_box.currentData(), self.session.subject_id)

    def _use_for_all(self) -> None:
        self.session.document.set_target(self.target_box.currentData())

    # -- delivering


def _figure_row(column: QVBoxLayout, name: str) -> QLabel:
    line = QHBoxLayout()
    line.addWidget(label(name, 13, bold=True))
    line.addStretch(1)
    figure = label("\u2013", 13, bold=True)
    line.addWidget(figure)
    column.addLayout(line)
    return figure
