# SPDX-License-Identifier: GPL-3.0-or-later
"""The assembly by its keys and menus: every edit lands where it says, is one entry of history, and refuses with a sentence."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import QPoint, QPointF, QRect, Qt
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QApplication, QMenu
from tests.conftest import voice_in_noise
from tests.desktop.conftest import PHRASES, Person, choose, talked
from tests.desktop.test_assembly_place import clips

from pulizia.desktop.assembly.commands import EVERYWHERE
from pulizia.desktop.assembly.geometry import NAME_PX
from pulizia.desktop.bench.time_axis import GUTTER
from pulizia.media.broadcast import Broadcast, bext_chunk
from pulizia.session.assembly_service import CROSS_S

RATE = 48_000
K, M = Qt.Key, Qt.KeyboardModifier


def do(person: Person, name: str) -> None:
    person.window.actions_.actions[name].trigger()
    person.settle()


def row(person: Person, lane: int = 0) -> list[tuple[str, float, float, float]]:
    """Name, start, length and inner start of the clips, in seconds."""
    return [(c.name, c.start / RATE, c.frames / RATE, c.inner / RATE) for c in clips(person, lane)]


def undone(person: Person, before: list[tuple[str, float, float, float]]) -> None:
    """One step back is where we were."""
    person.key(K.Key_Z, M.ControlModifier)
    person.settle()
    assert row(person) == before


@pytest.mark.slow
def test_clips_are_trimmed_copied_inserted_and_crossed_by_key(place: Person) -> None:
    session, start = place.window.session, row(place)
    assert start == [("talk", 0.0, 12.0, 0.0), ("bert", 12.0, 6.0, 0.0)]
    session.assembly.select([clips(place)[0].id])
    session.seek(3 * RATE)
    place.key(K.Key_I, M.AltModifier)
    assert row(place) == [("talk", 3.0, 9.0, 3.0), ("bert", 12.0, 6.0, 0.0)]  # the rest stays where it was
    undone(place, start)
    session.assembly.select([clips(place)[0].id])
    place.key(K.Key_O, M.AltModifier)
    assert row(place) == [("talk", 0.0, 3.0, 0.0), ("bert", 12.0, 6.0, 0.0)]
    undone(place, start)
    session.seek(15 * RATE)
    session.assembly.select([clips(place)[0].id])
    place.key(K.Key_I, M.AltModifier)
    assert row(place) == start
    assert "under the playhead" in place.said
    place.key(K.Key_D, M.ControlModifier | M.ShiftModifier)
    assert row(place) == [
        ("talk", 0.0, 12.0, 0.0),
        ("talk", 12.0, 12.0, 0.0),
    ]  # a copy takes the place of what lay there
    assert [c.start for c in session.assembly.clips] == [12 * RATE]
    undone(place, start)
    session.assembly.select([clips(place)[1].id])
    paste = place.window.actions_.actions["programme_paste"]
    assert not paste.isEnabled()
    place.key(K.Key_C, M.ControlModifier)
    assert paste.isEnabled()
    session.seek(2 * RATE)
    place.key(K.Key_V, M.ControlModifier | M.ShiftModifier)
    assert row(place) == [
        ("talk", 0.0, 2.0, 0.0),
        ("bert", 2.0, 6.0, 0.0),
        ("talk", 8.0, 10.0, 2.0),
        ("bert", 18.0, 6.0, 0.0),
    ]
    undone(place, start)
    place.key(K.Key_V, M.ControlModifier)
    assert row(place) == [
        ("talk", 0.0, 2.0, 0.0),
        ("bert", 2.0, 6.0, 0.0),
        ("talk", 8.0, 4.0, 8.0),
        ("bert", 12.0, 6.0, 0.0),
    ]
    undone(place, start)
    session.assembly.select([clips(place)[1].id])
    session.assembly.trim(clips(place)[1].id, start=12 * RATE + RATE)
    place.settle()
    gap = row(place)
    place.key(K.Key_X)
    assert "Close the gap first" in place.said
    assert row(place) == gap
    session.assembly.trim(clips(place)[0].id, stop=11 * RATE)
    session.assembly.move(-2 * RATE)
    place.settle()
    place.key(K.Key_X)
    first, second = clips(place)
    assert (first.stop + second.start) // 2 == 11 * RATE
    assert first.stop - second.start == second.fade_in.frames == round(CROSS_S * RATE)


def test_what_lies_behind_on_a_lane_or_everywhere_is_selected_and_lanes_change_places(place: Person) -> None:
    session = place.window.session
    session.seek(12 * RATE)
    place.key(K.Key_End, M.ShiftModifier)
    assert [c.name for c in session.assembly.clips] == ["bert"]
    place.key(K.Key_Down, M.ControlModifier)
    assert [row(place, n) for n in (0, 1)] == [[("talk", 0.0, 12.0, 0.0)], [("bert", 12.0, 6.0, 0.0)]]
    place.key(K.Key_A, M.ShiftModifier)
    assert [c.name for c in session.assembly.clips] == ["bert"]
    place.key(K.Key_A, M.ControlModifier)
    assert [c.name for c in session.assembly.clips] == ["talk", "bert"]
    first, second = session.assembly.programme.lanes[:2]
    session.assembly.move_lane(second.id, -1)
    assert [la.id for la in session.assembly.programme.lanes[:2]] == [second.id, first.id]
    session.assembly.move_lane(second.id, -1)  # it is the highest
    assert [la.id for la in session.assembly.programme.lanes[:2]] == [second.id, first.id]
    session.assembly.move_lane(second.id, 1)
    assert [la.id for la in session.assembly.programme.lanes[:2]] == [first.id, second.id]
    session.assembly.remove_lane(second.id)
    assert second.id not in {la.id for la in session.assembly.programme.lanes}
    assert session.document.history.undo_label == "Remove the lane"
    session.seek(5 * RATE)
    place.key(K.Key_PageDown, M.ControlModifier)
    assert session.transport.position == 12 * RATE
    place.key(K.Key_PageUp, M.ControlModifier)
    assert session.transport.position == 0


def test_markers_are_set_named_and_taken_away(place: Person) -> None:
    session = place.window.session
    for second in (4, 2):
        session.seek(second * RATE)
        place.key(K.Key_M)
    markers = lambda: session.assembly.programme.markers  # noqa: E731
    assert [(m.frame / RATE, m.name) for m in markers()] == [(2.0, "Marker 2"), (4.0, "Marker 1")]
    session.assembly.rename_marker(markers()[0], "Room 4")
    assert [m.name for m in markers()] == ["Room 4", "Marker 1"]
    session.assembly.remove_marker(markers()[1])
    assert [(m.frame / RATE, m.name) for m in markers()] == [(2.0, "Room 4")]


def test_a_recording_is_laid_at_its_start_time(place: Person, tmp_path: Path) -> None:
    session = place.window.session
    path = tmp_path / "field.wav"
    soundfile.write(path, voice_in_noise(3.0)[0], RATE, subtype="PCM_24")
    plain = path.read_bytes()
    said = bext_chunk(Broadcast(description="Field", frames_since_midnight=(36_000 + 20) * RATE))
    riff = plain[:12] + said + plain[12:]
    path.write_bytes(riff[:4] + (len(riff) - 8).to_bytes(4, "little") + riff[8:])
    place.open(path)
    place.key(K.Key_F3)
    field = session.document.project.recordings[-1]
    session.assembly.add_at_timecode(session.document.project.recordings[0])
    assert "talk has no start time" in place.said
    session.assembly.change_programme("Set the start", start_frame=(36_000 + 30) * 25)
    session.assembly.add_at_timecode(field)
    assert "begins before the programme" in place.said
    session.assembly.change_programme("Set the start", start_frame=36_000 * 25)
    session.assembly.add_at_timecode(field)
    assert row(place)[-1] == ("field", 20.0, 3.0, 0.0)


def breathy(*at_s: float) -> np.ndarray:
    """The talk with breaths of 0.3 s at these places."""
    rng, sound, frames = np.random.default_rng(9), talked(12.0, PHRASES)[0], 14_400
    hz = np.fft.rfftfreq(frames, 1 / RATE)
    for at in at_s:
        shape = np.fft.irfft(np.fft.rfft(rng.normal(0, 1, frames)) / (1 + ((hz - 1800) / 1500) ** 2))
        sound[round(at * RATE) : round(at * RATE) + frames] += 0.012 * shape / shape.std() * np.hanning(frames)
    return sound


@pytest.mark.slow
def test_a_breath_gives_way_to_room_tone_and_words_stay(person: Person, wav: Callable[..., Path]) -> None:
    person.open(wav(breathy(3.2)[None].astype(np.float32), "talk.wav"))
    person.key(K.Key_F3)
    person.window.assembly.add_all()
    person.settle()
    session, before = person.window.session, row(person)
    session.seek(round(3.4 * RATE))
    person.key(K.Key_X, M.ShiftModifier)
    person.settle()
    made = clips(person)
    assert [c.tone for c in made] == [False, True, False]
    tone = made[1]
    assert tone.start / RATE == pytest.approx(3.2, abs=0.12)
    assert tone.stop / RATE == pytest.approx(3.52, abs=0.12)
    assert [c.inner - c.start for c in made] == [0, 0, 0]  # nothing has moved
    undone(person, before)
    session.seek(round(6.8 * RATE))  # a pause without a breath
    person.key(K.Key_X, M.ShiftModifier)
    person.settle()
    assert "No breath was found" in person.said
    assert row(person) == before


@pytest.mark.parametrize(("here_s", "begins_s"), [(6.62, 6.2), (6.74, 6.9)])
def test_of_two_breaths_the_nearer_one_gives_way(
    person: Person, wav: Callable[..., Path], here_s: float, begins_s: float
) -> None:
    person.open(wav(breathy(6.2, 6.9)[None].astype(np.float32), "talk.wav"))
    person.key(K.Key_F3)
    person.window.assembly.add_all()
    person.settle()
    person.window.session.seek(round(here_s * RATE))
    person.key(K.Key_X, M.ShiftModifier)
    person.settle()
    (tone,) = (c for c in clips(person) if c.tone)
    assert tone.start / RATE == pytest.approx(begins_s, abs=0.12)


def test_two_recordings_on_a_lane_are_parted_by_whose_phrases_they_are(place: Person) -> None:
    session = place.window.session
    session.assembly.choose_lane(session.assembly.programme.lanes[0].id)
    do(place, "programme_voices")
    lanes = {la.name: {c.name for c in la.clips} for la in session.assembly.programme.lanes if la.clips}
    assert lanes == {"talk": {"talk"}, "bert": {"bert"}}
    assert "lie on two lanes" in place.said
    before = session.document.history.undo_label
    session.assembly.choose_lane(next(la.id for la in session.assembly.programme.lanes if not la.clips))
    do(place, "programme_voices")
    assert "Choose a lane with clips" in place.said
    assert session.document.history.undo_label == before


def test_a_recording_that_clips_play_is_removed_with_a_word_of_warning(place: Person) -> None:
    window, session = place.window, place.window.session
    used = session.assembly.programme.lanes[0].clips[0].recording_id
    name = session.assembly.programme.name
    clips = sum(c.recording_id == used for la in session.assembly.programme.lanes for c in la.clips)
    row = [r.id for r in session.document.project.recordings].index(used)
    place.bot.mouseClick(window.assembly.cards, Qt.MouseButton.LeftButton, pos=QPoint(60, 48 * row + 20))
    do(place, "recording_remove")
    assert used not in {r.id for r in session.document.project.recordings}
    assert f"{clips} clip" in place.said
    assert name in place.said
    do(place, "undo")
    assert used in {r.id for r in session.document.project.recordings}


def test_what_undo_brings_back_is_selected_again(place: Person) -> None:
    session = place.window.session
    chosen = {session.assembly.programme.lanes[0].clips[0].id}
    for key in ((K.Key_Delete,), (K.Key_Delete, M.ShiftModifier)):
        session.assembly.select(chosen)
        place.key(*key)
        assert not session.assembly.clip_ids
        do(place, "undo")
        assert session.assembly.clip_ids == chosen
        do(place, "redo")
        session.assembly.select(())
        do(place, "undo")
        assert not session.assembly.clip_ids  # something else was chosen since


def test_steps_of_the_programme_are_moved_switched_and_removed_by_key(place: Person) -> None:
    session = place.window.session
    session.assembly.select(())
    session.assembly.choose_scope("programme")
    ids = [
        session.document.add_step(session.assembly.programme.id, tool, {}).id
        for tool in ("equaliser", "level", "limiter")
    ]
    place.settle()
    order = lambda: [s.id for s in session.assembly.programme.steps]  # noqa: E731
    assert order() == ids
    session.choose_step(ids[1])
    place.key(K.Key_PageUp, M.AltModifier)
    assert order() == [ids[1], ids[0], ids[2]]
    place.key(K.Key_PageDown, M.AltModifier)
    assert order() == ids
    place.key(K.Key_E, M.ShiftModifier)
    assert [s.enabled for s in session.assembly.programme.steps] == [True, False, True]
    do(place, "programme_step_remove")
    assert order() == [ids[0], ids[2]]


@pytest.mark.slow
def test_stems_and_clips_are_rendered_into_a_folder(place: Person, tmp_path: Path) -> None:
    session, out = place.window.session, tmp_path / "out"
    out.mkdir()
    session.assembly.select([clips(place)[1].id])
    place.key(K.Key_Down, M.ControlModifier)
    session.programme_out.render_stems(out)
    place.settle()
    stems = sorted(p.name for p in out.glob("*.wav"))
    assert stems == ["Programme 1-atmosphere.wav", "Programme 1-voice.wav"]
    assert {soundfile.info(out / name).frames for name in stems} == {18 * RATE}  # each as long as the programme
    for joined, alone in ((False, False), (True, True)):
        folder = tmp_path / f"clips-{joined}"
        folder.mkdir()
        session.programme_out.render_clips(folder, handles_s=0.5, joined=joined, alone=alone)
        place.settle()
        lengths = sorted(soundfile.info(p).frames / RATE for p in folder.glob("*.wav"))
        assert lengths == [6.0, 12.0]  # whole recordings have nothing more to give as handles
    session.assembly.trim(clips(place)[0].id, start=2 * RATE, stop=5 * RATE)
    folder = tmp_path / "handles"
    folder.mkdir()
    session.programme_out.render_clips(folder, handles_s=0.5, joined=False, alone=True)
    place.settle()
    assert sorted(soundfile.info(p).frames / RATE for p in folder.glob("*.wav")) == [4.0, 6.0]
    session.programme_out.render_clips(folder, handles_s=0.5, joined=False, alone=True)
    place.settle()
    assert place.said.endswith("is there already. Choose another name or folder.")  # nothing is written over


def test_one_channel_is_heard_alone_and_listening_and_orders_are_stopped(
    person: Person, wav: Callable[..., Path]
) -> None:
    sides = [voice_in_noise(8.0, seed=n)[0] * gain for n, gain in ((1, 1.0), (2, 0.5), (3, 0.25))]
    person.open(wav(np.stack(sides), "three.wav"))
    session = person.window.session
    session.hear_channel(1)
    assert "only. Display and files are not affected." in person.said
    assert session.transport._material.only == 1
    session.hear_channel(None)
    assert session.transport._material.only is None
    session.inspection.run()
    assert session.inspection.listening_to
    session.inspection.stop()
    assert session.inspection.listening_to == ""
    person.settle()
    assert not session.inspection.is_inspected
    session.repairs.add_tool("level", on_selection=False)
    assert session.inspection.listening_to == "", "an edit does not begin anew what was stopped"


def test_the_playhead_beyond_the_end_of_what_is_shown_holds_nothing_up(place: Person) -> None:
    """The programme before an edit is heard, which was longer than the one in view."""
    session, axis = place.window.session, place.window.assembly.axis
    session.assembly.select([clips(place)[1].id])
    session.assembly.move(60 * RATE)
    place.key(K.Key_Delete)
    place.settle()
    assert session.assembly.programme.frames == 12 * RATE
    axis.zoom(4.0, 100.0)
    axis.scroll_to(0.0)
    place.key(K.Key_D)  # as it was before
    assert session.assembly.instead.frames == 78 * RATE > axis.frames
    session.transport.play(74 * RATE)
    turns: list[float] = []
    axis.changed.connect(lambda: turns.append(axis.left))
    place.bot.wait(300)
    place.window.assembly.follow()
    assert 0 < len(turns) < 20
    assert axis.right == pytest.approx(axis.frames)
    session.transport.stop()


def test_a_locked_lane_is_not_touched_by_mouse_or_keys_and_a_locked_picture_keeps_its_time(place: Person) -> None:
    session, lanes, start = place.window.session, place.window.assembly.lanes, row(place)
    session.assembly.choose_lane(session.assembly.programme.lanes[0].id)
    do(place, "programme_lock")
    assert session.assembly.programme.lanes[0].locked
    box = lanes.geometry_of.box(clips(place)[0], 0, lanes.width())
    middle = box.center()
    place.drag(lanes, middle, middle + QPointF(120, 0))
    assert row(place) == start
    assert "is locked" in place.said
    place.click(lanes, middle)
    place.key(K.Key_Delete)
    assert row(place) == start
    assert "is locked" in place.said
    do(place, "programme_lock")
    place.click(lanes, middle)
    place.window.assembly.sheet.whole.locked.click()
    assert session.assembly.programme.picture_locked
    place.key(K.Key_Delete, M.ShiftModifier)
    assert row(place) == start
    assert "picture is locked" in place.said
    place.key(K.Key_Delete)
    assert row(place) == start[1:]  # a gap stays


def test_a_loop_over_the_cut_finds_one_where_the_section_lies_beyond_the_end(place: Person) -> None:
    session = place.window.session
    session.assembly.select_span(16 * RATE, 17 * RATE)
    session.assembly.apply(lambda p: p.with_lane(p.lanes[0].with_clips(p.lanes[0].clips[:1])), "Shorter")
    assert session.assembly.programme.frames == 12 * RATE
    session.seek(11 * RATE)
    session.cut_listening.loop_cut()
    loop = session.transport.loop
    assert loop is not None
    assert loop.stop == 12 * RATE
    session.transport.stop()


def test_clips_and_lanes_are_chosen_and_switched_without_the_mouse(place: Person) -> None:
    session, assembly = place.window.session, place.window.session.assembly
    first, second = (c.id for c in clips(place))
    lane, below = assembly.programme.lanes[:2]
    shift, alt = M.ShiftModifier, M.AltModifier
    session.seek(13 * RATE)
    assembly.select(())
    place.key(K.Key_C)
    assert assembly.clip_ids == {second}
    place.key(K.Key_PageUp, shift)
    assert (assembly.clip_ids, session.transport.position) == ({first}, 0)
    place.key(K.Key_PageUp, shift)
    assert assembly.clip_ids == {first}
    assert place.said == "Voice: no further clip."
    place.key(K.Key_PageDown, shift)
    assert (assembly.clip_ids, session.transport.position) == ({second}, 12 * RATE)
    place.key(K.Key_Period, alt)
    assert "The recording ends there" in place.said
    assembly.trim(second, stop=17 * RATE)
    place.key(K.Key_Period, alt)
    assert row(place)[1][3] == 0.01
    place.key(K.Key_Comma, alt)
    assert row(place)[1][3] == 0.0

    place.key(K.Key_End, alt)
    assert (assembly.lane.id, assembly.clip_ids) == (below.id, frozenset())
    place.key(K.Key_End, alt)
    assert assembly.lane.id == below.id  # there is none below
    place.key(K.Key_PageDown, shift)
    assert place.said == "Atmosphere: no clip yet."
    place.key(K.Key_Q, alt)
    assert [la.muted for la in assembly.programme.lanes] == [False, True]
    assert session.document.history.undo_label == "Mute"
    place.key(K.Key_Q, alt)
    assert session.document.history.undo_label == "Unmute"
    place.key(K.Key_S, alt)
    place.key(K.Key_L, alt)
    assert (assembly.lane.muted, assembly.lane.soloed, assembly.lane.locked) == (False, True, True)
    place.key(K.Key_K, alt)
    place.until(lambda: isinstance(QApplication.activePopupWidget(), QMenu))
    menu = QApplication.activePopupWidget()
    next(a for a in menu.actions() if a.text() == "Move the lane up").trigger()
    menu.close()
    assert [la.id for la in assembly.programme.lanes] == [below.id, lane.id]

    # pressed again, the clip of the next lane at the playhead
    place.key(K.Key_L, alt)
    assembly.select([second])
    place.key(K.Key_Up, M.ControlModifier)
    session.seek(13 * RATE)
    assembly.choose_lane(lane.id)
    assembly.select([first])
    place.key(K.Key_D, M.ControlModifier | shift)
    copied = next(c.id for la in assembly.programme.lanes for c in la.clips if c.id not in (first, second))
    assert assembly.programme.lane_of(copied).id == lane.id
    seen = []
    for _ in range(3):
        place.key(K.Key_C)
        seen.append(next(iter(assembly.clip_ids)))
    assert seen == [second, copied, second]
    session.seek(assembly.programme.frames)
    place.key(K.Key_C)
    assert place.said == "No clip lies at the playhead."


def test_a_clip_goes_to_the_bench_by_key_at_the_playhead_and_f3_comes_back(place: Person) -> None:
    window, session = place.window, place.window.session
    second = clips(place)[1]
    session.assembly.select([second.id])
    session.seek(14 * RATE)
    place.key(K.Key_B, M.ControlModifier)
    assert window.here is window.bench
    assert session.recording.id == second.recording_id
    assert session.transport.position == 2 * RATE
    place.key(K.Key_F3)
    assert session.transport.position == 14 * RATE
    session.seek(0)  # outside the clip: its beginning
    place.key(K.Key_B, M.ControlModifier)
    assert session.transport.position == 0
    assert session.recording.id == second.recording_id


def test_values_of_several_clips_are_not_passed_off_as_one(place: Person) -> None:
    session, sheet = place.window.session, place.window.assembly.sheet
    first, second = clips(place)
    session.assembly.select([second.id])
    session.assembly.set_gain(-4.5)
    session.assembly.set_fade("in", RATE // 10, "power")
    assert sheet.gain.text() == "\u22124.5 dB"
    session.assembly.select([first.id, second.id])
    assert (sheet.gain.text(), sheet.fade_in.text(), sheet.law_in.currentText()) == ("several", "several", "")
    assert sheet.fade_out.text() == "10 ms"
    assert (sheet.title.text(), sheet.line.text()) == ("2 clips", "talk, bert")
    assert (sheet.start.text(), sheet.inner.text()) == ("several", "0.000 s")
    before = clips(place)

    # looking is no change; a shape leaves each its length, a length each its shape
    sheet.gain.setFocus()
    place.bot.keyClick(sheet.gain, K.Key_Tab)
    assert clips(place) == before
    assert sheet.gain.text() == "several"
    choose(sheet.law_in, "equal gain")
    assert [(c.fade_in.frames, c.fade_in.law) for c in clips(place)] == [(480, "gain"), (4800, "gain")]
    session.document.undo()
    sheet.fade_in.setFocus()
    sheet.fade_in.selectAll()
    place.bot.keyClicks(sheet.fade_in, "20")
    place.bot.keyClick(sheet.fade_in, K.Key_Tab)
    assert [(c.fade_in.frames, c.fade_in.law) for c in clips(place)] == [(960, "matched"), (960, "power")]
    assert sheet.fade_in.text() == "20 ms"

    # the value of the first is as good as any other
    sheet.gain.setFocus()
    sheet.gain.selectAll()
    place.bot.keyClicks(sheet.gain, "0")
    place.bot.keyClick(sheet.gain, K.Key_Tab)
    assert [c.gain_db for c in clips(place)] == [0.0, 0.0]
    assert sheet.gain.text() == "0.0 dB"
    session.document.undo()
    assert [c.gain_db for c in clips(place)] == [0.0, -4.5]
    assert sheet.gain.text() == "several"
    place.bot.keyClick(sheet.gain, K.Key_Up)
    assert [c.gain_db for c in clips(place)] == [0.5, 0.5]


def test_the_name_of_a_clip_is_seen_where_the_clip_begins_to_be(place: Person) -> None:
    assembly = place.window.assembly
    axis, lanes = assembly.axis, assembly.lanes

    def name_at(seconds: float) -> QImage:
        place.settle()
        x = round(GUTTER + axis.x_at(seconds * RATE))
        top = lanes.geometry_of.body(0, lanes.width()).top()
        return lanes.grab(QRect(x + 2, round(top) + 2, 60, NAME_PX - 2)).toImage()

    axis.show_span(0, 6 * RATE, 0.0)
    whole = name_at(0.0)
    axis.show_span(2 * RATE, 8 * RATE, 0.0)
    assert name_at(2.0) == whole


def test_an_edge_snaps_to_the_nearest_zero_crossing_only_where_one_is_seen(
    person: Person, wav: Callable[..., Path]
) -> None:
    sine = np.sin(2 * np.pi * 100.0 * (np.arange(2 * RATE) + 0.5) / RATE).astype(np.float32)  # crosses every 240 frames
    person.open(wav(0.5 * sine[None], "sine.wav"))
    person.key(K.Key_F3)
    person.window.assembly.add_all()
    person.settle()
    assembly = person.window.session.assembly
    assembly.move(RATE)  # the clip lies a second later: places are those of the programme
    assert assembly.zero_crossing(RATE + 1000, 100) == RATE + 960
    assert assembly.zero_crossing(RATE + 1100, 150) == RATE + 1200
    assert assembly.zero_crossing(RATE + 1080, 30) == RATE + 1080  # none so near
    assert assembly.zero_crossing(RATE + 1000, RATE) == RATE + 1000  # seen from too far
    assert assembly.zero_crossing(100, 100) == 100  # no clip there


def test_the_keys_that_mean_the_same_everywhere_work_here_too(place: Person, monkeypatch: pytest.MonkeyPatch) -> None:
    assert set(place.window.actions_.actions) >= EVERYWHERE
    place.settle()
    ways: list[int] = []
    monkeypatch.setattr(place.window.session, "shuttle", lambda direction, *, slow: ways.append(direction + 10 * slow))
    for key in (Qt.Key.Key_L, Qt.Key.Key_J):
        place.key(key)
    assert ways == [1, -1]
