# SPDX-License-Identifier: GPL-3.0-or-later
"""The body of the sheet for the steps of one tool: every control is made from the tool's declarations."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from typing import Any

from PySide6.QtCore import Signal
from PySide6.QtGui import QFontMetricsF
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QVBoxLayout,
    QWidget,
)

from pulizia.audio.layouts import shown_names
from pulizia.desktop.bench.band_row import BandRow
from pulizia.desktop.bench.equaliser_picture import EqualiserPicture
from pulizia.desktop.bench.findings import Findings
from pulizia.desktop.bench.sample_list import SampleList
from pulizia.desktop.bench.score_plan import channels_told
from pulizia.desktop.bench.setting_controls import control_of
from pulizia.desktop.bench.split_picture import SplitPicture
from pulizia.desktop.bench.tool_picture import ToolPicture
from pulizia.desktop.controls import ChoiceBox, button, hairline, label
from pulizia.desktop.flow import FlowLayout
from pulizia.desktop.sliders import SliderRow
from pulizia.desktop.theme import font
from pulizia.project.step_owner import StepOwner
from pulizia.score.order import order_note
from pulizia.score.steps import Step
from pulizia.session.session import Session
from pulizia.session.survey_service import Found
from pulizia.settings.bands import Bands
from pulizia.settings.declare import Places, Settings, declared
from pulizia.tools.base import AnyTool, Survey
from pulizia.tools.equaliser import EqualiserSettings
from pulizia.tools.extensions import failure_of
from pulizia.tools.split_compressor import SplitCompressorSettings
from pulizia.units import format_time
from pulizia.words import N_, tr, translated

LONGEST_S = 0.004  # of building in one turn
HEAD_WIDTH = 240  # pixels for title, place and switch
LONG_TITLE = 124  # pixels, beyond which the head has no room for all
MOST_PLACES = 3  # told one by one

Shown = ToolPicture | EqualiserPicture | SplitPicture


class ToolSheet(QWidget):
    """Title, on/off, picture, settings, what was found and where the step acts. Hidden until it is built and shown.

    ``change`` is called with the tool's id, the name of a setting and its value.
    """

    more_toggled = Signal(bool)

    def __init__(
        self, session: Session, tool: AnyTool, change: Callable[[str, str, Any], None], parent: QWidget
    ) -> None:
        super().__init__(parent)
        self.hide()
        self.session, self.tool = session, tool
        self._settings: type[Settings] = tool.settings
        self.picture: Shown | None = None
        self.controls: dict[str, QWidget] = {}
        self.band_row: BandRow | None = None
        self.samples: SampleList | None = None
        self.findings = Findings(session)
        self.is_built = False
        self._change_of = change
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(6)
        self._parts = self._build()

    # -- building

    def build(self) -> None:
        """Build for a little while."""
        end = time.perf_counter() + LONGEST_S
        for part in self._parts:
            part.ensurePolished()
            if time.perf_counter() > end:
                return
        self.is_built = True

    def _build(self) -> Iterator[QWidget]:
        yield self._build_head()
        self.summary = label(self.tool.summary, 13, wrap=True)
        self._told_of = ""  # the step whose finding stands there
        yield self._add(self.summary)
        if self.tool.picture is not None:
            yield from self._build_picture()
        yield from self._build_controls()
        self._found_line = hairline()
        self._column.addWidget(self._found_line)
        yield self._add(self.findings)
        self._column.addWidget(hairline())
        yield from self._build_where()
        self._column.addStretch(1)

    def _add(self, part: QWidget) -> QWidget:
        self._column.addWidget(part)
        return part

    def _build_head(self) -> QWidget:
        head = QHBoxLayout()
        self._row = label("", 12, token="soft")
        self._on = button(tr("●  on"), self._toggle, tip=tr("Switch the step on or off (E)"))
        self._on.setFixedWidth(max(60, self._on.sizeHint().width()))
        long = is_long(self.tool.title)
        self._title = label(self.tool.title, 15 if long else 20, bold=True, wrap=long)
        head.addWidget(self._title, 1 if long else 0)
        head.addSpacing(4)
        head.addWidget(self._row)
        head.addStretch(0 if long else 1)
        head.addWidget(self._on)
        self._column.addLayout(head)
        return self._on

    def _build_picture(self) -> Iterator[QWidget]:
        settings = self._settings
        if any(isinstance(d, Bands) for d in declared(settings).values()):
            equaliser = EqualiserPicture()
            equaliser.changed.connect(lambda bands: self._change("bands", bands))
            equaliser.let_go.connect(self._settle)
            self.picture = equaliser
            yield self._add(equaliser)
            self.band_row = BandRow(equaliser.exchange_selected)
            equaliser.chosen.connect(self._show_band)
            yield self._add(self.band_row)
        elif issubclass(settings, SplitCompressorSettings):
            split = SplitPicture()
            split.changed.connect(self._change)
            split.let_go.connect(self._settle)
            self.picture = split
            yield self._add(split)
        else:
            plain = ToolPicture(bends="curve_levels" in declared(settings))
            plain.bent.connect(lambda curve: self._change("curve_levels", curve))
            plain.let_go.connect(self._settle)
            self.picture = plain
            yield self._add(plain)

    def _build_controls(self) -> Iterator[QWidget]:
        fields = declared(self._settings)
        self._extra = QWidget(self)
        self._extra.hide()
        extra_column = QVBoxLayout(self._extra)
        extra_column.setContentsMargins(0, 0, 0, 0)
        extra_column.setSpacing(2)
        for name, declaration in fields.items():
            made = control_of(
                self._settings, name, declaration, change=self._change, settle=self._settle, refuse=self._refuse
            )
            if made is not None and name not in (self.tool.reject_field, self.tool.edge_field):
                self.controls[name] = made.control
                (extra_column if declaration.more else self._column).addWidget(made.row)
                yield made.row
                if name == self.tool.sample_field:
                    self.samples = SampleList(self.session)
                    yield self._add(self.samples)
        foot = FlowLayout()
        self._more = button(tr("More…"), lambda: None, tip=tr("More settings"), quiet=True)
        self._more.setCheckable(True)
        self._more.toggled.connect(self._show_more)
        foot.addWidget(self._more)
        self._column.addWidget(self._extra)
        yield self._more
        if self.tool.suggest is not None:
            foot.addWidget(
                button(
                    tr("Find settings"), self.session.surveys.suggest, tip=tr("Find settings for this recording (U)")
                )
            )
        if any(isinstance(d, Places) and d.learned for d in fields.values()):
            take = self.session.repairs.take_as_noise
            foot.addWidget(button(tr("Learn noise"), take, tip=tr("Learn the selection as noise (N)")))
        self._column.addLayout(foot)
        self._more.setVisible(extra_column.count() > 0)
        yield self._more

    def _build_where(self) -> Iterator[QWidget]:
        self._note = label("", 12, token="ochre_text", wrap=True)
        self._where = label("", 12, token="soft", wrap=True)
        self.channels = ChoiceBox()
        self.channels.setAccessibleName(tr("Channels of the step"))
        self.channels.setToolTip(
            tr("The channels that the step hears and works on, each microphone alone or all together")
        )
        self.channels.activated.connect(lambda _index: self._set_channels())
        for part in (self._note, self.channels, self._where):
            yield self._add(part)

    # -- showing

    def open_more(self, on: bool) -> None:  # noqa: FBT001 - what the button says
        """Show or hide the settings that are rarely needed."""
        self._more.setChecked(on)

    def _show_more(self, on: bool) -> None:  # noqa: FBT001 - a signal's value
        self._extra.setVisible(on)
        self._more.setText(tr("Fewer") if on else tr("More…"))
        self.more_toggled.emit(on)

    def _show_band(self, index: int) -> None:
        if isinstance(self.picture, EqualiserPicture) and self.band_row is not None:
            bands = self.picture.bands
            self.band_row.show_band(bands[index] if 0 <= index < len(bands) else None)

    def _place_words(self, number: int, count: int) -> str:
        """Where the step stands among all, in as many words as the head has room for."""
        room = HEAD_WIDTH - self._on.width() - self._title.sizeHint().width()
        metrics = self._row.fontMetrics()
        choices = (tr("step {number} of {count}", number=number, count=count), tr("step {number}", number=number))
        return next((words for words in choices if metrics.horizontalAdvance(words) <= room), str(number))

    def show_step(self, step: Step, owner: StepOwner) -> None:
        """Show a step of this tool as it is now."""
        number = [s.id for s in owner.steps].index(step.id) + 1
        self._row.setText(self._place_words(number, len(owner.steps)))
        self._on.setText(tr("●  on") if step.enabled else tr("○  off"))
        self._on.setAccessibleName(tr("Step is on") if step.enabled else tr("Step is off"))
        self._show_settings(step)
        self._show_in_picture(step, owner)
        note = failure_of(step.tool_id) or order_note(owner.steps, step.id)
        self._note.setText(translated(note))
        self._note.setVisible(bool(note))
        names = self.session.names_of(owner)
        self._show_channels(step, names)
        self._where.setText(translated(where_text(step, owner, names)))

    def _show_channels(self, step: Step, names: tuple[str, ...]) -> None:
        """All channels, or one of them; of several the ones that are chosen."""
        self.channels.setVisible(len(names) > 1 and not step.tool.relates_channels)
        rows: list[tuple[str, tuple[int, ...] | None]] = [(tr("all channels"), None)]
        rows += [(tr("only {channel}", channel=name), (n,)) for n, name in enumerate(shown_names(names))]
        if step.channels == tuple(range(len(names))):
            rows[0] = (rows[0][0], step.channels)
        elif step.channels is not None and step.channels not in [channels for _, channels in rows]:
            rows.append((tr("only {channel}", channel=channels_told(step, names)), step.channels))
        self.channels.clear()
        for words, channels in rows:
            self.channels.addItem(words, channels)
        self.channels.setCurrentIndex([channels for _, channels in rows].index(step.channels))

    def _refuse(self, sentence: str) -> None:
        self.session.say(sentence, bad=True)

    def _set_channels(self) -> None:
        if (own := self._own_step()) is not None:
            step, owner = own
            self.session.document.set_channels(owner.id, step.id, self.channels.currentData())

    def _show_settings(self, step: Step) -> None:
        for name, declaration in declared(self._settings).items():
            value, control = getattr(step.settings, name), self.controls.get(name)
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
                text = declaration.text(value) if value else "automatic" if declaration.learned else "none"
                control.setText(translated(tr("from another recording") if carried else text))

    def show_found(self, found: Found | None) -> None:
        """Show what is known of the step: what was found, and what it has learned from."""
        self.findings.show_found(found)
        self._found_line.setVisible(found is not None and found.survey is not None)
        step = self.session.step
        self._show_first(found.survey if found is not None else None, step.id if step is not None else "")
        if self.samples is not None and step is not None and step.tool_id == self.tool.id:
            samples = found.survey.samples if found is not None and found.survey is not None else ()
            rejected, moved = (len(getattr(step.settings, f)) for f in (self.tool.reject_field, self.tool.edge_field))
            if found is not None:
                self.samples.show_samples(samples, rejected, moved=moved > 0)

    def _show_first(self, survey: Survey | None, step_id: str) -> None:
        """That a step does nothing here stands first, and stays there while the same step is looked through anew."""
        if survey is None and step_id == self._told_of:
            return
        first = survey.sentence if survey is not None and survey.stands_first else ""
        self._told_of = step_id
        self.summary.setText(translated(first or self.tool.summary))
        self.findings.sentence.setVisible(survey is not None and not first)

    def _show_in_picture(self, step: Step, owner: StepOwner) -> None:
        if isinstance(self.picture, EqualiserPicture) and isinstance(step.settings, EqualiserSettings):
            self.picture.show_settings(step.settings, owner.rate)
            self._show_band(self.picture.selected)
        elif isinstance(self.picture, SplitPicture) and isinstance(step.settings, SplitCompressorSettings):
            self.picture.show_settings(step.settings)
        elif isinstance(self.picture, ToolPicture) and hasattr(step.settings, "curve_levels"):
            self.picture.show_curve(step.settings.curve_levels)

    # -- editing

    def _change(self, name: str, value: Any) -> None:  # noqa: ANN401 - any setting's value
        self._change_of(self.tool.id, name, value)

    def _settle(self) -> None:
        self.session.document.history.settle()

    def _own_step(self) -> tuple[Step, StepOwner] | None:
        """The selected step when it is of this tool."""
        step, owner = self.session.step, self.session.owner
        return None if step is None or owner is None or step.tool_id != self.tool.id else (step, owner)

    def _toggle(self) -> None:
        if (own := self._own_step()) is not None:
            step, owner = own
            self.session.document.set_enabled(owner.id, step.id, enabled=not step.enabled)


def is_long(title: str) -> bool:
    """Whether a tool's title leaves no room beside it in the head."""
    return QFontMetricsF(font(20, bold=True)).horizontalAdvance(translated(title)) > LONG_TITLE


