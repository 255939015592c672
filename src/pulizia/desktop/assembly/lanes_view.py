# SPDX-License-Identifier: GPL-3.0-or-later
"""The lanes of the programme: clips are selected, moved, trimmed, slipped and faded with the mouse."""

from __future__ import annotations

from functools import cache
from pathlib import Path

from PySide6.QtCore import QMimeData, QPointF, QRectF, QSize, Qt, QTimer
from PySide6.QtGui import (
    QBrush,
    QDragEnterEvent,
    QDragMoveEvent,
    QDropEvent,
    QFontMetricsF,
    QPainter,
    QPaintEvent,
    QPen,
)

from pulizia.desktop.assembly.clip_painter import ClipPainter
from pulizia.desktop.assembly.lane_heads import LaneHeads
from pulizia.desktop.assembly.lane_layers import LaneLayers, Moving
from pulizia.desktop.assembly.lanes_mouse import LanesMouse
from pulizia.desktop.bench.pictures import Pictures
from pulizia.desktop.bench.time_axis import GUTTER, TimeAxis
from pulizia.desktop.playhead import paint_line
from pulizia.desktop.theme import colour, font, theme_notice
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.file import SUFFIX
from pulizia.session.session import Session
from pulizia.units import format_number
from pulizia.words import tr

NOTHING_MOVES = Moving()
RECORDING_MIME = "application/x-pulizia-recording"


