# SPDX-License-Identifier: GPL-3.0-or-later
"""How strips are drawn: the rounded strip with the level of what it removes, what was found in it, its dot and name."""

from __future__ import annotations

import time
from collections.abc import Callable, Hashable
from functools import partial

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPainterPath, QPen, QPixmap

from pulizia.audio.spans import Span
from pulizia.desktop.bench.pictures import Pictures
from pulizia.desktop.bench.removed_curve import draw_removed, taken_by
from pulizia.desktop.bench.score_marks import SurveyTicks, text_width
from pulizia.desktop.bench.score_plan import TOP, ScorePlan, detail_of
from pulizia.desktop.bench.tiles import Tiles
from pulizia.desktop.bench.time_axis import GUTTER
from pulizia.desktop.theme import colour, font, theme
from pulizia.score.chain import Stage
from pulizia.score.steps import Step
from pulizia.session.session import Session
from pulizia.units import format_time
from pulizia.words import tr, translated

LONGEST_S = 0.0025  # of drawing in one turn
KEPT_OF_A_ROW = 2 << 20  # bytes of pictures: a score of thirty steps has as many rows
MOST_OTHERS = 24  # steps that are not in view whose pictures are kept


class Strips:
    """All strips and the last row as one layer; rows that did not change stay as they are drawn."""

    def __init__(self, session: Session, pictures: Pictures, row_changed: Callable[[str], None]) -> None:
        self.session, self._pictures, self._tell = session, pictures, row_changed
        self._removed: dict[str, Tiles] = {}
        self._ticks: dict[str, SurveyTicks] = {}
        self._layer: QPixmap | None = None
        self._drawn: dict[int, Hashable] = {}  # what each row showed when it was drawn
        self._stale: set[str] = set()
        self._place: Hashable = None
        self._pitch = 0

    def layer(self, plan: ScorePlan, ratio: float, dirty: QRectF) -> QPixmap:
        """The layer, those rows that ``dirty`` meets drawn anew that changed; an empty one leaves all as it is."""
        layer = self._fitting_layer(plan, ratio)
        if dirty.isEmpty():
            return layer
        here = {step.id for step in plan.steps}
        self._stale &= here
        self._drop_others(here)
        painter = QPainter(layer)
        began = time.perf_counter()
        for row, step in enumerate(plan.steps):
            if row in self._drawn and time.perf_counter() - began > LONGEST_S:
                self._tell(step.id)  # what stands there is right but for the last change; the rest in another turn
                continue
            if step.id in self._stale:  # a picture for it has come
                self._stale.discard(step.id)
                self._drawn.pop(row, None)
            self._draw_row(painter, plan, row, dirty, self._row_key(plan, row), partial(self._paint_step, row=row))
        last = len(plan.steps)
        key = (plan.axis.width, plan.pitch, theme().name, bool(plan.steps))
        self._draw_row(painter, plan, last, dirty, key, self._paint_add_row)
        below = plan.row_box(last).bottom()  # rows that are gone leave nothing behind
        self._clear(painter, QRectF(0, below, plan.plot.right() + plan.plot.left(), plan.height - below))
        self._drawn = {row: key for row, key in self._drawn.items() if row <= last}
        painter.end()
        return layer

    def _drop_others(self, here: set[str]) -> None:
        """Pictures of steps that are gone, or of other recordings, leave once there are many."""
        if len(self._removed) <= len(here) + MOST_OTHERS:
            return
        for step_id in [i for i in self._removed if i not in here]:
            self._removed.pop(step_id).forget()
            self._ticks.pop(step_id, None)

    def _fitting_layer(self, plan: ScorePlan, ratio: float) -> QPixmap:
        """The layer at the size of the plan; rows stay when nothing but their number has changed."""
        wanted = QSize(round((plan.plot.right() + plan.plot.left()) * ratio), round(plan.height * ratio))
        old = self._layer
        place = (plan.axis.left, plan.axis.frames_per_pixel, wanted.width(), ratio, theme().name)
        if old is None or place != self._place:
            self._place, self._pitch = place, plan.pitch
            self._drawn.clear()
            made = old if old is not None and old.size() == wanted else QPixmap(wanted)
            made.fill(Qt.GlobalColor.transparent)
        elif old.size() != wanted or self._pitch != plan.pitch:
            made = self._carried_over(plan, old, wanted, ratio)
        else:
            return old
        made.setDevicePixelRatio(ratio)
        self._layer = made
        return made

    def _carried_over(self, plan: ScorePlan, old: QPixmap, wanted: QSize, ratio: float) -> QPixmap:
        """A layer for another number of rows: rows stay, at another density stretched until they are drawn anew."""
        made = QPixmap(wanted)
        made.fill(Qt.GlobalColor.transparent)
        was, now = self._pitch * ratio, plan.pitch * ratio
        lowest = min((old.height() / ratio - TOP) / self._pitch, (plan.height - TOP) / plan.pitch)
        kept = [row for row in self._drawn if row + 1 <= lowest]
        painter = QPainter(made)
        old.setDevicePixelRatio(1.0)
        for row in kept:
            source = QRectF(0, TOP * ratio + row * was, old.width(), was)
            painter.drawPixmap(QRectF(0, TOP * ratio + row * now, old.width(), now), old, source)
        painter.end()
        self._drawn = {row: self._drawn[row] if was == now else None for row in kept}
        self._pitch = plan.pitch
        return made

    def _draw_row(
        self,
        painter: QPainter,
        plan: ScorePlan,
        row: int,
        dirty: QRectF,
        key: Hashable,
        paint: Callable[[QPainter, ScorePlan], None],
    ) -> None:
        box = plan.row_box(row)
        if key == self._drawn.get(row) or not box.intersects(dirty):
            return
        self._clear(painter, box)
        painter.setClipRect(box)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        paint(painter, plan)
        self._drawn[row] = key

    def _row_key(self, plan: ScorePlan, row: int) -> Hashable:
        """All that a row shows: it is drawn anew only when that changes."""
        step, axis = plan.steps[row], plan.axis
        stage = self._stage(step)
        grown = (
            self._pictures.of(taken_by(stage), levels_only=True).version if stage is not None and step.enabled else 0
        )
        return (
            step, step.id == self.session.step_id, step.id in self.session.more_steps, axis.left, axis.frames_per_pixel, axis.width, plan.pitch, plan.frames,
            theme().name, stage, self._ticks_of(step), self.edges_of(step), grown,
        )  # fmt: skip

    def _ticks_of(self, step: Step) -> SurveyTicks | None:
        """What the tool found, where it is known."""
        stage = self._stage(step)
        found = self.session.surveys.of(stage) if stage is not None else None
        if found is None or found.survey is None:
            return None
        ticks = self._ticks.get(step.id)
        if ticks is None or ticks.survey is not found.survey:
            ticks = self._ticks[step.id] = SurveyTicks(found.survey)
        return ticks

    def edges_of(self, step: Step) -> tuple[int, ...]:
        """Frames at which sections of a step begin after the first."""
        if not step.tool.edge_field:
            return ()
        stage = self._stage(step)
        found = self.session.surveys.of(stage) if stage is not None else None
        return self.session.repairs.edges_of(step, found.survey if found is not None else None)

    def _stage(self, step: Step) -> Stage | None:
        chain = self.session.owner_chain
        return chain.stages.get(step.id) if chain else None

    def _row_changed(self, step_id: str) -> None:
        self._stale.add(step_id)
        self._tell(step_id)

    @staticmethod
    def _clear(painter: QPainter, box: QRectF) -> None:
        painter.setClipping(False)
        painter.setCompositionMode(QPainter.CompositionMode.CompositionMode_Clear)
        painter.fillRect(box, Qt.GlobalColor.transparent)
        painter.setCompositionMode(QPainter.CompositionMode.CompositionMode_SourceOver)

    def _paint_step(self, painter: QPainter, plan: ScorePlan, row: int) -> None:
        step = plan.steps[row]
        selected = step.id == self.session.step_id
        spans, box = plan.spans(row), plan.label_box(row)
        if not spans:
            staff = TOP + row * plan.pitch + plan.pitch / 2
            painter.setPen(QPen(colour("strong"), 1, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(plan.plot.left(), staff), QPointF(plan.plot.right(), staff))
        for span in spans:
            self._paint_strip(painter, plan, row, span, selected=selected)
        self._paint_survey(painter, plan, step, box, filled=selected and step.enabled)
        away = plan.out_of_view(row)
        if away is not None:
            self._paint_away(painter, plan, step, box, away)
        else:
            self._paint_name(painter, plan, step, box, selected=selected and step.enabled and bool(spans))

    def _paint_survey(self, painter: QPainter, plan: ScorePlan, step: Step, box: QRectF, *, filled: bool) -> None:
        """What the tool found; ticks under the name give way to it."""
        name = text_width(step.tool.title, bold=True) + text_width(
            detail_of(step, self.session.step_channels), bold=False
        )
        named_to = box.left() + 40 + name
        for frame in self.edges_of(step):
            x = GUTTER + plan.axis.x_at(frame)
            self._paint_edge(painter, x, box, filled=filled, under_name=x < named_to)
        ticks = self._ticks_of(step)
        if ticks is None or step.tool.edge_field:
            return
        ticks.paint(painter, plan.axis, box, filled=filled, from_x=named_to)

    @staticmethod
    def _paint_edge(painter: QPainter, x: float, box: QRectF, *, filled: bool, under_name: bool) -> None:
        """Where a section begins: a line with a grip, cut out under the name of the step."""
        if not box.left() < x < box.right():
            return
        ink = colour("on_verd" if filled else "ink", 0.85)
        painter.setPen(QPen(ink, 1))
        if under_name:
            for y in (box.top() + 1, box.bottom() - 4):
                painter.drawLine(QPointF(x, y), QPointF(x, y + 3))
            return
        painter.drawLine(QPointF(x, box.top() + 1), QPointF(x, box.bottom() - 1))
        painter.fillRect(QRectF(x - 2.5, box.center().y() - 4, 5, 8), ink)

    def _paint_strip(self, painter: QPainter, plan: ScorePlan, row: int, span: Span, *, selected: bool) -> None:
        step, plot = plan.steps[row], plan.plot
        box = plan.strip_box(row, span).adjusted(0.5, 0.5, -0.5, -0.5)
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
            self._paint_removed(painter, plan, box, step, filled=filled)
        among = step.id in self.session.more_steps
        if among:
            painter.fillPath(path, colour("verd", 0.2))
        pen = QPen(colour("verd" if selected or among else "strong"), 1)  # a wider one costs thirty times as much
        if not step.enabled:
            pen.setDashPattern([4, 3])
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(path)
        if filled:
            painter.setPen(QPen(colour("on_verd", 0.7), 1.5))
            for x in (box.left() + 4, box.right() - 4):
                painter.drawLine(QPointF(x, box.center().y() - 4), QPointF(x, box.center().y() + 4))

    def _paint_removed(self, painter: QPainter, plan: ScorePlan, box: QRectF, step: Step, *, filled: bool) -> None:
        stage = self._stage(step)
        if stage is not None:
            tiles = self._removed.setdefault(
                step.id,
                Tiles(self.session.pool, lambda: self._row_changed(step.id), dims=False, most_bytes=KEPT_OF_A_ROW),
            )
            draw_removed(painter, box, plan.plot, plan.axis, stage, self._pictures, tiles, filled=filled)

    @staticmethod
    def _paint_away(painter: QPainter, plan: ScorePlan, step: Step, box: QRectF, away: Span) -> None:
        """A step that acts outside the view: its name and when, at the edge on that side."""
        title, time_ = translated(step.tool.title), format_time(away.start / plan.axis.rate, 0)
        behind = away.start >= plan.axis.right
        text = f"{title}  {time_} \u203a" if behind else f"\u2039 {title}  {time_}"
        place = QRectF(plan.plot.left() + 8, box.top(), plan.plot.width() - 16, box.height())
        side = Qt.AlignmentFlag.AlignRight if behind else Qt.AlignmentFlag.AlignLeft
        painter.setFont(font(13))
        painter.setPen(colour("soft"))
        painter.drawText(place, Qt.AlignmentFlag.AlignVCenter | side, text)

    def _paint_name(self, painter: QPainter, plan: ScorePlan, step: Step, box: QRectF, *, selected: bool) -> None:
        dot = QPointF(box.left() + 13, box.center().y())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if step.enabled:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour("on_verd" if selected else "verd"))
            painter.drawEllipse(dot, 4, 4)
        else:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(colour("soft"), 1.4))
            painter.drawEllipse(dot, 3.4, 3.4)
        title, detail = translated(step.tool.title), translated(detail_of(step, self.session.step_channels))
        x, room = box.left() + 24, box.width() - 30
        painter.setFont(font(13, bold=True))
        painter.setPen(colour("on_verd" if selected else "ink" if step.enabled else "soft"))
        flags = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft
        width = text_width(title, bold=True)
        if width > room:  # beside the strip, in ink on paper, where there is more room
            behind = box.right() + 6 + width <= plan.plot.right()
            beside = QRectF(
                box.right() + 6 if behind else box.left() - 8 - width, box.top() + 2, width + 2, box.height() - 4
            )
            painter.fillRect(beside, colour("paper"))
            painter.setPen(colour("verd_text" if selected else "ink" if step.enabled else "soft"))
            painter.drawText(beside, flags, title)
            return
        painter.drawText(QRectF(x, box.top(), width + 2, box.height()), flags, title)
        left = room - width - 8
        painter.setFont(font(13))
        if text_width(detail, bold=False) <= left:
            painter.setPen(colour("on_verd" if selected else "soft"))
            painter.drawText(QRectF(x + width + 8, box.top(), left, box.height()), flags, detail)

    @staticmethod
    def _paint_add_row(painter: QPainter, plan: ScorePlan) -> None:
        row = plan.row_box(len(plan.steps))
        box = QRectF(row.left() + 0.5, row.top() + 3.5, row.width() - 1, plan.strip_height - 3)
        pen = QPen(colour("strong"), 1)
        pen.setDashPattern([4, 4])
        painter.setPen(pen)
        painter.setBrush(colour("paper"))
        painter.drawRoundedRect(box, 6, 6)
        painter.setPen(colour("verd_text"))
        painter.setFont(font(13, bold=True))
        text = tr("+ Add step") if plan.steps else tr("+ Add step, or select noise and press N")
        painter.drawText(box.adjusted(8, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, translated(text))
