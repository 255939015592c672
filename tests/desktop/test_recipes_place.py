# SPDX-License-Identifier: GPL-3.0-or-later
"""Recipes, several recordings at once, and printing, in the real window."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import soundfile
from PySide6.QtCore import QPoint, Qt
from tests.desktop.conftest import Person, choose

from pulizia.media.folders import config_folder

RATE = 48_000
CTRL = Qt.KeyboardModifier.ControlModifier


def test_recipes_are_kept_applied_to_all_taken_in_and_removed(two: Person, tmp_path: Path) -> None:
    window, document = two.window, two.window.session.document
    one, other = document.project.recordings
    window.session.choose_recording(one.id)
    document.add_step(one.id, "noise", {"profile_spans_s": [[0.1, 0.9]], "reduction_db": 9.0})
    two.key(Qt.Key.Key_R, CTRL | Qt.KeyboardModifier.ShiftModifier)
    keeping = window.dialogs.keeping
    keeping.description.setText("Nine off.")
    two.bot.keyClicks(keeping.name, "My noise")
    two.bot.keyClick(keeping.name, Qt.Key.Key_Return)  # Return saves
    assert (config_folder("recipes") / "my-noise.json").exists()
    two.key(Qt.Key.Key_R, CTRL)
    dialog = window.dialogs.recipes
    dialog.choose("my-noise")
    assert "Nine off." in dialog.words.text()
    assert dialog.ticked == (one.id,)
    dialog.tick_all()
    dialog.apply()
    assert dialog.results.rows == [("one", "0", "1", "0"), ("two", "1", "0", "0")]  # added, replaced, kept
    dialog.results.accept()
    (step,) = document.project.recording(other.id).score
    assert step.settings.reduction_db == 9.0
    assert step.settings.profile_spans_s == ()
    (here,) = document.project.recording(one.id).score  # replaced, not doubled
    assert here.settings.profile_spans_s == ()
    two.key(Qt.Key.Key_Z, CTRL)  # one entry of history
    assert not document.project.recording(other.id).score
    assert document.project.recording(one.id).score[0].settings.profile_spans_s == ((0.1, 0.9),)
    for same, count in (("keep", 1), ("add", 2)):
        two.key(Qt.Key.Key_R, CTRL)
        dialog = window.dialogs.recipes
        dialog.choose("my-noise")
        dialog.same.setCurrentIndex(dialog.same.findData(same))
        dialog.apply()
        assert len(document.project.recording(one.id).score) == count
    bad = tmp_path / "bad.json"
    bad.write_text("{}")
    good = tmp_path / "extra.json"
    good.write_text((config_folder("recipes") / "my-noise.json").read_text())
    two.key(Qt.Key.Key_R, CTRL)
    window.dialogs.recipes.take_in([bad, good])
    assert "not a recipe" in two.said
    assert window.dialogs.recipes.name == "extra"
    window.dialogs.recipes._remove()
    assert not (config_folder("recipes") / "extra.json").exists()
    window.dialogs.recipes.reject()


def test_recordings_are_selected_together_with_the_usual_keys(two: Person) -> None:
    window, document = two.window, two.window.session.document
    two.key(Qt.Key.Key_F2)
    one, other = (r.id for r in document.project.recordings)
    cards = window.bench.list.cards
    place = lambda row: QPoint(60, row * 48 + 20)  # noqa: E731
    two.bot.mouseClick(cards, Qt.MouseButton.LeftButton, pos=place(0))
    two.bot.mouseClick(cards, Qt.MouseButton.LeftButton, CTRL, pos=place(1))
    assert cards.picked == {one, other}
    assert window.session.current_id == one
    two.key(Qt.Key.Key_R, CTRL)
    assert set(window.dialogs.recipes.ticked) == {one, other}
    window.dialogs.recipes.reject()
    two.bot.mouseClick(cards, Qt.MouseButton.LeftButton, pos=place(1))
    assert cards.picked == {other}
    two.bot.mouseClick(cards, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ShiftModifier, pos=place(0))
    assert cards.picked == {one, other}
    document.remove_recordings(cards.picked)
    assert not document.project.recordings
    two.key(Qt.Key.Key_Z, CTRL)
    assert [r.id for r in document.project.recordings] == [one, other]


def test_the_selection_and_parts_are_printed_with_handles_and_provenance(two: Person, tmp_path: Path) -> None:
    window, session = two.window, two.window.session
    session.choose_recording(session.document.project.recordings[0].id)
    session.document.add_step(session.recording.id, "level", {"way": "gain", "gain_db": -6.0})
    session.select(2 * RATE, 3 * RATE)
    two.key(Qt.Key.Key_P, CTRL)
    window.dialogs.printing.handles.setValue(0.5)
    window.dialogs.printing.print_into(tmp_path)
    two.until(lambda: "rendered to" in two.said)
    path = tmp_path / "one-repaired.wav"
    made, _ = soundfile.read(path, dtype="float32")
    assert len(made) == 2 * RATE
    expected = session.chain.after.read(round(1.5 * RATE), round(3.5 * RATE))[0]
    assert np.abs(made - expected).max() < 2e-7
    assert b"Level" in path.read_bytes()[:4000]
    session.markers.add()
    session.seek(RATE)
    session.markers.add()
    two.key(Qt.Key.Key_P, CTRL)
    choose(window.dialogs.printing.what, "each section")
    assert "2 files" in window.dialogs.printing.words.text()
    window.dialogs.printing.pattern.setText("{wrong}")
    assert "known are" in window.dialogs.printing.words.text()
    window.dialogs.printing.reject()
