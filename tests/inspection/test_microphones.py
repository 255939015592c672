# SPDX-License-Identifier: GPL-3.0-or-later
"""Recordings whose channels are microphones of their own: told from left and right, judged and treated one by one."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile as sf
from tests.conftest import voice_in_noise

from pulizia.audio.source import ArraySource
from pulizia.cli.main import main
from pulizia.inspection.inspect import inspect, not_found
from pulizia.inspection.microphones import microphones
from pulizia.inspection.treat import treatment
from pulizia.media.broadcast import Broadcast, ixml_chunk
from pulizia.media.write import WavWriter

RATE = 48_000
SECONDS = 24.0
NAMES = ("Anna lav", "Bert lav")


def two_lavaliers() -> np.ndarray:
    """Two people in turn, each 18 dB quieter in the other's microphone; only the first one hums."""
    voice = voice_in_noise(SECONDS)[0]
    other = voice_in_noise(SECONDS, seed=5)[0]
    turn = (np.arange(len(voice)) // (4 * RATE)) % 2 == 0
    noise = np.random.default_rng(2).normal(0, 10 ** (-66 / 20), (2, len(voice)))
    anna, bert = np.where(turn, voice, 0.0), np.where(turn, 0.0, other)
    t = np.arange(len(voice)) / RATE
    hum = sum(np.sin(2 * np.pi * 50 * k * t) / k for k in (1, 2, 3, 4, 5, 7)) * 10 ** (-44 / 20)
    bleed = 10 ** (-18 / 20)
    return (np.stack([anna + bleed * bert + hum, bert + bleed * anna]) + noise).astype(np.float32)


SOUND = two_lavaliers()


def test_microphones_are_told_by_their_names_or_by_who_is_louder_in_which() -> None:
    apart = ArraySource(SOUND, RATE)
    one = voice_in_noise(10.0)
    together = ArraySource(np.concatenate([one, 0.4 * np.roll(one, 30)]), RATE)
    assert microphones(apart, NAMES) == NAMES
    assert microphones(together, ("Boom", "Lav")) == ("Boom", "Lav")
    assert microphones(apart, ("L", "R")) == ("L", "R")
    assert microphones(together, ("L", "R")) == ()
    silent = ArraySource(np.concatenate([one, np.zeros_like(one)]), RATE)
    assert microphones(silent, ("L", "R")) == ()
    assert microphones(ArraySource(one, RATE), ("M",)) == ()
    assert microphones(apart, ()) == ()
    short = ArraySource(SOUND[:, :RATE], RATE)
    assert microphones(short, ("L", "R")) == ()


@pytest.mark.slow
def test_each_microphone_has_findings_of_its_own_and_only_it_is_treated() -> None:
    source = ArraySource(SOUND, RATE)
    found = inspect(source, alone=microphones(source, NAMES))
    hum = [f for f in found if f.kind == "hum"]
    assert [(f.id, f.channels, f.microphone) for f in hum] == [("hum:1", (0,), "Anna lav")]
    assert hum[0].sentence.startswith("Anna lav: Hum at 50")
    assert "level" not in {f.kind for f in found}  # a quiet phrase is the other person's
    assert "level" not in not_found(found)
    assert not {"level", "delay"} & set(not_found([], alone=True))  # what was not looked for is not said to be absent
    assert {"level", "delay"} <= set(not_found([]))
    assert len({f.id for f in found}) == len(found)
    made = treatment(source, hum, known=[f.id for f in found], alone=NAMES)
    trials = made.trials
    assert trials[0].step is not None, trials[0].sentence
    assert trials[0].sentence.startswith("Hum, Anna lav")
    assert [(s.tool_id, s.channels) for s in made.steps] == [("hum", (0,))]


@pytest.fixture
def poly(tmp_path: Path) -> Path:
    """The two as a file of a recorder, which names its tracks."""
    path = tmp_path / "take.wav"
    said = ixml_chunk(Broadcast(channel_names=NAMES), rate=RATE)
    with WavWriter(path, rate=RATE, channels=2, sample_format="int24", chunks=said) as writer:
        writer.write(SOUND)
    return path


@pytest.mark.slow
def test_the_command_line_treats_the_microphone_and_a_recipe_names_it(
    poly: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    out, recipe = tmp_path / "out.wav", tmp_path / "r.json"
    assert main(["repair", str(poly), "--treat", "-o", str(out)]) == 0
    told = capsys.readouterr().out
    assert "Hum, Anna lav" in told
    before, after = (sf.read(p, dtype="float32", always_2d=True)[0].T for p in (poly, out))

    def at_100_hz(x: np.ndarray) -> float:
        return float(np.abs(np.fft.rfft(x * np.hanning(len(x)))[round(100 * len(x) / RATE)]))

    assert at_100_hz(after[0]) < 0.15 * at_100_hz(before[0])
    assert main(["inspect", str(poly), "--recipe"]) == 0
    recipe.write_text(capsys.readouterr().out)
    assert '"channels": [\n    1\n   ]' in recipe.read_text()
    again = tmp_path / "again.wav"
    assert main(["repair", str(poly), "--recipe", str(recipe), "-o", str(again)]) == 0
    assert at_100_hz(sf.read(again, always_2d=True)[0][:, 0]) < 0.15 * at_100_hz(before[0])
    capsys.readouterr()
    text = '{"format": "pulizia-recipe", "version": 1, "steps": [{"tool": "hum", "channels": [0]}]}'
    recipe.write_text(text)
    assert main(["repair", str(poly), "--recipe", str(recipe), "-o", str(again), "--overwrite"]) != 0
    assert "channels must be a list of numbers from 1 on" in capsys.readouterr().err
