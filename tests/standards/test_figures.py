# SPDX-License-Identifier: GPL-3.0-or-later
"""Figures of a passage against closed forms and the worked values of ITU-T P.56."""

from __future__ import annotations

import numpy as np
import pytest

from pulizia.audio.source import ArraySource
from pulizia.measure.figures import active_speech_level, as_text, passage_figures


def on_off(parts: list[tuple[float, float]], repeats: int, rate: int) -> ArraySource:
    """A 440 Hz sine of -26 dB RMS in the parts that are on."""
    gate = np.tile(np.concatenate([np.full(round(s * rate), on) for on, s in parts]), repeats)
    wave = gate * np.sqrt(2) * 10 ** (-26 / 20) * np.sin(2 * np.pi * 440 * np.arange(len(gate)) / rate)
    return ArraySource(wave[None].astype(np.float32), rate)


@pytest.mark.parametrize("rate", [8000, 48_000])
@pytest.mark.parametrize(("parts", "repeats", "level", "activity"), [
    ([(1, 10)], 1, -25.990, 0.9977), ([(1, 2), (0, 2)], 5, -26.559, 0.5687), ([(1, 0.5), (0, 0.5)], 20, -27.946, 0.7827),
    ([(1, 1), (0, 9)], 3, -27.064, 0.1278), ([(1, 0.3), (0, 0.15)], 40, -27.756, 0.9989),
])  # fmt: skip
def test_active_speech_level(rate: int, parts: list, repeats: int, level: float, activity: float) -> None:
    """Values of two independent codings of P.56, method B (the ITU program was not at hand)."""
    found, share = active_speech_level(on_off(parts, repeats, rate))
    assert found == pytest.approx(level, abs=0.1)
    assert share == pytest.approx(activity, abs=0.005)


def test_all_figures_of_a_known_passage() -> None:
    t = np.arange(48_000 * 4) / 48_000
    wave = 0.5 * np.sin(2 * np.pi * 997 * t) + 0.01 * np.sin(2 * np.pi * 100.02 * t) + 0.02
    rows = {
        r.name: r for r in passage_figures(ArraySource(np.stack([wave, -wave]).astype(np.float32), 48_000), ("L", "R"))
    }
    value = {name: row.value for name, row in rows.items()}
    assert value["Length"] == 4.0
    assert value["Sample peak"] == pytest.approx(20 * np.log10(0.53), abs=0.02)
    assert value["Offset"] == pytest.approx(20 * np.log10(0.02), abs=0.01)
    assert value["Crest"] == pytest.approx(value["Sample peak"] - value["RMS"])
    assert value["Correlation"] == pytest.approx(-1.0, abs=1e-6)
    assert value["Spectral centroid"] == pytest.approx(995, abs=5)
    assert rows["Line at 100.02 Hz"].note == "50 Hz \u00d7 2"
    assert rows["Line at 100.02 Hz"].value == pytest.approx(-40, abs=0.2)
    assert "Crest\t" in as_text(list(rows.values()))


@pytest.mark.parametrize(
    "samples", [np.zeros((1, 48_000)), np.ones((1, 1)), np.full((2, 3000), 0.5), np.zeros((8, 10))]
)
def test_odd_passages_give_dashes(samples: np.ndarray) -> None:
    rows = passage_figures(ArraySource(samples.astype(np.float32), 48_000), ("x",) * samples.shape[0])
    assert all(row.value is None or np.isfinite(row.value) for row in rows)
