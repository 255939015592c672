# SPDX-License-Identifier: GPL-3.0-or-later
"""The clips of a lane as one picture that moves along when the view scrolls: only what comes into view is drawn."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from math import floor

from PySide6.QtCore import QPoint, QRect, QRectF, Qt
from PySide6.QtGui import QPainter, QPixmap

from pulizia.desktop.assembly.clip_painter import BYTES_A_PIXEL, LARGEST_PX, LEAST_DETAIL_PX, ClipPainter
from pulizia.desktop.assembly.geometry import Geometry, between
from pulizia.desktop.theme import colour, theme
from pulizia.project.clips import Clip, Lane

MOST_KEPT_BYTES = 48 << 20  # the lanes in sight of a large screen
SPARE_PX = 2  # clips begin and end at whole pixels: so far beside their frames
UNHEARD = 0.4  # how much of a lane shows that is not heard


@dataclass(frozen=True, slots=True)
class Look:
    """What decides how the clips of any lane look, whatever they are."""

    width: int
    height: int
    scale: float  # pixels of the device for one
    frames_per_pixel: float
    rate: int
    heard: bool
    theme: str


@dataclass(slots=True)
class Layer:
    """The picture of a lane, for a view that begins at the pixel ``origin`` of its clips."""

    lane: Lane
    look: Look
    picture: QPixmap
    origin: int = 0
    chosen: frozenset[str] = frozenset()
    states: dict[str, object] = field(default_factory=dict)  # of the recordings of its clips
    whole: bool = False  # nothing in it waits for its turn


@dataclass(frozen=True, slots=True)
class Moving:
    """Clips that are being dragged: the chosen ones of this lane by so many frames, and those that come to it."""

    shift: int = 0
    guests: tuple[Clip, ...] = ()

    def __bool__(self) -> bool:
        return self.shift != 0 or bool(self.guests)


class LaneLayers:
    """Draws the clips of lanes."""

    def __init__(self, geometry: Geometry, painter: ClipPainter) -> None:
        self._geometry, self._clips = geometry, painter
        self._kept: OrderedDict[str, Layer] = OrderedDict()

    def paint(
        self, painter: QPainter, lane: Lane, body: QRectF, number: int, chosen: frozenset[str], moving: Moving,
        *, rate: int, heard: bool,
    ) -> None:  # fmt: skip
        """The clips of a lane where they lie, on their ground; names stand where a clip begins to be seen."""
        clips = self._geometry.in_view(lane, SPARE_PX)
        look = Look(
            round(body.width()), round(body.height()), painter.device().devicePixelRatioF(),
            self._geometry.axis.frames_per_pixel, rate, heard, theme().name,
        )  # fmt: skip
        states: dict[str, object] = {name: self._clips.state(name) for name in {c.recording_id for c in clips}}
        layer, strips = self._kept.pop(lane.id, None), None
        if layer is None or layer.look != look:
            layer = Layer(lane, look, self._empty(look))
        elif layer.lane is lane and not moving:  # lanes are values: the same one is the same object
            strips = self._to_draw(layer, clips, chosen, states)
        if strips is None:
            layer.lane, strips = lane, [QRect(0, 0, look.width, look.height)]
        waits = self._clips.owes
        self._clips.owes = False
        for strip in strips:
            self._draw(layer, strip, body, number, chosen, moving, rate)
        layer.origin, layer.chosen, layer.states = self._geometry.origin, chosen, states
        layer.whole = not self._clips.owes and not moving
        self._clips.owes |= waits
        self._keep(lane.id, layer)
        painter.drawPixmap(body.topLeft(), layer.picture)
        painter.setOpacity(1.0 if heard else UNHEARD)
        for clip, box in self._cut_on_the_left(clips, body, number):
            self._clips.paint_name_at_edge(painter, clip, box, body, chosen=clip.id in chosen)
        painter.setOpacity(1.0)

    def _to_draw(
        self, layer: Layer, clips: Sequence[Clip], chosen: frozenset[str], states: dict[str, object]
    ) -> list[QRect] | None:
        """Move the picture to where the view is: what it lacks then; None where all must be drawn anew."""
        if not layer.whole:
            return None
        if any(layer.states.get(name, state) != state for name, state in states.items()):
            return None
        if layer.chosen is not chosen and any((c.id in layer.chosen) != (c.id in chosen) for c in clips):
            return None
        by, look = self._geometry.origin - layer.origin, layer.look
        if by == 0:
            return []
        pixels = by * look.scale
        if abs(by) >= look.width or pixels != int(pixels):
            return None
        layer.picture.scroll(-int(pixels), 0, layer.picture.rect())
        # a pixel more than was uncovered: on a screen of a fraction of pixels the last one is not whole
        return [QRect(look.width - by - 1, 0, by + 1, look.height) if by > 0 else QRect(0, 0, 1 - by, look.height)]

    @staticmethod
    def _empty(look: Look) -> QPixmap:
        made = QPixmap(max(1, round(look.width * look.scale)), max(1, round(look.height * look.scale)))
        made.setDevicePixelRatio(look.scale)
        made.fill(colour("paper"))  # opaque: laid down without mixing
        return made

    def _draw(
        self, layer: Layer, strip: QRect, body: QRectF, number: int, chosen: frozenset[str], moving: Moving, rate: int
    ) -> None:
        geometry, width, lane = self._geometry, body.width() + 2 * body.left(), layer.lane
        inner = QPainter(layer.picture)
        inner.setClipRect(strip)
        inner.fillRect(strip, colour("paper"))
        inner.fillRect(strip, colour("panel", 0.55))
        inner.setOpacity(1.0 if layer.look.heard else UNHEARD)
        inner.translate(-body.topLeft())
        seen = QRectF(strip.translated(QPoint(round(body.left()), round(body.top()))))
        per_pixel = geometry.axis.frames_per_pixel
        by = moving.shift / per_pixel
        left = (geometry.origin + strip.left() - SPARE_PX) * per_pixel
        detailed: list[Clip] = []
        tiny: dict[bool, list[QRectF]] = {True: [], False: []}
        narrow, scale, x, height = (
            LEAST_DETAIL_PX * per_pixel,
            1.0 / per_pixel,
            body.left() - geometry.origin,
            body.height(),
        )
        for clip in between(lane, left, left + (strip.width() + 2 * SPARE_PX) * per_pixel):
            if clip.frames < narrow:
                width_px = max(clip.frames * scale - 1.0, 1.0)
                tiny[clip.id in chosen].append(QRectF(x + floor(clip.start * scale), body.top(), width_px, height))
            else:
                detailed.append(clip)
        inner.setPen(Qt.PenStyle.NoPen)
        for picked, boxes in tiny.items():  # too narrow for a picture: all in one go
            inner.setBrush(colour("plum" if picked else "soft", 0.45))
            inner.drawRects(boxes)
        for clip in (*detailed, *moving.guests):
            box = geometry.box(clip, number, width)
            picked = clip.id in chosen
            if picked:
                box.translate(by, 0)
            self._clips.paint(inner, clip, box, seen, rate, chosen=picked)
        inner.end()

    def _cut_on_the_left(self, clips: Sequence[Clip], body: QRectF, number: int) -> Iterator[tuple[Clip, QRectF]]:
        """Clips that begin before the view, and those too wide to be kept as a picture with their name."""
        per_pixel = self._geometry.axis.frames_per_pixel
        before, large = self._geometry.origin * per_pixel, LARGEST_PX * per_pixel
        for clip in clips:
            if clip.start < before or clip.frames > large:
                yield clip, self._geometry.box(clip, number, body.width() + 2 * body.left())

    def _keep(self, lane_id: str, layer: Layer) -> None:
        self._kept[lane_id] = layer
        size = sum(x.picture.width() * x.picture.height() * BYTES_A_PIXEL for x in self._kept.values())
        while size > MOST_KEPT_BYTES and len(self._kept) > 1:
            gone = self._kept.popitem(last=False)[1].picture
            size -= gone.width() * gone.height() * BYTES_A_PIXEL
