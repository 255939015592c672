# SPDX-License-Identifier: GPL-3.0-or-later
"""What the mouse does on the lanes: by where it takes a clip, and which key is held."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from typing import Literal

from PySide6.QtCore import QPoint, QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import QContextMenuEvent, QMouseEvent, QWheelEvent

from pulizia.desktop.actions import Actions
from pulizia.desktop.assembly.geometry import Hit, gain_at, gain_points, snapped
from pulizia.desktop.assembly.lane_rows import LaneRows
from pulizia.desktop.assembly.menus import ask_lane_name, show_clip_menu, show_lane_menu
from pulizia.desktop.bench.time_axis import GUTTER, ZOOM_STEP, TimeAxis
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.session.assembly_lanes import HIGHEST_GAIN_DB, LOWEST_GAIN_DB, switch_words
from pulizia.session.session import Session
from pulizia.units import seconds_to_frames
from pulizia.words import tr

SNAP_PX, STILL_PX = 7, 3
HEARD_MS, HEARD_S = 140, 0.16  # a trimmed edge is heard when the mouse rests this long; how much of it
WORD_REACH_S = 0.15  # no farther do the edges of words hold the mouse
DB_PER_PX = 0.25  # of a lane's gain
Deed = Literal[
    "section", "box", "move", "slip", "slide", "edge", "roll", "fade", "gain", "point", "lane_gain", "height"
]
SHAPES = {
    "start": Qt.CursorShape.SizeHorCursor, "stop": Qt.CursorShape.SizeHorCursor, "in": Qt.CursorShape.PointingHandCursor,
    "out": Qt.CursorShape.PointingHandCursor, "body": Qt.CursorShape.OpenHandCursor,
    "gain": Qt.CursorShape.SizeVerCursor, "point": Qt.CursorShape.SizeAllCursor,
}  # fmt: skip


@dataclass(slots=True)
class Drag:
    """What the mouse holds, and what it does with it; ``hit`` is None on an empty place."""

    deed: Deed
    hit: Hit | None
    frame: float
    place: QPointF
    moved: bool = False
    value: float = 0.0  # of a gain when the drag began
    point: int = -1
    lane: str = ""
    head: int = 0  # where the playhead was


class LanesMouse(LaneRows):
    """The mouse's half of the lanes."""

    bench_asked = Signal(str, int)

    def __init__(self, session: Session, axis: TimeAxis) -> None:
        super().__init__(session, axis)
        self.actions_: Actions | None = None  # whose commands the menus hold
        self._drag: Drag | None = None
        self.shift, self.to_lane = 0, ""  # of clips that are being moved
        self.box: QRectF | None = None  # what is being selected
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(HEARD_MS)
        self._rest.timeout.connect(self._hear_edge)
        self._edge: tuple[int, str] | None = None

    def switches(self, number: int) -> list[tuple[QRectF, str, str]]:
        """What can be clicked in the head of a row: where, which field, in which words."""
        raise NotImplementedError

    @property
    def is_moving(self) -> bool:
        """Whether the selected clips are being moved."""
        return self._drag is not None and self._drag.moved and self._drag.deed == "move"

    def _hit(self, place: QPointF) -> Hit | None:
        return self.geometry_of.hit(self.rows, place, self.width(), self.session.assembly.clip_ids)

    # -- pressing

    def mousePressEvent(self, event: QMouseEvent) -> None:
        assembly = self.session.assembly
        if self.programme is None or event.button() != Qt.MouseButton.LeftButton:
            return
        place, keys = event.position(), event.modifiers()
        number = self.geometry_of.lane_at(place.y())
        if (edge := self.geometry_of.edge_at(place.y())) is not None:
            lane = self.rows[edge]
            self._begin(Drag("height", None, 0.0, place, value=self.geometry_of.tall(edge), lane=lane.id))
            return
        if number < len(self.rows) and self._press_head(
            number, place, everywhere=bool(keys & Qt.KeyboardModifier.ControlModifier)
        ):
            return
        hit, frame = self._hit(place), self.axis.frame_at(place.x() - GUTTER)
        if hit is None:
            if number < len(self.rows):
                assembly.choose_lane(self.rows[number].id)
            deed: Deed = "box" if keys & Qt.KeyboardModifier.ControlModifier else "section"
            self._begin(Drag(deed, None, frame, place))
            return
        if keys & Qt.KeyboardModifier.ControlModifier:
            assembly.toggle(hit.clip.id)
            return
        if keys == Qt.KeyboardModifier.ShiftModifier and hit.grip == "body":
            assembly.choose_lane(hit.lane.id)
            self._begin(Drag("section", None, frame, place))
            return
        if hit.clip.id not in assembly.clip_ids or hit.grip not in ("body", "gain", "point"):
            assembly.select({hit.clip.id})
        self._begin(Drag(self._deed_of(hit, keys), hit, frame, place, value=hit.clip.gain_db, point=hit.point))

    @staticmethod
    def _deed_of(hit: Hit, keys: Qt.KeyboardModifier) -> Deed:
        shift, alt = keys & Qt.KeyboardModifier.ShiftModifier, keys & Qt.KeyboardModifier.AltModifier
        if hit.grip in ("start", "stop"):
            return "roll" if shift else "edge"
        if hit.grip in ("in", "out"):
            return "fade"
        if hit.grip in ("point", "gain"):
            return "point" if hit.grip == "point" else "gain"
        return "slide" if alt and shift else "slip" if alt else "move"

    def _begin(self, drag: Drag) -> None:
        drag.head = self.session.transport.position
        self._drag = drag

    def _add_point(self, clip: Clip, frame: float) -> None:
        """A new point of the gain line, where it is."""
        at = min(max(0, round(frame) - clip.start), clip.frames)
        points = {**dict(gain_points(clip)), at: round(gain_at(clip, at), 1)}
        self.session.assembly.set_line(clip.id, tuple(sorted(points.items())))
        self.session.assembly.settle()

    def _press_head(self, number: int, place: QPointF, *, everywhere: bool) -> bool:
        """Whether something in the head of a row was pressed; ``everywhere`` switches all lanes."""
        lane, assembly = self.rows[number], self.session.assembly
        for box, field, _ in self.switches(number):
            if not box.contains(place):
                continue
            if field == "gain_db":
                self._begin(Drag("lane_gain", None, 0.0, place, value=lane.gain_db, lane=lane.id))
            else:
                on = not getattr(lane, field)
                words = switch_words(field, on=on)
                if everywhere:
                    assembly.change_all_lanes(words, **{field: on})
                else:
                    assembly.switch_lane(lane.id, words, field, on=on)
            return True
        if self.geometry_of.head(number, self.width()).contains(place) or place.x() < GUTTER:
            assembly.select(())
            assembly.choose_lane(lane.id)
            return True
        return False

    # -- dragging

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        drag, place = self._drag, event.position()
        if self.programme is None:
            return
        if drag is None:
            hit = self._hit(place)
            if hit is None and self.geometry_of.edge_at(place.y()) is not None:
                self.setCursor(Qt.CursorShape.SplitVCursor)
                return
            still = hit is not None and hit.lane.locked
            self.setCursor(
                Qt.CursorShape.ArrowCursor
                if still
                else SHAPES[hit.grip]
                if hit is not None
                else Qt.CursorShape.IBeamCursor
            )
            return
        if not drag.moved and (place - drag.place).manhattanLength() < STILL_PX:
            return
        if drag.hit is not None and drag.hit.lane.locked:
            self._drag = None
            self.session.say(tr("The lane {name} is locked. Unlock it first.", name=drag.hit.lane.name), bad=True)
            return
        drag.moved = True
        free = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        frame = self.axis.frame_at(place.x() - GUTTER)
        if drag.hit is not None:
            self._drag_clip(drag, drag.hit, frame, place, free=free)
        elif drag.deed == "lane_gain":
            gain = round(2 * (drag.value - (place.y() - drag.place.y()) * DB_PER_PX)) / 2
            self.session.assembly.set_lane_gain(drag.lane, min(max(gain, LOWEST_GAIN_DB), HIGHEST_GAIN_DB))
        elif drag.deed == "height":
            share = (drag.value + place.y() - drag.place.y()) / self.geometry_of.lane_height
            self.pull_height(drag.lane, share)
        elif drag.deed == "box":
            self.box = QRectF(drag.place, place).normalized()
        else:
            self.session.assembly.select_span(round(drag.frame), self._snap(frame, free=free))
        self.update()

    def _drag_clip(self, drag: Drag, hit: Hit, frame: float, place: QPointF, *, free: bool) -> None:
        assembly, clip = self.session.assembly, hit.clip
        if drag.deed == "move":
            self._drag_body(drag, hit, frame, place, free=free)
        elif drag.deed in ("slip", "slide"):
            step = round(frame - drag.frame)
            if step:
                assembly.slip(-step) if drag.deed == "slip" else assembly.slide(clip.id, step)
                drag.frame += step
        elif drag.deed in ("edge", "roll"):
            at = self._snap(frame, free=free, besides=clip.id)
            if drag.deed == "roll":
                assembly.roll(clip.id, hit.grip, at)
            else:
                assembly.trim(clip.id, **{hit.grip: at})
            self._edge = at, hit.grip
            self._rest.start()
        elif drag.deed == "fade":
            frames = frame - clip.start if hit.grip == "in" else clip.stop - frame
            assembly.set_fade(hit.grip, max(0, round(frames)), clip_ids={clip.id})
        elif drag.deed == "gain":
            row = [lane.id for lane in self.rows].index(hit.lane.id)
            moved = (drag.place.y() - place.y()) * self.geometry_of.db_per_pixel(self.geometry_of.tall(row))
            assembly.set_gain(round(min(max(drag.value + moved, -60.0), 24.0), 1))
        else:
            self._drag_point(drag, clip, frame, place)

    def _drag_point(self, drag: Drag, taken: Clip, frame: float, place: QPointF) -> None:
        programme = self.programme
        assert programme is not None  # noqa: S101 - something is dragged
        clip = programme.lane_of(taken.id).clip(taken.id)
        points = list(clip.gain_line)
        if not 0 <= drag.point < len(points):
            return
        low = points[drag.point - 1][0] + 1 if drag.point else 0
        high = points[drag.point + 1][0] - 1 if drag.point + 1 < len(points) else clip.frames
        at = min(max(round(frame) - clip.start, low), max(low, high))
        row = [lane.id for lane in self.rows].index(programme.lane_of(clip.id).id)
        db = self.geometry_of.db_at(place.y(), row, self.width()) - clip.gain_db
        points[drag.point] = (at, min(max(db, -60.0), 24.0))
        self.session.assembly.set_line(clip.id, tuple(points))

    def _drag_body(self, drag: Drag, hit: Hit, frame: float, place: QPointF, *, free: bool) -> None:
        assembly = self.session.assembly
        shift, clips = frame - drag.frame, assembly.clips
        if not free and clips:
            shift = self._snapped_shift(shift)
        self.shift = max(round(shift), -clips[0].start if clips else 0)
        lane = self.rows[min(self.geometry_of.lane_at(place.y()), len(self.rows) - 1)]
        programme = self.programme
        one = programme is not None and len(programme.lanes_with(assembly.clip_ids)) == 1
        self.to_lane = lane.id if lane.id != hit.lane.id and one else ""

    def _hear_edge(self) -> None:
        """The mouse rests while it trims: a little of what lies at the edge is heard."""
        edge, source = self._edge, self.session.heard_source
        if edge is None or source is None or self._drag is None:
            return
        at, side = edge
        length = seconds_to_frames(HEARD_S, source.rate)
        first = at if side == "start" else max(0, at - length)
        self.session.transport.stop()
        self.session.transport.play(min(first, source.frames), min(first + length, source.frames))

    # -- snapping

    def _targets(self, besides: frozenset[str], frame: float) -> list[int]:
        programme = self.programme
        assert programme is not None  # noqa: S101 - something is dragged
        edges = [e for lane in programme.lanes for c in lane.clips if c.id not in besides for e in (c.start, c.stop)]
        reach = SNAP_PX * self.axis.frames_per_pixel
        # far out a pixel is longer than a word: its edges would hold the mouse everywhere
        near = reach <= seconds_to_frames(WORD_REACH_S, programme.rate)
        words = self.session.speech.word_edges(frame - reach, frame + reach) if near else []
        head = self._drag.head if self._drag is not None else self.session.transport.position
        return [0, head, *edges, *(m.frame for m in programme.markers), *words]

    def _snap(self, frame: float, *, free: bool, besides: str = "") -> int:
        if free:
            return max(0, round(frame))
        reach = SNAP_PX * self.axis.frames_per_pixel
        found = snapped(frame, self._targets(frozenset({besides}), frame), reach)
        if found == round(frame):  # nothing near: where the sound passes through zero, once that can be seen
            found = self.session.assembly.zero_crossing(found, round(reach))
        return max(0, found)

    def _snapped_shift(self, shift: float) -> float:
        """A shift with which an edge of what is moved meets something."""
        assembly = self.session.assembly
        clips, reach = assembly.clips, SNAP_PX * self.axis.frames_per_pixel
        best = None
        for edge in (clips[0].start, max(c.stop for c in clips)):
            off = snapped(edge + shift, self._targets(assembly.clip_ids, edge + shift), reach) - (edge + shift)
            if off and (best is None or abs(off) < abs(best)):
                best = off
        return shift + best if best is not None and abs(best) <= reach else shift

    # -- letting go

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        drag, self._drag = self._drag, None
        if drag is None:
            return
        assembly = self.session.assembly
        frame = max(0, round(self.axis.frame_at(event.position().x() - GUTTER)))
        if not drag.moved:
            if drag.deed == "section":
                assembly.select_span(0, 0)
            if drag.hit is not None and drag.hit.grip in ("body", "gain"):
                assembly.select({drag.hit.clip.id})
            if drag.deed in ("section", "move", "gain", "slip", "slide"):
                self.session.seek(frame)
        elif drag.deed == "move":
            assembly.move(self.shift, self.to_lane or None)
        elif drag.deed == "height":
            self.keep_height(drag.lane, self.pulled[1])
        elif drag.deed == "box" and self.box is not None:
            assembly.select(c.id for c in self.geometry_of.within(self.rows, self.box, self.width()))
        if self._edge is not None:
            self._rest.stop()
            self._edge = None
            self.session.transport.stop()
            self.session.seek(drag.head)
        self.shift, self.to_lane, self.box = 0, "", None
        assembly.settle()
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        place, programme = event.position(), self.programme
        if programme is None or event.button() != Qt.MouseButton.LeftButton:
            return
        self._drag = None
        number = self.geometry_of.lane_at(place.y())
        if (edge := self.geometry_of.edge_at(place.y())) is not None:
            self.keep_height(self.rows[edge].id, 1.0)
            return
        hit = self._hit(place)
        if hit is None:
            if number < len(self.rows) and self.geometry_of.head(number, self.width()).contains(place):
                ask_lane_name(self.session, self, self.rows[number])
            return
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.session.assembly.choose_lane(hit.lane.id)
            self.session.speech.select_phrase(round(self.axis.frame_at(place.x() - GUTTER)))
        elif event.modifiers() & Qt.KeyboardModifier.AltModifier:
            self._add_point(hit.clip, self.axis.frame_at(place.x() - GUTTER))
        elif hit.grip == "point":
            points = [p for n, p in enumerate(hit.clip.gain_line) if n != hit.point]
            self.session.assembly.set_line(hit.clip.id, tuple(points) if len(points) > 1 else ())
            self.session.assembly.settle()
        else:
            self._to_bench(hit, place, programme)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        programme, place = self.programme, QPointF(event.pos())
        if programme is None or self.actions_ is None:
            return
        hit, number = self._hit(place), self.geometry_of.lane_at(place.y())
        if hit is not None:
            to_bench = partial(self._to_bench, hit, place, programme)
            show_clip_menu(self.session, self.actions_, hit, to_bench, event.globalPos())
        elif number < len(self.rows):
            self.show_menu_of(self.rows[number], event.globalPos())

    def show_menu_of(self, lane: Lane, place: QPoint) -> None:
        """What can be done with a lane."""
        if self.actions_ is not None:
            show_lane_menu(self.session, self.actions_, self, lane, lambda: self.hide_lane(lane.id), place)

    def _to_bench(self, hit: Hit, place: QPointF, programme: Programme) -> None:
        self.repair(hit.clip, self.axis.frame_at(place.x() - GUTTER), programme)

    def repair(self, clip: Clip, frame: float, programme: Programme) -> None:
        """The recording of a clip on the Bench, where a frame of the programme is heard."""
        recording = self.session.assembly.recording_of(clip)
        if recording is not None:
            inner = clip.heard_at(frame)
            self.bench_asked.emit(recording.id, max(0, round(inner * recording.rate / programme.rate)))

    # -- size

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
