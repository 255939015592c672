# SPDX-License-Identifier: GPL-3.0-or-later
"""The sheet at the right: the selected clips with typed values, or the programme and what can be done."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from pulizia.audio.fades import Law
from pulizia.audio.layouts import shown_names
from pulizia.desktop.assembly.programme_part import ProgrammePart
from pulizia.desktop.controls import ChoiceBox, FigureBox, button, hairline, label, setting_name
from pulizia.desktop.time_box import TimeBox
from pulizia.project.clips import HIGHEST_DB, LOWEST_DB, Clip
from pulizia.session.session import Session
from pulizia.units import format_time
from pulizia.words import N_, plural, tr, translated

MOST_NAMED = 4
LAWS: tuple[tuple[Law, str], ...] = (
    ("matched", N_("matched level")),
    ("power", N_("equal power")),
    ("gain", N_("equal gain")),
)
LONGEST_FADE_MS = 60_000.0


class ClipSheet(QWidget):
    """What is selected, in figures."""

    render_asked = Signal()
    deliver_asked = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._filling = False
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 16, 16, 16)
        column.setSpacing(8)
        self.title = label("", 20, bold=True, wrap=True)
        self.line = label("", 13, token="soft", wrap=True)
        column.addWidget(self.title)
        column.addWidget(self.line)
        column.addWidget(self._clip_part())
        self.whole = ProgrammePart(session)
        self.whole.render_asked.connect(self.render_asked)
        self.whole.deliver_asked.connect(self.deliver_asked)
        column.addWidget(self.whole)
        column.addStretch(1)
        self.refresh()

    def _clip_part(self) -> QWidget:
        self._clips = QWidget()
        column = QVBoxLayout(self._clips)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        self.start = self._time(column, N_("Starts at"), self._moved, counts_from_start=True)
        self.length = self._time(column, N_("Length"), self._lengthened)
        self.inner = self._time(column, N_("From"), self._slipped, low=-360_000.0)
        self.inner.setToolTip(tr("Where in the recording the clip begins"))
        self.channel = self._channel(column)
        self.gain = self._figure(column, N_("Gain"), 1, LOWEST_DB, HIGHEST_DB, " dB", self._gained)
        self.fade_in = self._figure(
            column, N_("Fade in"), 0, 0.0, LONGEST_FADE_MS, " ms", lambda v: self._faded("in", ms=v)
        )
        self.law_in = self._law(column, tr("Shape of the fade in"), "in")
        self.fade_out = self._figure(
            column, N_("Fade out"), 0, 0.0, LONGEST_FADE_MS, " ms", lambda v: self._faded("out", ms=v)
        )
        self.law_out = self._law(column, tr("Shape of the fade out"), "out")
        column.addSpacing(6)
        column.addWidget(hairline())
        assembly = self.session.assembly
        for words, call, tip in (
            (tr("Cross-fade with the clip before"), assembly.cross_fade, tr("Overlap both around their cut by 40 ms")),
            (
                tr("Match the loudness of clips"),
                self.session.clip_levels.match,
                tr("Bring all selected clips to the loudness of the middle one (Shift+L)"),
            ),
            (tr("Switch off or on"), assembly.set_enabled, tr("Keep the clip in its place without its sound")),
            (
                tr("Delete and close the gap"),
                assembly.ripple_delete,
                tr("Remove the section from all lanes (Shift+Del)"),
            ),
        ):
            column.addWidget(button(words, call, tip=tip))
        return self._clips

    def _time(
        self, column: QVBoxLayout, words: str, call: Callable[[float], None], *, low: float = 0.0,
        counts_from_start: bool = False,
    ) -> TimeBox:  # fmt: skip
        row = QHBoxLayout()
        row.addWidget(setting_name(words))
        box = TimeBox(low=low, counts_from_start=counts_from_start)
        box.setAccessibleName(translated(words))
        box.changed.connect(lambda value: None if self._filling else call(value))
        box.refused.connect(lambda sentence: self.session.say(sentence, bad=True))
        row.addWidget(box, 1)
        column.addLayout(row)
        return box

    def _figure(
        self,
        column: QVBoxLayout,
        words: str,
        decimals: int,
        low: float,
        high: float,
        unit: str,
        call: Callable[[float], None],
    ) -> FigureBox:
        row = QHBoxLayout()
        row.addWidget(setting_name(words))
        box = FigureBox()
        box.setDecimals(decimals)
        box.setRange(low, high)
        box.setSuffix(unit)
        box.setSingleStep(0.5 if unit == " dB" else 10.0 if unit == " ms" else 0.01)
        box.setKeyboardTracking(False)
        box.setAccessibleName(translated(words))
        box.valueChanged.connect(lambda value: None if self._filling else call(value))
        box.confirmed.connect(call)
        row.addWidget(box, 1)
        column.addLayout(row)
        return box

    def _channel(self, column: QVBoxLayout) -> ChoiceBox:
        """Which channel of the recording is heard; only where there are several."""
        self._channel_row = QWidget()
        row = QHBoxLayout(self._channel_row)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(setting_name(N_("Channel")))
        box = ChoiceBox()
        box.setAccessibleName(tr("Channel of the clip"))
        box.setToolTip(tr("The channel of the recording that the clip plays, by the name of its microphone"))
        box.activated.connect(lambda _index: self.session.assembly.set_channel(box.currentData()))
        row.addWidget(box, 1)
        column.addWidget(self._channel_row)
        return box

    def _show_channel(self, clips: tuple[Clip, ...]) -> None:
        names = {self.session.channels_of(c.recording_id) for c in clips}
        known = shown_names(next(iter(names))) if len(names) == 1 else ()
        self._channel_row.setVisible(len(known) > 1 and not any(c.tone for c in clips))
        self.channel.clear()
        self.channel.addItem(tr("all channels"), None)
        for number, name in enumerate(known):
            self.channel.addItem(name, number)
        chosen = {c.channel for c in clips}
        one = next(iter(chosen)) if len(chosen) == 1 else -2  # several: none is shown
        self.channel.setCurrentIndex(0 if one is None else one + 1)

    def _law(self, column: QVBoxLayout, name: str, side: str) -> ChoiceBox:
        row = QHBoxLayout()
        row.addWidget(setting_name(N_("Shape")))
        box = ChoiceBox()
        box.setAccessibleName(name)
        for law, words in LAWS:
            box.addItem(translated(words), law)
        box.activated.connect(lambda _index: self._faded(side, law=box.currentData()))
        row.addWidget(box, 1)
        column.addLayout(row)
        return box

    # -- typed values

    @property
    def _one(self) -> Clip | None:
        clips = self.session.assembly.clips
        return clips[0] if clips else None

    def _frames(self, seconds: float) -> int:
        programme = self.session.assembly.programme
        return round(seconds * (programme.rate if programme is not None else 48_000))

    def _moved(self, seconds: float) -> None:
        if (clip := self._one) is not None:
            self.session.assembly.move(self._frames(seconds) - clip.start)

    def _lengthened(self, seconds: float) -> None:
        if (clip := self._one) is not None:
            self.session.assembly.trim(clip.id, stop=clip.start + self._frames(seconds))
            self.refresh()

    def _slipped(self, seconds: float) -> None:
        if (clip := self._one) is not None:
            self.session.assembly.slip(self._frames(seconds) - clip.inner)

    def _gained(self, gain_db: float) -> None:
        self.session.assembly.set_gain(gain_db)

    def _faded(self, side: str, *, ms: float | None = None, law: Law | None = None) -> None:
        self.session.assembly.set_fade(side, None if ms is None else self._frames(ms / 1000.0), law)

    # -- showing

    def refresh(self) -> None:
        """Show what is selected now."""
        assembly = self.session.assembly
        programme, clips = assembly.programme, assembly.clips
        self._clips.setVisible(bool(clips))
        self.whole.setVisible(not clips and programme is not None)
        if programme is None:
            self.title.setText(tr("No programme yet"))
            self.line.setText(tr("A programme joins recordings into one continuous sound. Add a recording to begin."))
            return
        self._filling = True
        if clips:
            clip, rate = clips[0], programme.rate
            recording = assembly.recording_of(clip)
            where = recording.path.name if recording is not None else tr("recording missing")
            names = list(dict.fromkeys(c.name for c in clips if c.name))
            if len(names) > 1:
                self.title.setText(plural("1 clip", "{n} clips", len(clips)))
                self.line.setText(", ".join(names[:MOST_NAMED]) + (", \u2026" if len(names) > MOST_NAMED else ""))
            else:
                self.title.setText(clip.name or (recording.name if recording else tr("Clip")))
                self.line.setText(
                    where if len(clips) == 1 else plural("1 clip selected.", "{n} clips selected.", len(clips))
                )
            for times, frames in (
                (self.start, [c.start for c in clips]),
                (self.length, [c.frames for c in clips]),
                (self.inner, [c.inner for c in clips]),
            ):
                times.show_value(frames[0] / rate, several=len(set(frames)) > 1)
            self._show_channel(clips)
            self.gain.show_value(clip.gain_db, several=len({c.gain_db for c in clips}) > 1)
            for box, law, edges in (
                (self.fade_in, self.law_in, [c.fade_in for c in clips]),
                (self.fade_out, self.law_out, [c.fade_out for c in clips]),
            ):
                box.show_value(1000.0 * edges[0].frames / rate, several=len({e.frames for e in edges}) > 1)
                names = [name for name, _ in LAWS]
                law.setCurrentIndex(names.index(edges[0].law) if len({e.law for e in edges}) == 1 else -1)
            for times in (self.start, self.length, self.inner):
                times.setEnabled(len(clips) == 1)
                times.picture_rate, times.start_frame = programme.picture_rate, programme.start_frame
                times.drop = programme.drop_frame
        else:
            self.title.setText(programme.name)
            count = sum(len(lane.clips) for lane in programme.lanes)
            words = plural("1 clip", "{n} clips", count)
            self.line.setText(
                tr(
                    "{length}, {clips}, {rate:g} kHz",
                    length=format_time(programme.frames / programme.rate, 1),
                    clips=words,
                    rate=programme.rate / 1000,
                )
            )
            self.whole.show_programme(programme)
        self._filling = False
