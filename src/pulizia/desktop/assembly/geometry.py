# SPDX-License-Identifier: GPL-3.0-or-later
"""Where lanes and clips lie in the view, and what of a clip is under the mouse."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from PySide6.QtCore import QPointF, QRectF

from pulizia.desktop.bench.time_axis import GUTTER, TimeAxis
from pulizia.project.clips import Clip, Lane, Programme

HEAD_PX, LEAST_LANE, SHARED_LANE, MOST_LANE, GAP_PX = 20, 52, 120, 240, 6
EDGE_PX, CORNER_PX, NAME_PX = 6, 12, 16
Grip = Literal["start", "stop", "in", "out", "body"]


@dataclass(frozen=True, slots=True)
class Hit:
    """A clip under the mouse, and by what it would be taken."""

    lane: Lane
    clip: Clip
    grip: Grip


class Geometry:
    """Lanes below each other: a head with the name, the clips under it."""

    def __init__(self, axis: TimeAxis) -> None:
        self.axis = axis
        self.lane_height = 78

    def share(self, height: int, count: int) -> None:
        """Let ``count`` lanes fill a height, as far as they may grow and shrink."""
        self.lane_height = min(max((height - 8) // count - HEAD_PX - GAP_PX, LEAST_LANE), SHARED_LANE)

    @property
    def pitch(self) -> int:
        """From one lane to the next."""
        return HEAD_PX + self.lane_height + GAP_PX

    def height(self, programme: Programme | None) -> int:
        """Of all lanes."""
        return self.pitch * (len(programme.lanes) if programme is not None else 0) + 8

    def head(self, number: int, width: float) -> QRectF:
        """The row with a lane's name."""
        return QRectF(GUTTER, number * self.pitch + 2, width - 2 * GUTTER, HEAD_PX)

    def body(self, number: int, width: float) -> QRectF:
        """Where a lane's clips lie."""
        return QRectF(GUTTER, number * self.pitch + HEAD_PX + 2, width - 2 * GUTTER, self.lane_height)

    def lane_at(self, y: float) -> int:
        """Number of the lane at a height; it may lie beyond the last."""
        return max(0, int((y - 2) // self.pitch))

    def box(self, clip: Clip, number: int, width: float) -> QRectF:
        """The outline of a clip."""
        body = self.body(number, width)
        left, right = GUTTER + self.axis.x_at(clip.start), GUTTER + self.axis.x_at(clip.stop)
        return QRectF(left, body.top(), max(right - left, 2.0), body.height())

    def in_view(self, lane: Lane) -> Iterator[Clip]:
        """Clips of a lane that are seen, in order."""
        clips = lane.clips  # their starts and stops both rise: none lies inside another
        first = bisect_right(clips, self.axis.left, key=lambda c: c.stop)
        last = bisect_left(clips, self.axis.right, key=lambda c: c.start)
        yield from clips[first:last]

    def hit(self, programme: Programme, place: QPointF, width: float) -> Hit | None:
        """What is under the mouse; the clip that begins later lies on top."""
        number = self.lane_at(place.y())
        if number >= len(programme.lanes):
            return None
        lane = programme.lanes[number]
        boxes = [(clip, self.box(clip, number, width)) for clip in reversed(list(self.in_view(lane)))]
        for near in (0.0, 3.0):  # what lies just beside an edge takes it as well, but only where no clip is
            for clip, box in boxes:
                if box.left() - near <= place.x() < box.right() + near and box.top() <= place.y() <= box.bottom():
                    return Hit(lane, clip, self._grip(clip, box, place))
        return None

    def _grip(self, clip: Clip, box: QRectF, place: QPointF) -> Grip:
        if box.width() < 3 * EDGE_PX:
            return "body"
        scale = self.axis.frames_per_pixel
        top = box.top() + NAME_PX
        if top <= place.y() < top + CORNER_PX + 2:
            fade_in, fade_out = box.left() + clip.fade_in.frames / scale, box.right() - clip.fade_out.frames / scale
            if abs(place.x() - max(fade_in, box.left() + 5)) <= CORNER_PX / 2:
                return "in"
            if abs(place.x() - min(fade_out, box.right() - 5)) <= CORNER_PX / 2:
                return "out"
        if place.x() - box.left() <= EDGE_PX:
            return "start"
        return "stop" if box.right() - place.x() <= EDGE_PX else "body"


def snapped(frame: float, targets: list[int], reach: float) -> int:
    """The nearest target within reach, else the frame itself."""
    near = min(targets, key=lambda t: abs(t - frame), default=None)
    return near if near is not None and abs(near - frame) <= reach else round(frame)
