# SPDX-License-Identifier: GPL-3.0-or-later
"""The main window: top bar with the places, the places themselves, messages and the foot."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import (
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QResizeEvent,
)
from PySide6.QtWidgets import (
    QInputDialog,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from pulizia.audio.timecode import TimecodeError, typed_seconds
from pulizia.desktop.actions import Actions, Command
from pulizia.desktop.assembly.assembly import Assembly
from pulizia.desktop.assembly.list_places import ListPlaces
from pulizia.desktop.bars import ASSEMBLY, BENCH, DELIVERY, MessageBar, TopBar
from pulizia.desktop.bench.bench import Bench
from pulizia.desktop.bench.first_steps import COMPARE, INSPECT, OPEN, TREAT
from pulizia.desktop.bench.recordings_list import Cards
from pulizia.desktop.columns import ColumnWidths
from pulizia.desktop.delivery.delivery import Delivery
from pulizia.desktop.dialogs import Dialogs
from pulizia.desktop.folders import show_folder
from pulizia.desktop.foot import Foot
from pulizia.desktop.marker_dialogs import MarkerDialogs
from pulizia.desktop.menu import Menu
from pulizia.desktop.preferences import Preferences
from pulizia.desktop.programme_commands import ProgrammeCommands
from pulizia.desktop.project_files import ProjectFiles
from pulizia.desktop.shuttle_keys import ShuttleKeys
from pulizia.desktop.theme import theme_notice
from pulizia.desktop.where_left import WhereLeft
from pulizia.errors import PuliziaError
from pulizia.session.session import Session
from pulizia.words import tr

AUTOSAVE_MS = 2000
FIRST_SIZE, LEAST_SIZE, TITLE_BAR = (1280, 800), (1100, 680), 40


class MainWindow(ProgrammeCommands):
    """Puts the parts together and owns files, messages and autosave."""

    def __init__(
        self, session: Session, preferences: Preferences, commands: Callable[[MainWindow], list[Command]]
    ) -> None:
        super().__init__()
        self.session, self.preferences = session, preferences
        self._ended = False  # from outside, without a question
        self.dialogs = Dialogs(
            self, session, lambda: self.places.currentIndex() == DELIVERY, lambda: self.actions_,
            preferences, lambda: self.bench.list.cards.picked,
        )  # fmt: skip
        self.shuttle = ShuttleKeys(session, self, lambda name: self.actions_.keys_of(name))  # noqa: PLW0108 - there are none yet
        self.setAcceptDrops(True)
        self.setMinimumSize(*LEAST_SIZE)
        self.top = TopBar(session, self.go_to)
        self.message = MessageBar(self.top.room)
        self.widths = ColumnWidths()
        self.bench = Bench(session, self.widths)
        self.assembly = Assembly(session, self.bench.pictures, self.widths)
        self.delivery = Delivery(session, self.widths)
        self.foot = Foot(session)
        self.foot.setProperty("manual", "bench#Listening")
        self.foot.clock.pressed.connect(self.go_to_time)
        self.places = QStackedWidget()
        self.places.addWidget(self.bench)
        self.places.addWidget(self.assembly)
        self.places.addWidget(self.delivery)
        whole = QWidget()
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        for part, stretch in ((self.top, 0), (self.places, 1), (self.foot, 0)):
            column.addWidget(part, stretch)
        self.message.setParent(whole)
        self.list_places = ListPlaces(session, preferences, self, lambda: self.go_to(ASSEMBLY))
        self.setCentralWidget(whole)
        self.where_left = WhereLeft(session, self, preferences)
        self.files = ProjectFiles(
            self, session, preferences, self.list_places, self.where_left,
            lambda: self.bench.recent.show_files(preferences.recent),
        )  # fmt: skip
        self.markers = MarkerDialogs(self, session)
        self.actions_ = Actions(self, commands(self))
        self.bench.use_actions(self.actions_)
        self.assembly.use_actions(self.actions_)
        self._build_menu()
        self.top.menu.setMenu(self._menu)
        self._connect()
        self._autosave = QTimer(self)
        self._autosave.setInterval(AUTOSAVE_MS)
        self._autosave.timeout.connect(self._write_journal)
        self._autosave.start()
        self._gauges = QTimer(self)
        self._gauges.setInterval(20)
        self._gauges.timeout.connect(self._tick)
        self._take_sizes()
        self.top.draw_icons()
        self.refresh()
        self.bench.refresh()
        self.setFocus()  # no control is marked until somebody tabs to one

    def _take_sizes(self) -> None:
        """The window and its panes as they were left; a first window fits the screen, its title bar included."""
        self.resize(*FIRST_SIZE)
        if (screen := self.screen()) is not None:
            room = screen.availableSize()
            self.setMinimumSize(min(LEAST_SIZE[0], room.width()), min(LEAST_SIZE[1], room.height() - TITLE_BAR))
            self.resize(min(FIRST_SIZE[0], room.width()), min(FIRST_SIZE[1], room.height() - TITLE_BAR))
        if len(size := self.preferences.numbers("size")) == 2:
            self.resize(size[0], size[1])
        if len(panes := self.preferences.numbers("panes")) == 2:
            self.bench.panes.setSizes(panes)
        if len(columns := self.preferences.numbers("columns")) == 2:
            self.widths.choose(*columns)
        self.widths.lower = max(0, next(iter(self.preferences.numbers("foot of the column")), 0))

    def _keep_sizes(self) -> None:
        self.preferences.set("size", [self.width(), self.height()])
        if self.bench.panes.sizes()[0]:
            self.preferences.set("panes", self.bench.panes.sizes())
        if any(self.widths.chosen):
            self.preferences.set("columns", list(self.widths.chosen))
        if self.widths.lower:
            self.preferences.set("foot of the column", [self.widths.lower])

    def _connect(self) -> None:
        session = self.session
        for event in (
            session.events.document,
            session.events.current,
            session.events.measures,
            session.events.answered,
            session.events.selection,
            session.events.listening,
        ):
            event.connect(self.refresh)
        session.events.busy.connect(self.top.refresh)  # 25 times a second, while something is waited for
        session.events.document.connect(self.message.work_went_on)
        session.events.message.connect(lambda text, bad: self.message.say(text, bad=bad))
        session.events.playing.connect(self._playing_changed)
        self.assembly.bench_asked.connect(self.show_on_bench)
        self.assembly.render_asked.connect(self.render_programme)
        self.assembly.deliver_asked.connect(self.deliver_programme)
        self.bench.open_asked.connect(self.files.open_files)
        self.bench.demo_asked.connect(self.files.open_demo)
        self.bench.recent_asked.connect(lambda path: self.files.open_paths([path]))
        self.bench.recent.show_files(self.preferences.recent)
        self.bench.read_out.connect(self.top.read_out.setText)
        self.bench.ruler.rename_asked.connect(self.markers.rename)
        for cards in (self.bench.list.cards, self.assembly.cards):
            cards.menu.connect(lambda recording_id, c=cards: self._recording_menu(recording_id, c))
        first = self.bench.list.first_steps
        first.asked.connect(self._first_step)
        first.dismissed.connect(lambda: self.preferences.set("first steps", "hidden"))
        theme_notice().changed.connect(self.top.draw_icons)
        theme_notice().changed.connect(self.foot.update)

    # -- showing

    def refresh(self) -> None:
        """Titles, undo, actions and the foot as they are now."""
        document = self.session.document
        mark = "*" if document.is_dirty else ""
        self.setWindowTitle(tr("{title}{mark} – Pulizia", title=document.title, mark=mark))
        self.top.refresh()
        self.actions_.refresh()
        self.foot.refresh()

    @property
    def here(self) -> Bench | Assembly:
        """The place whose steps are shown."""
        return self.assembly if self.session.assembly.is_open else self.bench

    def go_to(self, index: int) -> None:
        """Switch to a place."""
        self.places.setCurrentIndex(index)
        self.top.places.set_index(index)
        other_commands = index == ASSEMBLY or self.session.assembly.is_open
        if index == ASSEMBLY:
            self.assembly.open()
        elif index == BENCH and self.session.assembly.is_heard:
            self.session.assembly.leave()
            self.bench.refresh()
        elif self.session.assembly.is_heard:  # the programme goes along to its delivery
            self.session.assembly.enter(shown=False)
        self.delivery.refresh()
        if other_commands:
            self.refresh()
        else:
            self.actions_.refresh()

    def toggle_follow(self) -> None:
        """Let the view follow the playhead while it plays, or stay."""
        follows = not self.bench.follows_head
        self.bench.follows_head = self.assembly.follows_head = follows
        self.session.say(
            tr("The view follows the playhead.") if follows else tr("The view stays where it is while playing.")
        )
        self.actions_.refresh()

    def show_on_bench(self, recording_id: str, frame: int) -> None:
        """Go to a place of a recording on the bench."""
        self.go_to(BENCH)
        self.session.choose_recording(recording_id)
        self.session.seek(frame)
        self.bench.axis.bring_into_view(frame)

    def go_to_time(self) -> None:
        """Ask for a time and put the playhead there."""
        programme = self.session.assembly.programme if self.session.assembly.is_heard else None
        rate = programme.picture_rate if programme is not None else Fraction(25)
        start, drop = (programme.start_frame, programme.drop_frame) if programme is not None else (0, False)
        text, good = QInputDialog.getText(
            self, tr("Go to time"), tr("Seconds, 1:23.4, 400 ms, 12 f, or a timecode 10:01:23:10")
        )
        if not good or not text.strip():
            return
        try:
            seconds = typed_seconds(text, rate, start, drop=drop)
        except TimecodeError as error:
            self.session.say(str(error), bad=True)
            return
        frame = round(seconds * self.session.rate)
        source = self.session.heard_source
        if source is None or not 0 <= frame <= source.frames:
            self.session.say(tr("{text} lies outside. Type a time inside.", text=text), bad=True)
            return
        self.session.seek(frame)
        self.here.axis.bring_into_view(frame)

    def _playing_changed(self) -> None:
        playing = self.session.transport.is_playing
        if playing != self._gauges.isActive():
            self._gauges.start() if playing else self._gauges.stop()
        self.foot.refresh()
        self.actions_.refresh()

    def _tick(self) -> None:
        self.foot.tick()
        self.delivery.follow()
        if not self.session.transport.is_playing:
            self._playing_changed()

    def _build_menu(self) -> None:
        for sentence in self.actions_.use_keys(self.preferences.lists("keys")):
            QTimer.singleShot(0, lambda text=sentence: self.session.say(text, bad=True))
        self.actions_.keys_changed = lambda own: self.preferences.set("keys", own)
        self._menu = self.actions_.menu()
        self._recent_menu = Menu(self, tr("Open recent"))
        self._channel_menu = Menu(self, tr("Listen to one channel"))
        self.actions_.put_in(self._recent_menu, before="save")
        self.actions_.put_in(self._channel_menu, before="both")
        self._menu.aboutToShow.connect(self._fill_recent)
        self._menu.aboutToShow.connect(self._fill_channels)

    def _fill_recent(self) -> None:
        self._recent_menu.clear()
        for path in self.preferences.recent:
            action = self._recent_menu.addAction(path.name)
            action.setToolTip(str(path))
            action.triggered.connect(lambda _on=False, p=path: self.files.open_paths([p]))
        self._recent_menu.setEnabled(not self._recent_menu.isEmpty())

    def _fill_channels(self) -> None:
        """The channels of a recording with more than two, by name."""
        self._channel_menu.clear()
        names = self.session.channel_names
        rows = [(None, tr("All channels")), *enumerate(names)] if len(names) > 2 else []
        for channel, name in rows:
            action = self._channel_menu.addAction(name)
            action.setCheckable(True)
            action.setChecked(self.session.only_channel == channel)
            action.triggered.connect(lambda _on=False, c=channel: self.session.hear_channel(c))
        self._channel_menu.setEnabled(bool(rows))

    def _recording_menu(self, recording_id: str, cards: Cards) -> None:
        menu = Menu(self)
        menu.addAction(tr("Relink to another file…")).triggered.connect(self.files.relink)
        picked = cards.picked if len(cards.picked) > 1 else frozenset({recording_id})
        menu.addAction(tr("Apply a recipe…")).triggered.connect(self.dialogs.choose_recipe)
        recording = next((r for r in self.session.document.project.recordings if r.id == recording_id), None)
        if recording is not None:
            menu.addAction(tr("Show in folder")).triggered.connect(lambda: show_folder(self.session, recording.path))
        menu.addAction(tr("Remove from project")).triggered.connect(lambda: self.session.files.remove(picked))
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(self.cursor().pos() if cards.underMouse() else cards.corner_of(recording_id))

    def remove_recordings(self) -> None:
        """Take the selected recordings out of the project; their files stay."""
        cards = self.assembly.cards if self.session.assembly.is_open else self.bench.list.cards
        self.session.files.remove(cards.picked)

    def _write_journal(self) -> None:
        try:
            work = self.session.document.journal_work()
        except PuliziaError as error:
            self._stop_autosave(str(error))
            return
        if work is not None:
            self.session.pool.submit(
                lambda _job: work(), title=tr("Autosaving"), slot="journal", on_error=self._stop_autosave
            )

    def _stop_autosave(self, sentence: str) -> None:
        self._autosave.stop()
        self.session.say(tr("Autosave is off: {error}", error=sentence), bad=True)

    # -- help

    def inspect(self) -> None:
        """Listen through the recording and list what is wrong with it."""
        self.go_to(BENCH)
        self.session.inspection.run()

    def treat_all(self) -> None:
        """Try a step for each problem that was found."""
        self.go_to(BENCH)
        self.session.inspection.treat_all()

    def show_first_steps(self) -> None:
        """The way to a first result, in the left column."""
        self.go_to(BENCH)
        self.bench.list.first_steps.show()

    def _first_step(self, number: int) -> None:
        """Do a step of the way to a first result."""
        if number == OPEN:
            self.files.open_files()
        elif number == INSPECT:
            self.inspect()
        elif number == TREAT:
            self.treat_all()
        elif number == COMPARE:
            self.actions_.actions["compare"].trigger()
            if not self.session.transport.is_playing:
                self.session.play_or_stop()
        else:
            self.actions_.actions["deliver"].trigger()

    # -- events

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if self.message.isVisible():
            self.message.fit()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        if paths:
            self.files.open_paths(paths)

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self._ended and not self.files.may_leave():
            event.ignore()
            return
        self._finish()
        if not self._ended:
            self.session.document.drop_journal()
        event.accept()

    def end_unasked(self) -> None:
        """Close at once, with all that is not saved in the journal, for the next start to offer."""
        self._ended = True
        self.session.document.write_journal()
        self.close()

    def _finish(self) -> None:
        self._keep_sizes()
        self.where_left.note()
        self._autosave.stop()
        self._gauges.stop()
        self.session.close()
