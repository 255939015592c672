# SPDX-License-Identifier: GPL-3.0-or-later
"""The real command line: figures, files, exit codes and one sentence per fault."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile
from tests.conftest import voice_in_noise

from pulizia.cli.main import main
from pulizia.media.open import open_media
from pulizia.session.document import Document


@pytest.fixture
def recipe(tmp_path: Path) -> Path:
    path = tmp_path / "noise.json"
    steps = [
        {"tool": "noise", "settings": {"profile_spans_s": [[0.1, 0.9]], "reduction_db": 12}},
        {"tool": "level", "settings": {"peak_dbfs": -3}},
    ]
    path.write_text(json.dumps({"format": "pulizia-recipe", "version": 1, "name": "n", "steps": steps}))
    return path


def run(capsys: pytest.CaptureFixture[str], *arguments: object) -> tuple[int, str, str]:
    code = main([str(a) for a in arguments])
    out, err = capsys.readouterr()
    return code, out, err


def test_measure_prints_figures_for_people_and_for_programs(capsys, voice_file: Path, untouched) -> None:
    untouched(voice_file)
    code, out, _ = run(capsys, "measure", voice_file)
    assert code == 0
    assert "LUFS" in out
    code, out, _ = run(capsys, "measure", voice_file, "--json")
    figures = json.loads(out)
    wanted = {
        "integrated_lufs",
        "momentary_max_lufs",
        "short_term_max_lufs",
        "loudness_range_lu",
        "true_peak_dbtp",
        "sample_peak_dbfs",
        "rms_dbfs",
        "duration_s",
        "rate_hz",
        "channels",
    }
    assert wanted <= set(figures)
    samples, _ = soundfile.read(voice_file)
    assert figures["sample_peak_dbfs"] == pytest.approx(20 * np.log10(np.abs(samples).max()), abs=1e-4)
    assert figures["rms_dbfs"] == pytest.approx(10 * np.log10(np.mean(samples**2)), abs=1e-3)


def test_measure_of_a_span_equals_measuring_that_span_alone(capsys, voice_file: Path, wav: Callable[..., Path]) -> None:
    samples, _ = soundfile.read(voice_file, dtype="float32", always_2d=True)
    cut = wav(samples.T[:, 72_000:240_000], "cut.wav")
    spanned = json.loads(run(capsys, "measure", voice_file, "--span", 1.5, 5.0, "--json")[1])
    alone = json.loads(run(capsys, "measure", cut, "--json")[1])
    for name in ("integrated_lufs", "true_peak_dbtp", "rms_dbfs", "loudness_range_lu", "duration_s"):
        assert spanned[name] == pytest.approx(alone[name], abs=1e-6)
    code, _, err = run(capsys, "measure", voice_file, "--span", 5, 99)
    assert code == 1
    assert "does not lie inside" in err


def test_repair_gives_the_samples_of_the_chain_and_keeps_the_source(
    capsys, tmp_path: Path, voice_file: Path, recipe: Path, untouched
) -> None:
    untouched(voice_file)
    target = tmp_path / "out.wav"
    assert run(capsys, "repair", voice_file, "--recipe", recipe, "-o", target, "--bits", "float")[0] == 0
    written, _ = soundfile.read(target, dtype="float32")
    document = Document()
    rid = document.add_media(open_media(voice_file))
    document.add_step(rid, "noise", {"profile_spans_s": [[0.1, 0.9]], "reduction_db": 12})
    document.add_step(rid, "level", {"peak_dbfs": -3})
    after = document.chain(rid).after
    assert np.array_equal(written, after.read(0, after.frames)[0])
    assert np.abs(written).max() == pytest.approx(10 ** (-3 / 20), rel=1e-5)


@pytest.mark.slow
def test_repair_of_several_files_goes_into_a_folder(
    capsys, tmp_path: Path, wav: Callable[..., Path], recipe: Path
) -> None:
    files = [wav(voice_in_noise(3.0, seed=n), f"t{n}.wav") for n in range(2)]
    out = tmp_path / "out"
    assert run(capsys, "repair", *files, "--recipe", recipe, "-o", out, "--format", "flac")[0] == 0
    assert sorted(p.name for p in out.iterdir()) == ["t0.flac", "t1.flac"]


@pytest.mark.parametrize(
    ("target", "level", "ceiling"), [("ebu-r128", -23.0, -1.0), ("atsc-a85", -24.0, -2.0), ("online-14", -14.0, -1.0)]
)
def test_deliver_meets_its_target_in_the_written_file(
    capsys, tmp_path: Path, voice_file: Path, target: str, level: float, ceiling: float
) -> None:
    path, report = tmp_path / "d.wav", tmp_path / "d.html"
    code, out, err = run(capsys, "deliver", voice_file, "--target", target, "-o", path, "--report", report, "--json")
    assert (code, err) == (0, "")
    told = json.loads(out)
    assert told["passes"]
    figures = json.loads(run(capsys, "measure", path, "--json")[1])
    assert figures["integrated_lufs"] == pytest.approx(level, abs=0.05)
    assert figures["true_peak_dbtp"] <= ceiling
    assert told["written_file"]["integrated_lufs"] == figures["integrated_lufs"]
    html = report.read_text()
    assert "<svg" in html
    assert f"{abs(level)}" in html
    assert "http" not in html


def test_projects_are_delivered_and_rendered(capsys, tmp_path: Path, voice_file: Path) -> None:
    document = Document()
    rid = document.add_media(open_media(voice_file))
    document.add_step(rid, "noise", {"profile_spans_s": [[0.1, 0.9]]})
    document.save(tmp_path / "job.pulizia")
    out = tmp_path / "render"
    out.mkdir()
    assert run(capsys, "render", tmp_path / "job.pulizia", "-o", out)[0] == 0
    assert [p.name for p in out.iterdir()] == ["take-noise.wav"]
    assert run(capsys, "deliver", tmp_path / "job.pulizia", "--target", "online-16", "-o", tmp_path / "d.flac")[0] == 0
    voice_file.write_bytes(voice_file.read_bytes()[:-3000] + bytes(3000))
    code, _, err = run(capsys, "render", tmp_path / "job.pulizia", "-o", out, "--overwrite")
    assert code == 1
    assert "has changed" in err


def test_lists_name_every_target_and_tool_with_ranges_and_units(capsys) -> None:
    assert run(capsys, "targets")[1].count("true peak at most") >= 7
    ids = {t["id"] for t in json.loads(run(capsys, "targets", "--json")[1])}
    assert {"ebu-r128", "atsc-a85", "online-14", "online-16", "online-18"} <= ids
    assert "noise" in run(capsys, "tools")[1]
    out = run(capsys, "tools", "noise")[1]
    assert "reduction_db" in out
    assert "0 to 40 dB" in out
    assert json.loads(run(capsys, "tools", "noise", "--json")[1])["settings"][0]["unit"] == "dB"


def test_own_targets_are_read_and_damaged_ones_explained(capsys, home: Path, voice_file: Path, tmp_path: Path) -> None:
    folder = home / "config" / "targets"
    folder.mkdir(parents=True)
    own = {"id": "museum", "title": "Museum", "integrated_lufs": -20.0, "tolerance_lu": 0.3, "true_peak_dbtp": -3.0}
    (folder / "own.json").write_text(json.dumps({"targets": [own]}))
    assert run(capsys, "deliver", voice_file, "--target", "museum", "-o", tmp_path / "m.wav")[0] == 0
    (folder / "own.json").write_text(json.dumps({"targets": [own | {"tolerence_lu": 1}]}))
    code, _, err = run(capsys, "targets")
    assert code == 1
    assert "Did you mean tolerance_lu" in err


def one_sentence(err: str) -> bool:
    return err.count("\n") == 1 and "Traceback" not in err and err.startswith("pulizia: ")


def test_every_fault_of_input_or_disk_is_one_sentence_and_exit_1(
    capsys, tmp_path: Path, voice_file: Path, recipe: Path, wav: Callable[..., Path], untouched
) -> None:
    untouched(voice_file)
    silent = wav(np.zeros((1, 48_000), np.float32), "silent.wav")
    single = wav(np.full((1, 1), 0.1, np.float32), "single.wav")
    (tmp_path / "junk.wav").write_text("junk")
    (tmp_path / "bad.json").write_text("{")
    (tmp_path / "bad.pulizia").write_text("{")
    (tmp_path / "zero.mp4").write_bytes(b"")
    outside = tmp_path / "outside.json"
    outside.write_text(
        json.dumps({"format": "pulizia-recipe", "version": 1, "steps": [{"tool": "noise", "spans_s": [[90, 91]]}]})
    )
    short = tmp_path / "short.json"
    short.write_text(
        json.dumps(
            {
                "format": "pulizia-recipe",
                "version": 1,
                "steps": [{"tool": "noise", "settings": {"profile_spans_s": [[0.1, 0.13]]}}],
            }
        )
    )
    out = tmp_path / "o.wav"
    existing = tmp_path / "existing.wav"
    existing.write_bytes(b"x")
    faults = [
        ("measure", tmp_path / "missing.wav"), ("measure", tmp_path / "junk.wav"), ("measure", tmp_path / "zero.mp4"), ("measure", tmp_path),
        ("repair", voice_file, "--recipe", tmp_path / "bad.json", "-o", out), ("repair", voice_file, "--recipe", tmp_path / "no.json", "-o", out),
        ("repair", voice_file, "--recipe", outside, "-o", out), ("repair", voice_file, "--recipe", short, "-o", out),
        ("repair", voice_file, "--recipe", recipe, "-o", voice_file), ("repair", voice_file, "--recipe", recipe, "-o", voice_file, "--overwrite"),
        ("repair", voice_file, "--recipe", recipe, "-o", existing), ("repair", voice_file, "--recipe", recipe, "-o", tmp_path / "no" / "o.wav"),
        ("repair", voice_file, "--recipe", recipe, "-o", tmp_path / "o.mp7"), ("repair", silent, "--recipe", recipe, "-o", out),
        ("repair", single, "--recipe", recipe, "-o", out),
        ("deliver", silent, "--target", "ebu-r128", "-o", out), ("deliver", single, "--target", "ebu-r128", "-o", out),
        ("deliver", tmp_path / "bad.pulizia", "--target", "ebu-r128", "-o", out),
        ("render", tmp_path / "bad.pulizia", "-o", out),
    ]  # fmt: skip
    for fault in faults:
        code, _, err = run(capsys, *fault)
        assert code == 1, fault
        assert one_sentence(err), (fault, err)
        assert not out.exists(), fault
    assert existing.read_bytes() == b"x"
    assert not list(tmp_path.glob(".*"))


@pytest.mark.parametrize(
    "arguments", [("measure",), ("repair", "x.wav"), ("deliver", "x.wav", "--target"), ("measure", "x", "--wrong")]
)
def test_wrong_usage_is_exit_2(capsys, arguments: tuple[str, ...]) -> None:
    assert run(capsys, *arguments)[0] == 2


def test_silent_and_single_sample_files_are_measured_with_dashes(capsys, wav: Callable[..., Path]) -> None:
    for samples in (np.zeros((1, 48_000)), np.full((2, 1), 0.1)):
        path = wav(samples.astype(np.float32), "odd.wav")
        code, out, _ = run(capsys, "measure", path)
        assert code == 0
        assert "\u2013" in out
        assert json.loads(run(capsys, "measure", path, "--json")[1])["integrated_lufs"] is None


def test_a_wrong_word_and_a_missing_screen_are_told_without_a_window(
    capsys, voice_file: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    code, _, err = run(capsys, "mesure")
    assert (code, err.count("\n")) == (2, 1)
    assert "Did you mean the command measure?" in err
    assert "neither a file nor a command" in run(capsys, "no-such-file.wav")[2]
    for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"):
        monkeypatch.delenv(name, raising=False)
    code, _, err = run(capsys, voice_file)
    assert (code, err.count("\n")) == (1, 1)
    assert "no screen" in err


@pytest.mark.slow
@pytest.mark.parametrize("begun", ["import pulizia.cli.main as m; m.parser()", "import pulizia.desktop.start"])
def test_a_start_waits_for_no_library_that_is_not_needed_yet(begun: str) -> None:
    """Each of these costs a tenth of a second to half a second of every start."""
    heavy = ("scipy.signal", "scipy.ndimage", "scipy.fft", "av", "soundfile", "soxr", "mutagen", "distributed")
    told = f"import sys; {begun}; print([n for n in {heavy} if n in sys.modules])"
    assert subprocess.run([sys.executable, "-c", told], capture_output=True, text=True, check=True).stdout == "[]\n"


@pytest.mark.parametrize("text", ["nan", "inf", "soon", "", "1e999"])
@pytest.mark.parametrize(
    "command", ["measure F --span 0 X", "find F --among F --words X 1", "repair F --treat -o O --keep 0 X", "deliver F -o O --target ebu-r128 --head X"]
)  # fmt: skip
def test_what_is_no_time_is_refused_in_one_sentence(
    capsys, voice_file: Path, tmp_path: Path, command: str, text: str
) -> None:
    given = {"F": voice_file, "O": tmp_path / "out.wav", "X": text}
    code, _, err = run(capsys, *(given.get(word, word) for word in command.split()))
    assert code == 2
    assert f"{text!r} is not a time in seconds" in err
    assert not (tmp_path / "out.wav").exists()


def test_recordings_that_are_not_there_are_named(capsys, voice_file: Path, tmp_path: Path) -> None:
    code, _, err = run(capsys, "find", voice_file, "--among", tmp_path / "nowhere")
    assert (code, err) == (1, f"pulizia: {tmp_path / 'nowhere'} was not found. Name raw recordings, or folders that hold them.\n")  # fmt: skip
