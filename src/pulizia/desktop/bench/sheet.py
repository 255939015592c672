# SPDX-License-Identifier: GPL-3.0-or-later
"""The sheet of the selected step: one body per tool, kept once it is built."""

from __future__ import annotations

from typing import Any

import shiboken6
from PySide6.QtCore import QEvent, QObject, Qt, QTimer
from PySide6.QtWidgets import QVBoxLayout, QWidget

from pulizia.audio.samples import Samples
from pulizia.audio.source import made_key
from pulizia.audio.spans import Span
from pulizia.desktop.bench.findings import Findings
from pulizia.desktop.bench.split_picture import SplitPicture
from pulizia.desktop.bench.step_foot import StepFoot
from pulizia.desktop.bench.tool_sheet import Shown, ToolSheet
from pulizia.desktop.controls import button, label
from pulizia.desktop.theme import theme_notice
from pulizia.desktop.turns import painted_in_turn
from pulizia.errors import PuliziaError
from pulizia.score.chain import Stage
from pulizia.session.jobs import SOON, Job
from pulizia.session.session import Session
from pulizia.tools.base import Picture
from pulizia.words import tr

PASSAGE_S = 4.0
LITTLE_ROOM_PX = 345  # in view of the sheet
APART_MS = 8  # from one part of building to the next: other views have their turn between


