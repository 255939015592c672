# SPDX-License-Identifier: GPL-3.0-or-later
"""`pulizia inspect`: troubles that were put in are found, and their recipe treats them."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from tests.cli.test_commands import run
from tests.conftest import voice_in_noise

RATE = 48_000


@pytest.fixture
def troubled(wav: Callable[..., Path]) -> Path:
    """Hum at 50.02 Hz, twenty clicks, a dropout, cut tops, and the right side late and upside down."""
    samples = voice_in_noise(12.0)
    t = np.arange(samples.shape[1]) / RATE
    samples += sum(0.008 / k * np.sin(2 * np.pi * 50.02 * k * t) for k in range(1, 6)).astype(np.float32)
    for at in np.linspace(60_000, 560_000, 20).astype(int):
        samples[0, at : at + 2] += 0.5
    samples[0, 300_000:303_000] = 0.0
    samples[0, 400_000:420_000] = np.clip(samples[0, 400_000:420_000], -0.03, 0.03)
    late = np.roll(samples[0], 24) * -1
    return wav(np.stack([samples[0], late]), "troubled.wav", subtype="FLOAT")


@pytest.mark.slow
def test_what_was_put_in_is_found_and_a_recipe_treats_it(capsys, troubled: Path, tmp_path: Path, untouched) -> None:
    untouched(troubled)
    code, out, _ = run(capsys, "inspect", troubled, "--json")
    assert code == 0
    found = {row["kind"]: row for row in json.loads(out)["findings"]}
    assert {"hum", "clicks", "silence", "overload", "polarity", "delay"} <= set(found)
    assert "50.02 Hz" in found["hum"]["sentence"]
    places = np.array([a for a, _ in found["clicks"]["places_s"]]) * RATE
    assert sum(np.abs(places - at).min() < 50 for at in np.linspace(60_000, 560_000, 20)) >= 18
    assert found["silence"]["places_s"][0][0] == pytest.approx(300_000 / RATE, abs=1e-3)
    assert found["delay"]["measures"]["value"] == pytest.approx(0.5, abs=0.03)
    code, out, _ = run(capsys, "inspect", troubled)
    assert code == 0
    assert "-> hum" in out
    code, out, _ = run(capsys, "inspect", troubled, "--recipe")
    recipe = tmp_path / "treat.json"
    recipe.write_text(out)
    code, _, err = run(capsys, "repair", troubled, "--recipe", recipe, "-o", tmp_path / "out.wav")
    assert (code, err.count("Traceback")) == (0, 0)
    code, out, _ = run(capsys, "inspect", tmp_path / "out.wav", "--json")
    after = {row["kind"]: row for row in json.loads(out)["findings"]}
    assert "hum" not in after
    assert len(after.get("clicks", {"at_s": []})["at_s"]) < 0.3 * len(found["clicks"]["at_s"])
    assert all(0 <= row["severity"] <= 1 and row["start_s"] <= row["end_s"] for row in found.values())


@pytest.mark.slow
def test_a_noise_that_only_begins_later_is_told(capsys, wav: Callable[..., Path]) -> None:
    """The floor of the whole lies low enough; that of the second half does not."""
    rng = np.random.default_rng(3)
    sound = voice_in_noise(40.0, seed=5) - 0
    sound = np.concatenate([sound[:, : 20 * RATE], sound[:, : 20 * RATE]], axis=1)
    gate = np.abs(sound) > 0.01
    clean = np.where(gate, sound, sound * 0.01).astype(np.float32)
    hiss = rng.standard_normal(sound.shape).astype(np.float32) * 10 ** (-82 / 20)
    hiss[:, 20 * RATE :] *= 10 ** (30 / 20)
    code, out, _ = run(capsys, "inspect", wav(clean + hiss, "fan.wav", subtype="FLOAT"), "--json")
    assert code == 0
    found = {row["kind"]: row for row in json.loads(out)["findings"]}
    assert "changes once" in found["noise"]["sentence"]
    assert found["noise"]["places_s"][0][0] == pytest.approx(20.0, abs=0.5)
    assert 15 < found["noise"]["measures"]["value"] < 35


@pytest.mark.parametrize(
    "samples", [np.zeros((1, RATE)), np.full((2, RATE), 0.5), np.zeros((1, 1)), np.ones((8, 3000)) * 1e-6]
)
def test_odd_sounds_are_inspected_without_a_fault(capsys, wav: Callable[..., Path], samples: np.ndarray) -> None:
    code, out, err = run(capsys, "inspect", wav(samples.astype(np.float32), "odd.wav", subtype="FLOAT"))
    assert code == 0
    assert "Traceback" not in err
    assert out


def test_faults_are_one_sentence(capsys, tmp_path: Path) -> None:
    code, _, err = run(capsys, "inspect", tmp_path / "missing.wav")
    assert code == 1
    assert "does not exist" in err


@pytest.mark.parametrize(
    "tool", ["hum", "noise", "gate", *(pytest.param(name, marks=pytest.mark.slow) for name in ("clicks", "overload"))]
)
def test_suggest_gives_a_step_that_a_recipe_takes(capsys, troubled: Path, tmp_path: Path, tool: str) -> None:
    code, out, _ = run(capsys, "suggest", tool, troubled, "--json")
    assert code == 0
    made = json.loads(out)
    recipe = {"format": "pulizia-recipe", "version": 1, "name": "one", "steps": [made["step"]]}
    (tmp_path / "one.json").write_text(json.dumps(recipe))
    assert run(capsys, "repair", troubled, "--recipe", tmp_path / "one.json", "-o", tmp_path / "one.wav")[0] == 0
    code, out, _ = run(capsys, "suggest", tool, troubled)
    assert code == 0
    assert made["found"] in out
    assert run(capsys, "suggest", "level", troubled)[0] == 1