WHOLE = {
    "recording": N_("Applies to the whole recording."), "lane": N_("Applies to the whole lane."),
    "programme": N_("Applies to the whole programme."),
}  # fmt: skip


def where_text(step: Step, owner: StepOwner, names: tuple[str, ...] = ()) -> str:
    """Where a step acts, in a sentence; ``names`` are those of the channels."""
    rate = owner.rate

    def told(start: int, stop: int) -> str:
        return f"{format_time(start / rate, 2)}\u2013{format_time(stop / rate, 2)}"

    if step.spans is None:
        text = tr(WHOLE[owner.kind])
    else:
        shown = [told(s.start, s.stop) for s in step.spans[:MOST_PLACES]]
        places = ", ".join(shown)
        more = len(step.spans) > MOST_PLACES
        text = tr("Applies to {places} and more.", places=places) if more else tr("Applies to {places}.", places=places)
    sentences = [text]
    if step.channels is not None and names and all(c >= len(names) for c in step.channels):
        sentences.append(tr("It is for channel {channel}, which is not there.", channel=channels_told(step, names)))
    if step.band_hz:
        sentences.append(tr("Band {low:.0f} to {high:.0f} Hz.", low=step.band_hz[0], high=step.band_hz[1]))
    if step.holes:
        places = ", ".join(told(s.start, s.stop) for s in step.holes[:MOST_PLACES])
        sentences.append(tr("Original restored at {places}.", places=places))
    return " ".join(sentences)
