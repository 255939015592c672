# SPDX-License-Identifier: GPL-3.0-or-later
"""The 2-pop: at its place, at its level whatever the gain, and only where there is silence for it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile as sf
from tests.conftest import voice_in_noise

from pulizia.audio.pop import PopSource
from pulizia.audio.source import ArraySource
from pulizia.cli.main import main

RATE = 48_000


def test_the_pop_stands_two_seconds_before_the_start_at_minus_20(wav: Callable[..., Path], tmp_path: Path) -> None:
    path = wav(voice_in_noise(5.0), "reel.wav")
    plain, popped = tmp_path / "plain.wav", tmp_path / "popped.wav"
    words = ["deliver", str(path), "--target", "ebu-r128", "--layout", "mono"]
    assert main([*words, "--head", "3", "-o", str(plain)]) == 0
    assert main([*words, "--head", "3", "--pop", "25", "-o", str(popped)]) == 0
    without, sound = (sf.read(p, dtype="float32", always_2d=True)[0][:, 0] for p in (plain, popped))
    pop = slice(RATE, RATE + RATE // 25)  # 2 s before the start at 3 s, one frame long
    assert 20 * np.log10(np.abs(sound[pop]).max()) == pytest.approx(-20.0, abs=0.05)
    tone = np.abs(np.fft.rfft(sound[pop]))
    assert int(tone.argmax()) * 25 == 1000
    rest = np.delete(sound, np.arange(pop.start, pop.stop)) - np.delete(without, np.arange(pop.start, pop.stop))
    assert 20 * np.log10(np.abs(rest).max() + 1e-12) < -60  # the gain differs by no more than the measuring of it
    assert not np.delete(sound[: 3 * RATE], np.arange(pop.start, pop.stop)).any()


def test_a_pop_makes_its_own_head_and_refuses_one_that_is_no_rate(
    wav: Callable[..., Path], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    path, out = wav(voice_in_noise(4.0), "reel.wav"), tmp_path / "out.wav"
    assert main(["deliver", str(path), "--target", "ebu-r128", "--pop", "29.97", "-o", str(out)]) == 0
    sound = sf.read(out, always_2d=True)[0][:, 0]
    assert sf.info(out).frames == 6 * RATE
    assert np.abs(sound[: round(RATE * 1001 / 30000)]).max() == pytest.approx(0.1, rel=0.01)
    assert main(["deliver", str(path), "--target", "ebu-r128", "--pop", "17", "-o", str(out), "--overwrite"]) != 0
    assert "17 is no picture rate" in capsys.readouterr().err


def test_reading_in_pieces_gives_the_same_and_other_keys_only_at_the_pop() -> None:
    source = ArraySource(np.zeros((2, 5000), np.float32), RATE)
    made = PopSource(source, 1000, 1920)
    whole = made.read(0, 5000)
    np.testing.assert_array_equal(whole, np.concatenate([made.read(a, a + 500) for a in range(0, 5000, 500)], axis=1))
    assert made.span_key(0, 1000) == source.span_key(0, 1000)
    assert made.span_key(900, 1100) != source.span_key(900, 1100)
