# SPDX-License-Identifier: GPL-3.0-or-later
"""Crafted projects, names and values: nothing leaves the chosen folder, and every refusal is one sentence."""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile
from tests.cli.test_commands import run
from tests.conftest import voice_in_noise

from pulizia.cli import main as entry
from pulizia.delivery.normalise import HARD_LIMITING_DB, MOST_LIMITING_DB
from pulizia.media.folders import config_folder, state_folder
from pulizia.media.names import safe_name
from pulizia.media.open import open_media
from pulizia.project.file import save_project
from pulizia.project.model import Project, Recording
from pulizia.score.steps import make_step
from pulizia.session.document import Document

Row = dict[str, object]


@pytest.fixture
def project(tmp_path: Path, wav: Callable[..., Path]) -> Callable[..., Path]:
    """A project of one recording with one step, changed by a hand that means no good."""
    recording = Recording.of_media(open_media(wav(voice_in_noise(1.5), "a.wav"))).with_step(make_step("level"))

    def made(change: Callable[[Row], None], text: Callable[[str], str] = str) -> Path:
        path = tmp_path / "evil.pulizia"
        save_project(Project(recordings=(recording,)), path)
        content = json.loads(path.read_text())
        change(content["recordings"][0])
        path.write_text(text(json.dumps(content)))
        return path

    (tmp_path / "out").mkdir()
    return made


def written(tmp_path: Path) -> set[str]:
    return {str(p.relative_to(tmp_path)) for p in tmp_path.rglob("*.wav")} - {"a.wav"}


@pytest.mark.parametrize(
    "name",
    ["../../../x", "/tmp/somewhere", "a\nb", "<script>alert(1)</script>", "x" * 5000, "-rf", "..", ".hidden", "a\0b", "\u00e4" * 300, "CON"],
)  # fmt: skip
def test_whatever_a_recording_is_called_its_files_stay_in_the_folder(
    capsys, project: Callable[..., Path], tmp_path: Path, name: str
) -> None:
    (tmp_path / "victim-level.wav").write_bytes(b"mine")
    path = project(lambda row: row.update(name=name))
    code, _, err = run(capsys, "render", path, "-o", tmp_path / "out", "--overwrite")
    assert (code, err) == (0, "")
    (one,) = written(tmp_path) - {"victim-level.wav"}
    assert Path(one).parent == Path("out")
    assert not Path(one).name.startswith((".", "-"))
    assert len(os.fsencode(Path(one).name)) <= 255
    assert (tmp_path / "victim-level.wav").read_bytes() == b"mine"


def steps(count: int) -> Callable[[Row], None]:
    return lambda row: row.update(score=[dict(row["score"][0], id=str(n)) for n in range(count)])


def deep(text: str) -> str:
    return text.replace('"name": "a"', '"name": ' + "[" * 5000 + "]" * 5000)


@pytest.mark.parametrize(
    ("change", "text", "said"),
    [
        (lambda r: r.update(path="a\0b.wav"), str, "zero character"),
        (lambda r: r.update(rate=0), lambda t: t.replace('"rate": 0', '"rate": ' + "9" * 5000), "too long"),
        (lambda _r: None, deep, "nested too deeply"),
        (steps(3000), str, "3000 steps"),
        (lambda r: r.update(path="x" * 6000), str, "6000 characters"),
        (lambda r: r["score"][0].update(band_hz=[9e9, -3]), str, "band"),
        (lambda r: r["score"][0].update(channels=[99, -1]), str, "channels that are not there"),
        (lambda r: r.update(fingerprint="0" * 32), str, "has changed"),
    ],
)
def test_crafted_projects_are_refused_in_one_sentence(
    capsys, project: Callable[..., Path], tmp_path: Path, change, text, said: str
) -> None:
    code, out, err = run(capsys, "render", project(change, text), "-o", tmp_path / "out")
    assert (code, out, err.count("\n")) == (1, "", 1)
    assert said in err
    assert not written(tmp_path)


