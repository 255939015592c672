# SPDX-License-Identifier: GPL-3.0-or-later
"""The assembly with mouse and keys: recordings become clips, clips are edited, the programme is heard and written."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile as sf
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QApplication, QFileDialog, QMenu
from tests.conftest import voice_in_noise
from tests.desktop.conftest import Person, menu_at

from pulizia.audio.spans import Span
from pulizia.delivery.normalise import State
from pulizia.desktop.bars import ASSEMBLY, BENCH, DELIVERY
from pulizia.desktop.bench.time_axis import GUTTER
from pulizia.project.clips import Clip
from pulizia.session.orders import Stage

RATE = 48_000
K, M = Qt.Key, Qt.KeyboardModifier


@pytest.fixture
def place(person: Person, wav: Callable[..., Path]) -> Person:
    """Two recordings of four and six seconds laid one after the other."""
    person.open(wav(voice_in_noise(4.0), "anna.wav"))
    person.open(wav(voice_in_noise(6.0), "bert.wav"))
    person.key(K.Key_F3)
    person.window.assembly.add_all()
    person.settle()
    return person


def clips(person: Person, lane: int = 0) -> tuple[Clip, ...]:
    return person.window.session.assembly.programme.lanes[lane].clips


def at(person: Person, seconds: float, lane: int = 0, down: float = 0.6) -> QPoint:
    view = person.window.assembly.lanes
    body = view.geometry_of.body(lane, view.width())
    return QPoint(round(GUTTER + view.axis.x_at(seconds * RATE)), round(body.top() + down * body.height()))


def drag(person: Person, start: QPoint, end: QPoint, modifier: Qt.KeyboardModifier = M.NoModifier) -> None:
    view = person.window.assembly.lanes
    person.bot.mousePress(view, Qt.MouseButton.LeftButton, modifier, start)
    for share in (0.3, 0.7, 1.0):
        person.bot.mouseMove(
            view,
            QPoint(round(start.x() + share * (end.x() - start.x())), round(start.y() + share * (end.y() - start.y()))),
        )
    person.bot.mouseRelease(view, Qt.MouseButton.LeftButton, modifier, end)
    person.settle()


def test_recordings_are_laid_in_a_row_heard_and_left_for_the_bench(place: Person) -> None:
    window, session = place.window, place.window.session
    assert [(c.name, c.start, c.frames) for c in clips(place)] == [("anna", 0, 4 * RATE), ("bert", 4 * RATE, 6 * RATE)]
    heard = session.heard_source
    assert (heard.frames, heard.channels) == (10 * RATE, 2)
    assert np.allclose(
        heard.read(RATE, RATE + 100),
        0.5**0.5 * session.document.media[session.document.project.recordings[0].id].source.read(RATE, RATE + 100),
        atol=1e-6,
    )
    place.until(lambda: session.heard_measures is not None)
    place.key(K.Key_Space)
    place.until(lambda: session.transport.is_playing)
    place.key(K.Key_Space)
    place.bot.mouseClick(window.assembly.lanes, Qt.MouseButton.LeftButton, pos=at(place, 5.0))
    place.bot.mouseDClick(window.assembly.lanes, Qt.MouseButton.LeftButton, pos=at(place, 5.0))
    assert window.places.currentIndex() == BENCH
    assert session.recording.name == "bert"
    assert session.transport.position == pytest.approx(RATE, abs=0.1 * RATE)
    place.key(K.Key_F3)
    assert window.places.currentIndex() == ASSEMBLY
    assert session.transport.position == pytest.approx(5 * RATE, abs=0.1 * RATE)


def test_clips_are_moved_trimmed_slipped_and_faded_with_the_mouse(place: Person) -> None:
    session = place.window.session
    drag(place, at(place, 8.0), at(place, 11.0))
    assert clips(place)[1].start == pytest.approx(7 * RATE, abs=0.2 * RATE)
    drag(place, at(place, 11.0), at(place, 8.02))  # back, near enough to snap to the end of the first
    assert clips(place)[1].start == 4 * RATE
    drag(place, at(place, 8.0), at(place, 8.0, lane=1))
    assert [len(clips(place, n)) for n in (0, 1)] == [1, 1]
    session.document.undo()
    place.settle()
    drag(place, at(place, 3.85), at(place, 3.0))
    assert clips(place)[0].frames == pytest.approx(3 * RATE, abs=0.2 * RATE)
    session.assembly.trim(clips(place)[1].id, stop=9 * RATE)  # five of the six seconds of its recording
    past = session.document.history.undo_label
    drag(place, at(place, 6.0), at(place, 5.5), M.AltModifier)
    assert clips(place)[1].inner == pytest.approx(0.5 * RATE, abs=0.1 * RATE)
    drag(place, at(place, 8.0), at(place, 6.5), M.AltModifier)
    assert clips(place)[1].inner == RATE  # as far as the recording goes
    assert clips(place)[1].start == 4 * RATE
    assert session.document.history.undo_label != past
    view = place.window.assembly.lanes
    box = view.geometry_of.box(clips(place)[1], 0, view.width())
    drag(
        place,
        QPoint(round(box.left() + 5), round(box.top() + 22)),
        QPoint(round(box.left() + 60), round(box.top() + 22)),
    )
    assert clips(place)[1].fade_in.frames == pytest.approx(60 * view.axis.frames_per_pixel, rel=0.1)
    for _ in range(6):
        session.document.undo()
    assert [c.frames for c in clips(place)] == [4 * RATE, 6 * RATE]


def test_keys_split_trim_close_gaps_copy_and_change_the_gain(place: Person) -> None:
    session = place.window.session
    service = session.assembly
    session.seek(2 * RATE)
    service.select_span(0, 0)
    place.key(K.Key_S, M.ShiftModifier)
    assert [c.start for c in clips(place)] == [0, 2 * RATE, 4 * RATE]
    service.select({clips(place)[1].id})
    place.key(K.Key_Delete)
    assert [c.start for c in clips(place)] == [0, 4 * RATE]
    session.seek(3 * RATE)
    place.key(K.Key_Delete, M.ControlModifier)
    assert [c.start for c in clips(place)] == [0, 2 * RATE]
    service.select({clips(place)[1].id})
    place.key(K.Key_Up, M.AltModifier)
    place.key(K.Key_Up, M.AltModifier)
    assert clips(place)[1].gain_db == 2.0
    place.key(K.Key_Right, M.AltModifier)
    assert clips(place)[1].start == 2 * RATE + RATE // 25
    place.key(K.Key_C, M.ControlModifier)
    session.seek(20 * RATE)
    session.transport.seek(9 * RATE)
    place.key(K.Key_V, M.ControlModifier)
    assert len(clips(place)) == 3
    place.key(K.Key_Delete, M.ShiftModifier)
    assert len(clips(place)) == 2
    place.key(K.Key_E)
    place.key(K.Key_A, M.ControlModifier)
    place.key(K.Key_E)
    assert not any(c.enabled for c in clips(place))
    assert not session.heard_source.read(0, RATE).any()
    assert len(session.recording.score) == 0  # no key of the bench has acted


def test_clips_are_brought_to_one_loudness_and_sections_removed(place: Person) -> None:
    session = place.window.session
    service = session.assembly
    service.select({clips(place)[0].id})
    service.set_gain(-9.0)
    place.key(K.Key_A, M.ControlModifier)
    place.key(K.Key_L, M.ShiftModifier)
    place.until(lambda: "at" in place.said and "LUFS" in place.said)
    first, second = (c.gain_db for c in clips(place))
    assert abs(first - second) < 1.0  # both hold the same voice
    assert session.document.history.undo_label == "Match the loudness of clips"
    session.seek(0)
    place.key(K.Key_PageDown, M.ControlModifier)
    assert session.transport.position == 4 * RATE
    service.select_span(5 * RATE, 3 * RATE)
    place.key(K.Key_Delete)
    assert [(c.start, c.stop) for c in clips(place)] == [(0, 3 * RATE), (5 * RATE, 10 * RATE)]
    service.select_span(3 * RATE, 5 * RATE)
    place.key(K.Key_Delete, M.ShiftModifier)
    assert [(c.start, c.stop) for c in clips(place)] == [(0, 3 * RATE), (3 * RATE, 8 * RATE)]
    assert service.span is None
    for _ in range(2):  # with the undo the section is marked again, and goes with the redo
        place.key(K.Key_Z, M.ControlModifier)
        assert service.span == Span(3 * RATE, 5 * RATE)
        place.key(K.Key_Z, M.ControlModifier | M.ShiftModifier)
        assert service.span is None
    place.key(K.Key_Z, M.ControlModifier)
    service.select_span(0, RATE)
    place.key(K.Key_Z, M.ControlModifier | M.ShiftModifier)
    assert service.span == Span(0, RATE)  # what was marked since then stays


def test_lanes_are_muted_by_their_heads_and_the_sheet_takes_typed_values(place: Person) -> None:
    window, session = place.window, place.window.session
    view = window.assembly.lanes
    (mute, _, _) = next(row for row in view.switches(0) if row[1] == "muted")
    place.bot.mouseClick(view, Qt.MouseButton.LeftButton, pos=mute.center().toPoint())
    assert not session.heard_source.read(RATE, 2 * RATE).any()
    session.document.undo()
    ctrl = Qt.KeyboardModifier.ControlModifier
    place.bot.mouseClick(view, Qt.MouseButton.LeftButton, ctrl, pos=mute.center().toPoint())
    assert all(lane.muted for lane in session.assembly.programme.lanes)
    session.document.undo()
    assert not any(lane.muted for lane in session.assembly.programme.lanes)
    place.bot.mouseClick(view, Qt.MouseButton.LeftButton, pos=at(place, 8.0))
    sheet = window.assembly.sheet
    assert sheet.title.text() == "bert"
    sheet.gain.setValue(-4.5)
    sheet.start.setValue(12.25)
    sheet.fade_out.setValue(500.0)
    made = clips(place)[1]
    assert (made.gain_db, made.start, made.fade_out.frames) == (-4.5, round(12.25 * RATE), RATE // 2)
    session.assembly.fill_gaps()
    names = {r.id: r.name for r in session.document.project.recordings}  # the tone of either side, one into the other
    assert [(c.tone, names[c.recording_id]) for c in clips(place)] == [
        (False, "anna"), (True, "anna"), (True, "bert"), (False, "bert"),
    ]  # fmt: skip


def test_a_selection_goes_to_the_programme_which_is_rendered_and_kept_in_the_project(
    place: Person, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window, session = place.window, place.window.session
    place.key(K.Key_F2)
    place.mark(1.0, 2.0)
    place.key(K.Key_Return, M.ControlModifier)
    added = clips(place)[-1]
    assert (added.start, added.frames) == (10 * RATE, pytest.approx(RATE, abs=0.05 * RATE))
    out = tmp_path / "chapter.wav"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(out), ""))
    place.key(K.Key_F3)
    window.actions_.actions["programme_render"].trigger()
    place.until(out.exists)
    place.settle()
    assert sf.info(out).frames == added.stop
    session.document.save(tmp_path / "p.pulizia")
    before = session.assembly.programme
    session.document.load(tmp_path / "p.pulizia")
    assert session.assembly.programme == before


def test_programmes_are_delivered_like_recordings_and_stand_before_them(
    place: Person, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window, session = place.window, place.window.session
    delivered = tmp_path / "delivered.wav"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(delivered), ""))
    place.key(K.Key_D, M.ControlModifier)
    assert window.places.currentIndex() == DELIVERY
    cards = window.delivery.cards
    assert [name for _, name, _ in cards.rows] == ["Programme 1", "anna", "bert"]
    assert session.heard_source.frames == 10 * RATE  # the programme is still what is heard
    place.until(lambda: session.queue.orders and session.queue.orders[-1].stage is Stage.DONE)
    assert all(v.state is State.WITHIN for v in session.queue.orders[-1].delivered.verdicts)
    assert sf.info(delivered).frames == 10 * RATE
    told = json.loads(delivered.with_suffix(".json").read_text())
    assert [(c["start"], c["file"]) for c in told["clips"]] == [
        ("0:00.000", "anna.wav"),
        ("0:04.000", "bert.wav"),
    ]
    assert "bert.wav" in delivered.with_suffix(".html").read_text()
    # another card is heard and measured instead; the preview of the delivery is heard for both
    place.bot.mouseClick(cards, Qt.MouseButton.LeftButton, pos=QPoint(40, cards._top(2) + 10))
    assert session.heard_source.frames == 6 * RATE
    assert session.subject.name == "bert"
    place.bot.mouseClick(cards, Qt.MouseButton.LeftButton, pos=QPoint(40, 10))
    assert session.subject.name == "Programme 1"
    place.until(lambda: window.delivery.plan is not None)
    window.delivery.preview_tick.click()
    assert session.preview is not None
    assert session.preview.source.frames == 10 * RATE
    place.key(K.Key_Delete)  # clips are changed in their own place alone
    assert len(clips(place)) == 2
    place.key(K.Key_F2)
    assert session.heard_source.frames == session.recording.frames


def test_a_repair_on_the_bench_is_heard_in_the_programme_and_a_lost_file_is_silence(place: Person) -> None:
    session = place.window.session
    whole = session.heard_source.read(RATE, 2 * RATE)
    assert session.assembly.sound is session.assembly.sound  # nothing is made anew while nothing changes
    first = session.document.project.recordings[0]
    session.document.add_step(first.id, "level", {"way": "gain", "gain_db": -6.0})
    place.settle()
    assert np.allclose(session.heard_source.read(RATE, 2 * RATE), whole * 10 ** (-6 / 20), atol=1e-6)
    media = session.document.media.pop(first.id)
    assert not session.heard_source.read(RATE, 2 * RATE).any()
    assert session.assembly.sound.silent == ("anna",)
    session.document.attach(first.id, media)
    assert session.heard_source.read(RATE, 2 * RATE).any()


def test_right_click_menus_show_keys_and_act_on_what_is_under_the_mouse(place: Person) -> None:
    session, lanes = place.window.session, place.window.assembly.lanes

    def row(menu: QMenu, words: str) -> QAction:
        return next(a for a in menu.actions() if a.text().split("\t")[0] == words)

    session.seek(round(1.5 * RATE))
    first, second = clips(place)
    menu = menu_at(place, lanes, QPointF(at(place, 7.0)))
    assert session.assembly.clip_ids == {second.id}
    assert row(menu, "Split at playhead").shortcut().toString() == "Shift+S"
    assert row(menu, "Repair on the Bench").text().endswith("\tCtrl+B")
    row(menu, "Duplicate clips").trigger()
    menu.close()
    assert len(clips(place)) == 3

    menu = menu_at(place, lanes, QPointF(at(place, 7.0)))
    row(menu, "Repair on the Bench").trigger()
    menu.close()
    place.until(lambda: place.window.places.currentIndex() == BENCH)
    assert session.transport.position / RATE == pytest.approx(7.0 - second.start / RATE, abs=0.05)

    place.key(K.Key_F3)
    menu = menu_at(place, lanes, QPointF(at(place, 1.0, lane=1)))
    assert row(menu, "Lock the lane").text().endswith("\tAlt+L")
    row(menu, "Lock the lane").trigger()
    menu.close()
    assert session.assembly.programme.lanes[1].locked
    assert clips(place)[0] == first

    session.assembly.select({first.id})
    session.document.add_step(session.document.project.recordings[0].id, "level", {"gain_db": -3.0})
    place.settle()
    place.window.assembly.steps.steps.step_menu.emit("")
    menu = QApplication.activePopupWidget()
    assert row(menu, "Copy the step").shortcut().toString() == "Alt+C"
    menu.close()
