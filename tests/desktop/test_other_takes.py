# SPDX-License-Identifier: GPL-3.0-or-later
"""Words are taken from another take: looked for by key, heard in their place, laid there and taken back."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QPushButton
from tests.cli.test_commands import run
from tests.desktop.conftest import Person
from tests.measure.test_same_words import RATE, demo, envelope, retake

from pulizia.project.file import load_project
from pulizia.session.words_service import OtherTakes

K, M = Qt.Key, Qt.KeyboardModifier
START, STOP = round(8.0 * RATE), round(9.2 * RATE)


@pytest.fixture
def place(person: Person, wav: Callable[..., Path]) -> Person:
    """A take on a lane, and another recording in which some of its words are said again, 6 dB louder."""
    take, other = demo(0), demo(1)
    person.open(wav(take[None], "one.wav"))
    again = retake(take[START:STOP], 5)
    person.open(wav(np.concatenate([other[: 5 * RATE], 2.0 * again, other[5 * RATE :]])[None], "two.wav"))
    person.key(K.Key_F3)
    assembly = person.window.session.assembly
    assembly.new_programme("Reel")
    assembly.add_recording(person.window.session.document.project.recordings[0], at=0)
    person.settle()
    return person


def words_button(person: Person, words: str) -> QPushButton:
    dialog = person.window.assembly.other_takes
    return next(b for b in dialog.findChildren(QPushButton) if b.text() == words)


@pytest.mark.slow
def test_words_of_another_take_are_heard_and_laid_into_their_place(place: Person, tmp_path: Path, capsys) -> None:
    session = place.window.session
    before = session.assembly.sound.after.read(START, STOP).mean(axis=0)
    session.assembly.select_span(START, STOP)
    place.key(K.Key_W, M.AltModifier)
    place.settle()
    dialog = place.window.assembly.other_takes
    assert dialog.isVisible()
    best = dialog.found.takes[0]
    assert (best.taken.name, round(best.start_s)) == ("two", 5)
    assert best.gain_db == pytest.approx(-6.0, abs=2.0)
    place.bot.mouseClick(words_button(place, "Hear"), Qt.MouseButton.LeftButton)
    assert session.assembly.instead is not None  # on trial
    assert session.transport.is_playing
    assert len(session.assembly.programme.lanes[0].clips) == 1
    place.bot.mouseClick(words_button(place, "Use"), Qt.MouseButton.LeftButton)
    place.settle()
    assert session.assembly.instead is None
    clips = session.assembly.programme.lanes[0].clips
    assert [c.name for c in clips] == ["one", "two", "one"]
    assert clips[2].start == STOP  # nothing else has moved
    assert clips[2].heard_at(STOP) == STOP
    now = session.assembly.sound.after.read(START, STOP).mean(axis=0)
    assert not np.array_equal(now, before)
    assert np.corrcoef(envelope(now), envelope(before))[0, 1] > 0.93  # under the lip
    assert 20 * np.log10(now.std() / before.std()) == pytest.approx(0.0, abs=1.5)
    around = session.assembly.sound.after.read(0, START - RATE // 10)
    assert np.array_equal(around[0], around[1])
    middle = (START + STOP) // 2
    session.seek(middle)
    session.assembly.split()  # a part of it is heard as before
    place.settle()
    assert np.allclose(
        session.assembly.sound.after.read(START, STOP).mean(axis=0)[1000:-1000], now[1000:-1000], atol=2e-3
    )
    session.document.undo()
    session.document.save(tmp_path / "reel.pulizia")
    kept = load_project(tmp_path / "reel.pulizia").programmes[0].lanes[0].clips[1]
    assert kept.warp == clips[1].warp
    for kind, carried in (("otio", True), ("xml", False)):
        listed, back = tmp_path / f"reel.{kind}", tmp_path / f"back-{kind}.pulizia"
        code, told, _ = run(capsys, "export-list", tmp_path / "reel.pulizia", "-o", listed)
        assert (code, "fitted to another take" in told) == (0, not carried)
        assert run(capsys, "assemble", listed, "--media", tmp_path, "-o", back)[0] == 0
        clip = load_project(back).programmes[0].lanes[0].clips[1]
        assert clip.warp == (kept.warp if carried else ())
    session.document.undo()
    place.settle()
    assert [c.name for c in session.assembly.programme.lanes[0].clips] == ["one"]  # one entry of history
    session.seek(START + RATE // 2)
    session.assembly.split()  # the words lie in other clips now
    for deed in (session.words.hear, session.words.put):
        deed(dialog.found, 0)
        assert "changed meanwhile" in place.said
    assert len(session.assembly.programme.lanes[0].clips) == 2
    session.assembly.remove_lane(session.assembly.programme.lanes[0].id)
    session.words.hear(dialog.found, 0)
    assert "changed meanwhile" in place.said
    assert session.assembly.instead is None


@pytest.mark.slow
def test_what_cannot_be_looked_for_says_what_to_do(place: Person) -> None:
    session = place.window.session
    for span, words in (((0, 0), "Select the words"), ((START, START + RATE // 10), "that last 0.25 to 12 s")):
        session.assembly.select(())
        session.assembly.select_span(*span)
        session.words.look(lambda _found: pytest.fail("nothing can be found"))
        place.settle()
        assert words in place.said
    pause = round(6.95 * RATE), round(7.6 * RATE)
    session.assembly.select_span(*pause)
    session.words.look(lambda _found: pytest.fail("a pause is like every other"))
    place.settle()
    assert "Hardly anything is said" in place.said
    session.assembly.select_span(round(14.3 * RATE), round(15.4 * RATE))  # said nowhere else
    found: list[object] = []
    session.words.look(found.append)
    place.settle()
    assert found == []
    assert "not found in the recordings" in place.said


@pytest.mark.slow
def test_a_whole_clip_that_is_selected_is_what_is_looked_for(place: Person) -> None:
    session = place.window.session
    for at in (START, STOP):
        session.seek(at)
        session.assembly.split()
    words = session.assembly.programme.lanes[0].clips[1]
    assert (words.start, words.stop) == (START, STOP)
    session.assembly.select_span(0, 0)
    session.assembly.select((words.id,))
    found: list[OtherTakes] = []
    session.words.look(found.append)
    place.settle()
    assert round(found[0].takes[0].start_s) == 5
