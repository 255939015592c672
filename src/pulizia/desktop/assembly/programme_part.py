# SPDX-License-Identifier: GPL-3.0-or-later
"""In the sheet: the programme's name, its channels, start timecode and picture rate, and what can be done with all of it."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from pulizia.audio.timecode import TimecodeError, can_drop, frame_of, timecode
from pulizia.desktop.controls import ChoiceBox, Tick, button, label, setting_name
from pulizia.project.clips import PICTURE_RATES, Programme
from pulizia.session.session import Session
from pulizia.units import format_number
from pulizia.words import N_, tr

LAYOUTS = ((1, N_("mono")), (2, N_("stereo")), (6, "5.1"), (8, "7.1"))


class ProgrammePart(QWidget):
    """Shown while no clip is selected."""

    render_asked = Signal()
    deliver_asked = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        assembly = session.assembly
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(6)
        self.name = QLineEdit()
        self.name.setAccessibleName(tr("Name of the programme"))
        self.name.editingFinished.connect(lambda: assembly.rename(self.name.text()))
        self._row(N_("Name"), self.name)
        self.choice = ChoiceBox()
        self.choice.setAccessibleName(tr("Choice of the programme"))
        self.choice.activated.connect(lambda _i: assembly.choose_programme(self.choice.currentData()))
        self._column.addWidget(self.choice)
        self.channels = ChoiceBox()
        self.channels.setAccessibleName(tr("Channels of the programme"))
        for count, words in LAYOUTS:
            self.channels.addItem(tr(words) if count < 3 else words, count)
        self.channels.activated.connect(
            lambda _i: assembly.change_programme(tr("Change the channels"), channels=self.channels.currentData())
        )
        self._row(N_("Channels"), self.channels)
        self.start = QLineEdit()
        self.start.setAccessibleName(tr("Start timecode"))
        self.start.editingFinished.connect(self._start)
        self._row(N_("Starts at"), self.start)
        self.rate = ChoiceBox()
        self.rate.setAccessibleName(tr("Frames of the picture a second"))
        for rate in PICTURE_RATES:
            whole = rate.denominator == 1
            self.rate.addItem(tr("{rate} frames/s", rate=format_number(float(rate), 0 if whole else 3)), rate)
        self.rate.activated.connect(self._rate)
        self._row(N_("Picture"), self.rate)
        self.drop = Tick(tr("Drop-frame timecode"))
        self.drop.clicked.connect(
            lambda on: assembly.change_programme(tr("Change the picture rate"), drop_frame=bool(on))
        )
        self._column.addWidget(self.drop)
        self.locked = Tick(tr("Picture locked: nothing moves up or back"))
        self.locked.setToolTip(
            tr(
                "Edits that close a gap or make room are refused; removing leaves a gap, so all stays in sync with the picture"
            )
        )
        self.locked.clicked.connect(
            lambda on: assembly.change_programme(tr("Lock or unlock the picture"), picture_locked=bool(on))
        )
        self._column.addWidget(self.locked)
        for words, call, tip in (
            (tr("New programme"), lambda: assembly.new_programme(), ""),  # noqa: PLW0108 - the click has an argument
            (tr("Add a lane"), lambda: assembly.add_lane(), ""),  # noqa: PLW0108
            (
                tr("Fill gaps with room tone"),
                assembly.fill_gaps,
                tr("In the chosen lane, from the recordings beside each gap"),
            ),
        ):
            self._column.addWidget(button(words, call, tip=tip))
        tip = tr("In Delivery: bring it to the chosen target, and measure the file (Ctrl+D)")
        self._column.addWidget(button(tr("Deliver the programme…"), self.deliver_asked.emit, main=True, tip=tip))
        self._column.addWidget(
            button(tr("Render the programme…"), self.render_asked.emit, tip=tr("Write it as a WAV file"))
        )
        self._column.addSpacing(6)
        self._column.addWidget(
            label(
                tr("Double-click a recording at the left, or drag it onto a lane. Drag a clip to move it, its edges to trim it, the circles at its top to fade it; with Alt its sound slips inside it. Double-click a clip to repair it on the Bench; F3 comes back."),
                13, token="soft", wrap=True,
            )
        )  # fmt: skip

    def _row(self, words: str, part: QWidget) -> None:
        row = QHBoxLayout()
        row.addWidget(setting_name(words))
        row.addWidget(part, 1)
        self._column.addLayout(row)

    def _start(self) -> None:
        programme = self.session.assembly.programme
        if programme is None:
            return
        try:
            frame = frame_of(self.start.text(), programme.picture_rate, drop=programme.drop_frame)
        except TimecodeError as error:
            self.session.say(str(error), bad=True)
            frame = programme.start_frame
        if frame != programme.start_frame:
            self.session.assembly.change_programme(tr("Change the start timecode"), start_frame=frame)
        self.show_programme(programme)

    def _rate(self, _index: int) -> None:
        """Another picture rate: the start keeps its timecode as it is read."""
        programme = self.session.assembly.programme
        if programme is None:
            return
        rate = self.rate.currentData()
        drop = programme.drop_frame and can_drop(rate)
        shown = timecode(programme.start_frame, programme.picture_rate, drop=programme.drop_frame)
        try:
            start = frame_of(shown.replace(";", ":"), rate, drop=drop)
        except TimecodeError:  # a frame that the new rate does not have
            start = frame_of(shown[:8] + ":00", rate, drop=False)
        self.session.assembly.change_programme(
            tr("Change the picture rate"), picture_rate=rate, drop_frame=drop, start_frame=start
        )

    def show_programme(self, programme: Programme) -> None:
        """Show it as it is now."""
        programme = self.session.assembly.programme or programme
        self.choice.clear()
        for known in self.session.document.project.programmes:
            self.choice.addItem(known.name, known.id)
        self.choice.setCurrentIndex(self.choice.findData(programme.id))
        self.choice.setVisible(self.choice.count() > 1)
        self.channels.setCurrentIndex(self.channels.findData(programme.channels))
        self.rate.setCurrentIndex(
            PICTURE_RATES.index(programme.picture_rate) if programme.picture_rate in PICTURE_RATES else -1
        )
        self.drop.setVisible(can_drop(programme.picture_rate))
        self.drop.setChecked(programme.drop_frame)
        self.locked.setChecked(programme.picture_locked)
        if not self.name.hasFocus():
            self.name.setText(programme.name)
        if not self.start.hasFocus():
            self.start.setText(timecode(programme.start_frame, programme.picture_rate, drop=programme.drop_frame))