class LanesView(LanesMouse):
    """All lanes of the programme over one time axis."""

    accessible_role = "list"

    def __init__(self, session: Session, axis: TimeAxis, pictures: Pictures) -> None:
        super().__init__(session, axis)
        self._painter = ClipPainter(session, self.geometry_of, pictures)
        self._layers = LaneLayers(self.geometry_of, self._painter)
        self._heads = LaneHeads()
        self._heard: set[str] = set()
        self._waiting: list[tuple[Path, int, str]] = []  # files that were dropped: where each goes when it is open
        self.head_x = -1.0
        self.setMouseTracking(True)
        self.setAcceptDrops(True)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setAccessibleName(tr("Lanes"))
        pictures.watch(self)
        axis.changed.connect(self.update)
        theme_notice().changed.connect(self.update)
        session.events.document.connect(self._opened)

    def sizeHint(self) -> QSize:
        return QSize(600, self.geometry_of.height(len(self.rows)))

    # -- by keys

    def repair_chosen(self) -> None:
        """The selected clip on the Bench, at the playhead where it lies in it."""
        programme, clips = self.programme, self.session.assembly.clips
        if programme is not None and clips:
            here = self.session.transport.position
            clip = next((c for c in clips if c.start <= here < c.stop), clips[0])
            self.repair(clip, min(max(here, clip.start), clip.stop - 1), programme)

    def open_lane_menu(self) -> None:
        """What a right click on the head of the chosen lane offers."""
        lane = self.session.assembly.lane
        if lane is None:
            return
        ids = [row.id for row in self.rows]
        number = ids.index(lane.id) if lane.id in ids else 0
        corner = self.geometry_of.head(number, self.width()).bottomLeft().toPoint()
        self.show_menu_of(lane, self.mapToGlobal(corner))

    # -- painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(event.rect(), colour("paper"))
        programme = self.programme
        if programme is None:
            return
        plot = QRectF(GUTTER, 0, self.width() - 2 * GUTTER, self.height())
        self._heard = {lane.id for lane in programme.sounding}
        self._painter.begin(painter.device().devicePixelRatioF())
        current = self.session.assembly.lane
        geometry, seen = self.geometry_of, event.rect()
        rows = self.rows
        for number in range(geometry.lane_at(seen.top()), len(rows)):
            if geometry.head(number, self.width()).top() > seen.bottom():
                break
            lane = rows[number]
            self._paint_lane(painter, programme, number, lane, plot, current=lane is current)
        if self._painter.owes:
            QTimer.singleShot(0, self, self.update)
        painter.setClipRect(plot)
        self._paint_span(painter, plot)
        self._paint_markers(painter, programme, plot)
        if self.box is not None:
            painter.setPen(QPen(colour("plum"), 1, Qt.PenStyle.DashLine))
            painter.setBrush(colour("plum", 0.12))
            painter.drawRect(self.box)
        if self.head_x >= 0:
            paint_line(painter, plot.left() + self.head_x, plot)

    def _paint_lane(
        self, painter: QPainter, programme: Programme, number: int, lane: Lane, plot: QRectF, *, current: bool
    ) -> None:
        body = self.geometry_of.body(number, self.width())
        heard = lane.id in self._heard
        painter.setClipRect(QRectF(0, body.top() - 24, self.width(), body.height() + 26))
        self._heads.paint(
            painter, lane, number, self.geometry_of.head(number, self.width()), self.switches(number), current=current
        )
        painter.fillRect(QRectF(plot.left(), body.bottom(), plot.width(), 1), colour("line"))
        painter.setClipRect(body.intersected(plot))
        self._layers.paint(
            painter, lane, body, number, self.session.assembly.clip_ids, self._moving(programme, lane),
            rate=programme.rate, heard=heard,
        )  # fmt: skip
        if lane.locked:
            painter.fillRect(body, QBrush(colour("soft", 0.3), Qt.BrushStyle.BDiagPattern))
        painter.setClipping(False)

    def _moving(self, programme: Programme, lane: Lane) -> Moving:
        """What of the clips that are being dragged is seen in a lane."""
        if not self.is_moving or self.to_lane not in ("", lane.id):
            return NOTHING_MOVES
        chosen = self.session.assembly.clip_ids
        guests: tuple[Clip, ...] = ()
        if self.to_lane == lane.id:
            guests = tuple(c for la in programme.lanes if la.id != lane.id for c in la.clips if c.id in chosen)
        if not guests and not any(c.id in chosen for c in lane.clips):
            return NOTHING_MOVES
        return Moving(self.shift, guests)

    def switches(self, number: int) -> list[tuple[QRectF, str, str]]:
        """Gain, mute and solo at the right of a lane's head: where, which field, in which words."""
        head, lane, found = self.geometry_of.head(number, self.width()), self.rows[number], []
        x = head.right()
        gain = f"{format_number(lane.gain_db, 1, plus=True)} dB"
        for field, text in (("soloed", tr("solo")), ("muted", tr("mute")), ("gain_db", gain)):
            width = max(_width_of(text) + 12, 62.0 if field == "gain_db" else 0.0)
            x -= width
            found.append((QRectF(x, head.top() + 1, width, 18), field, text))
        return found

    def _paint_span(self, painter: QPainter, plot: QRectF) -> None:
        span = self.session.assembly.span
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

    # -- recordings dragged from the list

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if _recording_in(event.mimeData()) or _files_in(event.mimeData()):
            event.acceptProposedAction()

    def dragMoveEvent(self, event: QDragMoveEvent) -> None:
        if _recording_in(event.mimeData()) or _files_in(event.mimeData()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        wanted, files = _recording_in(event.mimeData()), _files_in(event.mimeData())
        recording = next((r for r in self.session.document.project.recordings if r.id == wanted), None)
        if recording is None and not files:
            return
        programme, assembly = self.programme, self.session.assembly
        number = self.geometry_of.lane_at(event.position().y())
        if programme is not None and number < len(self.rows):
            assembly.choose_lane(self.rows[number].id)
        at = self._snap(self.axis.frame_at(event.position().x() - GUTTER), free=False) if programme is not None else 0
        event.acceptProposedAction()
        if recording is not None:
            assembly.add_recording(recording, at=at if programme is not None else None)
            return
        self._waiting += [(path.absolute(), at, assembly.lane_id or "") for path in files]
        self.session.files.open_paths(files)
        self._opened()

    def _opened(self) -> None:
        """Files that were dropped here are laid down as they open, one behind the other."""
        for waiting in list(self._waiting):
            path, at, lane_id = waiting
            recordings = self.session.document.project.recordings
            recording = next((r for r in recordings if r.path == path and r.id in self.session.document.media), None)
            if recording is None or waiting not in self._waiting:
                continue
            self._waiting.remove(waiting)
            if lane_id:
                self.session.assembly.lane_id = lane_id
            self.session.assembly.add_recording(recording, at=at)
            behind = max((c.stop for c in self.session.assembly.clips), default=at)
            self._waiting = [(p, behind if a == at else a, la) for p, a, la in self._waiting]


@cache
def _width_of(text: str) -> float:
    return QFontMetricsF(font(11, bold=True)).horizontalAdvance(text)


def _recording_in(data: QMimeData) -> str:
    return bytes(data.data(RECORDING_MIME).data()).decode() if data.hasFormat(RECORDING_MIME) else ""


def _files_in(data: QMimeData) -> list[Path]:
    """Sound files among what is dragged; projects are opened by the window."""
    paths = [Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()]
    return [] if any(p.suffix.lower() == SUFFIX for p in paths) else paths
