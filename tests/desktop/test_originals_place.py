# SPDX-License-Identifier: GPL-3.0-or-later
"""The raw recording behind a worked one: found, opened at its place, put back, in the real window."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import Qt
from tests.desktop.conftest import Person

RATE = 48_000
CTRL = Qt.KeyboardModifier.ControlModifier


def test_the_original_of_a_worked_recording_is_found_and_opened_at_its_place(
    person: Person, wav: Callable[..., Path], tmp_path: Path
) -> None:
    rng = np.random.default_rng(9)
    steps = np.interp(np.arange(30 * RATE), np.arange(0, 30 * RATE, 6000), rng.uniform(0, 0.06, 240))
    raw = np.convolve(rng.standard_normal(30 * RATE), np.hanning(30) / 4, "same") * steps
    folder = tmp_path / "raw"
    folder.mkdir()
    soundfile.write(folder / "raw.wav", raw, RATE, subtype="PCM_24")
    person.open(wav((raw[None, 10 * RATE : 20 * RATE] * 0.5).astype(np.float32), "worked.wav"))
    person.window.dialogs.find_original()
    dialog = person.window.dialogs.finding
    dialog.look([folder])
    person.until(lambda: dialog.found)
    (path, same) = dialog.found[0]
    assert same.gain_db == pytest.approx(-6.0, abs=0.3)
    dialog.bring(path, same)
    person.until(lambda: person.recording.name == "raw" and person.window.session.selection is not None)
    assert person.window.session.selection.span.start == pytest.approx(10 * RATE, abs=2)


def test_a_found_passage_is_put_back_as_a_step_and_saved_with_the_project(
    person: Person, wav: Callable[..., Path], tmp_path: Path
) -> None:
    rng = np.random.default_rng(9)
    steps = np.interp(np.arange(30 * RATE), np.arange(0, 30 * RATE, 6000), rng.uniform(0, 0.06, 240))
    raw = (np.convolve(rng.standard_normal(30 * RATE), np.hanning(30) / 4, "same") * steps).astype(np.float32)
    folder = tmp_path / "raw"
    folder.mkdir()
    soundfile.write(folder / "raw.wav", raw, RATE, subtype="FLOAT")
    spoilt = np.round(raw[None, 10 * RATE : 20 * RATE] * -0.5 * 40) / 40
    person.open(wav(spoilt.astype(np.float32), "worked.wav"))
    session = person.window.session
    session.select(2 * RATE, 6 * RATE)
    person.window.dialogs.find_original()
    dialog = person.window.dialogs.finding
    dialog.look([folder])
    person.until(lambda: dialog.found)
    dialog.put_back(*dialog.found[0])
    person.until(lambda: person.recording.score)
    person.settle()
    assert person.recording.name == "worked"
    assert person.recording.score[0].settings.inverted
    made = session.chain.after.read(3 * RATE, 5 * RATE)[0]
    gain = 10 ** (person.recording.score[0].settings.gain_db / 20)
    assert np.abs(made + gain * raw[13 * RATE : 15 * RATE]).max() < 1e-6
    assert np.array_equal(session.chain.after.read(7 * RATE, 8 * RATE), session.chain.before.read(7 * RATE, 8 * RATE))
    session.document.save(tmp_path / "p.pulizia")
    from pulizia.cli.main import main

    assert (
        main(
            [
                "deliver",
                str(tmp_path / "p.pulizia"),
                "--recording",
                "worked",
                "--target",
                "online-16",
                "-o",
                str(tmp_path / "out.wav"),
            ]
        )
        == 0
    )
    person.window.files.new_project()
    person.window.files.open_paths([tmp_path / "p.pulizia"])
    person.until(lambda: len(session.document.media) == 2)
    assert np.array_equal(
        session.document.chain(session.document.project.recordings[0].id).after.read(3 * RATE, 5 * RATE)[0], made
    )
