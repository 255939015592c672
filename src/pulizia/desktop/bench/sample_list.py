# SPDX-License-Identifier: GPL-3.0-or-later
"""In the sheet: where a tool has learned what it removes; each sample can be heard, removed or rejected."""

from __future__ import annotations

from functools import partial

from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from pulizia.desktop.controls import button, label
from pulizia.session.session import Session
from pulizia.tools.base import Sample
from pulizia.units import format_number, format_time
from pulizia.words import tr


class SampleList(QWidget):
    """One row for each sample with its place and level, and what was rejected or set by hand."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._shown: object = None
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(0)
        self.setAccessibleName(tr("Noise samples"))

    def show_samples(self, samples: tuple[Sample, ...], rejected: int, *, moved: bool) -> None:
        """Show samples, how many were rejected, and whether sections were moved by hand."""
        if (wanted := (samples, rejected, moved)) == self._shown:
            return
        self._shown = wanted
        while (item := self._column.takeAt(0)) is not None:
            if (old := item.widget()) is not None:
                old.hide()
                old.deleteLater()
        for sample in samples:
            self._column.addWidget(self._row(sample))
        service = self.session.repairs
        if rejected:
            tip = tr("Learn from rejected passages again")
            self._column.addWidget(button(tr("Use rejected passages"), service.accept_rejected, tip=tip, quiet=True))
        if moved:
            tip = tr("Find where the noise changes again")
            self._column.addWidget(button(tr("Find sections"), service.find_sections, tip=tip, quiet=True))

    def _row(self, sample: Sample) -> QWidget:
        owner = self.session.owner
        rate = owner.rate if owner is not None else 48_000
        place = f"{format_time(sample.start / rate, 1)}\u2013{format_time(sample.stop / rate, 1)}"
        made = QWidget()
        row = QHBoxLayout(made)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        go = partial(self._go, sample)
        row.addWidget(button(place, go, tip=tr("Select this sample and go there"), quiet=True))
        row.addStretch(1)
        row.addWidget(label(f"{format_number(sample.level_db)} dBFS", 12, token="ink" if sample.by_hand else "soft"))
        drop = partial(self.session.repairs.drop_sample, sample)
        tip = (
            tr("Remove the sample at {place}", place=place)
            if sample.by_hand
            else tr("Found automatically. Do not learn from {place}", place=place)
        )
        cross = button("\u00d7", drop, tip=tip, quiet=True)
        cross.setAccessibleName(tip)
        cross.setFixedWidth(26)
        row.addWidget(cross)
        return made

    def _go(self, sample: Sample) -> None:
        self.session.select_owner(sample.start, sample.stop)
        self.session.seek_owner(sample.start)
