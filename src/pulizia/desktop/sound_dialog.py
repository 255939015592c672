# SPDX-License-Identifier: GPL-3.0-or-later
"""Where the sound goes and how loud: the output, found again when plugged in, and the level."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QHBoxLayout, QVBoxLayout, QWidget

from pulizia.desktop.controls import ChoiceBox, button, label
from pulizia.desktop.sliders import SliderRow
from pulizia.session.session import Session
from pulizia.session.sound_out import SIMULATED, SIMULATED_WORDS, Choice, output_of, outputs
from pulizia.settings.declare import Number
from pulizia.units import Unit, db_to_gain, gain_to_db
from pulizia.words import N_, tr, translated

LEVEL = Number(
    label=N_("Level"), help=N_("Monitoring level. Meters and files do not change."), unit=Unit.DB,
    low=-40.0, high=12.0, step=0.5, scale="linear", whole=False, optional=False, more=False,
)  # fmt: skip


class SoundDialog(QDialog):
    """Choices take effect at once."""

    def __init__(self, session: Session, parent: QWidget, chosen: Callable[[str], None] = lambda _id: None) -> None:
        super().__init__(parent)
        self.session, self._remember = session, chosen
        self.setWindowTitle(tr("Sound output"))
        self.setFixedWidth(420)
        column = QVBoxLayout(self)
        column.addWidget(label(tr("Sound output"), 20, bold=True))
        row = QHBoxLayout()
        self.box = ChoiceBox()
        self.box.setAccessibleName(tr("Output"))
        row.addWidget(self.box, 1)
        self.refresh_button = button(
            tr("Rescan"), lambda: self.fill(again=True), tip=tr("Look for outputs that were connected")
        )
        row.addWidget(self.refresh_button)
        column.addLayout(row)
        self.words = label("", 12, token="soft", wrap=True)
        column.addWidget(self.words)
        self.level = SliderRow(LEVEL, 0.0, round(gain_to_db(session.transport.volume), 1))
        self.level.changed.connect(self._set_level)
        self.level.refused.connect(self.words.setText)
        column.addWidget(self.level)
        column.addWidget(button(tr("Close"), self.accept), alignment=Qt.AlignmentFlag.AlignRight)
        self._found: list[Choice] = []
        self.fill()
        self.box.activated.connect(self._choose)

    def fill(self, *, again: bool = False) -> None:
        """List the outputs."""
        if again and self.session.transport.is_playing:
            self.session.transport.stop()
            self.session.events.playing.emit()
        self._found = [*outputs(again=again), Choice(SIMULATED, translated(SIMULATED_WORDS))]
        self.box.clear()
        self.box.addItems([choice.name for choice in self._found])
        now = self.session.transport.output
        names = [choice.name for choice in self._found]
        self.box.setCurrentIndex(names.index(now.name) if now.name in names else len(names) - 1)
        if len(self._found) == 1:
            text = tr("No sound output was found. Connect one and rescan.")
        elif now.underruns:
            text = tr("{n} drop-outs since the start: the machine is too busy.").replace("{n}", str(now.underruns))
        else:
            text = tr("The playhead shows what is heard: output latency is compensated.")
        self.words.setText(text)

    def _choose(self, index: int) -> None:
        choice = self._found[index]
        self.session.transport.use_output(output_of(choice.id, choice.name))
        self._remember(choice.id)
        self.session.events.playing.emit()

    def _set_level(self, db: float) -> None:
        self.session.transport.volume = db_to_gain(db)
