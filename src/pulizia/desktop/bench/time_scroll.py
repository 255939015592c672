# SPDX-License-Identifier: GPL-3.0-or-later
"""The scroll bar of a time axis."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QScrollBar

from pulizia.desktop.bench.time_axis import GUTTER, TimeAxis

STEPS = 10_000


class TimeScroll(QScrollBar):
    """Follows a time axis and moves it."""

    def __init__(self, axis: TimeAxis) -> None:
        super().__init__(Qt.Orientation.Horizontal)
        self._axis = axis
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.valueChanged.connect(self._scrolled)
        axis.changed.connect(self._follow)

    def between_gutters(self) -> QHBoxLayout:
        """A row that holds it under the views."""
        row = QHBoxLayout()
        row.setContentsMargins(GUTTER, 2, GUTTER, 0)
        row.addWidget(self)
        return row

    def _follow(self) -> None:
        axis = self._axis
        span = axis.width * axis.frames_per_pixel
        page = max(1, round(STEPS * span / max(1, axis.frames)))
        self.blockSignals(True)
        self.setRange(0, max(0, STEPS - page))
        self.setPageStep(page)
        self.setValue(round((STEPS - page) * axis.left / max(1.0, axis.frames - span)))
        self.setEnabled(not axis.is_whole)
        self.blockSignals(False)

    def _scrolled(self, value: int) -> None:
        span = self._axis.width * self._axis.frames_per_pixel
        self._axis.scroll_to(value / max(1, self.maximum()) * (self._axis.frames - span))