class EmptySheet(QWidget):
    """What to do when there is no step."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self._head = label("", 20, bold=True)
        column.addWidget(self._head)
        self._text = label("", 13, token="soft", wrap=True)
        column.addWidget(self._text)
        self._learn = button(
            tr("Learn noise"), session.repairs.take_as_noise, tip=tr("Learn the selection as noise (N)")
        )
        column.addWidget(self._learn)
        column.addStretch(1)
        self.show_words(there=False)

    def show_words(self, *, there: bool) -> None:
        """What to do where there is a recording without steps, or what will be here."""
        self._head.setText(tr("No step yet") if there else tr("Steps"))
        self._text.setText(
            tr(
                "Select half a second where only noise is heard and press N, or add a step below the waveform. The file is never changed; every step stays adjustable."
            )
            if there
            else tr("The settings of the selected step stand here, with its picture and what it takes from the voice.")
        )
        self._learn.setVisible(there)


class Sheet(QWidget):
    """Shows the body of the selected step's tool; a new one is built a few rows per turn of the event loop."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.foot = StepFoot(session)
        self.after: QWidget | None = None  # what has the keys before it
        self.body: ToolSheet | None = None  # what is shown; None without a step
        self._bodies: dict[str, ToolSheet] = {}
        self._empty = EmptySheet(session, self)
        self._shown: QWidget | None = None
        self._step_id = ""
        self._more_open = False
        self._picture_key: object = None
        self._layout = QVBoxLayout(self)
        self._layout.setContentsMargins(16, 12, 16, 12)
        self._layout.setSpacing(6)
        self._builder = QTimer(self)
        self._builder.timeout.connect(self._build_on)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(60)
        self._timer.timeout.connect(self._want_picture)
        self._later = QTimer(self)  # what was found is looked for when the settings have come to rest
        self._later.setSingleShot(True)
        self._later.setInterval(500)
        self._later.timeout.connect(self._want_survey)
        session.events.surveys.connect(self._show_survey)
        theme_notice().changing.connect(self._drop_hidden)

    @property
    def is_building(self) -> bool:
        """Whether the body of the selected step is still to come."""
        return self._builder.isActive()

    @property
    def findings(self) -> Findings | None:
        """What the selected step found; None without a step."""
        return self.body.findings if self.body is not None and not self.is_building else None

    def refresh(self) -> None:
        """Show the selected step as it is now, as soon as its body is there."""
        step = self.session.step
        self.foot.refresh()
        if step is None:
            self._builder.stop()
            self._exchange(None)
            self._empty.show_words(there=self.session.owner is not None)
            return
        wanted = self._bodies.get(step.tool_id)
        if wanted is None:
            wanted = ToolSheet(self.session, step.tool, self._change, self)
            wanted.more_toggled.connect(self._keep_more)
            self._bodies[step.tool_id] = wanted
        if wanted is self.body:
            self._builder.stop()
            self._fill()
        else:
            self._builder.start(APART_MS)

    def _build_on(self) -> None:
        """A few more rows of the body that is wanted; it is shown when it is whole."""
        step = self.session.step
        wanted = self._bodies.get(step.tool_id) if step is not None else None
        if wanted is None:
            self._builder.stop()
        elif not wanted.is_built:
            wanted.build()
        else:
            self._builder.stop()
            wanted.open_more(self._more_open)
            self._fit_picture(wanted)
            self._step_id = ""
            self._fill_in(wanted)
            self._exchange(wanted)
            self._rest()
            self._order_keys()

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ParentChange and (room := self.parentWidget()) is not None:
            room.installEventFilter(self)
        return super().event(event)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Resize and watched is self.parentWidget():
            for body in self._bodies.values():
                self._fit_picture(body)
        return super().eventFilter(watched, event)

    def _fit_picture(self, body: ToolSheet) -> None:
        """A lower picture where the settings under it would not be in view."""
        room = self.parentWidget()
        if body.picture is not None and room is not None:
            tall, low = body.picture.heights
            body.picture.setFixedHeight(low if room.height() < LITTLE_ROOM_PX else tall)

    def take_keys(self) -> None:
        """Give the keys to the first setting of the step, as soon as it is there."""
        if self.is_building:
            QTimer.singleShot(APART_MS, self, self.take_keys)
        elif self.body is not None:
            first = next((part for part in self.body.controls.values() if part.isVisible()), None)
            parts = [first, *first.findChildren(QWidget)] if first is not None else []
            stop = next((part for part in parts if part.focusPolicy() & Qt.FocusPolicy.TabFocus), None)
            if stop is not None:
                stop.setFocus(Qt.FocusReason.TabFocusReason)

    def _order_keys(self) -> None:
        """Tab goes through the body where the sheet stands, between the steps and what is under it."""
        before = self.after
        if self.body is None or before is None or before.window() != self.window():
            return
        for part in self.body.findChildren(QWidget):
            if (
                part.focusPolicy() & Qt.FocusPolicy.TabFocus and part.window() == self.window()
            ):  # a list that drops down is none
                QWidget.setTabOrder(before, part)
                before = part

    def _exchange(self, wanted: ToolSheet | None) -> None:
        shown = self._empty if wanted is None else wanted
        if self._shown is shown:
            return
        with painted_in_turn(self):
            if self._shown is not None:
                self._layout.removeWidget(self._shown)
                self._shown.hide()
            self.body, self._shown = wanted, shown
            self._picture_key = None
            self._layout.insertWidget(0, shown)
            shown.show()

    def _drop_hidden(self) -> None:
        for tool_id, body in list(self._bodies.items()):
            if body is not self.body:
                shiboken6.delete(self._bodies.pop(tool_id))
        self.refresh()

    def _fill(self) -> None:
        if self.body is not None:
            self._fill_in(self.body)
            self._rest()

    def _fill_in(self, body: ToolSheet) -> None:
        step, owner = self.session.step, self.session.owner
        if step is None or owner is None:
            return
        if step.id != self._step_id:
            self._step_id, self._picture_key = step.id, None
            if body.picture is not None:
                body.picture.show_picture(None, tr("Measuring…"))
        body.show_step(step, owner)

    def _rest(self) -> None:
        """What takes time is looked for when the settings have come to rest."""
        self._timer.start()
        self._show_survey()
        self._later.start()

    def _keep_more(self, on: bool) -> None:  # noqa: FBT001 - a signal's value
        self._more_open = on

    # -- what was found

    def _stage(self) -> Stage | None:
        step, chain = self.session.step, self.session.owner_chain
        return chain.stages.get(step.id) if step is not None and chain is not None else None

    def _want_survey(self) -> None:
        if (stage := self._stage()) is not None:
            self.session.surveys.want(stage)

    def follow(self) -> None:
        """Show what the step does at the play head, where its picture tells."""
        picture = self.body.picture if self.body is not None else None
        if not isinstance(picture, SplitPicture):
            return
        stage = self._stage()
        found = self.session.surveys.of(stage) if stage is not None else None
        curves = found.survey.curves if found and found.survey else ()
        frame = self.session.owner_position
        at = [(c, frame // max(1, c.step)) for c in curves]
        picture.show_reductions(
            tuple(round(float(c.level_db[n]), 1) if 0 <= n < len(c.level_db) else 0.0 for c, n in at)
        )

    def _show_survey(self) -> None:
        step = self.session.step
        if self.body is not None and step is not None and self.body.tool.id == step.tool_id:
            stage = self._stage()
            found = self.session.surveys.of(stage) if stage is not None else None
            self.body.show_found(found)
            self.foot.show_found(found)
            self._order_keys()  # rows may have come

    # -- editing

    def _change(self, tool_id: str, name: str, value: Any) -> None:  # noqa: ANN401 - any setting's value
        step, owner = self.session.step, self.session.owner
        if step is None or owner is None or step.tool_id != tool_id:
            return  # the body of another tool is about to come
        try:
            self.session.document.change_settings(owner.id, step.id, **{name: value})
        except PuliziaError as error:
            self.session.say(str(error), bad=True)
            self._fill()

    # -- the tool's picture

    def _want_picture(self) -> None:
        step, chain, owner = self.session.step, self.session.owner_chain, self.session.owner
        target = self.body.picture if self.body is not None else None
        if step is None or chain is None or owner is None or target is None or step.id != self._step_id:
            return
        stage = chain.stages.get(step.id)
        if stage is None:
            target.show_picture(None, tr("Switched off") if not step.enabled else tr("Applies nowhere"))
            self._picture_key = None
            return
        place = self._passage(owner.frames, owner.rate)
        key = (made_key(stage) or f"stage {stage.serial}", place)
        if key == self._picture_key:
            return
        self._picture_key = key
        self.session.pool.submit(
            lambda job: make_picture(stage, place, job), title=tr("Listening"), priority=SOON, slot="picture",
            on_done=lambda picture: self._show(target, key, picture, ""),
            on_error=lambda text: self._show(target, key, None, text),
        )  # fmt: skip

    def _show(self, target: Shown, key: object, picture: Picture | None, text: str) -> None:
        if key == self._picture_key:  # else another step or setting is shown meanwhile
            target.show_picture(picture, text)

    def _passage(self, frames: int, rate: int) -> tuple[int, int]:
        selection = self.session.owner_selection
        if selection is not None:
            return selection.span.start, min(selection.span.stop, selection.span.start + round(PASSAGE_S * 4 * rate))
        middle = self.session.owner_position
        half = round(PASSAGE_S * rate / 2)
        start = min(max(0, middle - half), max(0, frames - 2 * half))
        return start // rate * rate, min(frames, start // rate * rate + 2 * half)


def make_picture(stage: Stage, place: tuple[int, int], job: Job) -> Picture:
    """The curves of a step's tool for a passage (in a worker)."""
    tool = stage.step.tool
    assert tool.picture is not None  # noqa: S101 - only asked for such tools
    analysis = tool.analysis_around(stage.analysis(job.progress), Span(*place))
    passage: Samples | None = stage.heard.read(*place) if place[1] > place[0] else None
    return tool.picture(passage, stage.rate, stage.step.settings, analysis)
