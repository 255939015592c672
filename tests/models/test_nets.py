# SPDX-License-Identifier: GPL-3.0-or-later
"""The small nets: what they say does not depend on how much is asked at once."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from pulizia.models import cell_net, noise_net, speech_net
from pulizia.models.cell_net import asked_bins


@given(bins=st.integers(1, 1200), bin_hz=st.floats(5.0, 60.0))
def test_what_lies_between_two_asked_bins_lies_on_a_line(bins: int, bin_hz: float) -> None:
    asked = asked_bins(bins, bin_hz)
    line = np.linspace(0.0, 1.0, bins, dtype=np.float32)[None]
    assert np.abs(asked.between(line[:, asked.at]) - line).max() < 1e-6
    assert asked.at[0] == 0
    assert asked.at[-1] == bins - 1
    below_2k = asked.at[asked.at * bin_hz < 2000.0]
    assert np.array_equal(below_2k, np.arange(len(below_2k)))


def test_speech_is_told_alike_in_pieces_of_any_size(monkeypatch: pytest.MonkeyPatch) -> None:
    rng = np.random.default_rng(1)
    over = (10.0 ** rng.normal(0.3, 0.6, (1500, speech_net.BANDS))).astype(np.float32)
    level = rng.normal(-15.0, 10.0, 1500).astype(np.float32)
    whole = speech_net.speaks(over, level, 30.0)
    monkeypatch.setattr(speech_net, "STEPS_AT_ONCE", 97)
    for one, other in zip(whole, speech_net.speaks(over, level, 30.0), strict=True):
        assert np.abs(one - other).max() < 1e-5
        assert one.min() >= 0.0
        assert one.max() <= 1.0


def test_noise_is_told_alike_in_pieces_of_any_size(monkeypatch: pytest.MonkeyPatch) -> None:
    rng = np.random.default_rng(2)
    ratio = (10.0 ** rng.normal(0.2, 0.8, (300, 512))).astype(np.float32)
    classical = rng.uniform(0.03, 1.0, ratio.shape).astype(np.float32)
    hz = np.arange(512) * 23.4375
    whole = noise_net.share(ratio, classical, hz)
    monkeypatch.setattr(noise_net, "FRAMES_AT_ONCE", 31)
    monkeypatch.setattr(cell_net, "CELLS_AT_ONCE", 500)
    assert np.abs(whole - noise_net.share(ratio, classical, hz)).max() < 1e-5
