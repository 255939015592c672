# SPDX-License-Identifier: GPL-3.0-or-later
"""A drag on an axis: along it moves what is shown, across it zooms; the first pixels settle which."""

from __future__ import annotations

from PySide6.QtCore import QPointF, Qt

SETTLED_PX = 4.0
ZOOM_PER_PX = 1.012


class AxisDrag:
    """From the press of the button to its release, on a horizontal or vertical axis."""

    def __init__(self, place: QPointF, orientation: Qt.Orientation) -> None:
        self.start, self._last = place, place
        self._lies = orientation is Qt.Orientation.Horizontal
        self.way = ""  # "move" or "zoom" once it is settled

    def move(self, place: QPointF) -> tuple[float, float]:
        """Pixels to move along the axis, and the factor to zoom by (above 1 is closer), since the last time."""
        total = place - self.start
        along, across = (total.x(), total.y()) if self._lies else (total.y(), total.x())
        if not self.way:
            if max(abs(along), abs(across)) < SETTLED_PX:
                return 0.0, 1.0
            self.way = "move" if abs(along) >= abs(across) else "zoom"
        step, self._last = place - self._last, place
        along, across = (step.x(), step.y()) if self._lies else (step.y(), step.x())
        if self.way == "move":
            return along, 1.0
        return 0.0, ZOOM_PER_PX ** (-across if self._lies else across)  # up, or away from the sound, is closer
