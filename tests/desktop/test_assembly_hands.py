# SPDX-License-Identifier: GPL-3.0-or-later
"""The assembly at work: fine moves of the mouse, edits of speech by key, listening to a cut, files dropped onto lanes."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QAction, QDropEvent
from PySide6.QtWidgets import QInputDialog, QMenu
from tests.conftest import voice_in_noise
from tests.desktop.conftest import PHRASES, Person
from tests.desktop.test_assembly_place import at, clips, drag
from tests.measure.test_best_microphone import microphones
from tests.measure.test_line_up import speech

from pulizia.audio.spans import Span
from pulizia.desktop.assembly.assembly import LEVELS, SPECTRUM
from pulizia.desktop.assembly.geometry import HANDLE_PX
from pulizia.desktop.bench.time_axis import GUTTER
from pulizia.project.clips import level_at
from pulizia.project.file import load_project, save_project
from pulizia.project.programme_sound import stems_of

RATE = 48_000
K, M = Qt.Key, Qt.KeyboardModifier
LEFT = Qt.MouseButton.LeftButton


def lane_actions(person: Person, number: int) -> dict[str, QAction]:
    """What the menu of a lane offers, by its words."""
    view = person.window.assembly.lanes
    view.show_menu_of(person.window.session.assembly.programme.lanes[number], QPoint())
    menu = view.findChildren(QMenu, options=Qt.FindChildOption.FindDirectChildrenOnly)[-1]
    return {a.text(): a for inner in [menu, *menu.findChildren(QMenu)] for a in inner.actions()}


def test_clips_slide_and_cuts_roll_and_a_rectangle_selects(place: Person) -> None:
    session = place.window.session
    session.seek(10 * RATE)
    session.assembly.split()
    place.settle()
    assert len(clips(place)) == 3  # 0-10, 10-12, 12-18
    place.bot.mouseClick(place.window.assembly.lanes, LEFT, pos=at(place, 11.0))
    past = session.document.history.undo_label
    drag(place, at(place, 11.0), at(place, 10.0), M.AltModifier | M.ShiftModifier)
    assert clips(place)[2].start == 12 * RATE  # its recording holds nothing before
    drag(place, at(place, 11.0), at(place, 12.0), M.AltModifier | M.ShiftModifier)
    assert [c.start for c in clips(place)] == [0, pytest.approx(11 * RATE, abs=0.2 * RATE), clips(place)[1].stop]
    assert clips(place)[1].inner == 10 * RATE  # what it plays stays; its neighbours give way
    assert clips(place)[2].stop == 18 * RATE
    assert session.document.history.undo_label != past
    session.document.undo()
    place.settle()
    drag(place, at(place, 12.02), at(place, 13.0), M.ShiftModifier)
    assert clips(place)[1].stop == clips(place)[2].start == 12 * RATE  # the first of both ends with its recording
    drag(place, at(place, 10.02), at(place, 11.0), M.ShiftModifier)
    assert clips(place)[0].stop == clips(place)[1].start == pytest.approx(11 * RATE, abs=0.3 * RATE)
    session.document.undo()
    place.settle()
    drag(place, at(place, 18.6, down=0.9), at(place, 11.0, down=0.2), M.ControlModifier)
    assert {c.start for c in session.assembly.clips} == {10 * RATE, 12 * RATE}


def test_gain_is_drawn_on_clip_line_and_lane(place: Person) -> None:
    window, session = place.window, place.window.session
    view = window.assembly.lanes
    place.bot.mouseClick(view, LEFT, pos=at(place, 6.0))
    box = view.geometry_of.box(clips(place)[0], 0, view.width())
    middle = view.geometry_of.y_of_db(0.0, 0, box)
    handle = QPoint(round(box.left() + HANDLE_PX), round(middle))
    drag(place, handle, handle + QPoint(0, -20))
    assert clips(place)[0].gain_db == pytest.approx(
        20 * view.geometry_of.db_per_pixel(view.geometry_of.lane_height), abs=0.3
    )
    session.document.undo()
    place.settle()
    place.bot.mouseDClick(view, LEFT, M.AltModifier, at(place, 6.0, down=0.2))
    assert [round(f / RATE, 1) for f, _ in clips(place)[0].gain_line] == [0.0, pytest.approx(6.0, abs=0.1), 12.0]
    x = round(GUTTER + view.axis.x_at(clips(place)[0].gain_line[1][0]))
    drag(place, QPoint(x, round(middle)), QPoint(x + 30, round(middle) + 16))
    point = clips(place)[0].gain_line[1]
    assert point[0] == pytest.approx(6 * RATE + 30 * view.axis.frames_per_pixel, rel=0.05)
    assert point[1] == pytest.approx(-16 * view.geometry_of.db_per_pixel(view.geometry_of.lane_height), abs=0.5)
    (gain, _, _) = next(row for row in view.switches(0) if row[1] == "gain_db")
    start = gain.center().toPoint()
    drag(place, start, start + QPoint(0, 24))
    assert session.assembly.programme.lanes[0].gain_db == pytest.approx(-6.0, abs=0.5)


def test_phrases_are_visited_selected_and_pauses_tightened(place: Person) -> None:
    window, session = place.window, place.window.session
    place.until(lambda: all(session.speech.of(r.id) for r in session.document.project.recordings))
    session.seek(0)
    places = []
    for _ in range(3):
        place.key(K.Key_Right, M.ControlModifier)
        places.append(session.transport.position / RATE)
    assert places == [pytest.approx(a, abs=0.12) for a, _ in PHRASES]
    place.key(K.Key_Left, M.ControlModifier)
    assert session.transport.position / RATE == pytest.approx(PHRASES[1][0], abs=0.12)
    place.bot.mouseDClick(window.assembly.lanes, LEFT, M.ShiftModifier, at(place, 4.7))
    span = session.assembly.span
    assert (span.start / RATE, span.stop / RATE) == (pytest.approx(4.0, abs=0.12), pytest.approx(5.5, abs=0.12))
    # any section by keys: first its end, from the start on; then its start
    place.key(K.Key_Escape)
    for seconds, name in ((5.2, K.Key_BracketRight), (4.4, K.Key_BracketLeft)):
        session.seek(round(seconds * RATE))
        place.key(name)
    assert session.assembly.span == Span(round(4.4 * RATE), round(5.2 * RATE))
    session.seek(round(6.0 * RATE))
    place.key(K.Key_I)
    assert session.assembly.span is None, "a start behind the end holds nothing"
    place.key(K.Key_I)
    assert session.assembly.span == Span(round(6.0 * RATE), session.assembly.programme.frames)
    place.key(K.Key_Escape)
    assert session.assembly.span is None
    before = session.heard_source.frames
    session.speech.tighten(0.6)
    place.settle()
    assert "pauses shortened" in place.said
    gaps = (4.0 - 2.2) + (8.0 - 5.5) - 2 * 0.6
    assert (before - session.assembly.programme.frames) / RATE >= gaps - 0.3
    phrases = session.speech.spans_on(session.assembly.programme.lanes[0])
    assert [round(s.frames / RATE, 1) for s in phrases[:3]] == [pytest.approx(b - a, abs=0.21) for a, b in PHRASES]
    session.document.undo()
    assert session.assembly.programme.frames == before  # one edit
    session.seek(round(3.0 * RATE))
    session.speech.lengthen(1.0)
    place.settle()
    assert session.assembly.programme.frames == before + RATE
    session.seek(round(1.5 * RATE))
    session.speech.lengthen(1.0)
    assert "inside a phrase" in place.said
    # word ends draw the mouse, three tenths of a second behind the word
    edges = session.speech.word_edges(0, 3 * RATE)
    assert any(abs(e / RATE - (2.2 + 0.3)) < 0.15 for e in edges)


def test_a_cut_is_heard_with_a_run_up_and_without_the_last_edit(place: Person, monkeypatch: pytest.MonkeyPatch) -> None:
    window, session = place.window, place.window.session
    session.seek(round(11.5 * RATE))
    place.key(K.Key_R, M.ShiftModifier)
    assert (session.transport.loop.start, session.transport.loop.stop) == (10 * RATE, round(13.5 * RATE))
    assert session.transport.is_playing
    place.key(K.Key_R, M.ShiftModifier)
    assert session.transport.loop is None
    session.stop_playing()
    place.bot.mouseClick(window.assembly.lanes, LEFT, pos=at(place, 6.0))
    place.key(K.Key_Up, M.AltModifier)
    loud = session.heard_source.read(RATE, RATE + 4800).copy()
    place.key(K.Key_D)
    assert "before the last edit" in place.said
    assert np.allclose(session.heard_source.read(RATE, RATE + 4800), loud * 10 ** (-1 / 20), atol=1e-6)
    place.key(K.Key_D)
    assert np.allclose(session.heard_source.read(RATE, RATE + 4800), loud, atol=1e-7)
    place.key(K.Key_D)
    place.key(K.Key_Down, M.AltModifier)  # an edit: the programme as it is now
    assert session.assembly.instead is None
    monkeypatch.setattr(QInputDialog, "getText", lambda *_a, **_k: ("0:07.5", True))
    place.key(K.Key_G, M.ControlModifier)
    assert session.transport.position == round(7.5 * RATE)
    session.assembly.change_programme("start", start_frame=10 * 3600 * 25)
    monkeypatch.setattr(QInputDialog, "getText", lambda *_a, **_k: ("10:00:03:05", True))
    place.key(K.Key_G, M.ControlModifier)
    assert session.transport.position == round(3.2 * RATE)
    monkeypatch.setattr(QInputDialog, "getText", lambda *_a, **_k: ("soon", True))
    place.key(K.Key_G, M.ControlModifier)
    assert "is no time" in place.said


def test_files_from_the_file_manager_go_where_they_are_dropped(place: Person, wav: Callable[..., Path]) -> None:
    window, session = place.window, place.window.session
    view = window.assembly.lanes
    new = wav(voice_in_noise(2.0), "carla.wav")
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(new))])
    where = at(place, 19.0, lane=1)
    event = QDropEvent(QPointF(where), Qt.DropAction.CopyAction, data, LEFT, M.NoModifier)
    view.dropEvent(event)
    place.until(lambda: len(clips(place, 1)) == 1)
    assert clips(place, 1)[0].name == "carla"
    assert clips(place, 1)[0].start == pytest.approx(19 * RATE, abs=0.3 * RATE)
    assert len(session.document.project.recordings) == 3


@pytest.mark.slow
def test_levels_spectrum_figures_and_inspection_are_those_of_the_programme(place: Person) -> None:
    window, session = place.window, place.window.session
    assembly = window.assembly
    place.key(K.Key_V)
    assert assembly._right.currentIndex() == LEVELS
    place.until(lambda: session.heard_measures is not None)
    place.until(lambda: assembly.levels.figures[0].text() not in ("", "\u2013"))
    shown = float(assembly.levels.figures[0].text().replace("\u2212", "-"))
    assert shown == pytest.approx(session.measures("after", session.assembly.subject_id).integrated_lufs, abs=0.06)
    place.key(K.Key_S)
    assert assembly._right.currentIndex() == SPECTRUM
    session.assembly.select_span(4 * RATE, 5 * RATE)
    place.until(lambda: assembly.spectrum._key is not None and assembly.spectrum._key[1] == 4 * RATE)
    # a programme that becomes shorter is marked up to its end
    session.assembly.select_span(15 * RATE, 18 * RATE)
    place.until(lambda: assembly.spectrum._key[1] == 15 * RATE)
    end = lambda stop: session.assembly.trim(clips(place)[-1].id, stop=stop)  # noqa: E731
    end(16 * RATE)
    assert session.marked == Span(15 * RATE, 16 * RATE)
    end(13 * RATE)
    assert session.marked is None
    place.until(lambda: assembly.spectrum._key[2] <= 13 * RATE)
    session.document.undo()  # both trims: they follow each other
    assert session.marked == Span(15 * RATE, 18 * RATE)
    session.assembly.select_span(4 * RATE, 5 * RATE)
    window.dialogs.show_figures()
    place.until(lambda: bool(window.dialogs.figures.rows))
    assert "Programme 1" in window.dialogs.figures._title
    window.dialogs.figures.accept()
    assembly.inspect()
    place.until(lambda: "Listening" not in assembly.findings.words.text(), 60.0)
    assembly.findings.accept()
    # overview and hidden lanes
    place.key(K.Key_Plus)
    place.key(K.Key_Plus)
    left = assembly.axis.left
    place.bot.mouseClick(assembly.overview, LEFT, pos=QPoint(assembly.overview.width() - 60, 20))
    assert assembly.axis.left > left
    assembly.lanes.hide_lane(session.assembly.programme.lanes[1].id)
    assert len(assembly.lanes.rows) == len(session.assembly.programme.lanes) - 1
    window.actions_.actions["programme_show_lanes"].trigger()
    assert len(assembly.lanes.rows) == len(session.assembly.programme.lanes)


@pytest.mark.slow
def test_clips_of_one_moment_are_lined_up_by_key(person: Person, wav: Callable[..., Path], tmp_path: Path) -> None:
    sound = speech(24.0, seed=8)[None]
    person.open(wav(sound, "boom.wav"))
    person.open(wav(-sound[:, 2 * RATE :], "lav.wav"))
    person.key(K.Key_F3)
    session = person.window.session
    person.window.assembly.add_all()
    person.settle()
    lav = clips(person)[1]
    session.assembly.clip_ids = frozenset({lav.id})
    session.assembly.move_to_lane(1)
    session.assembly.clip_ids = frozenset(c.id for lane in session.assembly.programme.lanes for c in lane.clips)
    person.key(K.Key_U, M.ShiftModifier)
    person.settle()
    moved = next(c for lane in session.assembly.programme.lanes for c in lane.clips if c.id == lav.id)
    assert moved.start == pytest.approx(2 * RATE, abs=2)
    assert moved.inverted
    save_project(session.document.project, tmp_path / "job.pulizia")
    assert load_project(tmp_path / "job.pulizia").programmes == session.document.project.programmes
    assert session.document.history.undo_label == "Line clips up"
    assert "lined up and inverted" in person.said


@pytest.mark.slow
def test_the_best_microphone_is_planned_changed_and_applied(
    person: Person, wav: Callable[..., Path], tmp_path: Path
) -> None:
    for name, source in zip(("anna", "bert"), microphones(0.0, -9.0, 0, 0), strict=True):
        person.open(wav(source.read(0, source.frames), f"{name}.wav"))
    person.key(K.Key_F3)
    assembly, session = person.window.assembly, person.window.session
    assembly.add_all()
    person.settle()
    second = clips(person)[1]
    session.assembly.select([second.id])
    session.assembly.move_to_lane(1)
    session.assembly.nudge(-second.start)
    person.settle()
    session.assembly.select_all()
    person.key(K.Key_M, M.AltModifier)
    person.until(lambda: getattr(assembly, "microphones", None) is not None)
    dialog = assembly.microphones
    lanes = dialog.plan.lane_ids
    assert [lanes.index(t.lane_id) for t in dialog.plan.turns] == [0, 1, 0, 1, 0]
    dialog.choices[2].setCurrentIndex(1)
    dialog.choices[2].activated.emit(1)
    dialog.by.setValue(10.0)
    dialog.accept()
    person.settle()
    first, other = (lane.clips[0] for lane in session.assembly.programme.lanes[:2])
    heard = [[level_at(c.gain_line, round(at * RATE)) for at in (2.0, 5.5, 8.2, 12.0, 17.0)] for c in (first, other)]
    assert heard == [[0.0, -10.0, -10.0, -10.0, 0.0], [-10.0, 0.0, 0.0, 0.0, -10.0]]
    save_project(session.document.project, tmp_path / "job.pulizia")
    assert load_project(tmp_path / "job.pulizia").programmes == session.document.project.programmes
    assert "Autosave" not in person.said
    session.document.undo()
    assert session.assembly.programme.lanes[0].clips[0].gain_line == ()


def test_a_lane_is_placed_on_one_loudspeaker_of_a_programme_of_six(place: Person) -> None:
    session = place.window.session
    session.assembly.change_programme("Change the channels", channels=6)
    place.settle()
    actions = lane_actions(place, 0)
    assert {"left and right", "left", "right", "centre", "LFE", "left surround", "right surround"} <= set(actions)
    actions["centre"].trigger()
    place.settle()
    assert session.assembly.programme.lanes[0].placement == "C"
    sound = session.assembly.sound.after
    heard = np.abs(sound.read(RATE, 2 * RATE)).max(axis=1)
    assert heard[2] > 0.01
    assert not np.delete(heard, 2).any()


def test_a_lane_is_drawn_as_tall_as_its_edge_was_dragged_and_no_edit_is_made_of_it(
    place: Person, tmp_path: Path
) -> None:
    session, view = place.window.session, place.window.assembly.lanes
    session.assembly.add_lane()
    place.settle()
    usual, past = view.geometry_of.tall(0), session.document.history.labels
    x, edge = 300, round(view.geometry_of.body(0, view.width()).bottom()) + 2
    drag(place, QPoint(x, edge), QPoint(x, edge + 60))
    assert view.geometry_of.tall(0) == pytest.approx(usual + 60, abs=2)
    assert view.geometry_of.tall(1) == usual
    assert view.geometry_of.body(1, view.width()).top() > edge + 60  # the next one has moved down
    assert view.geometry_of.lane_at(edge + 50) == 0
    place.bot.mouseClick(view, LEFT, pos=at(place, 6.0))
    assert [c.name for c in session.assembly.clips] == ["talk"]  # clips are taken where they are now
    handle = QPoint(*(round(v) for v in (view.geometry_of.box(clips(place)[0], 0, view.width()).left() + HANDLE_PX,
                                         view.geometry_of.y_of_db(0.0, 0, view.geometry_of.box(clips(place)[0], 0, view.width())))))  # fmt: skip
    drag(place, handle, handle + QPoint(0, -20))
    assert clips(place)[0].gain_db == pytest.approx(20 * view.geometry_of.db_per_pixel(usual + 60), abs=0.3)
    session.document.undo()
    assert session.document.history.labels[0] == past[0]
    assert session.assembly.programme.lanes[0].height == pytest.approx(1 + 60 / usual, abs=0.03)  # undo leaves it
    session.document.save(tmp_path / "tall.pulizia")
    assert load_project(tmp_path / "tall.pulizia").programmes[0].lanes[0].height > 1.3
    place.bot.mouseDClick(view, LEFT, pos=QPoint(x, round(view.geometry_of.body(0, view.width()).bottom()) + 2))
    assert view.geometry_of.tall(0) == usual


def test_lanes_of_a_group_are_muted_and_turned_up_together(place: Person, monkeypatch: pytest.MonkeyPatch) -> None:
    session, view = place.window.session, place.window.assembly.lanes
    session.assembly.add_lane()
    session.assembly.add_lane()
    place.settle()
    monkeypatch.setattr(QInputDialog, "getText", lambda *_a, **_k: ("Boom and lavalier", True))
    for number, words in ((0, "New group\u2026"), (2, "Boom and lavalier")):
        lane_actions(place, number)[words].trigger()
        place.settle()
    lanes = lambda: session.assembly.programme.lanes  # noqa: E731
    assert [la.group for la in lanes()][:4] == ["Boom and lavalier", "", "Boom and lavalier", ""][: len(lanes())]
    box = {field: where for where, field, _ in view.switches(0)}
    place.bot.mouseClick(view, LEFT, pos=box["muted"].center().toPoint())
    assert [la.muted for la in lanes()][:3] == [True, False, True]
    session.document.undo()
    assert not any(la.muted for la in lanes())  # one entry of history
    session.assembly.change_lane(lanes()[2].id, "Turn one down", gain_db=-3.0)
    session.assembly.set_lane_gain(lanes()[0].id, 2.0)
    assert [la.gain_db for la in lanes()][:3] == [2.0, 0.0, -1.0]
    assert set(stems_of(session.assembly.programme)) == {"Boom and lavalier"}  # the only lane with clips is one of it


@pytest.mark.slow
def test_clips_of_a_camera_hear_the_field_recording_of_their_moment(
    person: Person, wav: Callable[..., Path], tmp_path: Path
) -> None:
    sound = speech(40.0, seed=12)
    noise = np.random.default_rng(4).normal(0, 0.01, len(sound)).astype(np.float32)
    camera = (0.5 * sound + noise)[5 * RATE : 30 * RATE]
    person.open(wav(camera[None], "camera.wav"))
    person.key(K.Key_F3)
    session = person.window.session
    person.window.assembly.add_all()
    person.settle()
    session.seek(10 * RATE)
    session.assembly.split()
    person.open(wav(speech(30.0, seed=77)[None], "another.wav"))
    person.open(wav(-sound[None], "field.wav"))
    person.key(K.Key_F3)
    session.assembly.select_all()
    session.field_recordings.use()
    person.until(lambda: "2 clips hear field recordings" in person.said, 60)
    names = {r.id: r.name for r in session.document.project.recordings}
    for clip in clips(person):
        assert names[clip.recording_id] == "field"
        assert clip.inverted
        assert clip.heard_at(clip.start) == pytest.approx(clip.start + 5 * RATE, abs=1.0)
    save_project(session.document.project, tmp_path / "job.pulizia")
    assert load_project(tmp_path / "job.pulizia").programmes == session.document.project.programmes
    session.document.undo()
    assert {names[c.recording_id] for c in clips(person)} == {"camera"}
