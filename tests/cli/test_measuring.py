# SPDX-License-Identifier: GPL-3.0-or-later
"""Measuring in every way: several files, spans, targets, readings, logs; recipes with open places; several deliverables."""

from __future__ import annotations

import csv
import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile
from tests.conftest import voice_in_noise

from pulizia.cli.main import main

RATE = 48_000


def run(capsys, *arguments: object) -> tuple[int, str, str]:
    code = main([str(a) for a in arguments])
    out, err = capsys.readouterr()
    return code, out, err


def tone(level_db: float, seconds: float) -> np.ndarray:
    return 10 ** (level_db / 20) * np.sin(2 * np.pi * 997 * np.arange(round(seconds * RATE)) / RATE)


@pytest.fixture
def stepped(wav: Callable[..., Path]) -> Path:
    """Mono: 20 s at -30, 5 s at -20, 20 s at -30 dBFS of a 997 Hz tone."""
    return wav(np.concatenate([tone(-30, 20), tone(-20, 5), tone(-30, 20)])[None].astype(np.float32), "stepped.wav")


def test_the_loudest_stretches_are_where_they_were_put(capsys, stepped: Path) -> None:
    """Powers added by hand: 3 s lie inside the loud part, 10 s hold it whole and as much of the quiet one."""
    code, out, _ = run(capsys, "measure", stepped, "--json")
    row = json.loads(out)
    assert code == 0
    three, ten = row["loudest_3_s"], row["loudest_10_s"]
    assert 20.0 <= three["at_s"] <= 22.1
    assert three["lufs"] == pytest.approx(-23.01, abs=0.05)
    assert 14.9 <= ten["at_s"] <= 20.1
    assert ten["lufs"] == pytest.approx(10 * np.log10((10**-2.301 + 10**-3.301) / 2), abs=0.05)


def test_other_readings_say_why_they_differ(capsys, wav: Callable[..., Path]) -> None:
    loud_then_silent = np.concatenate([tone(-20, 10), np.zeros(10 * RATE)])[None].astype(np.float32)
    code, out, _ = run(capsys, "measure", wav(loud_then_silent, "half.wav"), "--readings", "--json")
    found = {r["name"]: r for r in json.loads(out)["readings"]}
    assert code == 0
    whole = found["Whole programme, both gates"]["lufs"]
    assert found["Dual mono"]["lufs"] == pytest.approx(whole + 3.01, abs=0.01)
    assert found["No gate"]["lufs"] == pytest.approx(whole - 3.0, abs=0.15)
    assert "3.0 LU louder" in found["Dual mono"]["why"]
    assert "Pauses and silence count too" in found["No gate"]["why"]
    assert found["Speech only"]["lufs"] is None
    stereo = np.stack([tone(-20, 5), tone(-26, 5)]).astype(np.float32)
    code, out, _ = run(capsys, "measure", wav(stereo, "two.wav"), "--readings", "--json")
    found = {r["name"]: r["lufs"] for r in json.loads(out)["readings"]}
    assert found["Channel L alone"] - found["Channel R alone"] == pytest.approx(6.0, abs=0.01)


@pytest.mark.slow
def test_several_files_are_told_side_by_side_against_a_target(capsys, stepped: Path, wav: Callable[..., Path]) -> None:
    right = wav(np.stack([tone(-23, 5)] * 2).astype(np.float32), "right.wav")
    code, out, _ = run(capsys, "measure", stepped, right, "--target", "ebu-r128")
    assert code == 0
    assert "LU under" in next(line for line in out.splitlines() if line.startswith("stepped"))
    assert "within every limit" in next(line for line in out.splitlines() if line.startswith("right"))
    code, out, _ = run(capsys, "measure", right, "--dual-mono", "--target", "atsc-a85", "--json")
    assert json.loads(out)["verdicts"][0]["state"] == "within"


def test_the_log_holds_figures_limits_and_loudness_over_time(capsys, stepped: Path, tmp_path: Path) -> None:
    log = tmp_path / "log.csv"
    code, _, _ = run(capsys, "measure", stepped, "--target", "ebu-r128", "--log", log)
    assert code == 0
    rows = list(csv.reader(log.read_text().splitlines()))
    assert [rows[1][0], rows[4], rows[5][0]] == ["Integrated", ["figure", "value", "unit"], "Integrated"]
    at = rows.index(["seconds", "momentary LUFS", "short-term LUFS", "true peak dBTP"])
    assert len(rows) - at - 1 == 450
    assert float(rows[at + 1 + 230][1]) == pytest.approx(-23.01, abs=0.02)
    assert run(capsys, "measure", stepped, "--log", log)[0] == 1
    assert "is there already" in run(capsys, "measure", stepped, "--log", log)[2]
    assert "Name one file" in run(capsys, "measure", stepped, stepped, "--log", tmp_path / "x.csv")[2]


