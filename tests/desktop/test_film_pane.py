# SPDX-License-Identifier: GPL-3.0-or-later
"""The video beside the lanes: the picture of the playhead, moved by quarters of a frame, put away and in its own window."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QFileDialog
from tests.conftest import voice_in_noise
from tests.desktop.conftest import Person
from tests.films import write_film

from pulizia.cli.main import main
from pulizia.media.film import Film
from pulizia.media.open import open_media
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.file import load_project, save_project
from pulizia.project.model import Project, Recording

RATE = 48_000
K = Qt.Key


def seen(person: Person) -> int:
    """The shade in the middle of the pane, in pictures."""
    picture = person.window.assembly.film.picture
    colour = QColor(picture.grab().toImage().pixel(picture.width() // 2, picture.height() // 2))
    return round((colour.red() + colour.green() + colour.blue()) / 30)


def test_the_picture_under_the_playhead(
    person: Person, wav: Callable[..., Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    film = tmp_path / "reel.mov"
    write_film(film, np.zeros((1, RATE), np.float32), RATE, [40 * n for n in range(24)])
    person.open(wav(voice_in_noise(3.0), "anna.wav"))
    person.key(K.Key_F3)
    assembly, session = person.window.assembly, person.window.session
    assembly.add_all()
    person.settle()
    person.key(K.Key_F6)
    assert assembly.film.isVisible()
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(film), ""))
    assembly.film.ask()
    person.settle()
    for number in (5, 20, 2):
        session.seek(round(0.04 * number * RATE) + 100)
        person.until(lambda n=number: seen(person) == n)  # type: ignore[misc]
    person.key(K.Key_Period)  # the next picture
    assert session.transport.position == 3 * RATE // 25
    person.until(lambda: seen(person) == 3)
    person.key(K.Key_Comma)
    person.key(K.Key_Comma)
    assert session.transport.position == RATE // 25
    person.until(lambda: seen(person) == 1)
    session.film.shift(6)  # one frame and a half early
    person.until(lambda: seen(person) == 2)
    assert "offset +1.50 f" in assembly.film.words.text()
    save_project(session.document.project, tmp_path / "job.pulizia")
    (kept,) = load_project(tmp_path / "job.pulizia").programmes
    assert (kept.film, kept.film_quarters) == (str(film), 6)
    session.document.undo()
    person.until(lambda: seen(person) == 1)
    person.key(K.Key_F6, Qt.KeyboardModifier.ShiftModifier)
    assert assembly.film.window() is not person.window
    person.key(K.Key_F6, Qt.KeyboardModifier.ShiftModifier)
    assert assembly.film.window() is person.window
    film.unlink()
    session.film.remove()
    session.film.choose(film)
    person.until(lambda: "cannot be opened as a video" in person.said)
    person.key(K.Key_F6)
    assert not assembly.film.isVisible()


def test_a_recording_of_a_video_shows_its_own_picture(person: Person, tmp_path: Path) -> None:
    film = tmp_path / "camera.mov"
    write_film(
        film,
        voice_in_noise(1.0)[:, :RATE] if voice_in_noise(1.0).ndim == 2 else voice_in_noise(1.0)[None],
        RATE,
        [100 * n for n in range(10)],
    )
    person.open(film)
    person.key(K.Key_F3)
    person.window.assembly.add_all()
    person.settle()
    person.key(K.Key_F6)
    session = person.window.session
    session.seek(round(0.75 * RATE))
    person.until(lambda: seen(person) == 7)
    session.assembly.select_all()
    session.assembly.nudge(RATE // 10)  # the clip a tenth later: the picture follows its sound
    person.until(lambda: seen(person) == 6)


def test_a_programme_is_delivered_into_its_video(
    wav: Callable[..., Path], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    film = tmp_path / "reel.mov"
    write_film(film, np.zeros((1, 4 * RATE), np.float32), RATE, [40 * n for n in range(100)])
    loud = voice_in_noise(2.0)
    wav(loud, "anna.wav")
    job, out = tmp_path / "job.pulizia", tmp_path / "out.mov"
    media = open_media(tmp_path / "anna.wav")
    recording = Recording.of_media(media)
    clip = Clip(recording_id=recording.id, start=0, inner=0, frames=recording.frames)
    programme = Programme(
        name="Reel", rate=RATE, channels=1, lanes=(Lane(name="Voice", clips=(clip,)),), film=str(film), film_quarters=50
    )  # the video begins half a second before the programme
    save_project(Project(recordings=(recording,), programmes=(programme,)), job)
    words = ["deliver", str(job), "--programme", "Reel", "--target", "ebu-r128", "--layout", "mono"]
    assert main([*words, "-o", str(out)]) == 0
    made = open_media(out).source
    sound = made.read(0, made.frames)
    level = [
        float(np.sqrt(np.mean(sound[:, round(a * RATE) : round(b * RATE)] ** 2))) for a, b in ((0.05, 0.45), (0.6, 2.4))
    ]
    assert level[0] < 1e-4 < level[1]
    picture = Film(out).at(0.5)
    assert picture is not None
    assert round(float(picture.pixels.mean()) / 10) == 12
    assert main([*words, "-o", str(film), "--overwrite"]) != 0  # never onto the video itself
    film.unlink()
    assert main([*words, "-o", str(tmp_path / "again.mov")]) != 0
    assert "has no video, or it is gone" in capsys.readouterr().err
