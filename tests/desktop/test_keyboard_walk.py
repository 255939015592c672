# SPDX-License-Identifier: GPL-3.0-or-later
"""The whole job with the keyboard alone: from a noisy recording to a verified file, a saved project, and back."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QFileDialog, QMenu, QPushButton
from tests.conftest import voice_in_noise
from tests.desktop.conftest import Person

from pulizia.media.open import open_media
from pulizia.session.heard import Listening

RATE = 48_000
K = Qt.Key
CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


@pytest.fixture
def answers(monkeypatch: pytest.MonkeyPatch) -> dict[str, list[str]]:
    """What the file dialogs answer, one after the other."""
    made: dict[str, list[str]] = {"open": [], "save": [], "folder": []}
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_a, **_k: ([made["open"].pop(0)], ""))
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (made["save"].pop(0), ""))
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_a, **_k: made["folder"].pop(0))
    return made


@pytest.mark.slow
def test_the_whole_job_by_keys(
    person: Person, wav: Callable[..., Path], tmp_path: Path, answers: dict[str, list[str]]
) -> None:
    window, session = person.window, person.window.session
    clicked = voice_in_noise(8.0)
    for at in (150_000, 220_000, 300_000):
        clicked[0, at : at + 4] += np.array([0.5, -0.6, 0.4, -0.2], np.float32)
    source = wav(clicked, "take.wav")
    before = source.read_bytes()
    answers["open"].append(str(source))
    person.key(K.Key_O, CTRL)
    person.until(lambda: session.chain is not None)
    person.settle()

    # mark the noise before the first word, take it, hear both
    person.key(K.Key_Home)
    for _ in range(2):
        person.key(K.Key_Right)
    person.key(K.Key_BracketLeft)
    for _ in range(7):
        person.key(K.Key_Right)
    person.key(K.Key_BracketRight)
    span = session.selection.span
    assert span.start / RATE == pytest.approx(0.2, abs=0.02)
    assert span.stop / RATE == pytest.approx(0.9, abs=0.02)
    person.key(K.Key_N)
    assert [s.tool_id for s in person.recording.score] == ["noise"]
    person.key(K.Key_Space)
    person.until(lambda: session.transport.is_playing)
    person.key(K.Key_B)
    assert session.listening is Listening.BEFORE
    person.key(K.Key_B)
    person.key(K.Key_3)
    assert session.listening is Listening.REMOVED
    person.key(K.Key_2)
    person.key(K.Key_Space)
    person.until(lambda: not session.transport.is_playing)

    # add a step from the menu of tools with keys; go through what it found; leave one
    person.key(K.Key_A)
    person.until(lambda: isinstance(QApplication.activePopupWidget(), QMenu))
    menu = QApplication.activePopupWidget()
    for action in menu.actions():
        if action.data() == "clicks":
            menu.setActiveAction(action)
    person.bot.keyClick(menu, K.Key_Return)
    person.until(lambda: "clicks" in [s.tool_id for s in person.recording.score])
    person.settle()
    person.until(lambda: session.surveys.of(session.chain.stages[session.step.id]) is not None)
    person.key(K.Key_N, SHIFT)
    at = session.transport.position
    person.key(K.Key_X)
    assert 0 <= session.step.settings.left_s[0][0] * RATE - at < RATE  # one goes there with a little lead
    person.key(K.Key_Z, CTRL)
    assert session.step.settings.left_s == ()

    # order, on and off, give back a word, undo and redo
    person.key(K.Key_Down, SHIFT)
    assert [s.tool_id for s in person.recording.score] == ["noise", "clicks"]
    person.key(K.Key_Z, CTRL)
    person.key(K.Key_E)
    assert not session.step.enabled
    person.key(K.Key_E)
    person.key(K.Key_G)
    assert any(s.holes for s in person.recording.score)
    person.key(K.Key_Z, CTRL)
    person.key(K.Key_Z, CTRL | SHIFT)
    assert any(s.holes for s in person.recording.score)
    person.key(K.Key_Z, CTRL)

    # look around
    person.key(K.Key_Plus)
    zoomed = window.bench.axis.frames_per_pixel
    person.key(K.Key_0)
    assert window.bench.axis.frames_per_pixel > zoomed
    person.key(K.Key_M)
    assert len(person.recording.markers) == 1
    person.key(K.Key_V)
    assert window.bench.shows_levels
    person.key(K.Key_V)
    person.key(K.Key_I, CTRL)
    person.settle()

    # deliver, save, begin anew, open again
    person.key(K.Key_F4)
    person.until(lambda: window.delivery.plan is not None)
    answers["save"].append(str(tmp_path / "out.wav"))
    person.key(K.Key_D, CTRL)
    person.until(lambda: window.delivery.written.delivered is not None, 60)
    assert window.delivery.written.delivered.passes
    assert open_media(tmp_path / "out.wav").source.frames == person.recording.frames
    answers["save"].append(str(tmp_path / "job.pulizia"))
    person.key(K.Key_S, CTRL)
    score = person.recording.score
    sound = session.chain.after.read(0, 4 * RATE)
    person.key(K.Key_N, CTRL)
    assert person.recording is None
    answers["open"].append(str(tmp_path / "job.pulizia"))
    person.key(K.Key_O, CTRL)
    person.until(lambda: session.chain is not None)
    assert person.recording.score == score
    assert np.array_equal(session.chain.after.read(0, 4 * RATE), sound)
    assert source.read_bytes() == before


def test_recipes_printing_and_the_manual_by_keys(bench: Person, tmp_path: Path, answers: dict[str, list[str]]) -> None:
    window, session = bench.window, bench.window.session
    bench.key(K.Key_R, CTRL)
    dialog = window.dialogs.recipes
    bench.until(dialog.isVisible)
    dialog.list.setFocus()
    bench.bot.keyClick(dialog.list, K.Key_Home)
    bench.bot.keyClick(dialog.list, K.Key_Down)
    assert dialog.name == "hard-s"
    dialog.apply_button.setFocus()
    bench.bot.keyClick(dialog.apply_button, K.Key_Return)
    bench.until(lambda: [s.tool_id for s in bench.recording.score] == ["sibilance"])
    bench.settle()
    bench.key(K.Key_A, CTRL)
    bench.key(K.Key_P, CTRL)
    dialog = window.dialogs.printing
    bench.until(dialog.isVisible)
    answers["folder"].append(str(tmp_path))
    chosen = next(b for b in dialog.findChildren(QPushButton) if b.text().startswith("Render to"))
    chosen.setFocus()
    bench.bot.keyClick(chosen, K.Key_Return)
    bench.until(lambda: list(tmp_path.glob("take-repaired*.wav")))
    bench.settle()
    bench.key(K.Key_F1)
    bench.until(window.dialogs.help.isVisible)
    bench.bot.keyClick(window.dialogs.help, K.Key_Escape)
    bench.key(K.Key_F1, SHIFT)
    bench.until(window.dialogs.keys.isVisible)
    bench.bot.keyClick(window.dialogs.keys, K.Key_Escape)
    bench.key(K.Key_L, CTRL)
    bench.key(K.Key_L, CTRL)
    assert session.pool.unexpected == []


def test_every_command_has_one_key_at_most_and_no_key_two_commands(bench: Person) -> None:
    table = bench.window.actions_.key_table()
    keys = [key for *_, shown in table for key in shown.split(", ") if key]
    places = bench.window.actions_.commands
    for place in ("bench", "assembly"):  # what rests in a place leaves its keys to others
        there = [
            key for _, name, _, shown in table for key in shown.split(", ") if key and places[name].place in ("", place)
        ]
        assert len(there) == len(set(there))
    assert len({(menu, words) for menu, _, words, _ in table}) == len(table)
    assert {"Space", "Ctrl+Z", "Ctrl+A", "Ctrl+O", "Ctrl+S", "Ctrl+Shift+S", "F1", "F2", "F3", "F4"} <= set(keys)


def test_commands_that_make_no_sense_now_are_off(person: Person, voice_file: Path) -> None:
    actions = person.window.actions_
    actions.refresh()
    off = {name for name, action in actions.actions.items() if not action.isEnabled()}
    assert {"play", "noise", "add", "deliver", "undo", "step_remove", "give_back", "inspect"} <= off
    assert {"open", "new", "manual", "keys", "quit"} & off == set()
    person.open(voice_file)
    actions.refresh()
    assert actions.actions["play"].isEnabled()
    assert not actions.actions["noise"].isEnabled()
    person.mark(0.2, 0.9)
    actions.refresh()
    assert actions.actions["noise"].isEnabled()
    for name, action in actions.actions.items():  # what is off does nothing when it is called all the same
        if not action.isEnabled():
            action.trigger()
            assert person.window.session.pool.unexpected == [], name
