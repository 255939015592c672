# SPDX-License-Identifier: GPL-3.0-or-later
"""Where lanes and clips lie in the view, and what of a clip is under the mouse."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from itertools import accumulate
from math import floor
from typing import Literal

from PySide6.QtCore import QPointF, QRectF

from pulizia.desktop.bench.time_axis import GUTTER, TimeAxis
from pulizia.project.clips import Clip, Lane, level_at

HEAD_PX, LEAST_LANE, SHARED_LANE, MOST_LANE, GAP_PX = 20, 52, 120, 240, 6
FLATTEST_PX, TALLEST_PX = 30, 480  # of a lane that has a height of its own
SHARED_SHARE = 0.2
EDGE_PX, CORNER_PX, NAME_PX = 6, 12, 16
GAIN_PX, GAIN_EDGE_DB = 5, 24.0  # how near the gain line is taken; dB from its middle to the edge of a clip
HANDLE_PX = 22  # from the left edge of a clip to the handle of its gain
Grip = Literal["start", "stop", "in", "out", "body", "gain", "point"]


@dataclass(frozen=True, slots=True)
class Hit:
    """A clip under the mouse, and by what it would be taken."""

    lane: Lane
    clip: Clip
    grip: Grip
    point: int = -1  # of the gain line


class Geometry:
    """Lanes below each other: a head with the name, the clips under it."""

    def __init__(self, axis: TimeAxis) -> None:
        self.axis = axis
        self.lane_height = 78
        self._shares: tuple[float, ...] = ()
        self._tops: list[int] = []  # of the rows at ``lane_height``, and the end of the last
        self._made_for: tuple[int, tuple[float, ...]] | None = None

    def arrange(self, shares: tuple[float, ...]) -> None:
        """How tall each lane is, relative to ``lane_height``."""
        self._shares = shares

    def tall(self, number: int) -> int:
        """The height of a lane's clips."""
        share = self._shares[number] if number < len(self._shares) else 1.0
        return self.lane_height if share == 1.0 else min(max(round(share * self.lane_height), FLATTEST_PX), TALLEST_PX)

    def top(self, number: int) -> int:
        """Where a lane begins; lanes beyond the last follow at the common height."""
        if self._made_for != (self.lane_height, self._shares):
            self._made_for = (self.lane_height, self._shares)
            heights = (HEAD_PX + self.tall(n) + GAP_PX for n in range(len(self._shares)))
            self._tops = list(accumulate(heights, initial=0))
        last = len(self._tops) - 1
        return self._tops[number] if number <= last else self._tops[last] + (number - last) * self.pitch

    def share(self, height: int, count: int) -> None:
        """Let ``count`` lanes fill a height, as far as they may grow and shrink."""
        most = min(max(SHARED_LANE, round(SHARED_SHARE * height)), MOST_LANE)  # taller in tall windows
        self.lane_height = min(max((height - 8) // count - HEAD_PX - GAP_PX, LEAST_LANE), most)

    @property
    def pitch(self) -> int:
        """From one lane to the next, where it has no height of its own."""
        return HEAD_PX + self.lane_height + GAP_PX

    def height(self, count: int) -> int:
        """Of so many lanes."""
        return self.top(count) + 8

    def head(self, number: int, width: float) -> QRectF:
        """The row with a lane's name."""
        return QRectF(GUTTER, self.top(number) + 2, width - 2 * GUTTER, HEAD_PX)

    def body(self, number: int, width: float) -> QRectF:
        """Where a lane's clips lie."""
        return QRectF(GUTTER, self.top(number) + HEAD_PX + 2, width - 2 * GUTTER, self.tall(number))

    def lane_at(self, y: float) -> int:
        """Number of the lane at a height; it may lie beyond the last."""
        end = self.top(len(self._shares))
        if y - 2 >= end:
            return len(self._shares) + int((y - 2 - end) // self.pitch)
        return max(0, bisect_right(self._tops, y - 2) - 1)

    def edge_at(self, y: float) -> int | None:
        """The lane whose lower edge lies at a height; None where there is none."""
        number = self.lane_at(y)
        return number if number < len(self._shares) and y >= self.top(number + 1) + 2 - GAP_PX else None

    @property
    def origin(self) -> int:
        """The whole pixel of the programme at the left edge: clips stand still on the grid that scrolls with it."""
        return floor(self.axis.left / self.axis.frames_per_pixel + 1e-6)

    def box(self, clip: Clip, number: int, width: float) -> QRectF:
        """The outline of a clip: it begins at a whole pixel, less than two beside its frame."""
        body, scale = self.body(number, width), 1.0 / self.axis.frames_per_pixel
        left = GUTTER + floor(clip.start * scale) - self.origin
        return QRectF(left, body.top(), max(clip.frames * scale, 2.0), body.height())

    def in_view(self, lane: Lane, spare: float = 0.0) -> tuple[Clip, ...]:
        """Clips of a lane that are seen, in order; with those that are so many pixels beside the view."""
        spare *= self.axis.frames_per_pixel
        return between(lane, self.axis.left - spare, self.axis.right + spare)

    def hit(self, rows: Sequence[Lane], place: QPointF, width: float, chosen: Collection[str] = ()) -> Hit | None:
        """What is under the mouse; the clip that begins later lies on top. Gain lines are taken of ``chosen`` clips."""
        number = self.lane_at(place.y())
        if number >= len(rows):
            return None
        lane = rows[number]
        boxes = [(clip, self.box(clip, number, width)) for clip in reversed(self.in_view(lane))]
        for near in (0.0, 3.0):  # what lies just beside an edge takes it as well, but only where no clip is
            for clip, box in boxes:
                if box.left() - near <= place.x() < box.right() + near and box.top() <= place.y() <= box.bottom():
                    grip = self._grip(clip, box, place)
                    if grip == "body" and clip.id in chosen:
                        return self._on_line(lane, clip, number, box, place)
                    return Hit(lane, clip, grip)
        return None

    def _on_line(self, lane: Lane, clip: Clip, number: int, box: QRectF, place: QPointF) -> Hit:
        """The handle of the gain line or a point of it, where the mouse is near; else the body."""
        for n, (at, db) in enumerate(clip.gain_line):
            x = box.left() + at / self.axis.frames_per_pixel
            y = self.y_of_db(db + clip.gain_db, number, box)
            if abs(place.x() - x) <= GAIN_PX + 1 and abs(place.y() - y) <= GAIN_PX + 1:
                return Hit(lane, clip, "point", n)
        handle = box.left() + HANDLE_PX
        at = round(HANDLE_PX * self.axis.frames_per_pixel)
        y = self.y_of_db(gain_at(clip, at) + clip.gain_db, number, box)
        if abs(place.x() - handle) <= GAIN_PX and abs(place.y() - y) <= GAIN_PX and box.width() > 2 * HANDLE_PX:
            return Hit(lane, clip, "gain")
        return Hit(lane, clip, "body")

    def within(self, rows: Sequence[Lane], box: QRectF, width: float) -> Iterator[Clip]:
        """Clips that a rectangle touches."""
        for number, lane in enumerate(rows):
            yield from (clip for clip in self.in_view(lane) if self.box(clip, number, width).intersects(box))

    # -- the gain line: 0 dB in the middle of a clip

    @staticmethod
    def db_per_pixel(height: float) -> float:
        """Of the gain line of a clip so tall."""
        return GAIN_EDGE_DB / max((height - NAME_PX) / 2 - 4, 3.0)

    def y_of_db(self, db: float, _number: int, box: QRectF) -> float:
        """Where a gain lies in a clip's box."""
        middle = box.center().y() + NAME_PX / 2
        return middle - min(max(db, -GAIN_EDGE_DB), GAIN_EDGE_DB) / self.db_per_pixel(box.height())

    def db_at(self, y: float, number: int, width: float) -> float:
        """The gain at a height of a row."""
        body = self.body(number, width)
        return (body.center().y() + NAME_PX / 2 - y) * self.db_per_pixel(body.height())

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


def between(lane: Lane, start: float, stop: float) -> tuple[Clip, ...]:
    """Clips of a lane that lie between two frames, in order."""
    clips = lane.clips  # their starts and stops both rise: none lies inside another
    first = bisect_right(clips, start, key=lambda c: c.stop)
    return clips[first : bisect_left(clips, stop, first, key=lambda c: c.start)]


def gain_points(clip: Clip) -> tuple[tuple[int, float], ...]:
    """The points of a clip's gain line; its ends where it has none."""
    return clip.gain_line or ((0, 0.0), (clip.frames, 0.0))


def gain_at(clip: Clip, frame: int) -> float:
    """The line's gain in dB at a frame from the clip's start, without the clip's own gain."""
    return level_at(clip.gain_line, frame)


def snapped(frame: float, targets: list[int], reach: float) -> int:
    """The nearest target within reach, else the frame itself."""
    near = min(targets, key=lambda t: abs(t - frame), default=None)
    return near if near is not None and abs(near - frame) <= reach else round(frame)
