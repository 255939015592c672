# SPDX-License-Identifier: GPL-3.0-or-later
"""Trimming: what is kept is the programme everywhere, and the recording stays whole."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
import soundfile
from PySide6.QtCore import QPointF, Qt
from tests.cli.test_commands import run
from tests.conftest import voice_in_noise
from tests.desktop.conftest import *  # noqa: F403 - the real window and its person
from tests.desktop.conftest import Person
from tests.films import write_film

from pulizia.audio.edges import EdgedSource
from pulizia.audio.markers import Marker
from pulizia.audio.source import ArraySource
from pulizia.audio.spans import Span
from pulizia.errors import ProjectError
from pulizia.measure.loudness import measure
from pulizia.media.open import open_media
from pulizia.project.file import FORMAT, load_project, parse_project, project_text
from pulizia.session.document import Document

RATE = 48_000
FADE = RATE // 100
SHIFT = Qt.KeyboardModifier.ShiftModifier


@pytest.fixture
def document(voice_file: Path) -> Document:
    made = Document()
    made.add_media(open_media(voice_file))
    return made


def test_a_trim_is_an_edit_like_any_other(document: Document, tmp_path: Path) -> None:
    (recording,) = document.project.recordings
    document.add_step(recording.id, "level", {"way": "gain", "gain_db": -6.0})
    whole = document.programme(recording.id)
    document.trim(recording.id, Span(2 * RATE, 9 * RATE))
    assert document.project.recordings[0].kept == Span(2 * RATE, 6 * RATE)  # not beyond the end
    kept = document.programme(recording.id)
    assert np.array_equal(kept.read(FADE, kept.frames), whole.read(2 * RATE + FADE, 6 * RATE))
    assert np.abs(kept.read(0, 4)).max() < 0.001 * np.abs(whole.read(2 * RATE, 2 * RATE + FADE)).max()
    assert document.chain(recording.id).after.frames == 6 * RATE
    with pytest.raises(ProjectError, match=r"at least 0\.1 s"):
        document.trim(recording.id, Span(5, 50))
    document.save(tmp_path / "kept.pulizia")
    assert load_project(tmp_path / "kept.pulizia").recordings[0].kept == Span(2 * RATE, 6 * RATE)
    document.trim(recording.id, Span(0, 6 * RATE))
    assert document.project.recordings[0].trim is None
    document.undo()
    assert document.project.recordings[0].kept == Span(2 * RATE, 6 * RATE)
    assert document.history.redo_label == "Remove trim"


def test_projects_from_before_trimming_are_whole_and_wrong_trims_are_refused(
    document: Document, tmp_path: Path
) -> None:
    content = json.loads(project_text(document.project, tmp_path))
    assert content["format"] == FORMAT
    older = content | {"version": 3, "recordings": [{k: v for k, v in content["recordings"][0].items() if k != "trim"}]}
    assert parse_project(json.dumps(older), "older", tmp_path).recordings[0].trim is None
    for wrong in ([5, 1], [0, 3], ["a", "b"], [1], 7, [-9, -1]):
        damaged = content | {"recordings": [content["recordings"][0] | {"trim": wrong}]}
        with pytest.raises(ProjectError):
            parse_project(json.dumps(damaged), "damaged", tmp_path)


def test_edges_are_silent_around_and_know_their_stretches() -> None:
    inner = ArraySource(voice_in_noise(1.0), RATE)
    placed = EdgedSource(inner, head=1000, tail=RATE, fade_out=FADE)
    sound = placed.read(0, placed.frames)
    assert np.array_equal(sound[:, 1000 : 1000 + RATE - FADE], inner.read(0, RATE - FADE))
    assert not sound[:, :1000].any()
    assert not sound[:, 1000 + RATE :].any()
    assert np.abs(sound[:, 1000 + RATE - 4 : 1000 + RATE]).max() < 1e-4
    parts = [placed.read(a, min(a + 7777, placed.frames)) for a in range(0, placed.frames, 7777)]
    assert np.array_equal(np.concatenate(parts, axis=1), sound)
    assert placed.span_key(0, 500) != placed.span_key(900, 1400)


def test_the_command_line_delivers_and_renders_what_was_kept(capsys, document: Document, tmp_path: Path) -> None:
    (recording,) = document.project.recordings
    document.set_markers(recording.id, [Marker(RATE, "before"), Marker(3 * RATE, "inside")], "Set")
    document.trim(recording.id, Span(2 * RATE, 5 * RATE))
    document.save(tmp_path / "p.pulizia")
    out = tmp_path / "out.wav"
    code, _, err = run(capsys, "deliver", tmp_path / "p.pulizia", "--target", "ebu-r128", "-o", out)
    assert (code, err) == (0, "")
    written = open_media(out)
    assert written.source.frames == 3 * RATE
    assert [(m.frame, m.name) for m in written.markers] == [(RATE, "inside")]
    assert measure(written.source).integrated_lufs == pytest.approx(-23.0, abs=0.1)
    code, _, _ = run(capsys, "render", tmp_path / "p.pulizia", "-o", tmp_path / "worked.wav", "--bits", "float")
    assert code == 0
    rendered, _ = soundfile.read(tmp_path / "worked.wav", dtype="float32", always_2d=True)
    kept = open_media(recording.path).source.read(2 * RATE + FADE, 5 * RATE - FADE)
    assert np.array_equal(rendered.T[:, FADE:-FADE], kept)


def test_keep_trims_on_the_command_line(capsys, voice_file: Path, tmp_path: Path, untouched) -> None:
    untouched(voice_file)
    level = tmp_path / "level.json"
    step = {"tool": "level", "settings": {"way": "gain", "gain_db": -6.0}, "spans_s": [[0.0, 3.0]]}
    level.write_text(json.dumps({"format": "pulizia-recipe", "version": 1, "name": "n", "steps": [step]}))
    out = tmp_path / "kept.wav"
    code, _, err = run(
        capsys, "repair", voice_file, "--recipe", level, "--keep", 2.0, 5.0, "-o", out, "--bits", "float"
    )
    assert (code, err) == (0, "")
    sound, _ = soundfile.read(out, dtype="float32")
    source = open_media(voice_file).source.read(2 * RATE, 5 * RATE)[0]
    assert len(sound) == 3 * RATE
    early, late = slice(FADE, RATE - FADE), slice(RATE, 3 * RATE - FADE)  # places of the recipe are those of the input
    assert np.allclose(sound[early], source[early] * 10 ** (-6 / 20), atol=1e-6)
    assert np.array_equal(sound[late], source[late])
    code, out_text, _ = run(
        capsys, "deliver", voice_file, "--target", "online-16", "--keep", 1.5, 4.5, "-o", tmp_path / "d.wav", "--json"
    )
    assert code == 0
    assert json.loads(out_text)["passes"]
    assert soundfile.info(tmp_path / "d.wav").frames == 3 * RATE
    for wrong in ((5.0, 2.0), (7.0, 9.0), (-1.0, 2.0), (1.0, 1.01)):
        code, _, err = run(
            capsys, "deliver", voice_file, "--target", "online-16", "--keep", *wrong, "-o", tmp_path / "n.wav"
        )
        assert code == 1
        assert err.count("\n") == 1
        assert not (tmp_path / "n.wav").exists()


def test_a_trimmed_sound_goes_back_into_its_picture_at_its_place(capsys, tmp_path: Path) -> None:
    film = tmp_path / "film.mkv"
    write_film(film, voice_in_noise(3.0), RATE, range(0, 3000, 40))
    document = Document()
    document.add_media(open_media(film))
    (recording,) = document.project.recordings
    document.trim(recording.id, Span(RATE, 2 * RATE))
    document.save(tmp_path / "film.pulizia")
    code, _, err = run(
        capsys, "deliver", tmp_path / "film.pulizia", "--target", "online-16", "-o", tmp_path / "new.mkv"
    )
    assert (code, err) == (0, "")
    sound = open_media(tmp_path / "new.mkv").source
    assert sound.frames == pytest.approx(3 * RATE, abs=2048)
    level = np.abs(sound.read(0, sound.frames)).max(axis=0)
    assert level[: RATE - 4096].max() < 1e-3
    assert level[2 * RATE + 4096 :].max() < 1e-3
    assert level[RATE : 2 * RATE].max() > 0.05


def test_in_the_window_what_was_kept_is_shown_heard_measured_printed_and_delivered(
    bench: Person, tmp_path: Path, untouched
) -> None:
    untouched(bench.recording.path)
    window, session = bench.window, bench.window.session
    outside = QPointF(bench.at_time(window.bench.waveform, 0.4))
    clear = window.bench.waveform.grab().toImage().pixelColor(outside.toPoint())
    session.markers._set([Marker(3 * RATE, "half")], "Set")
    bench.mark(1.0, 5.0)
    bench.key(Qt.Key.Key_D)
    bench.settle()
    kept = bench.recording.kept
    assert (kept.start / RATE, kept.stop / RATE) == (pytest.approx(1.0, abs=0.02), pytest.approx(5.0, abs=0.02))
    assert session.selection is None
    bench.until(lambda: session.measures("after") is not None)
    assert session.measures("after").duration_s == pytest.approx(kept.frames / RATE, abs=0.1)
    assert "Trimmed to" in window.bench.list._about.text()
    bench.until(lambda: window.bench.waveform.grab().toImage().pixelColor(outside.toPoint()) != clear)
    bench.key(Qt.Key.Key_Home)
    assert session.transport.position == kept.start
    session.seek(RATE // 2)
    assert session.loudness_now() == (None, None)
    session.seek(3 * RATE)
    assert session.loudness_now()[0] in session.measures("after").momentary[180:220].tolist()  # two seconds into it
    session.prints.write("whole", tmp_path, handles_s=1.0)
    session.prints.write("parts", tmp_path, handles_s=0.5)
    bench.settle()
    lengths = {p.name: soundfile.info(p).frames for p in tmp_path.glob("take-*.wav")}
    half = 3 * RATE - kept.start + RATE // 2
    assert lengths["take-repaired.wav"] == kept.frames
    assert lengths["take-01-repaired.wav"] == half + RATE // 2  # handles reach into what was trimmed away
    window.go_to(2)
    window.delivery.preview_tick.click()
    bench.until(lambda: session.preview is not None)
    assert session.preview.source.frames == bench.recording.frames
    window.delivery.deliver_to(tmp_path / "out.wav")
    bench.until(lambda: not session.queue.is_working, 60)
    assert soundfile.info(tmp_path / "out.wav").frames == kept.frames
    window.delivery._go_to(1.0)
    assert session.transport.position == kept.start + RATE
    window.go_to(0)
    bench.key(Qt.Key.Key_D, SHIFT)
    assert bench.recording.trim is None
    bench.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert bench.recording.kept == kept
    bench.settle()
