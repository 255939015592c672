# SPDX-License-Identifier: GPL-3.0-or-later
"""A programme in reels: a file for each, one gain for all, together what was planned; on the command line and in the window."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile as sf
from tests.conftest import voice_in_noise

from pulizia.audio.markers import Marker, reels_of
from pulizia.audio.spans import Span
from pulizia.cli.main import main
from pulizia.delivery.deliverable import Deliverable
from pulizia.delivery.reels import joined, paths_of
from pulizia.media.open import broadcast_of, open_media
from pulizia.project.clips import Clip, Lane, Programme
from pulizia.project.file import load_project, save_project
from pulizia.project.model import Project, Recording

RATE = 48_000
REELS = (
    Marker(0, "Reel 1", kind="reel"),
    Marker(2 * RATE, "a breath", RATE, kind="problem"),
    Marker(4 * RATE, "Reel 2", 5 * RATE, kind="reel"),
    Marker(8 * RATE, "Reel 3", kind="reel"),
)


@pytest.fixture
def project(wav: Callable[..., Path], tmp_path: Path) -> Path:
    """Twelve seconds, of which the second part is 12 dB quieter, in three reels; the second reaches a second into the third."""
    sound = voice_in_noise(12.0)
    sound[:, 6 * RATE :] *= 0.25
    recording = Recording.of_media(open_media(wav(sound, "film.wav")))
    lane = Lane(name="Talk").with_clips([Clip(recording_id=recording.id, start=0, inner=0, frames=12 * RATE)])
    programme = Programme(
        name="Film", rate=RATE, channels=1, lanes=(lane,), markers=REELS, start_frame=25 * 3600, target_id="ebu-r128"
    )
    made = tmp_path / "film.pulizia"
    save_project(Project(recordings=(recording,)).with_programme(programme), made)
    return made


def heard(path: Path) -> np.ndarray:
    return sf.read(path, dtype="float32", always_2d=True)[0].T


def test_reels_end_where_they_say_or_where_the_next_begins() -> None:
    assert [(r.name, r.span) for r in reels_of(REELS, 12 * RATE)] == [
        ("Reel 1", Span(0, 4 * RATE)), ("Reel 2", Span(4 * RATE, 9 * RATE)), ("Reel 3", Span(8 * RATE, 12 * RATE)),
    ]  # fmt: skip
    twice = (Marker(5, "A", kind="reel"), Marker(50, "A", kind="reel"), Marker(200, "B", kind="reel"))
    assert [(r.name, r.span) for r in reels_of(twice, 100)] == [("A 1", Span(5, 50)), ("A 2", Span(50, 100))]
    assert reels_of([Marker(5, "A")], 100) == ()


def test_reels_are_delivered_at_one_gain_and_measured_together(
    project: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    whole, out = tmp_path / "whole.wav", tmp_path / "out.wav"
    words = ["deliver", str(project), "--programme", "Film", "--target", "ebu-r128"]
    assert main([*words, "-o", str(whole)]) == 0
    report = tmp_path / "report.json"
    assert main([*words, "--reels", "--pop", "25", "-o", str(out), "--report", str(report)]) == 0
    told = capsys.readouterr().out
    assert "out-Reel 1.wav, out-Reel 2.wav, out-Reel 3.wav" in told
    assert not out.exists()
    straight = heard(whole)
    for n, (begin, end) in enumerate(((0, 4), (4, 9), (8, 12)), 1):
        path = tmp_path / f"out-Reel {n}.wav"
        made, media = heard(path), open_media(path)
        assert made.shape == (1, (end - begin + 2) * RATE)
        assert np.abs(made[:, : RATE // 25]).max() == pytest.approx(0.1, rel=0.01)  # the 2-pop of each
        assert not made[:, RATE // 25 : 2 * RATE].any()
        error = made[:, 2 * RATE :] - straight[:, begin * RATE : end * RATE]
        assert 20 * np.log10(np.abs(error).max() + 1e-12) < -60  # the same gain, quiet reel or loud
        assert broadcast_of(media).frames_since_midnight == (3600 + begin - 2) * RATE
    content = json.loads(report.read_text())
    assert content["written_file"]["integrated_lufs"] == pytest.approx(-23.0, abs=0.1)
    assert content["written_file"]["duration_s"] == pytest.approx(12.0)  # what two reels share counts once
    assert content["passes"]
    assert [row["file"] for row in content["files"]] == [f"out-Reel {n}.wav" for n in (1, 2, 3)]
    first = Recording.of_media(open_media(tmp_path / "out-Reel 1.wav"))
    assert ("a breath", 4 * RATE, RATE) in [(m.name, m.frame, m.frames) for m in first.markers]
    assert main([*words, "--reels", "-o", str(out)]) == 1
    assert "out-Reel 1.wav is there already" in capsys.readouterr().err


def test_reels_are_rendered_as_they_sound_and_put_together_are_the_programme(project: Path, tmp_path: Path) -> None:
    whole, folder = tmp_path / "whole.wav", tmp_path / "reels"
    words = ["render", str(project), "--programme", "Film", "--bits", "float"]
    assert main([*words, "-o", str(whole)]) == 0
    assert main([*words, "--reels", "-o", str(folder)]) == 0
    assert sorted(p.name for p in folder.iterdir()) == ["Film-Reel 1.wav", "Film-Reel 2.wav", "Film-Reel 3.wav"]
    parts = [open_media(folder / f"Film-Reel {n}.wav").source for n in (1, 2, 3)]
    first, second, third = (heard(folder / f"Film-Reel {n}.wav") for n in (1, 2, 3))
    np.testing.assert_array_equal(np.concatenate([first, second[:, : 4 * RATE], third], axis=1), heard(whole))
    behind = joined(parts)
    np.testing.assert_array_equal(behind.read(3 * RATE, 5 * RATE)[:, RATE:], second[:, :RATE])


def test_names_that_are_one_to_the_disk_become_files_of_their_own() -> None:
    markers = [Marker(n, name, kind="reel") for n, name in ((0, "Act 1/2"), (10, "act 1:2"), (20, "End"))]
    files = paths_of(Path("film.wav"), Deliverable(by_reel=True), markers, 30)
    assert len({p.name.casefold() for p in files}) == 3
    assert [p.parent for p in files] == [Path()] * 3
    assert files[2].name == "film-End.wav"


@pytest.mark.parametrize(
    ("words", "sentence"),
    [
        (["deliver", "{p}", "--programme", "Plain", "--target", "ebu-r128", "--reels", "-o", "{o}"], "no reels"),
        (["render", "{p}", "--programme", "Plain", "--reels", "-o", "{o}"], "no reels"),
        (["deliver", "{p}", "--target", "ebu-r128", "--reels", "-o", "{o}"], "Name one with --programme"),
        (["deliver", "{p}", "--programme", "Film", "--target", "ebu-r128", "--reels", "-o", "{v}"], "as a whole"),
    ],
)
def test_reels_that_are_not_there_or_cannot_be_are_said(
    words: list[str], sentence: str, project: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    found = load_project(project)
    film = found.programmes[0]
    save_project(found.with_programme(replace(film, id="plain", name="Plain", markers=(Marker(5, "A"),))), project)
    places = {"p": str(project), "o": str(tmp_path / "out.wav"), "v": str(tmp_path / "out.mkv")}
    assert main([word.format(**places) for word in words]) != 0
    assert sentence in capsys.readouterr().err
    assert not list(tmp_path.glob("out*.wav"))
