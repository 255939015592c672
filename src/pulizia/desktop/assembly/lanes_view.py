# SPDX-License-Identifier: GPL-3.0-or-later
"""The lanes of the programme: clips are selected, moved, trimmed, slipped and faded with the mouse."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QMimeData, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QDragEnterEvent,
    QDragMoveEvent,
    QDropEvent,
    QFontMetricsF,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QWheelEvent,
)
from PySide6.QtWidgets import QWidget

from pulizia.desktop.assembly.clip_painter import LEAST_DETAIL_PX, ClipPainter
from pulizia.desktop.assembly.geometry import LEAST_LANE, MOST_LANE, Geometry, Hit, snapped
from pulizia.desktop.assembly.menus import show_clip_menu, show_lane_menu
from pulizia.desktop.bench.pictures import Pictures
from pulizia.desktop.bench.time_axis import GUTTER, ZOOM_STEP, TimeAxis
from pulizia.desktop.playhead import paint_line
from pulizia.desktop.theme import colour, font, theme_notice
from pulizia.project.clips import Lane, Programme
from pulizia.session.studio import Studio
from pulizia.units import format_number
from pulizia.words import N_, tr, translated

SNAP_PX, STILL_PX = 7, 3
RECORDING_MIME = "application/x-pulizia-recording"
SHAPES = {
    "start": Qt.CursorShape.SizeHorCursor, "stop": Qt.CursorShape.SizeHorCursor, "in": Qt.CursorShape.PointingHandCursor,
    "out": Qt.CursorShape.PointingHandCursor, "body": Qt.CursorShape.OpenHandCursor,
}  # fmt: skip
HEAD_WORDS = (("muted", N_("mute")), ("soloed", N_("solo")))


@dataclass(slots=True)
class _Drag:
    """What the mouse holds: a clip by a grip, or a stretch of an empty lane (hit is None)."""

    hit: Hit | None
    frame: float
    place: QPointF
    moved: bool = False
    slip: bool = False


class LanesView(QWidget):
    """All lanes of the programme over one time axis."""

    bench_asked = Signal(str, int)

    def __init__(self, studio: Studio, axis: TimeAxis, pictures: Pictures) -> None:
        super().__init__()
        self.studio, self.axis = studio, axis
        self.geometry_of = Geometry(axis)
        self._painter = ClipPainter(studio, axis, pictures)
        self._drag: _Drag | None = None
        self._shift, self._to_lane = 0, ""
        self._heard: set[str] = set()
        self._own_height = False
        self.head_x = -1.0
        self.setMouseTracking(True)
        self.setAcceptDrops(True)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setAccessibleName(tr("Lanes"))
        pictures.watch(self)
        axis.changed.connect(self.update)
        theme_notice().changed.connect(self.update)

    @property
    def programme(self) -> Programme | None:
        """What is shown."""
        return self.studio.assembly.programme

    def fit(self) -> None:
        """Be as tall as the lanes; they share the room that there is, until somebody sets their height."""
        around, programme = self.parentWidget(), self.programme
        if not self._own_height and around is not None and programme is not None and programme.lanes:
            self.geometry_of.share(around.height(), len(programme.lanes))
        self.setMinimumHeight(self.geometry_of.height(self.programme))
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(600, self.geometry_of.height(self.programme))

    # -- painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(event.rect(), colour("paper"))
        programme = self.programme
        if programme is None:
            return
        plot = QRectF(GUTTER, 0, self.width() - 2 * GUTTER, self.height())
        self._heard = {lane.id for lane in programme.sounding}
        self._painter.begin()
        for number, lane in enumerate(programme.lanes):
            if self.geometry_of.body(number, self.width()).bottom() < event.rect().top():
                continue
            if self.geometry_of.head(number, self.width()).top() > event.rect().bottom():
                break
            self._paint_lane(painter, programme, number, lane, plot)
        painter.setClipRect(plot)
        self._paint_span(painter, plot)
        self._paint_markers(painter, programme, plot)
        if self.head_x >= 0:
            paint_line(painter, plot.left() + self.head_x, plot)

    def _paint_lane(self, painter: QPainter, programme: Programme, number: int, lane: Lane, plot: QRectF) -> None:
        assembly = self.studio.assembly
        body = self.geometry_of.body(number, self.width())
        current = assembly.lane is not None and assembly.lane.id == lane.id
        heard = lane.id in self._heard
        painter.setClipRect(QRectF(0, body.top() - 24, self.width(), body.height() + 26))
        painter.setFont(font(12, bold=current))
        painter.setPen(colour("ink" if current else "soft"))
        painter.drawText(
            QRectF(0, body.top() - 20, GUTTER - 8, 18),
            Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            str(number + 1),
        )
        words = lane.name if not lane.gain_db else f"{lane.name}  {format_number(lane.gain_db, 1, plus=True)} dB"
        painter.drawText(
            QRectF(plot.left(), body.top() - 20, 240, 18),
            Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter,
            translated(words),
        )
        for box, field, text in self._switches(number):
            on = bool(getattr(lane, field))
            painter.setFont(font(11, bold=on))
            painter.setPen(colour(("madder" if field == "muted" else "verd_text") if on else "soft"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
        painter.fillRect(body, colour("panel", 0.55))
        painter.fillRect(QRectF(plot.left(), body.bottom(), plot.width(), 1), colour("line"))
        painter.setClipRect(body.intersected(plot))
        painter.setOpacity(1.0 if heard else 0.4)
        detailed = []
        tiny: dict[bool, list[QRectF]] = {True: [], False: []}
        left, scale = GUTTER - self.axis.left / self.axis.frames_per_pixel, 1.0 / self.axis.frames_per_pixel
        for clip in self.geometry_of.in_view(lane):
            if clip.frames * scale < LEAST_DETAIL_PX:
                tiny[clip.id in assembly.clip_ids].append(
                    QRectF(left + clip.start * scale, body.top(), max(clip.frames * scale - 1.0, 1.0), body.height())
                )
            else:
                detailed.append(clip)
        painter.setPen(Qt.PenStyle.NoPen)
        for chosen, boxes in tiny.items():  # too narrow for a picture: all in one go
            painter.setBrush(colour("plum" if chosen else "soft", 0.45))
            painter.drawRects(boxes)
        for clip in detailed:
            box = self.geometry_of.box(clip, number, self.width())
            chosen = clip.id in assembly.clip_ids
            if chosen and self._is_moving and self._to_lane in ("", lane.id):
                box.translate(self._shift / self.axis.frames_per_pixel, 0)
            self._painter.paint(painter, clip, box, body, programme.rate, chosen=chosen)
        if self._is_moving and self._to_lane == lane.id:
            for clip in assembly.clips:
                if programme.lane_of(clip.id).id != lane.id:
                    box = self.geometry_of.box(clip, number, self.width()).translated(
                        self._shift / self.axis.frames_per_pixel, 0
                    )
                    self._painter.paint(painter, clip, box, body, programme.rate, chosen=True)
        painter.setOpacity(1.0)
        painter.setClipping(False)

    def _switches(self, number: int) -> list[tuple[QRectF, str, str]]:
        """Mute and solo at the right of a lane's head: where, which field, in which words."""
        head, found = self.geometry_of.head(number, self.width()), []
        x = head.right()
        for field, words in reversed(HEAD_WORDS):
            text = translated(words)
            width = QFontMetricsF(font(11, bold=True)).horizontalAdvance(text) + 12
            x -= width
            found.append((QRectF(x, head.top() + 1, width, 18), field, text))
        return found

    def _paint_span(self, painter: QPainter, plot: QRectF) -> None:
        span = self.studio.assembly.span
        if span is None:
            return
        left, right = (plot.left() + self.axis.x_at(f) for f in (span.start, span.stop))
        painter.fillRect(QRectF(left, 0, right - left, plot.height()), colour("plum", 0.18))
        painter.setPen(QPen(colour("plum"), 1))
        for x in (int(left) + 0.5, int(right) + 0.5):
            painter.drawLine(QPointF(x, 0), QPointF(x, plot.height()))

    def _paint_markers(self, painter: QPainter, programme: Programme, plot: QRectF) -> None:
        for marker in programme.markers:
            x = plot.left() + self.axis.x_at(marker.frame)
            if plot.left() <= x <= plot.right():
                painter.setPen(QPen(colour("strong"), 1, Qt.PenStyle.DotLine))
                painter.drawLine(QPointF(int(x) + 0.5, 0), QPointF(int(x) + 0.5, plot.height()))

    def move_head(self, x: float) -> None:
        """Repaint only the strips that the play head leaves and enters."""
        x = float(round(x))
        if x == self.head_x:
            return
        old, self.head_x = self.head_x, x
        for place in (old, x):
            if -8 <= place <= self.width():
                self.update(round(GUTTER + place) - 4, 0, 9, self.height())

    # -- mouse

    @property
    def _is_moving(self) -> bool:
        drag = self._drag
        return drag is not None and drag.moved and not drag.slip and drag.hit is not None and drag.hit.grip == "body"

    def mousePressEvent(self, event: QMouseEvent) -> None:
        programme, assembly = self.programme, self.studio.assembly
        if programme is None or event.button() != Qt.MouseButton.LeftButton:
            return
        place = event.position()
        number = self.geometry_of.lane_at(place.y())
        if number < len(programme.lanes):
            lane = programme.lanes[number]
            for box, field, _ in self._switches(number):
                if box.contains(place):
                    on = not getattr(lane, field)
                    what = {"muted": (tr("Mute"), tr("Unmute")), "soloed": (tr("Solo"), tr("End solo"))}[field][not on]
                    assembly.change_lane(lane.id, what, **{field: on})
                    return
            assembly.choose_lane(lane.id)
        hit = self.geometry_of.hit(programme, place, self.width())
        frame = self.axis.frame_at(place.x() - GUTTER)
        self._drag = _Drag(hit, frame, place, slip=bool(event.modifiers() & Qt.KeyboardModifier.AltModifier))
        if hit is None:
            return
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            assembly.toggle(hit.clip.id)
            self._drag = None
        elif hit.clip.id not in assembly.clip_ids or hit.grip != "body":
            assembly.select({hit.clip.id})

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        programme, drag, place = self.programme, self._drag, event.position()
        if programme is None:
            return
        if drag is None:
            hit = self.geometry_of.hit(programme, place, self.width())
            self.setCursor(SHAPES[hit.grip] if hit is not None else Qt.CursorShape.IBeamCursor)
            return
        if not drag.moved and (place - drag.place).manhattanLength() < STILL_PX:
            return
        drag.moved = True
        free = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        frame = self.axis.frame_at(place.x() - GUTTER)
        if drag.hit is None:
            self.studio.assembly.select_span(round(drag.frame), self._snap(frame, free=free))
        elif drag.hit.grip == "body":
            self._drag_body(drag, frame, place, programme, free=free)
        else:
            self._drag_edge(drag.hit, frame, free=free)
        self.update()

    def _drag_body(self, drag: _Drag, frame: float, place: QPointF, programme: Programme, *, free: bool) -> None:
        assembly = self.studio.assembly
        if drag.slip:
            step = round(drag.frame - frame)
            if step:
                assembly.slip(step)
                drag.frame = frame
            return
        assert drag.hit is not None  # noqa: S101 - a body belongs to a clip
        shift, clips = frame - drag.frame, assembly.clips
        if not free and clips:
            shift = self._snapped_shift(shift)
        self._shift = max(round(shift), -clips[0].start if clips else 0)
        number = min(self.geometry_of.lane_at(place.y()), len(programme.lanes) - 1)
        lane = programme.lanes[number]
        self._to_lane = lane.id if lane.id != drag.hit.lane.id and self._from_one_lane(programme) else ""

    def _from_one_lane(self, programme: Programme) -> bool:
        return len({programme.lane_of(c.id).id for c in self.studio.assembly.clips}) == 1

    def _drag_edge(self, hit: Hit, frame: float, *, free: bool) -> None:
        assembly, clip = self.studio.assembly, hit.clip
        if hit.grip == "start":
            assembly.trim(clip.id, start=self._snap(frame, free=free, besides=clip.id))
        elif hit.grip == "stop":
            assembly.trim(clip.id, stop=self._snap(frame, free=free, besides=clip.id))
        elif hit.grip == "in":
            assembly.set_fade("in", max(0, round(frame - clip.start)), clip_ids={clip.id})
        else:
            assembly.set_fade("out", max(0, round(clip.stop - frame)), clip_ids={clip.id})

    def _targets(self, besides: frozenset[str]) -> list[int]:
        programme = self.programme
        assert programme is not None  # noqa: S101 - something is dragged
        edges = [e for lane in programme.lanes for c in lane.clips if c.id not in besides for e in (c.start, c.stop)]
        return [0, self.studio.transport.position, *edges, *(m.frame for m in programme.markers)]

    def _snap(self, frame: float, *, free: bool, besides: str = "") -> int:
        if free:
            return max(0, round(frame))
        return max(0, snapped(frame, self._targets(frozenset({besides})), SNAP_PX * self.axis.frames_per_pixel))

    def _snapped_shift(self, shift: float) -> float:
        """A shift with which an edge of what is moved meets something."""
        assembly = self.studio.assembly
        targets, reach = self._targets(assembly.clip_ids), SNAP_PX * self.axis.frames_per_pixel
        clips = assembly.clips
        best = None
        for edge in (clips[0].start, max(c.stop for c in clips)):
            off = snapped(edge + shift, targets, reach) - (edge + shift)
            if off and (best is None or abs(off) < abs(best)):
                best = off
        return shift + best if best is not None and abs(best) <= reach else shift

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        drag, self._drag = self._drag, None
        if drag is None:
            return
        assembly = self.studio.assembly
        frame = max(0, round(self.axis.frame_at(event.position().x() - GUTTER)))
        if not drag.moved:
            if drag.hit is None:
                assembly.select_span(0, 0)
                self.studio.seek(frame)
            elif drag.hit.grip == "body":
                assembly.select({drag.hit.clip.id})
                self.studio.seek(frame)
        elif drag.hit is not None and drag.hit.grip == "body" and not drag.slip:
            assembly.move(self._shift, self._to_lane or None)
        self._shift, self._to_lane = 0, ""
        assembly.settle()
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        programme = self.programme
        hit = self.geometry_of.hit(programme, event.position(), self.width()) if programme is not None else None
        if programme is not None and hit is not None:
            self._drag = None
            self._to_bench(hit, event.position(), programme)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        programme, place = self.programme, QPointF(event.pos())
        if programme is None:
            return
        hit = self.geometry_of.hit(programme, place, self.width())
        number = self.geometry_of.lane_at(place.y())
        if hit is not None:
            show_clip_menu(self.studio, self, hit, lambda: self._to_bench(hit, place, programme), event.globalPos())
        elif number < len(programme.lanes):
            show_lane_menu(self.studio, self, programme.lanes[number], event.globalPos())

    def _to_bench(self, hit: Hit, place: QPointF, programme: Programme) -> None:
        recording = self.studio.assembly.recording_of(hit.clip)
        if recording is not None:
            inner = self.axis.frame_at(place.x() - GUTTER) - hit.clip.start + hit.clip.inner
            self.bench_asked.emit(recording.id, max(0, round(inner * recording.rate / programme.rate)))

    def wheelEvent(self, event: QWheelEvent) -> None:
        delta, x = event.angleDelta(), event.position().x() - GUTTER
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.axis.zoom(ZOOM_STEP ** (delta.y() / 120.0), x)
            event.accept()
        elif event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.set_lane_height(self.geometry_of.lane_height + (6 if (delta.y() or delta.x()) > 0 else -6))
            event.accept()
        elif delta.x():
            self.axis.scroll(-delta.x() * 0.6)
            event.accept()
        else:
            event.ignore()  # up and down among the lanes

    def set_lane_height(self, height: int) -> None:
        """Make all lanes taller or flatter."""
        self._own_height = True
        self.geometry_of.lane_height = min(max(height, LEAST_LANE), MOST_LANE)
        self.fit()

    # -- recordings dragged from the list

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if _recording_in(event.mimeData()):
            event.acceptProposedAction()

    def dragMoveEvent(self, event: QDragMoveEvent) -> None:
        if _recording_in(event.mimeData()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        wanted = _recording_in(event.mimeData())
        recording = next((r for r in self.studio.document.project.recordings if r.id == wanted), None)
        if recording is None:
            return
        programme, assembly = self.programme, self.studio.assembly
        number = self.geometry_of.lane_at(event.position().y())
        if programme is not None and number < len(programme.lanes):
            assembly.choose_lane(programme.lanes[number].id)
        at = (
            self._snap(self.axis.frame_at(event.position().x() - GUTTER), free=False) if programme is not None else None
        )
        assembly.add_recording(recording, at=at)
        event.acceptProposedAction()


def _recording_in(data: QMimeData) -> str:
    return bytes(data.data(RECORDING_MIME).data()).decode() if data.hasFormat(RECORDING_MIME) else ""