@pytest.mark.slow
def test_several_deliverables_come_from_one_programme(capsys, voice_file: Path, tmp_path: Path) -> None:
    code, out, err = run(
        capsys, "deliver", voice_file, "--target", "ebu-r128", "--recipe", "interview-on-location",
        "-o", tmp_path / "a.wav", "--also", tmp_path / "b.mp3", "--also", tmp_path / "c.flac", "--json",
    )  # fmt: skip
    assert (code, err) == (0, "")
    rows = json.loads(out)
    assert [r["file"] for r in rows] == ["a.wav", "b.mp3", "c.flac"]
    assert all(r["passes"] for r in rows)
    assert all((tmp_path / r["file"]).stat().st_size > 1000 for r in rows)
    assert (
        "belongs to one programme"
        in run(
            capsys,
            "deliver",
            voice_file,
            voice_file,
            "--target",
            "online-16",
            "-o",
            tmp_path,
            "--also",
            tmp_path / "d.mp3",
        )[2]
    )


def test_what_a_recipe_leaves_open_is_told_on_the_command_line(
    capsys, wav: Callable[..., Path], tmp_path: Path
) -> None:
    """The first second holds a noise that the rest does not: learned from it, the rest is not touched much."""
    rng = np.random.default_rng(4)
    sound = voice_in_noise(6.0).astype(np.float64)
    sound[0, :RATE] = 0.05 * rng.standard_normal(RATE)
    source = wav(sound.astype(np.float32), "mixed.wav")
    recipe = tmp_path / "r.json"
    recipe.write_text(
        json.dumps(
            {
                "format": "pulizia-recipe",
                "version": 1,
                "name": "N",
                "steps": [{"tool": "noise", "settings": {"reduction_db": 20}}],
            }
        )
    )
    for name, extra in (("open.wav", ()), ("told.wav", ("--noise", 0.1, 0.9))):
        assert run(capsys, "repair", source, "--recipe", recipe, "-o", tmp_path / name, *extra)[0] == 0
    told = soundfile.read(tmp_path / "told.wav")[0]
    assert 20 * np.log10(told[:RATE].std() / sound[0, :RATE].std()) < -15
    assert (
        "FROM before TO"
        in run(capsys, "repair", source, "--recipe", recipe, "--noise", 2, 1, "-o", tmp_path / "x.wav")[2]
    )


def test_a_wrong_command_line_is_answered_with_one_line_that_says_what_to_do(capsys, wav, tmp_path: Path) -> None:
    source = wav(voice_in_noise(1.0), "a.wav")
    for given, told in (
        (("deliver", source), "--target"),
        (("repair", source, "-o", tmp_path / "b.wav"), "--recipe"),
        (("measure", source, "--bogus"), "pulizia measure: Unknown here: --bogus. pulizia measure --help"),
        (("repair", source, "--treat", "--bits", "12", "-o", tmp_path / "b.wav"), "12"),
        (("inspect",), "FILE"),
    ):
        code, out, err = run(capsys, *given)
        assert (code, out) == (2, "")
        assert len(err.splitlines()) == 1
        assert told in err
        assert err.endswith("--help lists what can be given.\n")


def test_problems_have_the_same_names_on_the_command_line_as_in_the_window(capsys, wav) -> None:
    sound = voice_in_noise(6.0)
    for at in (100_000, 150_000, 200_000, 250_000):
        sound[0, at : at + 3] += 0.5
    code, out, _ = run(capsys, "inspect", wav(np.clip(sound, -1, 1), "a.wav"))
    assert code == 0
    lines = out.splitlines()
    assert any(line.startswith("Clicks ") for line in lines)
    assert lines[-1].startswith("Not found: ")
    assert "hard S sounds" in lines[-1]
    assert not {"sibilance", "overload", "lopsided", "dull"} & set(lines[-1].replace(".", ",").split(", "))
