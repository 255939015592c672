# SPDX-License-Identifier: GPL-3.0-or-later
"""The plan of the best microphone: a row for each turn, with its lane to be changed, before anything is applied."""

from __future__ import annotations

from functools import partial

from PySide6.QtWidgets import QDialog, QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from pulizia.desktop.controls import ChoiceBox, FigureBox, button, label, scrolled
from pulizia.desktop.form import answers
from pulizia.project.clips import Lane
from pulizia.session.microphone_service import MicrophonePlan
from pulizia.session.session import Session
from pulizia.units import format_time
from pulizia.words import tr

MOST_ROWS = 2000
LOWER_DB = 9.0


class MicrophoneDialog(QDialog):
    """Turn by turn: when, which lane, and how clear it is."""

    def __init__(self, session: Session, plan: MicrophonePlan, parent: QWidget) -> None:
        super().__init__(parent)
        self.session, self.plan = session, plan
        self.setProperty("manual", "assembly#" + tr("Several microphones"))
        self.setWindowTitle(tr("The best microphone"))
        self.resize(560, 520)
        programme = session.document.project.programme(plan.programme_id)
        names = {lane_id: self._named(programme.lane(lane_id)) for lane_id in plan.lane_ids}
        column = QVBoxLayout(self)
        column.addWidget(label(tr("The best microphone"), 20, bold=True))
        inner = QWidget()
        grid = QGridLayout(inner)
        self.choices: list[ChoiceBox] = []
        for n, turn in enumerate(plan.turns[:MOST_ROWS]):
            first, last = (format_time(f / programme.rate, 1) for f in (turn.start, turn.stop))
            words = tr("{first} to {last}", first=first, last=last)
            grid.addWidget(button(words, partial(session.seek, turn.start), quiet=True), n, 0)
            choice = ChoiceBox()
            choice.setAccessibleName(tr("Lane from {first} on", first=first))
            for lane_id, name in names.items():
                choice.addItem(name, lane_id)
            choice.setCurrentIndex(choice.findData(turn.lane_id))
            choice.activated.connect(lambda _index, n=n, box=choice: self._changed(n, box.currentData()))
            grid.addWidget(choice, n, 1)
            grid.addWidget(label("" if turn.certainty >= 0.3 else tr("not clear"), 12, token="soft"), n, 2)
            self.choices.append(choice)
        grid.setColumnStretch(1, 1)
        grid.setRowStretch(len(self.choices), 1)
        column.addWidget(scrolled(inner), 1)
        row = QHBoxLayout()
        row.addWidget(label(tr("Lower the others by")))
        self.by = FigureBox()
        self.by.setRange(3.0, 40.0)
        self.by.setDecimals(1)
        self.by.setValue(LOWER_DB)
        self.by.setSuffix(" dB")
        self.by.setAccessibleName(tr("Lower the others by"))
        row.addWidget(self.by)
        row.addStretch(1)
        column.addLayout(row)
        column.addWidget(answers(self))

    def _named(self, lane: Lane) -> str:
        """A lane with its microphone, where it is not called so already."""
        chosen = {(c.recording_id, c.channel) for c in lane.clips if c.channel is not None}
        heard = {name for recording, n in chosen for name in self.session.channels_of(recording)[n : n + 1]}
        return lane.name if len(heard) != 1 or lane.name in heard else f"{lane.name}, {heard.pop()}"

    def _changed(self, number: int, lane_id: str) -> None:
        self.plan = self.plan.with_lane(number, lane_id)

    def accept(self) -> None:
        super().accept()
        self.session.microphones.apply(self.plan, self.by.value())
