# SPDX-License-Identifier: GPL-3.0-or-later
"""The chosen band of the equaliser in typed values."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from pulizia.desktop.controls import ChoiceBox, label
from pulizia.settings.bands import KINDS, NARROWEST_Q, SLOPES, WIDEST_Q, Band
from pulizia.units import format_number
from pulizia.words import tr, translated


class BandRow(QWidget):
    """Kind, frequency, gain and width of one band."""

    def __init__(self, change: Callable[[Band], None]) -> None:
        super().__init__()
        self._change = change
        self._band: Band | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 2, 0, 2)
        column.setSpacing(4)
        row = QHBoxLayout()
        row.setSpacing(5)
        self.kind = ChoiceBox()
        for kind in KINDS:
            self.kind.addItem(translated(kind), kind)
        self.kind.setAccessibleName(tr("Kind of band"))
        self.kind.activated.connect(lambda _index: self._typed())
        column.addWidget(self.kind)
        column.addLayout(row)
        self.fields: dict[str, QLineEdit] = {}
        for name, width in (("Hz", 62), ("dB", 52), ("Q", 44)):
            edit = QLineEdit()
            edit.setProperty("figure", True)
            edit.setAlignment(Qt.AlignmentFlag.AlignRight)
            edit.setFixedWidth(width)
            edit.setAccessibleName(translated({"Hz": tr("Frequency"), "dB": tr("Gain"), "Q": tr("Width")}[name]))
            edit.editingFinished.connect(self._typed)
            self.fields[name] = edit
            row.addWidget(edit)
            row.addWidget(label(name, 11, token="soft"))
        row.addStretch(1)
        self.show_band(None)

    def show_band(self, band: Band | None) -> None:
        """Show a band, or nothing to type into."""
        self._band = band
        self.setEnabled(band is not None)
        if band is None:
            for edit in self.fields.values():
                edit.setText("")
            return
        kind, hz, gain, width = band
        self.kind.setCurrentIndex(self.kind.findData(kind))
        for name, value, decimals in (
            ("Hz", hz, 1 if hz < 1000 else 0),
            ("dB", gain, 1),
            ("Q", width, 2 if width < 6 else 0),
        ):
            if not self.fields[name].hasFocus():
                self.fields[name].setText(format_number(value, decimals))
        self.fields["dB"].setEnabled(kind in ("bell", "low shelf", "high shelf"))
        self.fields["Q"].setToolTip(
            tr("Slope in dB per octave") if "pass" in kind else tr("Width: Q, higher is narrower")
        )

    def _typed(self) -> None:
        if self._band is None:
            return
        _, hz, gain, width = self._band
        kind = str(self.kind.currentData())
        try:
            hz, gain, width = (
                float(self.fields[n].text().replace("\u2212", "-").replace(",", ".")) for n in ("Hz", "dB", "Q")
            )
        except ValueError:
            self.show_band(self._band)
            return
        hz, gain = min(max(hz, 10.0), 20_000.0), min(max(gain, -30.0), 30.0)
        if "pass" in kind:
            width = float(min(SLOPES, key=lambda s: abs(s - width)))
        else:
            width = min(max(width, WIDEST_Q), NARROWEST_Q)
        made: Band = (kind, hz, gain, width)
        if made != self._band:
            self._change(made)
