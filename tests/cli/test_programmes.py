# SPDX-License-Identifier: GPL-3.0-or-later
"""A project's programme on the command line: rendered, in stems and clips, measured and delivered."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile as sf
from tests.conftest import voice_in_noise

from pulizia.audio.markers import Marker
from pulizia.cli.main import main
from pulizia.media.open import broadcast_of, open_media
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.file import load_project, save_project
from pulizia.project.model import Project, Recording
from pulizia.score.steps import make_step

RATE = 48_000


def run(capsys: pytest.CaptureFixture[str], *arguments: object) -> tuple[int, str, str]:
    code = main([str(a) for a in arguments])
    out, err = capsys.readouterr()
    return code, out, err


@pytest.fixture
def project(wav: Callable[..., Path], tmp_path: Path) -> Path:
    """Two speakers, one of them at another rate and repaired, in a programme of six seconds."""
    first = Recording.of_media(open_media(wav(voice_in_noise(5.0), "anna.wav")))
    second = Recording.of_media(open_media(wav(voice_in_noise(4.0), "bert.wav", rate=44_100)))
    second = second.with_step(make_step("level", {"way": "gain", "gain_db": -6.0}))
    talk = Lane(name="Talk").with_clips([
        Clip(recording_id=first.id, start=0, inner=RATE, frames=3 * RATE, name="Question"),
        Clip(recording_id=second.id, start=3 * RATE, inner=RATE // 2, frames=3 * RATE),
    ])  # fmt: skip
    programme = Programme(
        name="Chapter 1", rate=RATE, lanes=(talk,), markers=(Marker(3 * RATE, "Bert"),), start_frame=25 * 3600
    )
    made = tmp_path / "museum.pulizia"
    save_project(Project(recordings=(first, second)).with_programme(programme), made)
    return made


def test_the_only_recording_of_a_project_needs_no_name(capsys, project: Path, tmp_path: Path) -> None:
    code, _, err = run(capsys, "measure", project)
    assert code != 0
    assert "holds several recordings (anna, bert). Choose one with --recording." in err
    alone = tmp_path / "alone.pulizia"
    save_project(Project(recordings=load_project(project).recordings[:1]), alone)
    figures = [json.loads(run(capsys, "measure", path, "--json")[1]) for path in (alone, tmp_path / "anna.wav")]
    assert figures[0]["integrated_lufs"] == figures[1]["integrated_lufs"]
    _, out, _ = run(capsys, "measure", project, "--recording", "bert")
    assert out.startswith("bert: 0:04.4, ")
    code, _, err = run(capsys, "repair", project, "--treat", "-o", tmp_path / "no.wav")
    assert (code, "is a project, not a recording. Choose one of the files that it holds." in err) == (1, True)


def test_a_programme_is_rendered_whole_in_stems_and_as_clips_with_handles(
    capsys, project: Path, tmp_path: Path
) -> None:
    out = tmp_path / "chapter.wav"
    code, told, err = run(capsys, "render", project, "--programme", "Chapter 1", "-o", out, "--bits", "float")
    assert (code, err) == (0, "")
    assert f"written to {out}" in told
    sound, rate = sf.read(out, always_2d=True, dtype="float32")
    assert (rate, sound.shape) == (RATE, (6 * RATE, 2))
    anna, _ = sf.read(tmp_path / "anna.wav", dtype="float32")
    inside = slice(RATE // 100, 3 * RATE - RATE // 100)  # a cut passes over 5 ms
    assert np.allclose(sound[: 3 * RATE, 0][inside], anna[RATE : 4 * RATE][inside] * 0.5**0.5, atol=1e-6)
    assert open_media(out).source.frames == 6 * RATE
    stems = tmp_path / "stems"
    assert run(capsys, "render", project, "--programme", "Chapter 1", "--stems", "-o", stems, "--bits", "float")[0] == 0
    (stem,) = stems.iterdir()
    assert np.array_equal(sf.read(stem, always_2d=True, dtype="float32")[0], sound)
    clips = tmp_path / "clips"
    code, told, _ = run(capsys, "render", project, "--programme", "Chapter 1", "--clips", "--handles", 0.5, "-o", clips)
    assert code == 0
    lengths = {p.name: sf.info(p).frames for p in clips.iterdir()}
    # the first may be 0.5 s longer at both ends; of the second, 4 s at 44.1 kHz, nothing is left behind its end
    second = 0.5 + 3.0 + min(0.5, len(voice_in_noise(4.0)[0]) / 44_100 - 3.5)
    assert lengths == {"Talk-001-Question.wav": 4 * RATE, "Talk-002.wav": pytest.approx(second * RATE, abs=1)}


def test_a_programme_is_measured_and_delivered(capsys, project: Path, tmp_path: Path) -> None:
    code, told, _ = run(capsys, "measure", project, "--programme", "Chapter 1", "--json")
    assert code == 0
    assert json.loads(told)["duration_s"] == pytest.approx(6.0)
    out = tmp_path / "delivered.wav"
    code, told, err = run(capsys, "deliver", project, "--programme", "Chapter 1", "--target", "ebu-r128", "-o", out)
    assert (code, err) == (0, "")
    assert "Verified from the written file." in told
    code, told, _ = run(capsys, "measure", out, "--json")
    assert json.loads(told)["integrated_lufs"] == pytest.approx(-23.0, abs=0.1)
    delivered = Recording.of_media(open_media(out))
    assert [(m.frame, m.name) for m in delivered.markers] == [(3 * RATE, "Bert")]
    assert broadcast_of(open_media(out)).frames_since_midnight == 3600 * RATE


def test_an_offline_recording_is_silence_and_says_so(capsys, project: Path, tmp_path: Path) -> None:
    (tmp_path / "anna.wav").unlink()
    out = tmp_path / "c.wav"
    code, told, _ = run(capsys, "render", project, "--programme", "Chapter 1", "-o", out, "--bits", "float")
    assert code == 0
    assert "A recording is silent in Chapter 1." in told
    assert "anna.wav" in told
    sound = sf.read(out, always_2d=True)[0]
    assert not sound[: 3 * RATE].any()
    assert sound[3 * RATE :].any()


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["render", "{p}", "--programme", "Chapter 9", "-o", "{o}"], "has no programme Chapter 9; it holds Chapter 1."),
        (["render", "{p}", "--stems", "-o", "{o}"], "Name one with --programme."),
        (["measure", "{a}", "--programme", "Chapter 1"], "anna.wav is no project."),
        (["deliver", "{p}", "--programme", "Chapter 1", "--target", "ebu-r128", "-o", "{v}"], "has no video"),
        (["deliver", "{p}", "--programme", "Chapter 1", "--target", "ebu-r128", "-o", "{a}"], "anna.wav"),
        (["render", "{p}", "--programme", "Chapter 1", "--clips", "-o", "{a}"], "Choose a folder"),
    ],
)
def test_wrong_wishes_are_one_sentence(capsys, project: Path, tmp_path: Path, words: list[str], told: str) -> None:
    paths = {"p": project, "o": tmp_path / "o.wav", "a": tmp_path / "anna.wav", "v": tmp_path / "v.mp4"}
    before = (tmp_path / "anna.wav").read_bytes()
    code, _, err = run(capsys, *(word.format(**paths) for word in words))
    assert code != 0
    assert told in err
    assert err.count("\n") == 1
    assert (tmp_path / "anna.wav").read_bytes() == before
