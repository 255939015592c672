"""The sheet of the selected step: every control is made from the tool's declarations."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from pulizia.audio.samples import Samples
from pulizia.desktop.bench.band_row import BandRow
from pulizia.desktop.bench.equaliser_picture import EqualiserPicture
from pulizia.desktop.bench.findings import Findings
from pulizia.desktop.bench.setting_controls import control_of
from pulizia.desktop.bench.split_picture import SplitPicture
from pulizia.desktop.bench.tool_picture import ToolPicture
from pulizia.desktop.controls import SliderRow, button, hairline, label
from pulizia.desktop.words import translated
from pulizia.errors import PuliziaError
from pulizia.score.chain import Stage
from pulizia.score.order import order_note
from pulizia.score.steps import Step
from pulizia.session.jobs import SOON, Job
from pulizia.session.studio import Studio
from pulizia.settings.bands import Bands
from pulizia.settings.declare import (
    Declaration,
    Places,
    declared,
)
from pulizia.tools.base import Picture
from pulizia.tools.split_compressor import SplitCompressorSettings
from pulizia.units import format_time

PASSAGE_S = 4.0
LONG_TITLE = 12  # letters, beyond which the head has no room for all


class Sheet(QWidget):
    """Title, on/off, picture, settings and where the step acts."""

    def __init__(self, studio: Studio) -> None:
        super().__init__()
        self.studio = studio
        self._shown: tuple[str, str] | None = None  # step, tool
        self._controls: dict[str, QWidget] = {}
        self._more_open = False
        self._picture_key: object = None
        self._layout = QVBoxLayout(self)
        self._layout.setContentsMargins(16, 12, 16, 12)
        self._layout.setSpacing(6)
        self._body: QWidget | None = None
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(60)
        self._timer.timeout.connect(self._want_picture)
        self._later = QTimer(self)  # what was found is looked for when the settings have come to rest
        self._later.setSingleShot(True)
        self._later.setInterval(500)
        self._later.timeout.connect(self._want_survey)
        studio.on("surveys", self._show_survey)

    def refresh(self) -> None:
        """Show the selected step as it is now."""
        step = self.studio.step
        place = self.studio.current_id or ""
        wanted = (step.id, step.tool_id) if step else ("", place)
        if wanted != self._shown or self._body is None:
            self._rebuild(step)
            self._shown = wanted
        if step is not None:
            self._fill(step)
            self._timer.start()
            self._show_survey()
            self._later.start()

    # -- what was found

    def _stage(self) -> Stage | None:
        step, chain = self.studio.step, self.studio.chain
        return chain.stages.get(step.id) if step is not None and chain is not None else None

    def _want_survey(self) -> None:
        if (stage := self._stage()) is not None:
            self.studio.surveys.want(stage)

    def follow(self, frame: int) -> None:
        """Show what the step does at the play head, where its picture tells."""
        if not isinstance(self._picture, SplitPicture):
            return
        stage = self._stage()
        found = self.studio.surveys.of(stage) if stage is not None else None
        curves = found.survey.curves if found and found.survey else ()
        at = [(c, frame // max(1, c.step)) for c in curves]
        self._picture.show_reductions(
            tuple(round(float(c.level_db[n]), 1) if n < len(c.level_db) else 0.0 for c, n in at)
        )

    def _show_survey(self) -> None:
        if self.findings is not None:
            stage = self._stage()
            self.findings.show_found(self.studio.surveys.of(stage) if stage is not None else None)

    # -- building

    def _rebuild(self, step: Step | None) -> None:
        if self._body is not None:
            self._layout.removeWidget(self._body)
            self._body.hide()
            self._body.setParent(None)
            self._body.deleteLater()
        self._controls = {}
        self._picture: ToolPicture | EqualiserPicture | SplitPicture | None = None
        self._band_row: BandRow | None = None
        self.findings: Findings | None = None
        self._picture_key = None
        self._body = QWidget()
        column = QVBoxLayout(self._body)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        if step is None:
            self._build_empty(column)
        else:
            self._build_step(column, step)
        self._layout.insertWidget(0, self._body)

    def _build_empty(self, column: QVBoxLayout) -> None:
        if self.studio.recording is None:
            return
        column.addWidget(label("No step yet", 20, bold=True))
        text = (
            "Mark half a second where only the noise is heard and press N, or add a step below the "
            "sound. Nothing is changed in the file; every step stays adjustable."
        )
        column.addWidget(label(text, 13, token="soft", wrap=True))
        take = button("Take as noise", self.studio.repairs.take_as_noise, tip="Learn the marked stretch as noise (N)")
        column.addWidget(take)
        column.addStretch(1)

    def _build_step(self, column: QVBoxLayout, step: Step) -> None:
        head = QHBoxLayout()
        self._title = label(step.tool.title, 20, bold=True)
        self._row = label("", 12, token="soft")
        self._on = button("on", self._toggle, tip="Switch the step on or off (E)")
        self._on.setFixedWidth(60)
        head.addWidget(self._title)
        head.addSpacing(4)
        head.addWidget(self._row)
        head.addStretch(1)
        head.addWidget(self._on)
        column.addLayout(head)
        column.addWidget(label(step.tool.summary, 13, wrap=True))
        if step.tool.picture is not None:
            column.addWidget(self._make_picture(step))
            if isinstance(self._picture, EqualiserPicture):
                self._band_row = BandRow(self._picture.exchange_selected)
                self._picture.chosen.connect(self._show_band)
                column.addWidget(self._band_row)
        fields = declared(type(step.settings))
        extra = QWidget()
        extra_column = QVBoxLayout(extra)
        extra_column.setContentsMargins(0, 0, 0, 0)
        extra_column.setSpacing(2)
        for name, declaration in fields.items():
            made = self._control(step, name, declaration)
            if made is not None:
                (extra_column if declaration.more else column).addWidget(made)
        foot = QHBoxLayout()
        if any(d.more for d in fields.values()):
            more = button("More", lambda: None, tip="More settings", quiet=True)
            more.setCheckable(True)
            more.setChecked(self._more_open)
            more.toggled.connect(lambda on: self._show_more(on, extra, more))
            foot.addWidget(more)
            column.addWidget(extra)
            extra.setVisible(self._more_open)
            more.setText(translated("Less" if self._more_open else "More"))
        foot.addStretch(1)
        if step.tool.suggest is not None:
            foot.addWidget(button("Suggest", self.studio.surveys.suggest, tip="Find settings that fit this sound (U)"))
        if any(isinstance(d, Places) and d.learned for d in fields.values()):
            take = button(
                "Take as noise", self.studio.repairs.take_as_noise, tip="Learn the marked stretch as noise (N)"
            )
            foot.addWidget(take)
        column.addLayout(foot)
        column.addWidget(hairline())
        self.findings = Findings(self.studio)
        column.addWidget(self.findings)
        column.addWidget(hairline())
        self._build_where(column)
        column.addStretch(1)

    def _make_picture(self, step: Step) -> QWidget:
        if any(isinstance(d, Bands) for d in declared(type(step.settings)).values()):
            made = EqualiserPicture()
            made.changed.connect(lambda bands: self._change("bands", bands))
            made.let_go.connect(self._settle)
            self._picture = made
            return made
        if isinstance(step.settings, SplitCompressorSettings):
            split = SplitPicture()
            split.changed.connect(self._change)
            split.let_go.connect(self._settle)
            self._picture = split
            return split
        self._picture = ToolPicture(bends=hasattr(step.settings, "curve_levels"))
        self._picture.bent.connect(lambda curve: self._change("curve_levels", curve))
        self._picture.let_go.connect(self._settle)
        self._picture.show_picture(None, "Listening\u2026")
        return self._picture

    def _show_band(self, index: int) -> None:
        if isinstance(self._picture, EqualiserPicture) and self._band_row is not None:
            bands = self._picture.bands
            self._band_row.show_band(bands[index] if 0 <= index < len(bands) else None)

    def _show_more(self, on: bool, extra: QWidget, more: QPushButton) -> None:  # noqa: FBT001
        self._more_open = on
        extra.setVisible(on)
        more.setText(translated("Less" if on else "More"))

    def _build_where(self, column: QVBoxLayout) -> None:
        self._note = label("", 12, token="ochre_text", wrap=True)
        column.addWidget(self._note)
        self._where = label("", 12, token="soft", wrap=True)
        column.addWidget(self._where)
        row = QHBoxLayout()
        self._only = button(
            "Only the selection", self._act_on_selection, tip="Let the step act in the marked stretch only"
        )
        self._whole = button(
            "Whole recording",
            self._act_everywhere,
            tip="Let the step act everywhere, also where the original was given back",
        )
        row.addWidget(self._only)
        row.addWidget(self._whole)
        row.addStretch(1)
        column.addLayout(row)

    def _control(self, step: Step, name: str, declaration: Declaration) -> QWidget | None:
        made = control_of(step, name, declaration, change=self._change, settle=self._settle)
        if made is None:
            return None
        self._controls[name] = made.control
        return made.row

    def _settle(self) -> None:
        self.studio.document.history.settle()

    # -- showing

    def _fill(self, step: Step) -> None:
        recording = self.studio.recording
        if recording is None:
            return
        number = [s.id for s in recording.score].index(step.id) + 1
        self._row.setText(
            translated(
                f"row {number} of {len(recording.score)}" if len(step.tool.title) <= LONG_TITLE else f"row {number}"
            )
        )
        self._on.setText(translated("\u25cf  on" if step.enabled else "\u25cb  off"))
        self._on.setAccessibleName(translated("Step is on" if step.enabled else "Step is off"))
        for name, declaration in declared(type(step.settings)).items():
            value, control = getattr(step.settings, name), self._controls.get(name)
            if isinstance(control, SliderRow):
                control.show_value(value)
                control.setVisible(step.tool.applies(step.settings, name))
            elif isinstance(control, QComboBox):
                control.setCurrentIndex(control.findData(value))
            elif isinstance(control, QCheckBox):
                control.setChecked(value)
                control.setVisible(step.tool.applies(step.settings, name))
            elif isinstance(control, QLabel) and isinstance(declaration, Places):
                carried = declaration.learned and bool(getattr(step.settings, "profile_levels", ()))
                text = declaration.text(value) if value else "found by itself" if declaration.learned else "none"
                control.setText(translated("carried from another recording" if carried else text))
        if isinstance(self._picture, EqualiserPicture):
            self._picture.show_bands(getattr(step.settings, "bands", ()))
            self._show_band(self._picture.selected)
        elif isinstance(self._picture, SplitPicture) and isinstance(step.settings, SplitCompressorSettings):
            self._picture.show_settings(step.settings)
        elif isinstance(self._picture, ToolPicture) and hasattr(step.settings, "curve_levels"):
            self._picture.show_curve(step.settings.curve_levels)
        note = order_note(recording.score, step.id)
        self._note.setText(translated(note))
        self._note.setVisible(bool(note))
        self._where.setText(translated(self._where_text(step)))
        self._only.setEnabled(self.studio.selection is not None)
        self._whole.setEnabled(step.spans is not None or bool(step.holes))

    def _where_text(self, step: Step) -> str:
        recording = self.studio.recording
        assert recording is not None  # noqa: S101 - a step is shown
        rate = recording.rate
        if step.spans is None:
            text = "Acts in the whole recording"
        else:
            shown = [f"{format_time(s.start / rate, 2)}\u2013{format_time(s.stop / rate, 2)}" for s in step.spans[:3]]
            text = "Acts in " + ", ".join(shown) + (" and more" if len(step.spans) > 3 else "")
        if step.band_hz:
            text += f", {step.band_hz[0]:.0f} to {step.band_hz[1]:.0f} Hz"
        if step.holes:
            shown = [f"{format_time(s.start / rate, 2)}\u2013{format_time(s.stop / rate, 2)}" for s in step.holes[:3]]
            text += "; original given back at " + ", ".join(shown)
        return text + "."

    # -- editing

    def _change(self, name: str, value: Any) -> None:  # noqa: ANN401 - any setting's value
        step, recording = self.studio.step, self.studio.recording
        if step is None or recording is None:
            return
        try:
            self.studio.document.change_settings(recording.id, step.id, **{name: value})
        except PuliziaError as error:
            self.studio.say(str(error), bad=True)
            self._fill(step)

    def _toggle(self) -> None:
        step, recording = self.studio.step, self.studio.recording
        if step is not None and recording is not None:
            self.studio.document.set_enabled(recording.id, step.id, enabled=not step.enabled)

    def _act_on_selection(self) -> None:
        step, recording, selection = self.studio.step, self.studio.recording, self.studio.selection
        if step is not None and recording is not None and selection is not None:
            self.studio.document.set_spans(recording.id, step.id, (selection.span,))

    def _act_everywhere(self) -> None:
        step, recording = self.studio.step, self.studio.recording
        if step is not None and recording is not None:
            if step.holes:
                self.studio.document.clear_holes(recording.id, step.id)
            if step.spans is not None:
                self.studio.document.set_spans(recording.id, step.id, None)

    # -- the tool's picture

    def _want_picture(self) -> None:
        step, chain, recording = self.studio.step, self.studio.chain, self.studio.recording
        if step is None or chain is None or recording is None or self._picture is None:
            return
        stage = chain.stages.get(step.id)
        if stage is None:
            self._picture.show_picture(None, "Switched off" if not step.enabled else "Acts nowhere")
            return
        place = self._passage(recording.frames, recording.rate)
        key = (stage.key, place)
        if key == self._picture_key:
            return
        self._picture_key = key
        target = self._picture
        self.studio.pool.submit(
            lambda job: make_picture(stage, place, job), title="Listening", priority=SOON, slot="picture",
            on_done=lambda picture: self._show(target, picture, ""), on_error=lambda text: self._show(target, None, text),
        )  # fmt: skip

    def _show(self, target: ToolPicture | EqualiserPicture | SplitPicture, picture: Picture | None, text: str) -> None:
        if target is self._picture:  # else the sheet has been made anew meanwhile
            target.show_picture(picture, text)

    def _passage(self, frames: int, rate: int) -> tuple[int, int]:
        selection = self.studio.selection
        if selection is not None:
            return selection.span.start, min(selection.span.stop, selection.span.start + round(PASSAGE_S * 4 * rate))
        middle = self.studio.transport.position
        half = round(PASSAGE_S * rate / 2)
        start = min(max(0, middle - half), max(0, frames - 2 * half))
        return start // rate * rate, min(frames, start // rate * rate + 2 * half)


def make_picture(stage: Stage, place: tuple[int, int], job: Job) -> Picture:
    """The curves of a step's tool for a passage (in a worker)."""
    tool = stage.step.tool
    assert tool.picture is not None  # noqa: S101 - only asked for such tools
    analysis = stage.analysis(job.progress)
    passage: Samples | None = stage.upstream.read(*place) if place[1] > place[0] else None
    return tool.picture(passage, stage.rate, stage.step.settings, analysis)