def test_names_no_disk_can_hold_and_things_that_are_no_files(capsys, tmp_path: Path, voice_file: Path) -> None:
    (tmp_path / "random.mp3").write_bytes(np.random.default_rng(1).bytes(5000))
    (tmp_path / "zero.flac").write_bytes(bytes(5000))
    os.mkfifo(tmp_path / "pipe.wav")
    for name, said in (
        ("x" * 300 + ".wav", "cannot be the name"), ("/" + "a/" * 2500 + "x.wav", "cannot be the name"), ("/dev/zero", "not an ordinary file"),
        (tmp_path / "pipe.wav", "not an ordinary file"), (tmp_path / "random.mp3", "not a readable"), (tmp_path / "zero.flac", "no sound file"),
        (tmp_path, "is a folder"), ("a\0b.wav", "cannot be the name"),
    ):  # fmt: skip
        code, out, err = run(capsys, "measure", name)
        assert (code, out, err.count("\n")) == (1, "", 1), name
        assert said in err
        assert len(err) < 300
    for name in ("y" * 300 + ".wav", "a\0b.wav"):
        code, _, err = run(capsys, "deliver", voice_file, "--target", "ebu-r128", "-o", tmp_path / name)
        assert (code, err.count("\n")) == (1, 1)
        assert "cannot be the name" in err
    longest = tmp_path / ("y" * 251 + ".wav")  # the file beside it has a short name of its own
    assert run(capsys, "deliver", voice_file, "--target", "ebu-r128", "-o", longest)[0] == 0
    assert longest.exists()


def test_asking_for_what_does_not_exist_is_wrong_usage(capsys, voice_file: Path, tmp_path: Path) -> None:
    out = tmp_path / "b.wav"
    for words in (
        ("deliver", voice_file, "--target", "nope", "-o", out), ("measure", voice_file, "--target", "nope"),
        ("repair", voice_file, "--recipe", "nope", "-o", out), ("deliver", voice_file, "--target", "ebu-r128", "--recipe", "nope", "-o", out),
        ("tools", "nope"), ("suggest", "nope", voice_file), ("nope",),
    ):  # fmt: skip
        code, _, err = run(capsys, *words)
        assert code == 2, words
        assert "Traceback" not in err
    assert run(capsys, "measure", tmp_path / "gone.wav")[0] == 1
    assert not out.exists()


@pytest.mark.parametrize(
    ("key", "value"),
    [
        ("true_peak_dbtp", -999), ("scale", "<i>LU</i>"), ("integrated_lufs", -200), ("integrated_lufs", float("nan")), ("tolerance_lu", 99),
        ("tolerance_lu", -1), ("id", "../x"), ("title", "t" * 5000), ("loudness_range_max_lu", 0), ("short_term_max_lufs", 40),
    ],
)  # fmt: skip
def test_targets_that_no_programme_can_meet_are_refused(
    capsys, voice_file: Path, tmp_path: Path, key: str, value
) -> None:
    row = {"id": "mine", "title": "Mine", "integrated_lufs": -23, "tolerance_lu": 1, "true_peak_dbtp": -1, key: value}
    (config_folder("targets") / "own.json").write_text(json.dumps({"targets": [row]}))
    code, out, err = run(capsys, "deliver", voice_file, "--target", "mine", "-o", tmp_path / "b.wav")
    assert (code, out, err.count("\n")) == (1, "", 1)
    assert key in err
    assert not (tmp_path / "b.wav").exists()


def test_markup_in_targets_and_names_is_text_in_the_report(capsys, wav: Callable[..., Path], tmp_path: Path) -> None:
    row = {
        "id": "mine",
        "title": "<b>House</b>",
        "integrated_lufs": -23,
        "tolerance_lu": 1,
        "true_peak_dbtp": -1,
        "source": "<i>doc</i>",
    }
    (config_folder("targets") / "own.json").write_text(json.dumps({"targets": [row]}))
    source = wav(voice_in_noise(2.0), "<img src=x onerror=alert(1)>.wav")
    report = tmp_path / "r.html"
    assert run(capsys, "deliver", source, "--target", "mine", "-o", tmp_path / "<u>.wav", "--report", report)[0] == 0
    page = report.read_text()
    assert not any(sign in page for sign in ("<img", "<b>House", "<i>doc", "<u>"))
    assert "&lt;b&gt;House" in page


def test_an_unforeseen_fault_is_one_sentence_and_a_file_with_the_details(capsys, voice_file: Path, monkeypatch) -> None:
    def broken(_options) -> int:
        text = "kaputt"
        raise ZeroDivisionError(text)

    monkeypatch.setattr("pulizia.cli.measure.run", broken)
    code = entry.main(["measure", str(voice_file)])
    err = capsys.readouterr().err
    (note,) = state_folder("faults").iterdir()
    assert code == 1
    assert err.count("\n") == 1
    assert str(note) in err
    assert "kaputt" in note.read_text()


