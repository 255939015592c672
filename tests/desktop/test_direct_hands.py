# SPDX-License-Identifier: GPL-3.0-or-later
"""What is drawn is what is selected; phrases, axes, menus and columns under mouse and keys."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import QApplication, QSplitter, QWidget
from pytestqt.qtbot import QtBot
from tests.desktop.conftest import Person, menu_at, move

from pulizia.desktop.bench.time_axis import GUTTER
from pulizia.desktop.bench.wave_image import FLOOR_DB
from pulizia.desktop.columns import HANDLE, Columns
from pulizia.desktop.demo import demo_files
from pulizia.desktop.preferences import Preferences
from pulizia.desktop.start import make_window
from pulizia.desktop.window import MainWindow

M = Qt.KeyboardModifier
LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def talk(person: Person) -> Person:
    """A recording of phrases with pauses between them: 1.6 to 4.0 s, 4.7 to 6.6 s and on."""
    person.open(demo_files()[0])
    return person


def wheel(widget: QWidget, at: QPointF, turns: int, held: Qt.KeyboardModifier = M.NoModifier) -> None:
    QApplication.sendEvent(
        widget,
        QWheelEvent(
            at, widget.mapToGlobal(at), QPoint(), QPoint(0, 120 * turns), Qt.MouseButton.NoButton, held,
            Qt.ScrollPhase.NoScrollPhase, False,
        ),
    )  # fmt: skip


def test_phrases_and_pauses_are_selected_by_mouse_and_keys(talk: Person) -> None:
    window, session = talk.window, talk.window.session
    rate = talk.recording.rate
    talk.bot.mouseDClick(window.bench.waveform, LEFT, pos=talk.at_time(window.bench.waveform, 5.5).toPoint())
    talk.settle()
    span = session.selection.span
    assert (span.start / rate, span.stop / rate) == pytest.approx((4.67, 6.64), abs=0.15)
    assert session.transport.position == span.start

    talk.key(Qt.Key.Key_Right, M.AltModifier)  # the pause behind it
    pause = session.selection.span
    assert pause.start == span.stop
    talk.key(Qt.Key.Key_N)
    assert talk.recording.score[0].settings.profile_spans_s[0] == pytest.approx(
        (pause.start / rate, pause.stop / rate), abs=1e-4
    )
    talk.key(Qt.Key.Key_Right, M.ControlModifier)
    assert session.selection.span.start == pause.stop
    talk.key(Qt.Key.Key_Left, M.ControlModifier)
    assert session.selection.span == span
    for _ in range(40):
        talk.key(Qt.Key.Key_Right, M.ControlModifier)
    assert "no further phrase" in talk.said
    last = session.selection.span
    talk.key(Qt.Key.Key_W)  # at the playhead, which rests at the start of the last phrase
    assert session.selection.span == last

    # zoomed in elsewhere, the place that was gone to comes into view
    window.bench.axis.show_span(20 * rate, 21 * rate)
    talk.key(Qt.Key.Key_Escape)
    session.seek(0)
    talk.key(Qt.Key.Key_Right, M.ControlModifier)
    axis = window.bench.axis
    assert axis.left <= session.selection.span.start < axis.right


def test_a_thin_rectangle_is_one_and_areas_need_a_band(talk: Person) -> None:
    session, view = talk.window.session, talk.window.bench.sonogram
    start = talk.at_time(view, 5.0, 0.5)
    talk.drag(view, start, start + QPointF(250, 15))
    low, high = session.selection.band_hz
    assert view.scale.row_of_hz(low) - view.scale.row_of_hz(high) == pytest.approx(15, abs=1.5)
    start += QPointF(-60, 0)
    talk.drag(view, start, start + QPointF(250, 5))  # a hand that shakes means time alone
    assert session.selection.band_hz is None
    talk.key(Qt.Key.Key_P)
    assert not talk.recording.score
    assert "Select an area" in talk.said
    # by keys: an octave around 1 kHz, up by a sixth of an octave, wider on both sides
    for key, expected in (
        (Qt.Key.Key_Up, (710.0, 1420.0)),
        (Qt.Key.Key_Up, (797.0, 1594.0)),
        (Qt.Key.Key_Right, (752.2, 1689.0)),
    ):
        talk.key(key, M.AltModifier | M.ShiftModifier)
        assert session.selection.band_hz == pytest.approx(expected, rel=1e-3)
    talk.key(Qt.Key.Key_P)
    assert talk.recording.score[0].settings.areas[0][0][1] == pytest.approx(752.2, abs=1)


def test_times_of_the_selection_are_typed(talk: Person) -> None:
    window, session = talk.window, talk.window.session
    rate, row = talk.recording.rate, window.bench.bar
    talk.mark(2.0, 3.0)
    for box, text in ((row.stop, "0:12.5"), (row.start, "11.25")):
        box.selectAll()
        talk.bot.keyClicks(box, text)
        talk.bot.keyClick(box, Qt.Key.Key_Return)
    span = session.selection.span
    assert (span.start / rate, span.stop / rate) == pytest.approx((11.25, 12.5), abs=1e-4)
    for text, said in (("13", "end before it starts"), ("soon", "is no time")):
        row.start.selectAll()
        talk.bot.keyClicks(row.start, text)
        talk.bot.keyClick(row.start, Qt.Key.Key_Return)
        assert said in talk.said
        assert session.selection.span == span
        assert row.start.text() == "0:11.250"


def test_axes_are_dragged_and_the_wheel_acts_on_what_lies_under_it(talk: Person) -> None:
    bench = talk.window.bench
    axis, sonogram, ruler, wave = bench.axis, bench.sonogram, bench.ruler, bench.waveform
    axis.show_span(5 * axis.rate, 15 * axis.rate)
    left, scale = axis.left, axis.frames_per_pixel
    talk.drag(ruler, QPointF(400, 10), QPointF(300, 12))  # along: the sound follows the mouse
    assert axis.left == pytest.approx(left + 100 * scale, abs=2 * scale)
    assert axis.frames_per_pixel == scale
    fixed = axis.frame_at(400 - GUTTER)
    talk.drag(ruler, QPointF(400, 10), QPointF(402, -50))  # up: closer, around where it was pressed
    assert axis.frames_per_pixel < 0.7 * scale
    assert axis.frame_at(400 - GUTTER) == pytest.approx(fixed, abs=2 * axis.frames_per_pixel)
    talk.click(ruler, QPointF(500, 10))
    assert talk.window.session.transport.position == axis.clamped_frame(500 - GUTTER)
    left, scale = axis.left, axis.frames_per_pixel
    for view in (sonogram, wave, ruler, bench.overview):
        at = QPointF(400, view.height() / 2)
        wheel(view, at, -1)
        assert axis.left > left
        wheel(view, at, 1)
        assert axis.left == pytest.approx(left, abs=scale)
        wheel(view, at, 1, M.ControlModifier)
        assert axis.frames_per_pixel < scale
        axis.frames_per_pixel = scale
        axis.scroll_to(left)

    at = QPointF(12, 200)
    wheel(sonogram, at, 2, M.ControlModifier)
    band = sonogram.low_hz, sonogram.high_hz
    assert band[0] > 60
    assert band[1] < 15_000
    talk.drag(sonogram, at, at + QPointF(1, 40))
    assert sonogram.low_hz > band[0]
    assert sonogram.high_hz > band[1]
    assert axis.left == pytest.approx(left, abs=scale)
    talk.bot.mouseDClick(sonogram, LEFT, pos=at.toPoint())
    assert (sonogram.low_hz, sonogram.high_hz) == (40.0, 20_000.0)

    levels = QPointF(wave.width() - 10, 60)
    talk.drag(wave, levels, levels + QPointF(0, -40))
    assert wave.floor_db < 1.4 * FLOOR_DB  # quiet sound is taller
    talk.bot.mouseDClick(wave, LEFT, pos=levels.toPoint())
    assert wave.floor_db == FLOOR_DB


def test_every_view_has_a_menu_of_what_one_does_there(talk: Person) -> None:
    bench, session = talk.window.bench, talk.window.session
    rate = talk.recording.rate
    for view in (bench.sonogram, bench.waveform, bench.ruler, bench.overview):
        menu = menu_at(talk, view, talk.at_time(view, 3.0))
        words = [a.text() for a in menu.actions() if not a.isSeparator()]
        assert len(words) >= 7
        assert "Show all" in words
        menu.close()
    assert session.transport.position / rate == pytest.approx(3.0, abs=0.1)  # it went where the button was pressed
    talk.mark(4.5, 7.0)
    session.seek(rate)
    menu = menu_at(talk, bench.sonogram, talk.at_time(bench.sonogram, 5.0))
    assert session.transport.position == rate  # not inside the selection
    learn = next(a for a in menu.actions() if a.text() == "Learn noise")
    assert learn.isEnabled()
    assert any(a.menu() is not None for a in menu.actions())  # the display options
    menu.close()


def halves_of(window: MainWindow) -> QSplitter:
    """The sheet and the spectrum, one above the other."""
    both = (s for s in window.findChildren(QSplitter) if s.isAncestorOf(window.bench.spectrum))
    return next(s for s in both if s.orientation() == Qt.Orientation.Vertical)


def test_the_spectrum_is_dragged_higher_and_stays_so(talk: Person, qtbot: QtBot) -> None:
    window = talk.window
    halves = halves_of(window)
    lower = halves.sizes()[1]
    handle = halves.handle(1)
    middle = QPointF(handle.width() / 2, handle.height() / 2)
    talk.bot.mousePress(handle, LEFT, pos=middle.toPoint())
    move(handle, middle - QPointF(0, 90))
    talk.bot.mouseRelease(handle, LEFT, pos=middle.toPoint())  # the handle has gone along
    chosen = halves.sizes()[1]
    assert chosen == lower + 90
    window.resize(window.width(), window.height() + 120)
    talk.settle()
    assert halves.sizes()[1] == chosen  # what is chosen stays, the rest goes to the sheet
    window.close()
    other, poster = make_window(simulated=True)
    qtbot.addWidget(other)
    other.resize(window.size())
    with qtbot.waitExposed(other):
        other.show()
    assert abs(halves_of(other).sizes()[1] - chosen) <= 1
    other.close()
    poster.close()


def test_columns_are_dragged_wider_in_every_place_and_remembered(talk: Person) -> None:
    window = talk.window
    window.resize(1600, 900)
    columns = window.bench.findChild(Columns)
    before, width = columns.sizes(), window.bench.axis.width
    columns.moveSplitter(before[0] + 80, 1)
    assert columns.sizes()[0] == before[0] + 80
    talk.until(lambda: window.bench.axis.width == width - 80)
    for place in (1, 2):
        window.go_to(place)
        shown = window.places.currentWidget().findChild(Columns)
        talk.until(lambda shown=shown: shown.sizes()[0] == before[0] + 80)
    window.resize(1100, 700)  # no room for it: the middle keeps its own
    talk.until(lambda: shown.sizes()[0] < before[0] + 80)
    window.close()
    assert Preferences().numbers("columns")[0] == before[0] + 80 + HANDLE


@pytest.mark.alone
def test_the_playhead_is_dragged_with_its_sound(talk: Person) -> None:
    ruler, session = talk.window.bench.ruler, talk.window.session
    rate = talk.recording.rate
    session.seek(5 * rate)
    talk.until(lambda: ruler.head_x > 0)
    start, goal = talk.at_time(ruler, 5.0), talk.at_time(ruler, 6.0)
    talk.bot.mousePress(ruler, LEFT, pos=start.toPoint())
    levels: list[float] = []
    for share in np.tile(np.linspace(0.1, 0.9, 9), 4):  # to and fro, until enough was heard on a machine just woken
        move(ruler, start + (goal - start) * float(share))
        assert session.transport.is_playing
        talk.bot.wait(60)
        levels += [np.sqrt((block**2).mean()) for block in session.transport.output.kept[-1:]]
        if len(levels) >= 9:
            break
    assert len(levels) >= 9
    assert np.median(levels) > 0.003  # of the phrase that lies there
    move(ruler, goal)
    assert session.transport.is_playing
    talk.until(lambda: not session.transport.is_playing)  # a playhead that rests is quiet
    talk.bot.mouseRelease(ruler, LEFT, pos=goal.toPoint())
    assert session.transport.position / rate == pytest.approx(6.0, abs=0.05)
    assert session.selection is None


def test_a_selection_is_heard_with_what_leads_up_to_it(talk: Person) -> None:
    session, rate = talk.window.session, talk.recording.rate
    talk.mark(5.0, 5.4)
    talk.key(Qt.Key.Key_Space, M.ShiftModifier)
    assert session.transport.is_playing
    talk.until(lambda: session.transport.position > 3.1 * rate)
    assert session.transport.position < 4.5 * rate
    talk.key(Qt.Key.Key_Space)
    talk.key(Qt.Key.Key_F, M.ShiftModifier)
    axis = talk.window.bench.axis
    talk.key(Qt.Key.Key_Escape)
    session.seek(20 * rate)
    axis.show_span(0, rate)
    left = axis.left
    talk.key(Qt.Key.Key_Space)
    talk.bot.wait(200)
    assert axis.left == left  # the view stays
    talk.key(Qt.Key.Key_F, M.ShiftModifier)
    talk.until(lambda: axis.left > left)
    session.stop_playing()
