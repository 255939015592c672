# SPDX-License-Identifier: GPL-3.0-or-later
"""Clips as cut-outs of paper: their sound in ink, their name at the top, fades as the line that they are."""

from __future__ import annotations

import time
from collections import OrderedDict
from collections.abc import Iterator
from itertools import pairwise
from math import floor

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFontMetricsF, QPainter, QPainterPath, QPen, QPixmap, QPolygonF

from pulizia.audio.fades import rise
from pulizia.audio.layouts import shown_names
from pulizia.audio.timeline import Edge
from pulizia.desktop.assembly.geometry import HANDLE_PX, NAME_PX, Geometry, gain_at
from pulizia.desktop.bench.pictures import Pictures
from pulizia.desktop.bench.wave_image import columns_of_picture, indexed_image, wave_codes, wave_table
from pulizia.desktop.theme import colour, font, theme
from pulizia.measure.overview import Columns
from pulizia.project.clips import Clip
from pulizia.project.model import Recording
from pulizia.score.chain import Chain
from pulizia.session.session import Session
from pulizia.units import db_to_gain, format_number
from pulizia.words import tr, translated

MOST_POINTS = 40
LEAST_DETAIL_PX, LARGEST_PX, MIN_BODY_PX = 12, 2400, 6
MOST_KEPT_BYTES = 48 << 20  # of pictures: two views on a large screen
BYTES_A_PIXEL = 4
MOST_LAST = 4000  # clips
FRAME_S = 0.008  # after so long a frame makes no new pictures of clips
LEAST_NAME_PX = 26


