# SPDX-License-Identifier: GPL-3.0-or-later
"""All of the programme in one strip: its lanes as thin rows, what is in view, and the playhead."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap
from PySide6.QtWidgets import QWidget

from pulizia.desktop.bench.time_axis import GUTTER, TimeAxis
from pulizia.desktop.theme import colour, theme, theme_notice
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.session.session import Session
from pulizia.words import tr

HEIGHT, TOP, INNER = 40, 5, 30
MANY = 200  # clips of a lane, which are closer to each other than pixels


def _runs(lane: Lane, chosen: Collection[str], per_frame: float) -> dict[str, list[tuple[float, float]]]:
    """Where a lane's clips lie, by colour: x and width. Of very many in a row, those that touch are one."""
    runs: dict[str, list[tuple[float, float]]] = {"ink": [], "strong": [], "plum": []}
    if len(lane.clips) <= MANY:
        for clip in lane.clips:
            x, width = clip.start * per_frame, max(1.0, clip.frames * per_frame - 0.5)
            runs[_token(clip, chosen)].append((x, width))
        return runs
    tokens = np.array([_token(clip, chosen) for clip in lane.clips])
    starts = (np.array([clip.start for clip in lane.clips]) * per_frame).astype(int)
    stops = np.maximum((np.array([clip.stop for clip in lane.clips]) * per_frame).astype(int), starts + 1)
    for token, found in runs.items():
        there = tokens == token
        if not there.any():
            continue
        steps = np.zeros(int(stops.max()) + 2, int)
        np.add.at(steps, starts[there], 1)
        np.add.at(steps, stops[there], -1)
        covered = np.cumsum(steps) > 0
        edges = np.flatnonzero(np.diff(covered, prepend=False))
        found += [(float(a), float(b - a)) for a, b in edges.reshape(-1, 2).tolist()]
    return runs


def _token(clip: Clip, chosen: Collection[str]) -> str:
    return "plum" if clip.id in chosen else "ink" if clip.enabled and not clip.tone else "strong"


class AssemblyOverview(QWidget):
    """A press or drag moves the view there."""

    accessible_role = "picture"

    def __init__(self, session: Session, axis: TimeAxis) -> None:
        super().__init__()
        self.session, self.axis = session, axis
        self._kept: tuple[tuple[object, ...], QPixmap] | None = None
        self._head = -1.0
        self.setFixedHeight(HEIGHT)
        self.setAccessibleName(tr("Overview of the programme"))
        self.setToolTip(tr("Press or drag to move the view"))
        axis.changed.connect(self.update)
        theme_notice().changed.connect(self.update)

    @property
    def plot(self) -> QRectF:
        """The strip between the gutters."""
        return QRectF(GUTTER, TOP, max(16, self.width() - 2 * GUTTER), INNER)

    def move_head(self, frame: int) -> None:
        """Show the playhead elsewhere."""
        x = round(self._x(frame))
        if x != self._head:
            old, self._head = self._head, float(x)
            for place in (old, x):
                self.update(round(place) - 2, 0, 5, HEIGHT)

    def _x(self, frame: float) -> float:
        return self.plot.left() + frame / max(1, self.axis.frames) * self.plot.width()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), colour("paper"))
        programme = self.session.assembly.programme
        if programme is None:
            return
        plot = self.plot
        painter.drawPixmap(plot.topLeft(), self._rows(programme))
        left, right = self._x(self.axis.left), self._x(min(self.axis.right, self.axis.frames))
        for a, b in ((plot.left(), left), (right, plot.right())):
            if b > a:
                painter.fillRect(QRectF(a, plot.top(), b - a, plot.height()), colour("paper", 0.55))
        painter.setPen(QPen(colour("strong"), 1))
        painter.drawRect(QRectF(int(left) + 0.5, plot.top() - 0.5, max(3, int(right - left) - 1), plot.height()))
        painter.fillRect(QRectF(self._head, plot.top() - 2, 1.4, plot.height() + 4), colour("ink"))

    def _rows(self, programme: Programme) -> QPixmap:
        """Lanes as rows of blocks, drawn anew only when the programme changes."""
        plot = self.plot
        chosen = self.session.assembly.clip_ids
        key = (programme, chosen, plot.width(), self.axis.frames, theme().name, self.devicePixelRatioF())
        if self._kept is not None and self._kept[0][0] is programme and self._kept[0] == key:
            return self._kept[1]
        scale = self.devicePixelRatioF()
        made = QPixmap(round(plot.width() * scale), round(plot.height() * scale))
        made.setDevicePixelRatio(scale)
        made.fill(colour("panel"))
        painter = QPainter(made)
        painter.setPen(Qt.PenStyle.NoPen)
        each = plot.height() / max(1, len(programme.lanes))
        per_frame = plot.width() / max(1, self.axis.frames)
        heard = {lane.id for lane in programme.sounding}
        for number, lane in enumerate(programme.lanes):
            painter.setOpacity(0.8 if lane.id in heard else 0.3)
            for token, runs in _runs(lane, chosen, per_frame).items():
                painter.setBrush(colour(token))
                painter.drawRects([QRectF(x, number * each + 0.5, width, max(1.0, each - 1.5)) for x, width in runs])
        painter.end()
        self._kept = (key, made)
        return made

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._show(event.position().x())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._show(event.position().x())

    def _show(self, x: float) -> None:
        frame = (x - self.plot.left()) / self.plot.width() * self.axis.frames
        if self.axis.is_whole:
            self.session.seek(max(0, round(frame)))
        else:
            self.axis.scroll_to(frame - self.axis.width * self.axis.frames_per_pixel / 2)
