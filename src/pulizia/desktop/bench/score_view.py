"""The score: one strip per step, lying exactly under the sound that it affects."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPen,
    QPixmap,
    QWheelEvent,
)

from pulizia.audio.spans import Span
from pulizia.desktop.bench.lane import EDGE_PX, Lane
from pulizia.desktop.bench.pictures import Pictures
from pulizia.desktop.bench.score_marks import SurveyTicks, text_width
from pulizia.desktop.bench.tide import draw_tide
from pulizia.desktop.bench.tiles import Tiles
from pulizia.desktop.bench.time_axis import GUTTER, TimeAxis
from pulizia.desktop.theme import colour, font
from pulizia.desktop.words import translated
from pulizia.score.steps import Step
from pulizia.session.studio import Studio

PITCH, STRIP_HEIGHT = 26, 20
ROOMY_PITCH, ROOMY_HEIGHT, ROOMY_UP_TO = 32, 26, 5
TOP = 8
HEAD_PX = 64  # no wider is what the play head repaints


@dataclass(slots=True)
class _Drag:
    step_id: str
    kind: str  # "start", "stop", "move" or "press"
    span: int
    grabbed_at: float
    y: float
    spans: tuple[Span, ...]


class ScoreView(Lane):
    """Strips: select by click, the dot switches, ends are dragged, up and down changes the order."""

    add_step = Signal()
    step_menu = Signal(str)
    _layer: QPixmap | None = None

    def __init__(self, studio: Studio, axis: TimeAxis, pictures: Pictures) -> None:
        super().__init__(studio, axis)
        self._pictures = pictures
        pictures.watch(self)
        self._tides: dict[str, Tiles] = {}
        self._ticks: dict[str, SurveyTicks] = {}
        self._held: _Drag | None = None
        self._drop_row: int | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(translated("Score: the steps in the order in which sound passes them"))
        self.fit()

    @property
    def steps(self) -> tuple[Step, ...]:
        """The steps of the recording on the bench."""
        return self.studio.recording.score if self.studio.recording else ()

    @property
    def plot(self) -> QRectF:
        """The area between the gutters: as wide as the axis, though a scroll bar may stand in the right gutter."""
        return QRectF(GUTTER, 0, max(16, self.axis.width), self.height())

    @property
    def _pitch(self) -> int:
        return ROOMY_PITCH if len(self.steps) <= ROOMY_UP_TO else PITCH

    @property
    def _strip_height(self) -> int:
        return ROOMY_HEIGHT if len(self.steps) <= ROOMY_UP_TO else STRIP_HEIGHT

    def fit(self) -> None:
        """Be as tall as the steps need."""
        self.setFixedHeight(TOP + (len(self.steps) + 1) * self._pitch + 4)
        self.update()

    def strip_box(self, row: int, span: Span) -> QRectF:
        """Where a step's stretch lies, in this widget's pixels (beyond the view when it is)."""
        x0 = GUTTER + self.axis.x_at(span.start)
        x1 = GUTTER + self.axis.x_at(span.stop)
        y = TOP + row * self._pitch + (self._pitch - self._strip_height) / 2
        return QRectF(x0, y, max(x1 - x0, 6.0), self._strip_height)

    def dot_place(self, row: int) -> QPointF:
        """Middle of a strip's on/off dot."""
        box = self._visible_box(row, self._label_span(self.steps[row]))
        return QPointF(box.left() + 13, box.center().y())

    # -- painting

    def paint_plot(self, painter: QPainter, plot: QRectF) -> None:
        painter.fillRect(plot, colour("paper"))
        painter.setPen(QPen(colour("line"), 1))
        _, ticks = self.axis.ticks()
        for tick in ticks:
            x = int(plot.left() + self.axis.x_at(tick * self.axis.rate)) + 0.5
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
        super().paint_head(painter, plot)
        painter.drawPixmap(0, 0, self._strips(plot))
        if self._drop_row is not None:
            y = TOP + self._drop_row * self._pitch + 0.5
            painter.setPen(QPen(colour("verd"), 2))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))

    def _strips(self, plot: QRectF) -> QPixmap:
        """All strips and the last row. The play head passes behind them and repaints a narrow place: they are kept for that."""
        ratio = self.devicePixelRatioF()
        wanted = self.size() * ratio
        if self._layer is None or self.dirty.width() > HEAD_PX or self._layer.size() != wanted:
            layer = QPixmap(wanted)
            layer.setDevicePixelRatio(ratio)
            layer.fill(Qt.GlobalColor.transparent)
            painter = QPainter(layer)
            painter.setClipRect(plot)
            for row, step in enumerate(self.steps):
                self._paint_step(painter, row, step)
            self._paint_add_row(painter, plot)
            painter.end()
            self._layer = layer
        return self._layer

    def paint_head(self, painter: QPainter, plot: QRectF) -> None:
        """Painted behind the strips, so that it never crosses a label."""

    def paint_step_ends(self, painter: QPainter, plot: QRectF) -> None:
        """The strips show their own ends."""

    def paint_selection(self, painter: QPainter, plot: QRectF) -> None:
        box = self.selection_box(plot)
        if not box.isNull():
            painter.setPen(QPen(colour("plum"), 1))
            for x in (box.left(), box.right()):
                painter.drawLine(QPointF(int(x) + 0.5, 0), QPointF(int(x) + 0.5, TOP))

    def _spans(self, step: Step) -> tuple[Span, ...]:
        recording = self.studio.recording
        return () if recording is None else step.acts_in(recording.frames)

    def _label_span(self, step: Step) -> Span:
        """The stretch that carries the name: the first one in view."""
        spans = self._spans(step) or (Span(0, max(1, self.axis.frames)),)
        for span in spans:
            if span.stop > self.axis.left and span.start < self.axis.right:
                return span
        return spans[0]

    def _visible_box(self, row: int, span: Span) -> QRectF:
        box = self.strip_box(row, span)
        plot = self.plot
        left, right = max(box.left(), plot.left()), min(box.right(), plot.right())
        return QRectF(left, box.top(), max(right - left, 6.0), box.height())

    def _paint_step(self, painter: QPainter, row: int, step: Step) -> None:
        selected = step.id == self.studio.step_id
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        spans = self._spans(step)
        if not spans:
            staff = TOP + row * self._pitch + self._pitch / 2
            painter.setPen(QPen(colour("strong"), 1, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(self.plot.left(), staff), QPointF(self.plot.right(), staff))
        for span in spans:
            self._paint_strip(painter, row, step, span, selected=selected)
        self._paint_survey(painter, row, step, filled=selected and step.enabled)
        self._paint_name(painter, row, step, selected=selected and step.enabled and bool(spans))

    def _paint_survey(self, painter: QPainter, row: int, step: Step, *, filled: bool) -> None:
        """What the tool found, where it is known; ticks under the name give way to it."""
        chain = self.studio.chain
        stage = chain.stages.get(step.id) if chain else None
        found = self.studio.surveys.of(stage) if stage is not None else None
        if found is None or found.survey is None:
            return
        box = self._visible_box(row, self._label_span(step))
        name = text_width(step.tool.title, bold=True) + text_width(self.detail_of(step), bold=False)
        ticks = self._ticks.get(step.id)
        if ticks is None or ticks.survey is not found.survey:
            ticks = self._ticks[step.id] = SurveyTicks(found.survey)
        ticks.paint(painter, self.axis, box, filled=filled, from_x=box.left() + 40 + name)

    def _paint_strip(self, painter: QPainter, row: int, step: Step, span: Span, *, selected: bool) -> None:
        box = self.strip_box(row, span).adjusted(0.5, 0.5, -0.5, -0.5)
        plot = self.plot
        if box.right() < plot.left() or box.left() > plot.right():
            return
        # an end beyond the view runs open: its cap lies outside the clip
        box.setLeft(max(box.left(), plot.left() - 20))
        box.setRight(min(box.right(), plot.right() + 20))
        path = QPainterPath()
        path.addRoundedRect(box, 6, 6)
        filled = selected and step.enabled
        painter.fillPath(path, colour("verd" if filled else "panel" if step.enabled else "paper"))
        if step.enabled:
            self._paint_tide(painter, box, step, filled=filled)
        pen = QPen(colour("verd" if selected else "strong"), 1)  # a wider one costs thirty times as much
        if not step.enabled:
            pen.setDashPattern([4, 3])
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(path)
        if filled:
            painter.setPen(QPen(colour("on_verd", 0.7), 1.5))
            for x in (box.left() + 4, box.right() - 4):
                painter.drawLine(QPointF(x, box.center().y() - 4), QPointF(x, box.center().y() + 4))

    def _paint_tide(self, painter: QPainter, box: QRectF, step: Step, *, filled: bool) -> None:
        chain = self.studio.chain
        stage = chain.stages.get(step.id) if chain else None
        if stage is not None:
            tiles = self._tides.setdefault(step.id, Tiles(self.studio.pool, self.update))
            draw_tide(painter, box, self.plot, self.axis, stage, self._pictures, tiles, filled=filled)

    def _paint_name(self, painter: QPainter, row: int, step: Step, *, selected: bool) -> None:
        box = self._visible_box(row, self._label_span(step))
        dot = self.dot_place(row)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if step.enabled:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour("on_verd" if selected else "verd"))
            painter.drawEllipse(dot, 4, 4)
        else:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(colour("soft"), 1.4))
            painter.drawEllipse(dot, 3.4, 3.4)
        title, detail = step.tool.title, self.detail_of(step)
        x, room = box.left() + 24, box.width() - 30
        painter.setFont(font(13, bold=True))
        painter.setPen(colour("on_verd" if selected else "ink" if step.enabled else "soft"))
        flags = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft
        width = text_width(title, bold=True)
        if width > room:
            painter.setFont(font(11))
            painter.drawText(QRectF(x, box.top(), max(room, 0.0), box.height()), flags, str(row + 1))
            return
        painter.drawText(QRectF(x, box.top(), width + 2, box.height()), flags, translated(title))
        left = room - width - 8
        painter.setFont(font(13))
        if text_width(detail, bold=False) <= left:
            painter.setPen(colour("on_verd" if selected else "soft"))
            painter.drawText(QRectF(x + width + 8, box.top(), left, box.height()), flags, translated(detail))

    def detail_of(self, step: Step) -> str:
        """The short text behind the name."""
        parts = [step.tool.caption(step.settings)]
        if step.band_hz:
            low, high = (f"{hz / 1000:.1f}".rstrip("0").rstrip(".") for hz in step.band_hz)
            parts.append(f"{low}\u2013{high} kHz")
        if step.holes:
            parts.append("original given back in places" if len(step.holes) > 1 else "original given back once")
        if not step.enabled:
            parts.append("switched off")
        return ", ".join(parts)

    def _paint_add_row(self, painter: QPainter, plot: QRectF) -> None:
        y = TOP + len(self.steps) * self._pitch
        box = QRectF(plot.left() + 0.5, y + 3.5, plot.width() - 1, self._strip_height - 3)
        pen = QPen(colour("strong"), 1)
        pen.setDashPattern([4, 4])
        painter.setPen(pen)
        painter.setBrush(colour("paper"))
        painter.drawRoundedRect(box, 6, 6)
        painter.setPen(colour("verd_text"))
        painter.setFont(font(13, bold=True))
        text = "+ step" if self.steps else "+ step   or mark a stretch of noise alone and take it as noise"
        painter.drawText(box.adjusted(8, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, translated(text))

    def paint_gutters(self, painter: QPainter, _plot: QRectF) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for row, step in enumerate(self.steps):
            chosen = step.id == self.studio.step_id
            painter.setFont(font(11, bold=chosen))
            painter.setPen(colour("ink" if chosen else "soft"))
            y = TOP + row * self._pitch
            painter.drawText(
                QRectF(0, y, GUTTER - 9, self._pitch),
                Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
                str(row + 1),
            )
        if len(self.steps) > 1:
            painter.setPen(QPen(colour("strong"), 1.2))
            bottom = TOP + len(self.steps) * self._pitch - 6.0
            painter.drawLine(QPointF(13.5, TOP + 6), QPointF(13.5, bottom))
            painter.drawLine(QPointF(13.5, bottom), QPointF(10.5, bottom - 4))
            painter.drawLine(QPointF(13.5, bottom), QPointF(16.5, bottom - 4))

    # -- mouse and keys

    def wheelEvent(self, event: QWheelEvent) -> None:
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            super().wheelEvent(event)
        else:
            event.ignore()  # the surrounding area scrolls the steps

    def _row_at(self, y: float) -> int:
        return int((y - TOP) // self._pitch)

    def _grip_at(self, place: QPointF) -> tuple[int, str, int] | None:
        """Row, what is under the mouse ("start", "stop", "body") and which stretch."""
        row = self._row_at(place.y())
        if not 0 <= row < len(self.steps):
            return None
        spans = self._spans(self.steps[row])
        for index, span in enumerate(spans):
            box = self.strip_box(row, span)
            if abs(place.x() - box.left()) <= EDGE_PX:
                return row, "start", index
            if abs(place.x() - box.right()) <= EDGE_PX:
                return row, "stop", index
        for index, span in enumerate(spans):
            if self.strip_box(row, span).contains(place):
                return row, "body", index
        return row, "empty", 0

    def mousePressEvent(self, event: QMouseEvent) -> None:
        place = event.position()
        recording = self.studio.recording
        if recording is None:
            return
        row = self._row_at(place.y())
        if row == len(self.steps) and event.button() == Qt.MouseButton.LeftButton:
            self.add_step.emit()
            return
        grip = self._grip_at(place)
        if grip is None:
            return
        step = self.steps[grip[0]]
        self.studio.choose_step(step.id)
        if event.button() == Qt.MouseButton.RightButton:
            self.step_menu.emit(step.id)
            return
        dot = self.dot_place(grip[0])
        if abs(place.x() - dot.x()) <= 8 and abs(place.y() - dot.y()) <= 8:
            self.studio.document.set_enabled(recording.id, step.id, enabled=not step.enabled)
            return
        spans = step.spans if step.spans is not None else (Span(0, recording.frames),)
        kind = grip[1] if grip[1] in ("start", "stop") else "press"
        if kind != "press":
            wanted = self._spans(step)[grip[2]]
            edge = wanted.start if kind == "start" else wanted.stop
            index = next((n for n, s in enumerate(spans) if edge in (s.start, s.stop)), None)
            if index is None:  # the edge of a stretch given back: nothing to drag here
                kind, index = "press", 0
        else:
            index = 0
        self._held = _Drag(step.id, kind, index, place.x(), place.y(), spans)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        place = event.position()
        if self._held is None or not event.buttons() & Qt.MouseButton.LeftButton:
            grip = self._grip_at(place)
            shapes = {"start": Qt.CursorShape.SizeHorCursor, "stop": Qt.CursorShape.SizeHorCursor}
            self.setCursor(shapes.get(grip[1] if grip else "", Qt.CursorShape.ArrowCursor))
            if grip is not None:
                step = self.steps[grip[0]]
                self.setToolTip(
                    translated(
                        f"{step.tool.title}: {self.detail_of(step)}\nDot switches it, ends can be dragged, up and down changes the order"
                    )
                )
            return
        held, recording = self._held, self.studio.recording
        if recording is None:
            return
        if held.kind in ("start", "stop"):
            frame = self.axis.clamped_frame(place.x() - GUTTER)
            span = held.spans[held.span]
            shortest = max(1, recording.rate // 100)
            if held.kind == "start":
                moved = Span(min(frame, span.stop - shortest), span.stop)
            else:
                moved = Span(span.start, max(frame, span.start + shortest))
            spans = (*held.spans[: held.span], moved, *held.spans[held.span + 1 :])
            self.studio.document.set_spans(recording.id, held.step_id, spans, merge=True)
        elif abs(place.y() - held.y) > self._pitch * 0.6 or self._drop_row is not None:
            self._drop_row = min(max(round((place.y() - TOP) / self._pitch), 0), len(self.steps))
            self.update()

    def mouseReleaseEvent(self, _event: QMouseEvent) -> None:
        held, recording = self._held, self.studio.recording
        if held is not None and recording is not None:
            if self._drop_row is not None:
                ids = [s.id for s in self.steps]
                place = self._drop_row - (1 if self._drop_row > ids.index(held.step_id) else 0)
                self.studio.document.move_step(recording.id, held.step_id, place)
            self.studio.document.history.settle()
        self._held = self._drop_row = None
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        grip = self._grip_at(event.position())
        if grip is not None and grip[1] == "body":
            span = self._spans(self.steps[grip[0]])[grip[2]]
            self.axis.show_span(span.start, span.stop)