class ClipPainter:
    """Draws clips of the assembly."""

    def __init__(self, session: Session, geometry: Geometry, pictures: Pictures) -> None:
        self._session, self._geometry, self._axis, self._pictures = session, geometry, geometry.axis, pictures
        self._seen: dict[str, tuple[Recording | None, Chain | None, tuple[str, int]]] = {}
        self._kept: OrderedDict[object, QPixmap] = OrderedDict()
        self._held = 0  # bytes of these
        self._frame = 1.0, "", 1.0  # frames per pixel, theme, pixels of the device for one
        self._until, self.owes = 0.0, False  # when a frame has taken its time; whether a picture waits for its turn
        self._last: dict[int, tuple[Clip, object, QPixmap]] = {}  # of the clips in sight: how each was drawn

    def begin(self, scale: float) -> None:
        """A new frame, with so many pixels of the device for each: what is the same for all of it is looked up once."""
        self._seen.clear()
        self._frame = self._axis.frames_per_pixel, theme().name, scale
        self._until, self.owes = time.perf_counter() + FRAME_S, False
        if len(self._last) > MOST_LAST:
            self._last.clear()

    def _of(self, recording_id: str) -> tuple[Recording | None, Chain | None, tuple[str, int]]:
        """The recording of a clip, its sound, and what that and its pictures are."""
        known = self._seen.get(recording_id)
        if known is None:
            recordings = self._session.document.project.recordings
            recording = next((r for r in recordings if r.id == recording_id), None)
            chain = self._session.document.chain(recording_id) if recording is not None else None
            state = "", 0
            if chain is not None:
                state = chain.after.key, self._pictures.of_chain(chain).version_in(0, chain.after.frames)
            known = self._seen[recording_id] = recording, chain, state
        return known

    def state(self, recording_id: str) -> object:
        """What the pictures of a recording's clips stand on: another value where they have changed."""
        return self._of(recording_id)[2]

    def paint(self, painter: QPainter, clip: Clip, box: QRectF, plot: QRectF, rate: int, *, chosen: bool) -> None:
        """One clip, cut to what is in view. Its picture is kept: scrolling only lays it elsewhere."""
        seen = box.intersected(plot)
        if seen.isEmpty():
            return
        if box.width() > LARGEST_PX:
            self._draw(painter, clip, box, seen, rate, chosen=chosen)
            return
        picture = self._picture(clip, box, rate, chosen=chosen)
        if picture is None:  # until its turn comes: as it was drawn last, or a sheet without its sound
            self.owes, at = True, QRectF(floor(box.left()), box.top(), box.width(), box.height())
            last = self._last.get(id(clip))
            if last is not None and last[0] is clip:
                painter.drawPixmap(at.toRect(), last[2])
            else:
                painter.fillRect(at.adjusted(0, 0, -1, 0), colour("panel", 0.6))
            return
        scale = self._frame[2]  # a whole pixel of the screen, counted alike on both sides of the edge
        painter.drawPixmap(QPointF(floor(box.left() * scale + 0.5) / scale, box.top()), picture)

    def paint_name_at_edge(self, painter: QPainter, clip: Clip, box: QRectF, plot: QRectF, *, chosen: bool) -> None:
        """The name of a clip that begins before the view, or is too wide for a picture: where it begins to be seen."""
        seen = box.intersected(plot)
        if seen.isEmpty() or box.width() < LEAST_DETAIL_PX:
            return
        if box.width() <= LARGEST_PX:  # over the name in its picture
            row = QRectF(seen.left(), seen.top() + 1, seen.width() - 1, NAME_PX - 1)
            painter.fillRect(row, colour("panel"))
            if chosen:
                painter.fillRect(row, colour("plum", 0.18))
        self._paint_name(painter, clip, seen, missing=self._of(clip.recording_id)[1] is None)

    def _picture(self, clip: Clip, box: QRectF, rate: int, *, chosen: bool) -> QPixmap | None:
        """Its picture; None where one must be made and this frame has taken its time."""
        around = (
            chosen, round(box.width()), round(box.height()), self._of(clip.recording_id)[2], self._frame,
        )  # fmt: skip
        last = self._last.get(id(clip))
        if last is not None and last[0] is clip and last[1] == around:
            return last[2]
        made = self._picture_like(clip, box, rate, around, chosen=chosen)
        if made is not None:
            self._last[id(clip)] = clip, around, made
        return made

    def _picture_like(self, clip: Clip, box: QRectF, rate: int, around: object, *, chosen: bool) -> QPixmap | None:
        """The picture of this clip or of one that looks the same elsewhere: an edit at the start moves them all."""
        look = (
            clip.recording_id, clip.heard_at(clip.start), clip.frames, clip.gain_db, clip.gain_line, clip.fade_in, clip.fade_out, clip.enabled, clip.name,
            clip.tone, clip.channel, clip.warp, around,
        )  # fmt: skip
        known = self._kept.get(look)
        if known is not None:
            self._kept.move_to_end(look)
            return known
        if time.perf_counter() > self._until:
            return None
        scale = self._frame[2]
        made = QPixmap(max(1, round((box.width() + 1) * scale)), max(1, round(box.height() * scale)))
        made.setDevicePixelRatio(scale)
        made.fill(Qt.GlobalColor.transparent)
        inner = QPainter(made)
        here = QRectF(0.0, 0.0, box.width(), box.height())
        self._draw(inner, clip, here, here, rate, chosen=chosen)
        inner.end()
        self._kept[look] = made
        self._held += _size(made)
        while self._held > MOST_KEPT_BYTES and len(self._kept) > 1:
            self._held -= _size(self._kept.popitem(last=False)[1])
        return made

    def _draw(self, painter: QPainter, clip: Clip, box: QRectF, seen: QRectF, rate: int, *, chosen: bool) -> None:
        painter.fillRect(seen, colour("panel"))
        recording, chain, _ = self._of(clip.recording_id)
        body = QRectF(seen.left(), seen.top() + NAME_PX, seen.width(), seen.height() - NAME_PX - 2)
        if recording is None or chain is None:
            painter.fillRect(body, colour("madder", 0.10))
        elif clip.tone:
            self._paint_tone(painter, body)
        elif body.height() >= MIN_BODY_PX:
            for part, first, speed in self._heard_parts(clip, box, body):
                self._paint_sound(painter, clip, part, chain, first, speed, recording.rate / rate)
        if chosen:
            painter.fillRect(seen, colour("plum", 0.18))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for edge, side in ((clip.fade_in, "in"), (clip.fade_out, "out")):
            self._paint_fade(painter, edge, side, box)
        if clip.gain_line or clip.gain_db or chosen:
            self._paint_gain(painter, clip, box, points=chosen)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, on=False)
        pen = QPen(colour("plum" if chosen else "strong"), 1)
        if not clip.enabled:
            pen.setStyle(Qt.PenStyle.DashLine)
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        left, right = floor(box.left()), floor(box.right())
        painter.drawRect(QRectF(left + 0.5, box.top() + 0.5, max(1.0, right - left - 1), box.height() - 1))
        if box.width() <= LARGEST_PX:
            self._paint_name(painter, clip, seen, missing=chain is None)

    def _heard_parts(self, clip: Clip, box: QRectF, body: QRectF) -> Iterator[tuple[QRectF, float, float]]:
        """Stretches of one speed: where each is drawn, the frame it begins with, and frames for each that is heard."""
        per_pixel = self._axis.frames_per_pixel
        cuts = [float(round(box.left() + (at - clip.inner) / per_pixel)) for at, _ in clip.warp]
        edges = [body.left(), *dict.fromkeys(x for x in cuts if body.left() < x < body.right()), body.right()]
        for left, right in pairwise(edges):
            a, b = (clip.heard_at(clip.start + (x - box.left()) * per_pixel) for x in (left, right))
            speed = (b - a) / ((right - left) * per_pixel) if clip.warp else 1.0
            yield QRectF(left, body.top(), right - left, body.height()), a, speed

    def _paint_sound(
        self, painter: QPainter, clip: Clip, body: QRectF, chain: Chain, first: float, speed: float, scale: float
    ) -> None:
        picture = self._pictures.of_chain(chain)
        count = max(1, round(body.width()))
        figures = columns_of_picture(picture, first * scale, self._axis.frames_per_pixel * scale * speed, count)
        if clip.channel is not None and clip.channel < len(figures.low):
            one = slice(clip.channel, clip.channel + 1)
            figures = Columns(figures.low[one], figures.high[one], figures.power[one], figures.older)
        gain = np.float32(db_to_gain(clip.gain_db))
        figures = Columns(figures.low * gain, figures.high * gain, figures.power * gain * gain, figures.older)
        painter.drawImage(body.topLeft(), indexed_image(wave_codes(figures, int(body.height())), wave_table(theme())))

    def _paint_tone(self, painter: QPainter, body: QRectF) -> None:
        """Room tone: a row of dots along the middle."""
        painter.setPen(QPen(colour("soft"), 2, Qt.PenStyle.DotLine))
        middle = body.center().y()
        painter.drawLine(QPointF(body.left() + 3, middle), QPointF(body.right() - 3, middle))

    def _paint_fade(self, painter: QPainter, edge: Edge, side: str, box: QRectF) -> None:
        width = edge.frames / self._axis.frames_per_pixel
        top, bottom = box.top() + NAME_PX, box.bottom() - 2
        corner = box.left() + max(width, 5.0) if side == "in" else box.right() - max(width, 5.0)
        if width >= 2.0:
            share = np.linspace(0.0, 1.0, MOST_POINTS)
            level = np.minimum(rise(share, edge.law), 1.0)
            x = box.left() + share * width if side == "in" else box.right() - share * width
            line = QPolygonF(
                [QPointF(float(a), float(bottom - b * (bottom - top))) for a, b in zip(x, level, strict=True)]
            )
            shade = QPainterPath()
            shade.addPolygon(line)
            outer = box.left() if side == "in" else box.right()
            shade.lineTo(QPointF(outer, top))
            shade.closeSubpath()
            painter.fillPath(shade, colour("paper", 0.8))
            painter.setPen(QPen(colour("verd"), 1.4))
            painter.drawPolyline(line)
        if box.width() > 40:
            painter.setPen(QPen(colour("verd"), 1.4))
            painter.setBrush(colour("panel"))
            painter.drawEllipse(QPointF(corner, top + 6), 3.0, 3.0)

    def _paint_gain(self, painter: QPainter, clip: Clip, box: QRectF, *, points: bool) -> None:
        """The gain as a line: at the middle for 0 dB, 24 dB to both edges; its points where it can be dragged."""
        ends = (0, *(at for at, _ in clip.gain_line if 0 < at < clip.frames), clip.frames)
        line = QPolygonF()
        for at in ends:
            db = gain_at(clip, at) + clip.gain_db
            line.append(QPointF(box.left() + at / self._axis.frames_per_pixel, self._geometry.y_of_db(db, 0, box)))
        painter.setPen(QPen(colour("ochre"), 1.4))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolyline(line)
        if not points:
            return
        painter.setBrush(colour("panel"))
        if box.width() > 2 * HANDLE_PX:
            at = round(HANDLE_PX * self._axis.frames_per_pixel)
            y = self._geometry.y_of_db(gain_at(clip, at) + clip.gain_db, 0, box)
            painter.drawEllipse(QPointF(box.left() + HANDLE_PX, y), 3.5, 3.5)
        for at, db in clip.gain_line:
            x = box.left() + at / self._axis.frames_per_pixel
            painter.drawRect(QRectF(x - 3, self._geometry.y_of_db(db + clip.gain_db, 0, box) - 3, 6, 6))

    def _paint_name(self, painter: QPainter, clip: Clip, seen: QRectF, *, missing: bool) -> None:
        if seen.width() < LEAST_NAME_PX:
            return
        painter.setFont(font(11, bold=True))
        words = clip.name or (tr("Room tone") if clip.tone else "")
        names = shown_names(self._session.channels_of(clip.recording_id))
        if clip.channel is not None and len(names) > 1 and clip.channel < len(names):
            words = f"{words}, {names[clip.channel]}"
        if missing:
            words = tr("{name}: recording missing", name=words)
        if not clip.enabled:
            words = tr("{name}, off", name=words)
        metrics = QFontMetricsF(font(11, bold=True))
        painter.setPen(colour("madder" if missing else "ink"))
        room = QRectF(seen.left() + 5, seen.top() + 1, seen.width() - 8, NAME_PX)
        gain = f"  {format_number(clip.gain_db, 1, plus=True)} dB" if clip.gain_db else ""
        beside = room.width() - metrics.horizontalAdvance(gain)
        if beside < LEAST_NAME_PX:  # the name comes first where there is no room for both
            gain, beside = "", room.width()
        shown = metrics.elidedText(translated(words), Qt.TextElideMode.ElideRight, beside) + gain
        painter.drawText(room, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, shown)


def _size(picture: QPixmap) -> int:
    return picture.width() * picture.height() * BYTES_A_PIXEL
