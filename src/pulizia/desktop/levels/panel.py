# SPDX-License-Identifier: GPL-3.0-or-later
"""The Levels panel: all gauges together, at the right of the Bench."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from pulizia.audio.layouts import shown_names
from pulizia.audio.source import Source, read_padded
from pulizia.desktop.controls import button, hairline, label, retone
from pulizia.desktop.levels.bars import BarStack, loudness_group, sample_groups
from pulizia.desktop.levels.goniometer import Goniometer
from pulizia.desktop.levels.history import History
from pulizia.desktop.levels.options import (
    RMS_TIMES_S,
    SCALES,
    VU_REFERENCES_DBFS,
    LevelOptions,
)
from pulizia.desktop.menu import Menu
from pulizia.measure.live import Reading
from pulizia.session.jobs import SOON
from pulizia.session.session import Session
from pulizia.units import db_to_gain, format_number, gain_to_db
from pulizia.words import N_, tr, translated

FIGURES = (
    ("I", "LUFS", N_("Integrated loudness")), ("LRA", "LU", N_("Loudness range")),
    (N_("M max"), "LUFS", N_("Highest momentary loudness")), (N_("S max"), "LUFS", N_("Highest short-term loudness")),
    ("TP", "dBTP", N_("True peak")), ("PLR", "LU", N_("Peak to loudness: true peak less integrated loudness")),
)  # fmt: skip
STEP_WINDOW_S = 0.3
STEP_EVERY = 10  # ticks between two looks at the input and output of the step
DEFAULT_TARGET_LUFS = -23.0


@dataclass(frozen=True, slots=True)
class InOut:
    """RMS and peak before and after the selected step, around the play head."""

    before: tuple[float, float]
    after: tuple[float, float]


class LevelsPanel(QWidget):
    """Fed by the bench while playing; figures of the whole stay while it rests."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.options = LevelOptions()
        self.reading: Reading | None = None
        self.in_out: InOut | None = None
        self._ticks = 0
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 10, 16, 10)
        column.setSpacing(4)
        head = QHBoxLayout()
        head.addWidget(label(tr("Levels"), 20, bold=True))
        head.addStretch(1)
        self.reset_button = button(tr("Reset"), self.reset, tip=tr("Reset peak hold and over counts"), quiet=True)
        self.view_button = button(
            tr("Display"), self._show_menu, tip=tr("Scales, integration times, references"), quiet=True
        )
        head.addWidget(self.reset_button)
        head.addWidget(self.view_button)
        column.addLayout(head)
        self.bars, self.gonio, self.history = BarStack(), Goniometer(), History()
        self.overs = label("", 12, wrap=True)
        self.step_line = label("", 12, wrap=True)
        column.addWidget(self.bars)
        column.addWidget(self.overs)
        column.addWidget(self.gonio)
        column.addWidget(hairline())
        self._step_head = label(tr("Selected step"), 12, token="soft")
        column.addWidget(self._step_head)
        column.addWidget(self.step_line)
        column.addWidget(hairline())
        column.addLayout(self._figure_grid())
        self._history_head = label(tr("Loudness of the whole"), 12, token="soft")
        column.addWidget(self._history_head)
        column.addWidget(self.history)
        column.addStretch(1)
        for event in (
            session.events.document,
            session.events.current,
            session.events.measures,
            session.events.selection,
            session.events.listening,
        ):
            event.connect(self.refresh)
        self._apply()

    def _figure_grid(self) -> QGridLayout:
        grid = QGridLayout()
        grid.setVerticalSpacing(1)
        grid.setColumnMinimumWidth(3, 18)
        for column in (1, 5):
            grid.setColumnStretch(column, 1)
        self.figures = []
        for n, (name, unit, words) in enumerate(FIGURES):
            row, column = n // 2, n % 2 * 4
            value = label("\u2013", 13, bold=True)
            value.setAccessibleName(translated(words))
            for part in (title := label(name, 12), value):
                part.setToolTip(translated(words))
            grid.addWidget(title, row, column)
            grid.addWidget(value, row, column + 1, Qt.AlignmentFlag.AlignRight)
            grid.addWidget(label(unit, 12, token="soft"), row, column + 2)
            self.figures.append(value)
        return grid

    # -- showing

    def tick(self) -> None:
        """Bring the gauges to the present moment; called 50 times a second while playing."""
        if not self.isVisible():
            return
        self._ticks += 1
        self.reading = self.session.transport.heard_levels() or self.reading
        self._show_bars()
        r = self.reading
        self.gonio.show_pair(r.pair if r else None, r.correlation if r else None)
        if r is not None:
            over = r.overs or r.true_peak_overs
            self.overs.setText(
                tr(
                    "Over full scale: {overs} samples, true peak over {ceiling_db}: {true_peak_overs}",
                    overs=r.overs,
                    ceiling_db=format_number(self._ceiling_db()),
                    true_peak_overs=r.true_peak_overs,
                )
            )
            retone(self.overs, "madder" if over else "ink")
        if self._ticks % STEP_EVERY == 1:
            self._want_step()
            self._show_history()

    def refresh(self) -> None:
        """Figures and history of the whole, as they are known."""
        if not self.isVisible():
            return
        measures = self.session.heard_measures
        values = (None,) * 6 if measures is None else (
            measures.integrated_lufs, measures.loudness_range_lu, measures.momentary_max_lufs,
            measures.short_term_max_lufs, measures.true_peak_dbtp, measures.peak_to_loudness_lu,
        )  # fmt: skip
        for shown, value in zip(self.figures, values, strict=True):
            shown.setText(format_number(value))
        self.session.transport.levels.ceiling = db_to_gain(self._ceiling_db())
        self._show_bars()
        source = self.session.heard_source
        two = source is not None and source.channels == 2
        self.gonio.setVisible(two)
        self._show_history()
        self._want_step()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.refresh()

    def _ceiling_db(self) -> float:
        return self.session.target.true_peak_dbtp if self.session.target else -1.0

    def _target_lufs(self) -> float:
        return self.session.target.integrated_lufs if self.session.target else DEFAULT_TARGET_LUFS

    def _show_bars(self) -> None:
        measures, heard = self.session.heard_measures, self.session.heard_names
        names = shown_names(heard) if heard else ("L", "R")
        momentary, short = self.session.loudness_now()
        most = (measures.momentary_max_lufs, measures.short_term_max_lufs) if measures else (None, None)
        groups = sample_groups(self.reading, names, self.options, self._ceiling_db())
        self.bars.show_groups([*groups, loudness_group(momentary, short, most, self.options, self._target_lufs())])

    def _show_history(self) -> None:
        subject, marked = self.session.subject, self.session.marked
        if subject is None:
            self.history.show_measures(None, (0.0, 1.0), 0.0, self._target_lufs())
            return
        kept, rate = subject.kept, subject.rate
        span = marked or kept
        self._history_head.setText(tr("Loudness of the selection") if marked else tr("Loudness of the whole"))
        self.history.show_measures(
            self.session.heard_measures, (span.start / rate, span.stop / rate), self.session.transport.position / rate,
            self._target_lufs(), kept.start / rate,
        )  # fmt: skip

    def _want_step(self) -> None:
        """Levels that go into the selected step and come out, around the play head (in a worker)."""
        step, chain, owner = self.session.step, self.session.owner_chain, self.session.owner
        if step is None or chain is None or owner is None or step.id not in chain.stages:
            self.step_line.setText(tr("no active step selected"))
            return
        stage = chain.stages[step.id]
        half = round(STEP_WINDOW_S * owner.rate / 2)
        at = self.session.owner_position
        title = step.tool.title

        def work(_job: object) -> InOut:
            return InOut(_levels(stage.upstream, at - half, at + half), _levels(stage, at - half, at + half))

        def done(found: InOut) -> None:
            self.in_out = found
            (r0, p0), (r1, p1) = found.before, found.after
            change = format_number(r1 - r0, 1, plus=True) if r0 > -120 and r1 > -120 else "\u2013"
            self.step_line.setText(
                tr(
                    "{title}: in {r0} RMS, {p0} peak; out {r1} RMS, {p1} peak ({change} dB)",
                    title=translated(title),
                    r0=format_number(r0),
                    p0=format_number(p0),
                    r1=format_number(r1),
                    p1=format_number(p1),
                    change=change,
                )
            )

        self.session.pool.submit(
            work, title=tr("Levels of the step"), priority=SOON, slot=tr("step levels"), on_done=done
        )

    # -- choices

    def reset(self) -> None:
        """Forget held peaks and counts."""
        self.session.transport.levels.reset()
        self.reading = None
        self.overs.setText("")
        self.gonio.show_pair(None, None)
        self._show_bars()

    def choose(self, **changes: object) -> None:
        """Change options by name."""
        for name, value in changes.items():
            setattr(self.options, name, value)
        self._apply()
        self.refresh()

    def _apply(self) -> None:
        levels = self.session.transport.levels
        levels.rms_s, levels.ppm_kind = self.options.rms_s, self.options.ppm_kind

    def _show_menu(self) -> None:
        menu = self.menu()
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(self.view_button.mapToGlobal(self.view_button.rect().bottomLeft()))

    def menu(self) -> Menu:
        """Everything that can be chosen."""
        menu = Menu(self)
        groups: tuple[tuple[str, str, list[tuple[str, object]]], ...] = (
            (tr("Loudness scale"), "scale", [(text, name) for name, text in SCALES.items()]),
            (tr("RMS time"), "rms_s", [(f"{t:g} s", t) for t in RMS_TIMES_S]),
            (tr("RMS scale"), "rms_sine", [(tr("as computed"), False), (tr("sine-referenced (+3.01 dB)"), True)]),
            ("0 VU", "vu_reference_dbfs", [(f"{format_number(db, 0)} dBFS", db) for db in VU_REFERENCES_DBFS]),
            ("PPM", "ppm_kind", [(tr("type IIa"), "IIa"), (tr("type I"), "I")]),
        )
        for title, name, choices in groups:
            part = menu.submenu(translated(title))
            for text, value in choices:
                action = part.addAction(translated(text))
                action.setCheckable(True)
                action.setChecked(getattr(self.options, name) == value)
                action.triggered.connect(lambda _on=False, n=name, v=value: self.choose(**{n: v}))
        return menu


def _levels(source: Source, start: int, stop: int) -> tuple[float, float]:
    block = read_padded(source, start, stop)
    rms = float(np.sqrt(np.mean(np.square(block), dtype=np.float64)))
    return gain_to_db(rms), gain_to_db(float(np.abs(block).max(initial=0.0)))
