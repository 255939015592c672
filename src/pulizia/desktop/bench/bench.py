# SPDX-License-Identifier: GPL-3.0-or-later
"""The Bench: recordings at the left, sound and score on one time axis, the sheet at the right."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QEvent, QObject, QPoint, Qt, QTimer, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import (
    QHBoxLayout,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from pulizia.desktop.actions import Actions
from pulizia.desktop.bench.lane import Lane
from pulizia.desktop.bench.overview_strip import Overview
from pulizia.desktop.bench.pictures import Pictures
from pulizia.desktop.bench.recent_files import RecentFiles
from pulizia.desktop.bench.recordings_list import RecordingsList
from pulizia.desktop.bench.ruler import Ruler
from pulizia.desktop.bench.score_view import ScoreView
from pulizia.desktop.bench.selection_row import SelectionRow
from pulizia.desktop.bench.sheet import APART_MS, Sheet
from pulizia.desktop.bench.sonogram_view import SonogramView
from pulizia.desktop.bench.spectrum_plot import LOW_PX, TALL_PX
from pulizia.desktop.bench.spectrum_view import LargeSpectrum, SpectrumView
from pulizia.desktop.bench.time_axis import GUTTER, TimeAxis
from pulizia.desktop.bench.time_scroll import TimeScroll
from pulizia.desktop.bench.tool_menu import show_tool_menu
from pulizia.desktop.bench.waveform_view import WaveformView
from pulizia.desktop.columns import LEFT_WIDTH, RIGHT_WIDTH, Column, Columns, ColumnWidths
from pulizia.desktop.controls import button, centred, label, scrolled
from pulizia.desktop.levels.panel import LevelsPanel
from pulizia.desktop.menu import Menu
from pulizia.desktop.turns import update_in_turn
from pulizia.session.session import Session
from pulizia.words import tr

MOST_SCORE_HEIGHT = 216
MOST_SCORE_SHARE = 0.37
ROOMY_FROM = 1000  # pixels of height
LOW_BELOW_PX = 650  # of the place, in windows lower than 750


class Bench(QWidget):
    """One recording with everything that is done to it."""

    open_asked = Signal()
    demo_asked = Signal()
    recent_asked = Signal(Path)
    read_out = Signal(str)

    def __init__(self, session: Session, widths: ColumnWidths) -> None:
        super().__init__()
        self.session, self._widths = session, widths
        self.axis = TimeAxis()
        self.pictures = Pictures(session)
        self.pictures.fill.centre = lambda: (self.axis.left + self.axis.right) / 2
        self.list = RecordingsList(session, self.pictures)
        self.list.chosen.connect(session.choose_recording)
        self.list.open_asked.connect(self.open_asked)
        self.overview = Overview(session, self.axis, self.pictures)
        self.ruler = Ruler(session, self.axis)
        self.sonogram = SonogramView(session, self.axis)
        self.waveform = WaveformView(session, self.axis, self.pictures)
        self.score = ScoreView(session, self.axis, self.pictures)
        self.sheet = Sheet(session)
        self.spectrum = SpectrumView(session)
        self.large_spectrum = LargeSpectrum(session)
        self.levels = LevelsPanel(session)
        for part, section in (
            (self.list, tr("Recordings and findings")), (self.overview, tr("The time axis")), (self.ruler, tr("Markers")), (self.sonogram, tr("Sonogram")),
            (self.waveform, tr("Waveform")), (self.score, tr("Steps")), (self.spectrum, tr("Spectrum")), (self.large_spectrum, tr("Spectrum")), (self.levels, tr("Levels")),
        ):  # fmt: skip
            part.setProperty("manual", f"bench#{section}")
        self.sheet.setProperty("manual", "step")
        self.sheet.after = self.score
        self.lanes: tuple[Lane, ...] = (self.overview, self.ruler, self.sonogram, self.waveform, self.score)
        self.sonogram.read_out.connect(self.read_out)
        self.score.add_step.connect(lambda: self.choose_tool(on_selection=False))
        self.score.settings_asked.connect(self.sheet.take_keys)
        self.score.step_menu.connect(lambda _step: self.step_actions())
        self.bar = SelectionRow(session)
        self.bar.treat.connect(lambda: self.choose_tool(on_selection=True))
        self._build()
        for lane in self.lanes:
            lane.menu_asked.connect(self._lane_menu)
        self._timer = QTimer(self)
        self._timer.setInterval(20)
        self._timer.timeout.connect(self.follow)
        self._timer.timeout.connect(self.levels.tick)
        self._room = QTimer(self)  # in a turn of its own, apart from the edit
        self._room.setSingleShot(True)
        self._room.setInterval(APART_MS)
        self._room.timeout.connect(self._make_room)
        self.follows_head = True
        self.axis.changed.connect(self._axis_changed)
        for event in (session.events.document, session.events.measures):
            event.connect(self.refresh)
        session.events.current.connect(self._current_changed)
        session.events.selection.connect(self._selection_changed)
        session.events.listening.connect(self._update_lanes)
        session.events.surveys.connect(self._update_lanes)
        session.events.findings.connect(self._update_lanes)
        session.events.playing.connect(self.follow)
        session.events.shown.connect(self._show_place)
        self._actions: Actions | None = None
        self._step_menu: Menu | None = None

    def _build(self) -> None:
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        self._stack = QStackedWidget()
        self._middle = QWidget()
        column = QVBoxLayout(self._middle)
        column.setContentsMargins(0, 0, 0, 4)
        column.setSpacing(0)
        column.addWidget(self.overview)
        column.addWidget(self.ruler)
        pictures = self.panes = QSplitter(Qt.Orientation.Vertical)
        pictures.setHandleWidth(4)
        pictures.setChildrenCollapsible(False)
        pictures.addWidget(self.sonogram)
        pictures.addWidget(self.waveform)
        pictures.setStretchFactor(0, 3)
        pictures.setStretchFactor(1, 1)
        pictures.setSizes([296, 104])
        column.addWidget(pictures, 1)
        self._scroll = TimeScroll(self.axis)
        column.addLayout(self._scroll.between_gutters())
        column.addWidget(self.bar)
        self._score_area = scrolled(self.score)
        column.addWidget(self._score_area)
        self._stack.addWidget(self._middle)
        self._stack.addWidget(self._empty_place())
        self._right = QStackedWidget()
        self._steps = Column(
            self.sheet, RIGHT_WIDTH, line_at_left=True, foot=self.sheet.foot, below=self.spectrum, widths=self._widths
        )
        self._right.addWidget(self._steps)
        self._right.addWidget(Column(self.levels, RIGHT_WIDTH, line_at_left=True))
        left = Column(self.list, LEFT_WIDTH, line_at_left=False, foot=self.list.first_steps)
        row.addWidget(Columns(self._widths, left, self._stack, self._right))
        self.key_areas: tuple[QWidget, ...] = (
            left,
            self._stack,
            self.bar,
            self._score_area,
            self._right,
            self.spectrum,
        )
        self._middle.installEventFilter(self)
        self.sonogram.installEventFilter(self)
        self.large_spectrum.setParent(self._middle)
        self.large_spectrum.hide()
        self.large_spectrum.closed.connect(self.toggle_spectrum)
        self.spectrum.enlarge.connect(self.toggle_spectrum)

    def _empty_place(self) -> QWidget:
        place = QWidget()
        column = QVBoxLayout(place)
        column.addStretch(2)
        column.addWidget(label(tr("Open a recording to begin"), 20, bold=True), alignment=Qt.AlignmentFlag.AlignCenter)
        text = tr("WAV, FLAC, AIFF, MP3, M4A, Ogg, Opus, or the sound of a video file. Drop files anywhere.")
        column.addWidget(centred(text))
        column.addSpacing(8)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(
            button(tr("Open recordings…"), self.open_asked.emit, tip=tr("Open sound or video files (Ctrl+O)"))
        )
        row.addWidget(
            button(
                tr("Open the demo"),
                self.demo_asked.emit,
                tip=tr("Four recordings of an invented clock museum, each with a problem to repair"),
            )
        )
        row.addStretch(1)
        column.addLayout(row)
        self.recent = RecentFiles()
        self.recent.chosen.connect(self.recent_asked)
        column.addWidget(self.recent, alignment=Qt.AlignmentFlag.AlignCenter)
        column.addStretch(3)
        return place

    # -- what is shown at the right and in the middle

    @property
    def shows_levels(self) -> bool:
        """Whether the Levels panel stands in the place of the sheet."""
        return self._right.currentIndex() == 1

    def toggle_levels(self) -> None:
        """Levels in the place of the sheet, or the sheet again."""
        self._right.setCurrentIndex(0 if self.shows_levels else 1)

    def toggle_spectrum(self) -> None:
        """The enlarged spectrum over the sonogram, or the sonogram again."""
        self.large_spectrum.setVisible(not self.large_spectrum.isVisible())
        small = not self.large_spectrum.isVisible()
        self.spectrum.setVisible(small)
        self._steps.show_lower(shown=small)  # the sheet takes its room
        self._place_spectrum()

    def freeze_spectrum(self) -> None:
        """Keep the spectrum that is in view, or let it go on."""
        (self.large_spectrum if self.large_spectrum.isVisible() else self.spectrum).freeze()

    def _place_spectrum(self) -> None:
        if self.large_spectrum.isVisible():
            corner = self.sonogram.mapTo(self._middle, QPoint(0, 0))
            self.large_spectrum.setGeometry(corner.x(), corner.y(), self.sonogram.width(), self.sonogram.height())
            self.large_spectrum.raise_()

    # -- following the session

    def refresh(self) -> None:
        """The project changed; while the assembly is shown, nothing is done for this place."""
        if self.session.assembly.is_heard:
            return
        self._stack.setCurrentIndex(0 if self.session.recording is not None else 1)
        self.list.refresh()
        if self.score.height() != self.score.plan.whole_height:
            self._room.start()
        self.sheet.refresh()
        self._update_lanes()

    def _make_room(self) -> None:
        """Give the score the height that its steps need; the panes above it give way."""
        self.score.fit()
        self._fit_score()
        self._show_step()

    def _current_changed(self) -> None:
        recording = self.session.recording
        self.sonogram.forget()
        self.waveform.forget()
        if recording is not None:
            if (self.axis.frames, self.axis.rate) != (recording.frames, recording.rate) or self.axis.is_whole:
                self.axis.show_recording(recording.frames, recording.rate)
            self.session.want_measures()
        self._selection_changed()
        self.refresh()
        self.follow()

    def _selection_changed(self) -> None:
        if self.session.assembly.is_heard:
            return
        self._update_lanes()
        self.sheet.refresh()
        self.bar.refresh()
        self._show_step()

    def _show_step(self) -> None:
        """Scroll the score to the selected step."""
        ids = [s.id for s in self.score.steps]
        if self.session.step_id in ids:
            self._score_area.ensureVisible(
                0, round(self.score.plan.dot_place(ids.index(self.session.step_id)).y()), 0, 24
            )

    def _axis_changed(self) -> None:
        self.follow(scroll=False)

    def _show_place(self, start: int, stop: int) -> None:
        """Somebody was taken to a section: it comes into view, at a closer look only where it is longer than that."""
        if self.session.assembly.is_heard or (self.axis.left <= start and stop <= self.axis.right):
            return
        if stop - start > self.axis.width * self.axis.frames_per_pixel:
            self.axis.show_span(start, stop)
        else:
            self.axis.bring_into_view(start)
            self.axis.bring_into_view(stop)

    def _lane_menu(self, lane: Lane, place: QPoint) -> None:
        """What can be done where somebody pressed the right button."""
        if self._actions is None:
            return
        menu = self._actions.menu_of(lane.menu_ids)
        lane.extend_menu(menu)
        menu.popup(place)

    def _update_lanes(self) -> None:
        if self.session.assembly.is_heard:
            return
        update_in_turn(self.score, self.sonogram, self.waveform, self.overview, self.ruler)

    def follow(self, *, scroll: bool = True) -> None:
        """Bring the play head of every view to the present position."""
        session = self.session
        playing = session.transport.is_playing
        if playing != self._timer.isActive():
            self._timer.start() if playing else self._timer.stop()
        if session.recording is None:
            return
        position = session.transport.position
        if playing and scroll and self.follows_head and not self.axis.left <= position <= self.axis.right:
            self.axis.bring_into_view(position)
        x = self.axis.x_at(position)
        for lane in (self.ruler, self.sonogram, self.waveform, self.score):
            lane.move_head(x)
        self.sheet.follow()
        self.overview.move_head(position / max(1, self.axis.frames) * self.overview.plot.width())

    # -- menus

    def choose_tool(self, *, on_selection: bool) -> None:
        """Offer the tools for a new step."""
        if self.session.recording is None:
            return
        corner = self.score.mapToGlobal(QPoint(GUTTER, self.score.height()))
        if on_selection:
            corner = self.bar.mapToGlobal(QPoint(GUTTER, self.bar.height()))
        show_tool_menu(self.session, self.score, corner, on_selection=on_selection)

    def go_to_moment(self, direction: int) -> None:
        """To the next or previous moment that the selected step found."""
        if self.sheet.findings is not None:
            self.sheet.findings.go(direction)

    def leave_moment(self) -> None:
        """Leave the moment at the play head alone, or treat it again."""
        if self.sheet.findings is not None:
            self.sheet.findings.toggle_here()

    def use_actions(self, actions: Actions) -> None:
        """Make menus of these commands."""
        self._actions, self._step_menu = actions, actions.step_menu()

    def step_actions(self) -> None:
        """The menu of the selected step."""
        if self._step_menu is not None:
            self._step_menu.popup(self.cursor().pos())

    # -- geometry

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self._middle and event.type() == QEvent.Type.Resize:
            self.axis.set_width(self._middle.width() - 2 * GUTTER)
        if watched is self.sonogram and event.type() == QEvent.Type.Resize:
            self._place_spectrum()
        return super().eventFilter(watched, event)

    def _fit_score(self) -> None:
        """As tall as the strips, up to a share of the window; the rest scrolls."""
        roomy = self._middle.height() >= ROOMY_FROM
        if roomy != self.score.roomy:
            self.score.roomy = roomy
            self.score.fit()
        most = max(MOST_SCORE_HEIGHT, round(MOST_SCORE_SHARE * self._middle.height()))
        self._score_area.setFixedHeight(min(self.score.height(), most))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit_score()
        self.spectrum.plot.setMinimumHeight(LOW_PX if self.height() < LOW_BELOW_PX else TALL_PX)
        self.axis.set_width(self._middle.width() - 2 * GUTTER)
