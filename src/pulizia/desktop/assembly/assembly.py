# SPDX-License-Identifier: GPL-3.0-or-later
"""The place where recordings become a programme: recordings at the left, lanes in the middle, the sheet at the right."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Qt, QTimer, Signal
from PySide6.QtWidgets import (
    QHBoxLayout,
    QScrollArea,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from pulizia.desktop.actions import Actions
from pulizia.desktop.assembly.clip_sheet import ClipSheet
from pulizia.desktop.assembly.film_pane import FilmPane
from pulizia.desktop.assembly.findings_dialog import ProgrammeFindings
from pulizia.desktop.assembly.lanes_view import LanesView
from pulizia.desktop.assembly.overview import AssemblyOverview
from pulizia.desktop.assembly.questions import AssemblyQuestions
from pulizia.desktop.assembly.recording_cards import RecordingCards
from pulizia.desktop.assembly.ruler import AssemblyRuler
from pulizia.desktop.assembly.steps_pane import StepsPane
from pulizia.desktop.bench.pictures import Pictures
from pulizia.desktop.bench.sheet import Sheet
from pulizia.desktop.bench.spectrum_view import SpectrumView
from pulizia.desktop.bench.time_axis import GUTTER, TimeAxis
from pulizia.desktop.bench.time_scroll import TimeScroll
from pulizia.desktop.columns import LEFT_WIDTH, RIGHT_WIDTH, Column, Columns, ColumnWidths, with_foot
from pulizia.desktop.controls import SegmentSwitch, button, centred, label, scrolled
from pulizia.desktop.flow import FlowLayout
from pulizia.desktop.levels.panel import LevelsPanel
from pulizia.desktop.menu import Menu
from pulizia.desktop.turns import update_in_turn
from pulizia.session.session import Session
from pulizia.units import seconds_to_frames
from pulizia.words import tr

SPARE_S, LEAST_S = 10.0, 60.0  # of empty time behind the last clip; of time in view at all
SPECTRUM_HEIGHT, SIDE = 240, 16
CLIPS, STEP, LEVELS, SPECTRUM = range(4)  # what the sheet shows


class Assembly(AssemblyQuestions):
    """One programme with its lanes."""

    bench_asked = Signal(str, int)
    render_asked = Signal()
    deliver_asked = Signal()

    def __init__(self, session: Session, pictures: Pictures, widths: ColumnWidths) -> None:
        super().__init__()
        self.session, self._widths = session, widths
        self.axis = TimeAxis()
        self._clips: frozenset[str] = frozenset()
        self.follows_head = True
        self.cards = RecordingCards(session, pictures)
        self.cards.chosen.connect(session.choose_recording)
        self.cards.added.connect(self.add_recording)
        self.overview = AssemblyOverview(session, self.axis)
        self.ruler = AssemblyRuler(session, self.axis)
        self.ruler.marker_menu.connect(self._marker_menu)
        self.lanes = LanesView(session, self.axis, pictures)
        self.lanes.bench_asked.connect(self.bench_asked)
        self.steps = StepsPane(session, self.axis, pictures)
        self.steps.step_chosen.connect(lambda: self.show_sheet(STEP))
        self.step_sheet = Sheet(session)
        self.steps.steps.settings_asked.connect(self._settings_by_keys)
        self.step_sheet.setProperty("manual", "step")
        self.step_sheet.after = self.steps.steps
        self.sheet = ClipSheet(session)
        self.sheet.render_asked.connect(self.render_asked)
        self.sheet.deliver_asked.connect(self.deliver_asked)
        for part, section in (
            (self.cards, tr("Adding recordings")), (self.ruler, tr("Clips")), (self.lanes, tr("Clips")), (self.sheet, tr("Clips")),
        ):  # fmt: skip
            part.setProperty("manual", f"assembly#{section}")
        self._build()
        self._timer = QTimer(self)
        self._timer.setInterval(20)
        self._timer.timeout.connect(self.follow)
        self._timer.timeout.connect(self.levels.tick)
        self.axis.changed.connect(self.follow)
        session.events.surveys.connect(lambda: update_in_turn(self.steps.steps))
        for event in (
            session.events.document,
            session.events.selection,
            session.events.measures,
            session.events.current,
        ):
            event.connect(self.refresh)
        session.events.playing.connect(self.follow)
        session.events.pictures.connect(lambda: update_in_turn(self.lanes))

    def _build(self) -> None:
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        left = QWidget()
        column = QVBoxLayout(left)
        column.setContentsMargins(8, 12, 8, 12)
        column.setSpacing(6)
        head = label(tr("Recordings"), 13, bold=True)
        head.setContentsMargins(8, 0, 0, 0)
        column.addWidget(head)
        column.addWidget(self.cards)
        column.addStretch(1)
        self._stack = QStackedWidget()
        middle = QWidget()
        centre = QVBoxLayout(middle)
        centre.setContentsMargins(0, 8, 0, 4)
        centre.setSpacing(0)
        centre.addWidget(self.overview)
        centre.addWidget(self.ruler)
        self._area: QScrollArea = scrolled(self.lanes)
        centre.addWidget(self._area, 1)
        self._scroll = TimeScroll(self.axis)
        centre.addLayout(self._scroll.between_gutters())
        centre.addWidget(self.steps)
        self._stack.addWidget(middle)
        self._stack.addWidget(self._empty_place())
        side = Column(left, LEFT_WIDTH, line_at_left=False)
        sheets = self._build_sheets()
        row.addWidget(Columns(self._widths, side, self._stack, sheets))
        self.key_areas: tuple[QWidget, ...] = (side, self._stack, self.steps, sheets)
        middle.installEventFilter(self)
        self._middle = middle

    def _build_sheets(self) -> QWidget:
        self._right = QStackedWidget()
        self._right.addWidget(scrolled(self.sheet))
        self._right.addWidget(with_foot(self.step_sheet, self.step_sheet.foot))
        self.levels, self.spectrum = LevelsPanel(self.session), SpectrumView(self.session)
        self.levels.setProperty("manual", "bench#" + tr("Levels"))
        self.spectrum.setProperty("manual", "bench#" + tr("Spectrum"))
        self.spectrum.enlarge_button.hide()
        self.spectrum.plot.setMinimumHeight(SPECTRUM_HEIGHT)
        self._right.addWidget(scrolled(self.levels))
        self._right.addWidget(self._spectrum_page())
        self.film = FilmPane(self.session)
        self.film.hide()
        self.which = SegmentSwitch(
            (tr("Clips"), tr("Step"), tr("Levels"), tr("Spectrum")),
            (
                tr("The selected clips, or the programme"), tr("The settings of the selected step"),
                tr("Levels of what is heard (V)"), tr("Spectrum of the section, or of the moment (S)"),
            ),
            tr("What the sheet shows"), most=RIGHT_WIDTH - 2 * SIDE - 1,
        )  # fmt: skip
        self.which.chosen.connect(self._right.setCurrentIndex)
        sheets = QWidget()
        right = QVBoxLayout(sheets)
        right.setContentsMargins(0, 0, 0, 0)
        right.setSpacing(0)
        head_row = QHBoxLayout()
        head_row.setContentsMargins(SIDE, 10, SIDE, 0)
        head_row.addWidget(self.which)
        head_row.addStretch(1)
        right.addWidget(self.film)
        self.film.home = right
        right.addLayout(head_row)
        right.addWidget(self._right, 1)
        return Column(sheets, RIGHT_WIDTH, line_at_left=True)

    def _spectrum_page(self) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.spectrum)
        column.addStretch(1)
        return page

    def _empty_place(self) -> QWidget:
        place = QWidget()
        column = QVBoxLayout(place)
        column.addStretch(2)
        centre = Qt.AlignmentFlag.AlignCenter
        column.addWidget(label(tr("Join recordings into a programme"), 20, bold=True), alignment=centre)
        text = tr(
            "Double-click a recording at the left (Ctrl+Enter), or begin with all of them: one after the other, or side by side."
        )
        column.addWidget(centred(text))
        column.addSpacing(8)
        row = FlowLayout(centred=True)
        row.addWidget(button(tr("All recordings in a row"), self.add_all))
        row.addWidget(button(tr("Line up recordings of one moment"), self.session.line_ups.lay_on_lanes))
        row.addWidget(button(tr("New programme from a template…"), self.ask_template))
        column.addLayout(row)
        column.addStretch(3)
        return place

    # -- what is done

    def add_recording(self, recording_id: str) -> None:
        """Lay a recording behind the last clip of the chosen lane."""
        recording = self.session.document.project.recording(recording_id)
        self.session.assembly.add_recording(recording)

    def add_all(self) -> None:
        """Lay all recordings one after the other."""
        for recording in self.session.document.project.recordings:
            self.session.assembly.add_recording(recording)
        self.axis.show_whole()

    def open(self) -> None:
        """The place is shown."""
        self.session.assembly.enter()
        self.session.speech.want()
        programme = self.session.assembly.programme
        if programme is not None:
            for recording_id in programme.recordings:
                self.session.want_measures(recording_id)
        self.refresh()
        self.follow()

    # -- showing

    def refresh(self) -> None:
        """The project or the selection has changed; while another place is shown, nothing is done for this one."""
        if not self.session.assembly.is_open:
            return
        programme = self.session.assembly.programme
        self._stack.setCurrentIndex(0 if programme is not None else 1)
        self.cards.fit()
        if programme is not None:
            spare = seconds_to_frames(SPARE_S, programme.rate)
            frames = max(programme.frames + spare, seconds_to_frames(LEAST_S, programme.rate))
            if self.axis.rate != programme.rate or self.axis.frames == 0:
                self.axis.show_recording(frames, programme.rate)
            elif self.axis.frames != frames:
                whole = self.axis.is_whole
                self.axis.frames = frames
                if whole:
                    self.axis.show_whole()
                else:
                    self.axis.scroll(0)
        self.lanes.fit()
        self.ruler.update()
        self.overview.update()
        self.steps.refresh()
        self.film.follow()
        service = self.session.assembly
        if service.clip_ids != self._clips:
            self._clips = service.clip_ids
            if service.clip_ids and self._right.currentIndex() == STEP:
                self.show_sheet(CLIPS)
        self.sheet.refresh()
        self.step_sheet.refresh()

    def use_actions(self, actions: Actions) -> None:
        """Make the menus of lanes, clips and steps of these commands."""
        self.lanes.actions_ = self.steps.actions_ = actions

    def _settings_by_keys(self) -> None:
        self.show_sheet(STEP)
        self.step_sheet.take_keys()

    def show_sheet(self, index: int) -> None:
        """Show clips, the step, levels or the spectrum in the sheet."""
        self._right.setCurrentIndex(index)
        self.which.set_index(index)
        self.which.update()

    def _marker_menu(self, frame: int) -> None:
        """What can be done with a marker."""
        service = self.session.assembly
        marker = next((m for m in service.programme.markers if m.frame == frame), None) if service.programme else None
        if marker is None:
            return
        menu = Menu(self)
        menu.addAction(tr("Edit the note…")).triggered.connect(lambda: self.edit_note(marker))
        menu.addAction(tr("Rename the marker…")).triggered.connect(lambda: self.ask_marker_name(marker))
        menu.addAction(tr("Remove the marker")).triggered.connect(lambda: service.remove_marker(marker))
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(self.cursor().pos())

    def inspect(self) -> None:
        """Listen through the programme and list what is wrong with it."""
        self.findings = ProgrammeFindings(self.session, self)
        self.findings.open()

    def add_at_timecode(self) -> None:
        """Lay the recording that is chosen at the left where its start time says."""
        recording = self.session.recording
        if recording is not None:
            self.session.assembly.add_at_timecode(recording)

    def choose_tool(self, *, on_selection: bool) -> None:
        """Offer the tools for a new step."""
        self.show_sheet(STEP)
        self.steps.choose_tool(on_selection=on_selection)

    def go_to_moment(self, direction: int) -> None:
        """To the next or previous place that the selected step found."""
        if self.step_sheet.findings is not None:
            self.step_sheet.findings.go(direction)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self._middle and event.type() == QEvent.Type.Resize:
            self.axis.set_width(self._middle.width() - 2 * GUTTER)
            self.lanes.fit()
        return super().eventFilter(watched, event)

    def follow(self) -> None:
        """Bring the play head to the present position."""
        if not self.session.assembly.is_open:
            self._timer.stop()
            return
        playing = self.session.transport.is_playing
        if playing != self._timer.isActive():
            self._timer.start() if playing else self._timer.stop()
        position = self.session.transport.position
        if playing and self.follows_head and not self.axis.left <= position <= self.axis.right:
            self.axis.bring_into_view(position)
        x = self.axis.x_at(position)
        self.ruler.move_head(x)
        self.overview.move_head(position)
        self.lanes.move_head(x)
        self.steps.steps.move_head(x)
        self.step_sheet.follow()
        self.film.follow()

    def zoom(self, factor: float) -> None:
        """Zoom around the play head."""
        x = self.axis.x_at(self.session.transport.position)
        self.axis.zoom(factor, x if 0 <= x <= self.axis.width else self.axis.width / 2)
