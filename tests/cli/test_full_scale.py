# SPDX-License-Identifier: GPL-3.0-or-later
"""Sound above full scale on its way into files: never cut without a word, and not cut at all where it can be helped."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile
from tests.cli.test_commands import run
from tests.conftest import voice_in_noise

RATE = 48_000


def test_integers_tell_what_they_cut_and_floats_keep_it(capsys, wav: Callable[..., Path], tmp_path: Path) -> None:
    source = wav(voice_in_noise(3.0), "take.wav", subtype="FLOAT")
    recipe = tmp_path / "loud.json"
    step = {"tool": "level", "settings": {"way": "gain", "gain_db": 18.0}}
    recipe.write_text(json.dumps({"format": "pulizia-recipe", "version": 1, "name": "n", "steps": [step]}))
    code, out, _ = run(capsys, "repair", source, "--recipe", recipe, "-o", tmp_path / "float.wav", "--bits", "float")
    assert code == 0
    assert "above full scale" not in out
    whole, _ = soundfile.read(tmp_path / "float.wav", dtype="float32")
    over = int(np.count_nonzero(np.abs(whole) > 1.0))
    assert over > 100
    for ending, bits in (("wav", "24"), ("wav", "16"), ("flac", "16")):
        target = tmp_path / f"{bits}.{ending}"
        code, out, _ = run(capsys, "repair", source, "--recipe", recipe, "-o", target, "--bits", bits)
        assert code == 0
        assert f"{over} samples lie above 0 dBFS and clipped. Add a Limiter" in out


@pytest.mark.slow
def test_what_was_cut_flat_is_treated_into_the_room_below_full_scale(
    capsys, wav: Callable[..., Path], tmp_path: Path
) -> None:
    loud = voice_in_noise(8.0) * 6.0
    flat = np.clip(loud, -0.98, 0.98).astype(np.float32)
    code, out, _ = run(capsys, "repair", wav(flat, "flat.wav"), "--treat", "-o", tmp_path / "out.wav")
    assert code == 0
    assert "overload" in out
    assert "above full scale" not in out
    made, _ = soundfile.read(tmp_path / "out.wav", dtype="float32")
    assert 0.7 < np.abs(made).max() < 1.0
    assert np.count_nonzero(np.abs(made) > 0.999) == 0
