# SPDX-License-Identifier: GPL-3.0-or-later
"""The score: one strip per step, lying exactly under the sound that it affects."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPen,
    QWheelEvent,
)

from pulizia.audio.spans import Span
from pulizia.desktop.bench.lane import Lane
from pulizia.desktop.bench.pictures import Pictures
from pulizia.desktop.bench.score_plan import TOP, ScorePlan, detail_of
from pulizia.desktop.bench.score_strips import Strips
from pulizia.desktop.bench.time_axis import GUTTER, TimeAxis
from pulizia.desktop.controls import ENTER
from pulizia.desktop.theme import colour, font
from pulizia.desktop.turns import update_in_turn
from pulizia.project.step_owner import StepOwner
from pulizia.score.steps import Step
from pulizia.session.heard_subject import Selection
from pulizia.session.session import Session
from pulizia.words import tr, translated

HEAD_PX = 64  # no wider is what the play head repaints


@dataclass(slots=True)
class _Drag:
    step_id: str
    kind: str  # "start", "stop", "edge", "move" or "press"
    span: int
    grabbed_at: float
    y: float
    spans: tuple[Span, ...]


class ScoreView(Lane):
    """Strips: select by click, the dot switches, ends are dragged, up and down changes the order."""

    accessible_role = "list"

    add_step = Signal()
    settings_asked = Signal()  # by keys
    step_menu = Signal(str)

    def __init__(self, session: Session, axis: TimeAxis, pictures: Pictures) -> None:
        super().__init__(session, axis)
        self._strips = Strips(session, pictures, self._row_changed)
        pictures.watch(self)
        self._held: _Drag | None = None
        self._drop_row: int | None = None
        self.roomy = False
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(tr("Steps, in the order in which sound passes them"))
        self.fit()

    @property
    def steps(self) -> tuple[Step, ...]:
        """The steps that are shown."""
        return self.session.owner.steps if self.session.owner else ()

    def accessible_words(self) -> str:
        """The selected steps with what they say of themselves."""
        rows = (
            tr("step {number} of {count}", number=n, count=len(self.steps))
            + f", {translated(step.tool.title)}, {detail_of(step, self.session.step_channels)}"
            for n, step in enumerate(self.steps, 1)
            if step in self.session.steps_chosen
        )
        return "; ".join(rows) or tr("No step yet")

    @property
    def plan(self) -> ScorePlan:
        """Where everything lies now."""
        owner = self.session.owner
        return ScorePlan(
            owner.steps if owner else (),
            owner.frames if owner else 0,
            self.axis,
            self.height(),
            self._strips.edges_of,
            self.roomy,
        )

    @property
    def plot(self) -> QRectF:
        """The area between the gutters."""
        return self.plan.plot

    def fit(self) -> None:
        """Be as tall as the steps need."""
        self.setFixedHeight(self.plan.whole_height)
        update_in_turn(self)

    # -- painting

    def _row_changed(self, step_id: str) -> None:
        plan = self.plan
        for row, step in enumerate(plan.steps):
            if step.id == step_id:
                self.update(plan.row_box(row).toAlignedRect())

    def paint_plot(self, painter: QPainter, plot: QRectF) -> None:
        painter.fillRect(self.dirty.intersected(plot), colour("paper"))
        painter.setPen(QPen(colour("line"), 1))
        _, ticks = self.axis.ticks()
        for tick in ticks:
            x = int(plot.left() + self.axis.x_at(tick * self.axis.rate)) + 0.5
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
        super().paint_head(painter, plot)
        # the play head passes behind the strips and repaints a narrow place: they are kept for that
        anew = QRectF() if self.dirty.width() <= HEAD_PX else self.dirty
        plan = self.plan
        painter.drawPixmap(0, 0, self._strips.layer(plan, self.devicePixelRatioF(), anew))
        if self._drop_row is not None:
            y = TOP + self._drop_row * plan.pitch + 0.5
            painter.setPen(QPen(colour("verd"), 2))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))

    def paint_head(self, painter: QPainter, plot: QRectF) -> None:
        """Painted behind the strips, so that it never crosses a label."""

    @property
    def is_there(self) -> bool:
        return self.session.owner_chain is not None

    @property
    def selection(self) -> Selection | None:
        return self.session.owner_selection

    def paint_trimmed(self, painter: QPainter, plot: QRectF) -> None:
        """Steps act, and are named, also where the sound is not kept."""

    def paint_step_ends(self, painter: QPainter, plot: QRectF) -> None:
        """The strips show their own ends."""

    def paint_selection(self, painter: QPainter, plot: QRectF) -> None:
        box = self.selection_box(plot)
        if not box.isNull():
            painter.setPen(QPen(colour("plum"), 1))
            for x in (box.left(), box.right()):
                painter.drawLine(QPointF(int(x) + 0.5, 0), QPointF(int(x) + 0.5, TOP))

    def paint_gutters(self, painter: QPainter, _plot: QRectF) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for row, step in enumerate(self.steps):
            chosen = step.id == self.session.step_id or step.id in self.session.more_steps
            painter.setFont(font(11, bold=chosen))
            painter.setPen(colour("ink" if chosen else "soft"))
            y = TOP + row * self.plan.pitch
            painter.drawText(
                QRectF(0, y, GUTTER - 9, self.plan.pitch),
                Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
                str(row + 1),
            )
        if len(self.steps) > 1:
            painter.setPen(QPen(colour("strong"), 1.2))
            bottom = TOP + len(self.steps) * self.plan.pitch - 6.0
            painter.drawLine(QPointF(13.5, TOP + 6), QPointF(13.5, bottom))
            painter.drawLine(QPointF(13.5, bottom), QPointF(10.5, bottom - 4))
            painter.drawLine(QPointF(13.5, bottom), QPointF(16.5, bottom - 4))

        if self.hasFocus():
            self._paint_ring(painter)

    def _paint_ring(self, painter: QPainter) -> None:
        """Where the keys are: around the selected step, or the row for a new one."""
        rows = [row for row, step in enumerate(self.steps) if step.id == self.session.step_id] or [len(self.steps)]
        plan = self.plan
        box = QRectF(
            plan.plot.left(),
            plan.row_box(rows[0]).center().y() - plan.strip_height / 2,
            plan.plot.width(),
            plan.strip_height,
        )
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(colour("ink"), 1.5))
        painter.drawRoundedRect(box.adjusted(-2, -2, 2, 2), 8, 8)

    # -- mouse and keys

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in ENTER and self.session.owner is not None:
            (self.settings_asked if self.session.step is not None else self.add_step).emit()
        else:
            super().keyPressEvent(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            super().wheelEvent(event)
        else:
            event.ignore()  # the surrounding area scrolls the steps

    def mousePressEvent(self, event: QMouseEvent) -> None:
        place = event.position()
        owner = self.session.owner
        if owner is None:
            return
        row = self.plan.row_at(place.y())
        if row == len(self.steps) and event.button() == Qt.MouseButton.LeftButton:
            self.add_step.emit()
            return
        grip = self.plan.grip_at(place)
        if grip is None:
            return
        step = self.steps[grip[0]]
        if self._select(step, event):
            return
        dot = self.plan.dot_place(grip[0])
        if abs(place.x() - dot.x()) <= 8 and abs(place.y() - dot.y()) <= 8:
            self.session.document.set_enabled(owner.id, step.id, enabled=not step.enabled)
        else:
            self._take_hold(step, owner, grip, place)

    def _select(self, step: Step, event: QMouseEvent) -> bool:
        """Select a step as keys and button say; True when that was all."""
        held = event.modifiers()
        add = bool(held & Qt.KeyboardModifier.ControlModifier)
        reach = bool(held & Qt.KeyboardModifier.ShiftModifier)
        if add or reach:
            self.session.steps.select(step.id, add=add, reach=reach)
            return True
        if step not in self.session.steps_chosen:
            self.session.choose_step(step.id)
        if event.button() == Qt.MouseButton.RightButton:
            self.step_menu.emit(step.id)
            return True
        return False

    def _take_hold(self, step: Step, owner: StepOwner, grip: tuple[int, str, int], place: QPointF) -> None:
        if grip[1] == "edge":
            self._held = _Drag(step.id, "edge", grip[2], place.x(), place.y(), ())
            return
        spans = step.spans if step.spans is not None else (Span(0, owner.frames),)
        kind = grip[1] if grip[1] in ("start", "stop") else "press"
        if kind != "press":
            wanted = self.plan.spans(grip[0])[grip[2]]
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
            grip = self.plan.grip_at(place)
            shapes = {
                "start": Qt.CursorShape.SizeHorCursor,
                "stop": Qt.CursorShape.SizeHorCursor,
                "edge": Qt.CursorShape.SplitHCursor,
            }
            self.setCursor(shapes.get(grip[1] if grip else "", Qt.CursorShape.ArrowCursor))
            if grip is not None:
                step = self.steps[grip[0]]
                self.setToolTip(
                    tr(
                        "{title}: {detail_of}\nThe dot switches it on and off; drag its ends to change where it acts, up or down to change the order",
                        title=translated(step.tool.title),
                        detail_of=detail_of(step, self.session.step_channels),
                    )
                )
            return
        held, owner = self._held, self.session.owner
        if owner is None:
            return
        if held.kind == "edge":
            step = owner.step(held.step_id)
            frame = self.axis.clamped_frame(place.x() - GUTTER)
            self.session.repairs.move_edge(step, self._strips.edges_of(step), held.span, frame)
            return
        if held.kind in ("start", "stop"):
            frame = self.axis.clamped_frame(place.x() - GUTTER)
            span = held.spans[held.span]
            shortest = max(1, owner.rate // 100)
            if held.kind == "start":
                moved = Span(min(frame, span.stop - shortest), span.stop)
            else:
                moved = Span(span.start, max(frame, span.start + shortest))
            spans = (*held.spans[: held.span], moved, *held.spans[held.span + 1 :])
            self.session.document.set_spans(owner.id, held.step_id, spans, merge=True)
        elif abs(place.y() - held.y) > self.plan.pitch * 0.6 or self._drop_row is not None:
            self._drop_row = min(max(round((place.y() - TOP) / self.plan.pitch), 0), len(self.steps))
            self.update()

    def mouseReleaseEvent(self, _event: QMouseEvent) -> None:
        held, owner = self._held, self.session.owner
        if held is not None and owner is not None:
            if self._drop_row is not None:
                self.session.steps.drop(held.step_id, self._drop_row)
            elif held.kind == "press" and self.session.more_steps:
                self.session.choose_step(held.step_id)  # pressed and let go: that one alone
            self.session.document.history.settle()
        self._held = self._drop_row = None
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        grip = self.plan.grip_at(event.position())
        if grip is not None and grip[1] == "body":
            span = self.plan.spans(grip[0])[grip[2]]
            self.axis.show_span(span.start, span.stop)
