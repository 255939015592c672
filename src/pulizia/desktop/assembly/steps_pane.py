# SPDX-License-Identifier: GPL-3.0-or-later
"""Under the lanes: the steps of the selected clip's recording, of the lane, or of the programme."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QRectF, Signal
from PySide6.QtGui import QMouseEvent, QPainter
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from pulizia.desktop.actions import Actions
from pulizia.desktop.bench.pictures import Pictures
from pulizia.desktop.bench.score_view import ScoreView
from pulizia.desktop.bench.time_axis import GUTTER, TimeAxis
from pulizia.desktop.bench.tool_menu import show_tool_menu
from pulizia.desktop.controls import SegmentSwitch, label, scrolled
from pulizia.desktop.theme import colour
from pulizia.project.step_owner import OwnerKind
from pulizia.session.session import Session
from pulizia.words import in_context, tr

SCOPES: tuple[OwnerKind, ...] = ("recording", "lane", "programme")
MOST_HEIGHT, LEAST_HEIGHT = 176, 44
STEP_ROWS = (
    "programme_step_switch", "programme_step_up", "programme_step_down", "",
    "programme_step_copy", "programme_step_paste", "programme_step_lanes", "", "programme_step_remove",
)  # fmt: skip


class OwnerAxis(TimeAxis):
    """The time axis of the lanes on the clock of what has the steps: a recording's begins where its clip does."""

    def __init__(self, session: Session, lanes: TimeAxis) -> None:
        super().__init__()
        self._session, self._lanes = session, lanes
        lanes.changed.connect(self.follow)

    def follow(self) -> None:
        """Lie under the lanes as they are now."""
        owner, programme = self._session.assembly.owner, self._session.assembly.programme
        if owner is None or programme is None:
            return
        scale = owner.rate / programme.rate
        clip = self._session.assembly.owner_clip if owner.kind == "recording" else None
        self.frames, self.rate, self.width = owner.frames, owner.rate, self._lanes.width
        left = clip.heard_at(self._lanes.left) if clip is not None else self._lanes.left
        self.left, self.frames_per_pixel = left * scale, self._lanes.frames_per_pixel * scale
        self.changed.emit()

    def ticks(self, wanted_px: float = 84.0) -> tuple[float, list[float]]:
        step, ticks = self._lanes.ticks(wanted_px)
        xs = [self._lanes.x_at(t * self._lanes.rate) for t in ticks]
        return step, [self.frame_at(x) / self.rate for x in xs]

    def zoom(self, factor: float, at_x: float) -> None:
        self._lanes.zoom(factor, at_x)

    def scroll(self, pixels: float) -> None:
        self._lanes.scroll(pixels)

    def show_span(self, start: float, stop: float, margin: float = 0.08) -> None:
        first, last = (self._session.assembly.from_owner(round(f)) for f in (start, stop))
        self._lanes.show_span(first, last, margin)


class AssemblySteps(ScoreView):
    """Steps under the lanes; outside the clip, a recording's lie under paper."""

    step_chosen = Signal()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        super().mousePressEvent(event)
        if self.plan.grip_at(event.position()) is not None:
            self.step_chosen.emit()

    def paint_trimmed(self, painter: QPainter, plot: QRectF) -> None:
        assembly = self.session.assembly
        clip, owner = assembly.owner_clip, assembly.owner
        if clip is None or owner is None or owner.kind != "recording":
            return
        first, last = (self.x_of(assembly.to_owner(f), plot) for f in (clip.start, clip.stop))
        height = self.plan.row_box(len(self.steps)).top()
        for left, right in ((plot.left(), first), (last, plot.right())):
            if right > left:
                painter.fillRect(QRectF(left, plot.top(), right - left, height), colour("paper", 0.6))


class StepsPane(QWidget):
    """Whose steps, and the steps."""

    step_chosen = Signal()

    def __init__(self, session: Session, lanes: TimeAxis, pictures: Pictures) -> None:
        super().__init__()
        self.session = session
        self.axis = OwnerAxis(session, lanes)
        self.steps = AssemblySteps(session, self.axis, pictures)
        self.steps.add_step.connect(lambda: self.choose_tool(on_selection=False))
        self.actions_: Actions | None = None  # whose commands the menu of a step holds
        self.steps.step_menu.connect(lambda _step: self._show_menu())
        self.steps.step_chosen.connect(self.step_chosen)
        self.steps.setProperty("manual", "assembly#Steps")
        tips = (
            tr("Steps of the selected clip's recording, wherever it is used"),
            tr("Steps of the chosen lane, behind its clips"),
            tr("Steps of the whole programme, behind the mix"),
        )
        self.scope = SegmentSwitch(
            (tr("Recording"), tr("Lane"), in_context("steps", "Programme")), tips, tr("Whose steps are shown")
        )
        self.scope.chosen.connect(self._choose)
        self.name = label("", 12, token="soft")
        head = QHBoxLayout()
        head.setContentsMargins(GUTTER, 4, GUTTER, 2)
        head.setSpacing(10)
        head.addWidget(label(tr("Steps"), 13, bold=True))
        head.addWidget(self.scope)
        head.addWidget(self.name, 1)
        self._area = scrolled(self.steps)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(head)
        column.addWidget(self._area)

    def _choose(self, index: int) -> None:
        self.session.assembly.choose_scope(SCOPES[index])
        self.refresh()

    def refresh(self) -> None:
        """Show the steps of what is chosen."""
        owner = self.session.assembly.owner
        if owner is None:
            return
        self.scope.set_index(SCOPES.index(owner.kind))
        self.scope.update()
        self.name.setText(owner.name)
        self.axis.follow()
        self.steps.fit()
        self._area.setFixedHeight(min(max(self.steps.height(), LEAST_HEIGHT), MOST_HEIGHT))
        ids = [s.id for s in owner.steps]
        if self.session.step_id in ids:
            self._area.ensureVisible(0, round(self.steps.plan.dot_place(ids.index(self.session.step_id)).y()), 0, 24)

    def choose_tool(self, *, on_selection: bool) -> None:
        """Offer the tools for a new step."""
        if self.session.assembly.owner is not None:
            corner = self.steps.mapToGlobal(QPoint(GUTTER, self.steps.height()))
            show_tool_menu(self.session, self.steps, corner, on_selection=on_selection)

    def _show_menu(self) -> None:
        if self.actions_ is not None:
            self.actions_.menu_of(STEP_ROWS).popup(self.cursor().pos())
