# SPDX-License-Identifier: GPL-3.0-or-later
"""An editor for the person's own targets."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QVBoxLayout,
    QWidget,
)

from pulizia.delivery.targets import Target, remove_own, save_own, shipped_targets, unchecked_note
from pulizia.desktop.controls import ChoiceBox, FigureBox, button, label
from pulizia.errors import PuliziaError
from pulizia.media.folders import config_folder
from pulizia.media.write import write_text
from pulizia.session.session import Session
from pulizia.words import N_, tr, translated

FIGURES = (
    ("integrated_lufs", N_("Loudness"), -40.0, -5.0, " LUFS", False), ("tolerance_lu", N_("Tolerance"), 0.0, 5.0, " LU", False),
    ("true_peak_dbtp", N_("Max. true peak"), -20.0, 0.0, " dBTP", False),
    ("short_term_max_lufs", N_("Max. short-term"), -40.0, 0.0, " LUFS", True),
    ("momentary_max_lufs", N_("Max. momentary"), -40.0, 0.0, " LUFS", True),
    ("loudness_range_max_lu", N_("Max. loudness range"), 1.0, 30.0, " LU", True),
)  # fmt: skip


class TargetDialog(QDialog):
    """Begins with the chosen target; keeps it under a name of one's own."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.session = session
        self.setWindowTitle(tr("Custom target"))
        self.setFixedWidth(430)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        column = QVBoxLayout(self)
        column.addWidget(label(tr("Custom target"), 20, bold=True))
        grid = QGridLayout()
        self.title = QLineEdit()
        self.title.setAccessibleName(tr("Name"))
        self.source = QLineEdit()
        self.source.setAccessibleName(tr("Document"))
        grid.addWidget(label(tr("Name")), 0, 0)
        grid.addWidget(self.title, 0, 1, 1, 2)
        grid.addWidget(label(tr("Document")), 1, 0)
        grid.addWidget(self.source, 1, 1, 1, 2)
        self._build_figures(grid)
        self.gate = ChoiceBox()
        self.gate.addItem(tr("Whole programme"), "programme")
        self.gate.addItem(tr("Speech only"), "dialogue")
        self.gate.setAccessibleName(tr("Gate"))
        self.scale = ChoiceBox()
        for word in ("LUFS", "LKFS"):
            self.scale.addItem(word, word)
        self.scale.setAccessibleName(tr("Unit"))
        grid.addWidget(self.gate, 9, 0, 1, 2)
        grid.addWidget(self.scale, 9, 2)
        column.addLayout(grid)
        self.words = label("", 12, token="madder", wrap=True)
        column.addWidget(self.words)
        row = QHBoxLayout()
        self.remove_button = button(tr("Remove"), self.remove, tip=tr("Remove this custom target"), quiet=True)
        row.addWidget(self.remove_button)
        row.addStretch(1)
        row.addWidget(button(tr("Close"), self.reject))
        row.addWidget(button(tr("Save"), self.keep, main=True))
        column.addLayout(row)
        self._show(session.target)

    def _build_figures(self, grid: QGridLayout) -> None:
        self.spins: dict[str, FigureBox] = {}
        self.ticks: dict[str, QCheckBox] = {}
        for n, (name, words, low, high, unit, optional) in enumerate(FIGURES, 2):
            spin = FigureBox()
            spin.setRange(low, high)
            spin.setSingleStep(0.5)
            spin.setDecimals(1)
            spin.setSuffix(unit)
            spin.setAccessibleName(translated(words))
            self.spins[name] = spin
            if optional:
                tick = QCheckBox(translated(words))
                tick.toggled.connect(spin.setEnabled)
                self.ticks[name] = tick
                grid.addWidget(tick, n, 0, 1, 2)
            else:
                grid.addWidget(label(words), n, 0, 1, 2)
            grid.addWidget(spin, n, 2)

    def _show(self, target: Target | None) -> None:
        shipped = {t.id for t in shipped_targets()}
        own = target is not None and target.id not in shipped
        self.remove_button.setVisible(own)
        self._id = target.id if target is not None and own else ""
        self.title.setText(
            translated(
                target.title
                if target is not None and own
                else tr("{title}, custom", title=target.title)
                if target
                else ""
            )
        )
        self.source.setText(translated(target.source if target is not None and own else ""))
        for name, *_ in FIGURES:
            value = getattr(target, name) if target is not None else None
            if name in self.ticks:
                self.ticks[name].setChecked(value is not None)
                self.spins[name].setEnabled(value is not None)
            if value is not None:
                self.spins[name].setValue(value)
        if target is not None:
            self.gate.setCurrentIndex(self.gate.findData(target.gate))
            self.scale.setCurrentIndex(max(0, self.scale.findData(target.scale)))
            note = unchecked_note(target)
            self.words.setText(tr("Figures of {source}. {note}", source=target.source, note=note) if note else "")

    def made(self) -> Target:
        """The target that the fields describe."""
        title = self.title.text().strip()
        figures = {
            name: round(self.spins[name].value(), 2) if name not in self.ticks or self.ticks[name].isChecked() else None
            for name, *_ in FIGURES
        }
        short = "-".join("".join(c if c.isalnum() else " " for c in title.lower()).split())
        return Target(
            id=self._id or short, title=title, gate=self.gate.currentData(), scale=self.scale.currentData(),
            source=self.source.text().strip() or "own", purpose=tr("Custom target"), **figures,  # type: ignore[arg-type]
        )  # fmt: skip

    def keep(self) -> None:
        """Save it in the user's folder and choose it."""
        if not self.title.text().strip():
            self.words.setText(tr("Give the target a name first."))
            return
        try:
            target = self.made()
            save_own(target, config_folder("targets"), write_text)
        except PuliziaError as error:
            self.words.setText(str(error))
            return
        self.session.read_targets()
        self.session.document.set_target(target.id)
        self.accept()

    def remove(self) -> None:
        """Take it away and go back to the first target."""
        try:
            remove_own(self._id, config_folder("targets"), write_text)
        except PuliziaError as error:
            self.words.setText(str(error))
            return
        self.session.read_targets()
        self.session.document.set_target(next(iter(self.session.targets)))
        self.accept()