def test_samples_that_are_no_sound_are_never_silence_without_a_word(capsys, tmp_path: Path) -> None:
    sound = voice_in_noise(2.0)
    sound[0, 20_000:20_400] = 1e30
    sound[0, 30_000] = np.nan
    soundfile.write(tmp_path / "hot.wav", sound.T, 48_000, subtype="FLOAT")
    soundfile.write(tmp_path / "all.wav", np.full(48_000, 1e30), 48_000, subtype="FLOAT")
    words = "read as silence"
    assert words in "".join(run(capsys, "measure", tmp_path / "hot.wav")[1:])
    assert words in run(capsys, "inspect", tmp_path / "hot.wav")[2]
    assert (
        words in run(capsys, "repair", tmp_path / "hot.wav", "--recipe", "close-narration", "-o", tmp_path / "b.wav")[1]
    )
    assert words in run(capsys, "deliver", tmp_path / "hot.wav", "--target", "ebu-r128", "-o", tmp_path / "c.wav")[1]
    code, _, err = run(capsys, "deliver", tmp_path / "all.wav", "--target", "ebu-r128", "-o", tmp_path / "d.wav")
    assert code == 1
    assert words in err


def peaky(crest_db: float) -> np.ndarray:
    """Noise at -50 dBFS with single peaks that stand ``crest_db`` over it."""
    rng = np.random.default_rng(2)
    sound = rng.standard_normal((1, 6 * 48_000)) * 10 ** (-50 / 20)
    sound[0, 12_000::24_000] = 10 ** ((-50 + crest_db) / 20)
    return sound.astype(np.float32)


def test_a_limiter_that_works_hard_is_told_and_one_that_crushes_is_refused(
    capsys, wav: Callable[..., Path], tmp_path: Path
) -> None:
    calm, hard, crushed = (wav(peaky(crest), f"{crest}.wav") for crest in (12, 32, 48))
    words = ("--target", "online-16", "-o")
    code, out, _ = run(capsys, "deliver", calm, *words, tmp_path / "calm.wav")
    assert code == 0
    assert "which is heard" not in out
    report = tmp_path / "r.html"
    code, out, _ = run(capsys, "deliver", hard, *words, tmp_path / "hard.wav", "--report", report)
    assert code == 0
    assert "which is heard" in out
    assert "which is heard" in report.read_text()
    code, _, err = run(capsys, "deliver", crushed, *words, tmp_path / "crushed.wav")
    assert code == 1
    assert f"more than {MOST_LIMITING_DB:g} dB" in err
    assert not (tmp_path / "crushed.wav").exists()
    code, out, _ = run(capsys, "deliver", crushed, *words, tmp_path / "crushed.wav", "--limit-hard", "--json")
    assert code == 0
    assert json.loads(out)["largest_reduction_db"] > MOST_LIMITING_DB > HARD_LIMITING_DB


def test_a_change_inside_a_file_that_a_quick_look_misses_is_noticed(
    capsys, wav: Callable[..., Path], tmp_path: Path
) -> None:
    path = wav(np.tile(voice_in_noise(20.0), 6), "long.wav")
    document = Document()
    media = open_media(path)
    rid = document.add_media(media)
    from pulizia.media.identity import whole_digest

    assert document.note_digest(rid, media, whole_digest(path)) == ""
    document.save(tmp_path / "p.pulizia")
    before = media.source.key
    with path.open("r+b") as file:  # half a second, between the blocks of the quick look
        file.seek(44 + 3 * 48_000 * 31)
        file.write(bytes(72_000))
    again = open_media(path)
    assert again.fingerprint == media.fingerprint  # the quick look is blind to it
    assert again.source.key != before  # nothing kept of the old sound is used
    with pytest.raises(Exception, match="changed by another program"):
        media.source.read(0, 100)
    assert run(capsys, "render", tmp_path / "p.pulizia", "-o", tmp_path)[0] == 1
    document.load(tmp_path / "p.pulizia")
    document.attach(rid, again)
    assert "changed inside" in document.note_digest(rid, again, whole_digest(path))
    assert document.chain(rid) is None
    os.utime(path)  # only the time: the content is what it was when it was opened
    again.source.digest = whole_digest(path)
    again.source.read(0, 100)
    document.drop_journal()


def test_a_second_window_on_a_project_gets_a_copy(tmp_path: Path, voice_file: Path) -> None:
    first, second = Document(), Document()
    first.add_media(open_media(voice_file))
    first.save(tmp_path / "p.pulizia")
    assert second.load(tmp_path / "p.pulizia") is False
    assert second.path is None
    assert second.project == first.project
    with pytest.raises(Exception, match="open in another window"):
        second.save(tmp_path / "p.pulizia")
    second.save(tmp_path / "q.pulizia")
    first.drop_journal()  # the first window is closed
    third = Document()
    assert third.load(tmp_path / "p.pulizia") is True
    for document in (second, third):
        document.drop_journal()


def test_safe_names() -> None:
    assert safe_name("a/b\\c:d") == "a-b-c-d"
    assert safe_name("...") == "untitled"
    assert len(safe_name("\u00e4" * 500).encode()) <= 200
