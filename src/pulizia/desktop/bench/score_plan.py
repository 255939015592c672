# SPDX-License-Identifier: GPL-3.0-or-later
"""Where everything in the score lies: strips, dots, ends and the row for a new step, in pixels."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

from PySide6.QtCore import QPointF, QRectF

from pulizia.audio.layouts import shown_names
from pulizia.audio.spans import Span
from pulizia.desktop.bench.lane import EDGE_PX
from pulizia.desktop.bench.time_axis import GUTTER, TimeAxis
from pulizia.score.steps import Step
from pulizia.words import tr

PITCHES = ((5, 32, 26), (8, 26, 20), (1000, 22, 18))  # up to so many steps: from row to row, height of a strip
TOP = 8
ROOMY = 1.3  # times as tall in a tall window

LEAST_WIDTH = 6.0


@dataclass(frozen=True)
class ScorePlan:
    """The score at one moment.

    Attributes
    ----------
    steps : in the order in which sound passes them
    frames : of the recording
    height : of the widget, in pixels
    edges_of : frames at which sections inside a step's strip begin
    roomy : whether there is room for taller rows
    """

    steps: tuple[Step, ...]
    frames: int
    axis: TimeAxis
    height: int
    edges_of: Callable[[Step], tuple[int, ...]] = lambda _step: ()
    roomy: bool = False

    @cached_property
    def plot(self) -> QRectF:
        """The area between the gutters: as wide as the axis, though a scroll bar may stand in the right gutter."""
        return QRectF(GUTTER, 0, max(16, self.axis.width), self.height)

    @property
    def pitch(self) -> int:
        """From row to row."""
        return round(self._density[1] * (ROOMY if self.roomy else 1.0))

    @property
    def strip_height(self) -> int:
        """Of each strip."""
        return round(self._density[2] * (ROOMY if self.roomy else 1.0))

    @property
    def _density(self) -> tuple[int, int, int]:
        return next((d for d in PITCHES if len(self.steps) <= d[0]), PITCHES[-1])

    @property
    def whole_height(self) -> int:
        """What all rows need."""
        return TOP + (len(self.steps) + 1) * self.pitch + 4

    def row_box(self, row: int) -> QRectF:
        """A whole row between the gutters."""
        return QRectF(self.plot.left(), TOP + row * self.pitch, self.plot.width(), self.pitch)

    def row_at(self, y: float) -> int:
        """The row at a height; the one after the last is that for a new step."""
        return int((y - TOP) // self.pitch)

    def strip_box(self, row: int, span: Span) -> QRectF:
        """Where a step's stretch lies (beyond the view when it is)."""
        x0, x1 = GUTTER + self.axis.x_at(span.start), GUTTER + self.axis.x_at(span.stop)
        y = TOP + row * self.pitch + (self.pitch - self.strip_height) / 2
        return QRectF(x0, y, max(x1 - x0, LEAST_WIDTH), self.strip_height)

    def spans(self, row: int) -> tuple[Span, ...]:
        """Where the step of a row acts."""
        return self.steps[row].acts_in(self.frames) if self.frames else ()

    def label_box(self, row: int) -> QRectF:
        """What is in view of the stretch that carries the name: the longest one in view."""
        spans = self.spans(row) or (Span(0, max(1, self.axis.frames)),)

        def seen(span: Span) -> float:
            return min(span.stop, self.axis.right) - max(span.start, self.axis.left)

        box = self.strip_box(row, max(spans, key=seen))
        left, right = max(box.left(), self.plot.left()), min(box.right(), self.plot.right())
        return QRectF(
            min(left, self.plot.right() - LEAST_WIDTH), box.top(), max(right - left, LEAST_WIDTH), box.height()
        )

    def out_of_view(self, row: int) -> Span | None:
        """Where the step of a row acts nearest to the view, when none of it is in view."""
        spans = self.spans(row)
        if not spans or any(s.stop > self.axis.left and s.start < self.axis.right for s in spans):
            return None
        return min(spans, key=lambda s: max(self.axis.left - s.stop, s.start - self.axis.right))

    def dot_place(self, row: int) -> QPointF:
        """Middle of a strip's on/off dot."""
        box = self.label_box(row)
        return QPointF(box.left() + 13, box.center().y())

    def grip_at(self, place: QPointF) -> tuple[int, str, int] | None:
        """Row, what is under the mouse ("start", "stop", "edge", "body" or "empty") and which stretch or edge."""
        row = self.row_at(place.y())
        if not 0 <= row < len(self.steps):
            return None
        boxes = [self.strip_box(row, span) for span in self.spans(row)]
        for index, box in enumerate(boxes):
            if abs(place.x() - box.left()) <= EDGE_PX:
                return row, "start", index
            if abs(place.x() - box.right()) <= EDGE_PX:
                return row, "stop", index
        for index, frame in enumerate(self.edges_of(self.steps[row])):
            if abs(place.x() - GUTTER - self.axis.x_at(frame)) <= EDGE_PX:
                return row, "edge", index
        for index, box in enumerate(boxes):
            if box.contains(place):
                return row, "body", index
        return row, "empty", 0


def channels_told(step: Step, names: Sequence[str]) -> str:
    """The channels that a step is for, by name or number; "" where it is for all."""
    if step.channels is None or step.channels == tuple(range(len(names))):
        return ""
    return ", ".join(shown_names(names)[c] if c < len(names) else str(c + 1) for c in step.channels)


def detail_of(step: Step, names: Sequence[str] = ()) -> str:
    """The short text behind a step's name; ``names`` are those of the channels."""
    parts = [step.tool.caption(step.settings)]
    if told := channels_told(step, names):
        parts.append(told)
    if step.band_hz:
        low, high = (tr("{hz:.1f}", hz=hz / 1000).rstrip("0").rstrip(".") for hz in step.band_hz)
        parts.append(tr("{low}–{high} kHz", low=low, high=high))
    if step.holes:
        parts.append(tr("original restored in places") if len(step.holes) > 1 else tr("original restored once"))
    if not step.enabled:
        parts.append(tr("switched off"))
    return ", ".join(parts)
