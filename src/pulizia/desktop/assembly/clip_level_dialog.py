# SPDX-License-Identifier: GPL-3.0-or-later
"""The selected clips brought to a loudness or a peak, each by itself or all as one."""

from __future__ import annotations

from PySide6.QtWidgets import QDialog, QWidget

from pulizia.desktop.controls import ChoiceBox, FigureBox
from pulizia.desktop.form import lay_out_form
from pulizia.session.clip_levels import UNITS, Aspect
from pulizia.session.session import Session
from pulizia.words import tr

USUAL: dict[Aspect, float] = {"loudness": -23.0, "peak": -3.0}


class ClipLevelDialog(QDialog):
    """What is measured, the level, and whether the balance stays."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.session = session
        self.setWindowTitle(tr("Level of clips"))
        self.aspect = ChoiceBox()
        self.aspect.addItem(tr("loudness (ITU-R BS.1770)"), "loudness")
        self.aspect.addItem(tr("true peak"), "peak")
        self.aspect.activated.connect(lambda _index: self._usual())
        self.level = FigureBox()
        self.level.setRange(-70.0, 0.0)
        self.level.setDecimals(1)
        self.together = ChoiceBox()
        self.together.addItem(tr("each clip on its own"), userData=False)
        self.together.addItem(tr("all as one: their balance stays"), userData=True)
        rows = ((tr("Measured"), self.aspect), (tr("Level"), self.level), (tr("Clips"), self.together))
        lay_out_form(self, rows)
        self._usual()

    def _usual(self) -> None:
        aspect: Aspect = self.aspect.currentData()
        target = self.session.target
        level = target.integrated_lufs if aspect == "loudness" and target is not None else USUAL[aspect]
        self.level.setSuffix(f" {UNITS[aspect]}")
        self.level.setValue(level)

    def accept(self) -> None:
        super().accept()
        self.session.clip_levels.match(
            self.aspect.currentData(), self.level.value(), together=self.together.currentData()
        )
