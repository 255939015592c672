# SPDX-License-Identifier: GPL-3.0-or-later
"""A step's ride over the waveform: its line, and a dot on each phrase that can be moved."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QPainter, QPen

from pulizia.desktop.bench.time_axis import GUTTER, TimeAxis
from pulizia.desktop.strokes import polygon
from pulizia.desktop.theme import colour, font
from pulizia.session.session import Session
from pulizia.tools.base import Handle, Survey
from pulizia.units import format_number
from pulizia.words import translated

MOST_DB = 18.0  # at the edges of the waveform
NEAR_PX = 8.0
HANDLE_REACH_S = 0.06


class RideCurve:
    """The curve of the selected step, where its tool has handles."""

    def __init__(self, session: Session, axis: TimeAxis) -> None:
        self.session, self.axis = session, axis
        self.grabbed: Handle | None = None
        self._moved = 0.0

    def survey(self) -> Survey | None:
        """What is known of the selected step, if it has a ride."""
        step, chain = self.session.step, self.session.chain
        if step is None or chain is None or not step.tool.handle_field or step.id not in chain.stages:
            return None
        found = self.session.surveys.of(chain.stages[step.id])
        survey = found.survey if found else None
        return survey if survey is not None and survey.curves else None

    def place_of(self, handle: Handle, plot: QRectF) -> QPointF:
        """Where a handle lies."""
        return QPointF(GUTTER + self.axis.x_at(handle.frame), self.y_of(handle.level_db, plot))

    @staticmethod
    def y_of(level_db: float, plot: QRectF) -> float:
        """Height of a gain."""
        return plot.center().y() - min(max(level_db, -MOST_DB), MOST_DB) / MOST_DB * plot.height() / 2

    def under(self, place: QPointF, plot: QRectF) -> Handle | None:
        """The handle at a place."""
        survey = self.survey()
        near = [
            ((self.place_of(h, plot) - place).manhattanLength(), h.frame, h) for h in (survey.handles if survey else ())
        ]
        best = min(near, default=(99.0, 0, None))
        return best[2] if best[0] <= NEAR_PX + 4 else None

    def press(self, place: QPointF, plot: QRectF) -> bool:
        """Take hold of a handle."""
        self.grabbed = self.under(place, plot)
        if self.grabbed is not None:
            self._moved = self.grabbed.level_db
        return self.grabbed is not None

    def move(self, place: QPointF, plot: QRectF) -> None:
        """Move the handle that is held."""
        level = (plot.center().y() - place.y()) / (plot.height() / 2) * MOST_DB
        self._set(round(min(max(level, -MOST_DB), MOST_DB), 1))

    def release(self) -> None:
        """Let go."""
        self.grabbed = None
        self.session.document.history.settle()

    def remove(self, place: QPointF, plot: QRectF) -> bool:
        """Give the phrase under a place back to the program; one that was not moved stays untouched at 0 dB."""
        handle, step, recording = self.under(place, plot), self.session.step, self.session.recording
        if handle is None or step is None or recording is None:
            return False
        known = self._known()
        seconds = handle.frame / recording.rate
        kept = tuple(p for p in known if abs(p[0] - seconds) > HANDLE_REACH_S)
        changed = kept if kept != known else tuple(sorted((*known, (round(seconds, 3), 0.0))))
        self.session.document.change_settings(recording.id, step.id, **{step.tool.handle_field: changed})
        self.session.document.history.settle()
        return True

    def _known(self) -> tuple[tuple[float, float], ...]:
        step = self.session.step
        return getattr(step.settings, step.tool.handle_field) if step is not None else ()

    def _set(self, level_db: float) -> None:
        step, recording, handle = self.session.step, self.session.recording, self.grabbed
        if step is None or recording is None or handle is None or level_db == self._moved:
            return
        self._moved = level_db
        seconds = round(handle.frame / recording.rate, 3)
        kept = tuple(p for p in self._known() if abs(p[0] - seconds) > HANDLE_REACH_S)
        changed = tuple(sorted((*kept, (seconds, level_db))))
        self.session.document.change_settings(recording.id, step.id, **{step.tool.handle_field: changed})

    def paint(self, painter: QPainter, plot: QRectF) -> None:
        """Draw the line and the dots over the waveform."""
        survey = self.survey()
        if survey is None:
            return
        curve = survey.curves[0]
        first = max(0, int(self.axis.left / curve.step) - 1)
        last = min(len(curve.level_db), int(self.axis.right / curve.step) + 2)
        if last - first < 2:
            return
        thin = max(1, (last - first) // (2 * int(plot.width())))
        at = np.arange(first, last, thin)
        x = GUTTER + (at * curve.step - self.axis.left) / self.axis.frames_per_pixel
        level = np.clip(curve.level_db[at], -MOST_DB, MOST_DB)
        points = polygon(x, plot.center().y() - level / MOST_DB * plot.height() / 2)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for token, width in (("panel", 4.0), ("verd", 1.6)):
            painter.setPen(QPen(colour(token, 0.8 if token == "panel" else 1.0), width))
            painter.drawPolyline(points)
        painter.setFont(font(11))
        last_x = -99.0
        for handle in survey.handles:
            shown = self._moved if self.grabbed is not None and self.grabbed.frame == handle.frame else handle.level_db
            place = self.place_of(Handle(handle.frame, shown), plot)
            if not -8 <= place.x() - GUTTER <= plot.width() + 8 or place.x() - last_x < 12:
                continue
            last_x = place.x()
            painter.setPen(QPen(colour("verd"), 1.4))
            painter.setBrush(colour("panel"))
            painter.drawEllipse(place, 4.5, 4.5)
            if self.grabbed is not None and self.grabbed.frame == handle.frame:
                box = QRectF(place.x() + 8, place.y() - 8, 52, 16)
                painter.fillRect(box, colour("panel"))
                painter.setPen(colour("verd_text"))
                painter.drawText(box, translated(f"{format_number(shown, plus=True)} dB"))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
