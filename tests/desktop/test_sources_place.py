# SPDX-License-Identifier: GPL-3.0-or-later
"""Files and projects on the bench: opened, dropped, missing, relinked, and faults as sentences."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QFileDialog, QMenu
from tests.conftest import voice_in_noise
from tests.desktop.conftest import Person

from pulizia.audio.samples import Samples
from pulizia.desktop.bars import ASSEMBLY

RATE = 48_000


def test_a_project_is_saved_closed_and_opened_again(
    person: Person, voice_file: Path, tmp_path: Path, untouched
) -> None:
    untouched(voice_file)
    person.open(voice_file)
    person.mark(0.1, 0.9)
    person.key(Qt.Key.Key_N)
    score = person.recording.score
    assert person.window.files._save_to(tmp_path / "job")
    person.window.files.new_project()
    assert person.recording is None
    assert person.window.bench._stack.currentIndex() == 1
    person.window.files.open_paths([tmp_path / "job.pulizia"])
    person.until(lambda: person.window.session.chain is not None)
    assert person.recording.score == score
    person.settle()
    assert person.window.session.measures("after") is not None
    assert not person.window.session.document.is_dirty


def test_dropped_files_open_in_their_order_and_bad_ones_are_explained(
    person: Person, wav: Callable[..., Path], tmp_path: Path
) -> None:
    good = [wav(voice_in_noise(2.0, seed=n), f"t{n}.wav") for n in range(3)]
    bad = tmp_path / "bad.wav"
    bad.write_text("no sound")
    mime = QMimeData()
    mime.setUrls([QUrl.fromLocalFile(str(p)) for p in [good[0], bad, *good[1:]]])
    event = QDropEvent(
        QPointF(300, 300), Qt.DropAction.CopyAction, mime, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    person.window.dropEvent(event)
    person.until(lambda: len(person.window.session.document.project.recordings) == 3)
    person.settle()
    assert [r.name for r in person.window.session.document.project.recordings] == ["t0", "t1", "t2"]
    assert person.recording.name == "t0"
    assert "bad.wav" in person.said


def test_faults_are_sentences_in_the_window(bench: Person, tmp_path: Path, voice_file: Path) -> None:
    bench.key(Qt.Key.Key_N)  # nothing marked: the key does nothing
    bench.window.session.repairs.take_as_noise()
    assert "only noise first" in bench.said
    bench.window.session.select(1000, 2000)
    bench.window.session.repairs.take_as_noise()
    assert "21 ms long" in bench.said
    (tmp_path / "r.json").write_text("{")
    bench.window.files.open_paths([tmp_path / "r.json"])
    assert "not readable as JSON" in bench.said
    (tmp_path / "p.pulizia").write_text('{"format": "pulizia-project", "version": 9}')
    bench.window.files.open_paths([tmp_path / "p.pulizia"])
    assert "newer Pulizia" in bench.said
    assert bench.recording is not None
    assert not bench.window.files._save_to(tmp_path / "no" / "x.pulizia")
    assert "does not exist" in bench.said
    voice_file.unlink()
    bench.window.session.document.add_step(bench.recording.id, "level", {"way": "gain"})
    bench.window.session.transport.play(0)
    bench.until(lambda: "no longer there" in bench.said)
    assert not bench.window.session.transport.is_playing


def test_a_missing_source_keeps_the_score_and_is_relinked(person: Person, voice_file: Path, tmp_path: Path) -> None:
    person.open(voice_file)
    person.window.session.document.add_step(person.recording.id, "level")
    person.window.files._save_to(tmp_path / "job")
    moved = voice_file.rename(tmp_path / "sub.wav")
    person.window.files.open_paths([tmp_path / "job.pulizia"])
    person.until(lambda: "relink" in person.said)
    assert len(person.recording.score) == 1
    assert person.window.session.chain is None
    person.window.grab()
    person.window.session.files.relink(person.recording.id, moved)
    person.until(lambda: person.window.session.chain is not None)


def test_one_relinked_file_brings_those_that_moved_with_it(
    person: Person, wav: Callable[..., Path], tmp_path: Path
) -> None:
    rng = np.random.default_rng(3)
    session = person.window.session
    day = tmp_path / "day"
    (day / "anna").mkdir(parents=True)
    (day / "bert").mkdir()
    names = ("anna/one", "anna/two", "bert/one", "bert/three")
    for name in names:
        wav(rng.normal(0, 0.05, (1, 48_000)).astype(np.float32), "sound.wav").rename(day / f"{name}.wav")
    person.open(*(day / f"{name}.wav" for name in names))
    session.document.add_step(session.document.project.recordings[1].id, "level")
    person.window.files._save_to(tmp_path / "job")
    day.rename(tmp_path / "archive")
    changed = tmp_path / "archive" / "bert" / "three.wav"
    changed.write_bytes(changed.read_bytes()[:-200] + bytes(200))  # another file of that name
    person.window.files.open_paths([tmp_path / "job.pulizia"])
    person.until(lambda: len(session.document.offline) == 4)
    person.settle()
    first, second, third, fourth = session.document.project.recordings
    past = len(session.document.history.past)
    session.files.relink(first.id, tmp_path / "archive" / "anna" / "one.wav")
    person.until(lambda: "2 more were found there." in person.said)
    assert person.said.startswith(f"one plays {tmp_path / 'archive' / 'anna' / 'one.wav'}.")
    assert set(session.document.offline) == {fourth.id}
    paths = [r.path.relative_to(tmp_path) for r in session.document.project.recordings]
    assert [str(p) for p in paths] == [
        "archive/anna/one.wav",
        "archive/anna/two.wav",
        "archive/bert/one.wav",
        "day/bert/three.wav",
    ]
    assert len(session.document.project.recording(second.id).score) == 1
    assert len(session.document.history.past) == past + 1
    assert third.id in session.document.media


def test_a_recording_is_relinked_in_the_assembly(
    place: Person, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    session, cards = place.window.session, place.window.assembly.cards
    second = session.document.project.recordings[1]
    copy = tmp_path / "elsewhere.wav"
    copy.write_bytes(second.path.read_bytes())
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(copy), ""))
    place.bot.mouseClick(
        cards, Qt.MouseButton.RightButton, pos=cards.mapFromGlobal(cards.corner_of(second.id)) - QPoint(0, 10)
    )
    menu = next(m for m in place.window.findChildren(QMenu) if m.isVisible())
    next(a for a in menu.actions() if a.text() == "Relink to another file…").trigger()
    menu.close()
    place.until(lambda: "plays" in place.said)
    assert session.document.project.recording(second.id).path == copy
    assert place.window.places.currentIndex() == ASSEMBLY


def test_undo_of_a_relink_brings_the_file_back_that_was_there_also_in_another_session(
    person: Person, wav: Callable[..., Path], voice: Samples, tmp_path: Path
) -> None:
    """The name, the length and the steps came back, the sound and its digest were those of the other file."""
    session, document = person.window.session, person.window.session.document
    long, short = wav(voice, "long.wav"), wav(0.5 * voice[:, :RATE], "short.wav")
    person.open(long)
    rid = person.recording.id
    document.add_step(rid, "level", {"way": "gain", "gain_db": -6.0})
    person.settle()
    session.select(2 * RATE, 3 * RATE)
    sound = lambda: session.chain.before.read(0, min(RATE, session.chain.before.frames))  # noqa: E731

    def plays(path: Path, samples: Samples) -> None:
        person.until(lambda: session.chain is not None)
        person.settle()
        assert person.recording.path == path
        assert person.recording.frames == session.chain.before.frames == session.heard_source.frames == samples.shape[1]
        assert document.media[rid].path == path
        assert np.abs(sound() - samples[:, :RATE]).max() < 1e-6

    session.files.relink(rid, short)
    person.until(lambda: person.recording.path == short)
    plays(short, 0.5 * voice[:, :RATE])
    assert session.selection is None
    document.undo()
    plays(long, voice)
    assert f"plays {long}" in person.said
    document.redo()
    plays(short, 0.5 * voice[:, :RATE])
    document.save(tmp_path / "kept.pulizia")
    document.start_new()
    person.window.files.open_paths([tmp_path / "kept.pulizia"])
    plays(short, 0.5 * voice[:, :RATE])
    document.undo()
    plays(long, voice)
    document.redo()
    plays(short, 0.5 * voice[:, :RATE])
    document.save()
    for path in (short, long):
        path.unlink()
    document.start_new()
    person.window.files.open_paths([tmp_path / "kept.pulizia"])
    person.until(lambda: rid in document.offline)
    assert session.chain is None
    document.undo()
    person.until(lambda: "long.wav" in document.offline.get(rid, ""))
    assert session.chain is None
    assert len(person.recording.score) == 1
