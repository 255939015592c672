# SPDX-License-Identifier: GPL-3.0-or-later
"""A recording found in another one by its sound: where, by which clock, how loud."""

from __future__ import annotations

import numpy as np
import pytest
from tests.golden.pairs import made

from pulizia import api
from pulizia.measure.same_sound import SHORTEST_S, find_same
from pulizia.media.open import open_media

RATE = 48_000


def long_talk() -> np.ndarray:
    """The demo's recordings one after the other, 74 s."""
    every = [open_media(path).source for path in api.demo_files()]
    return np.concatenate([source.read(0, source.frames)[0].astype(np.float64) for source in every])[: 74 * RATE]


@pytest.mark.parametrize("ppm", [0.0, 60.0, -110.0])
def test_offset_clock_and_gain_of_a_processed_copy(ppm: float) -> None:
    raw = long_talk()
    moments = 4 * RATE + np.arange(60 * RATE) * (1.0 + 1e-6 * ppm)
    found = find_same(made(0.5 * np.interp(moments, np.arange(len(raw)), raw)), made(raw))
    assert found is not None
    assert found.offset_s == pytest.approx(4.0, abs=2e-4)
    assert found.drift_ppm == pytest.approx(ppm, abs=3.0)
    assert found.gain_db == pytest.approx(-6.02, abs=0.1)
    assert not found.inverted


def test_speakers_at_two_distances_are_no_clock() -> None:
    """Another microphone hears one of them 8 ms later: of whom more is heard at the end no line can be drawn through that."""
    raw = long_talk()
    turns = np.arange(len(raw)) // (6 * RATE)
    late = np.isin(turns, (1, 4, 7, 8, 10))
    far = np.where(late, 0.0, raw) + np.roll(np.where(late, raw, 0.0), round(0.008 * RATE))
    noise = 0.01 * np.random.default_rng(3).standard_normal(len(raw))
    found = find_same(made(far + noise), made(raw))
    assert found is not None
    assert found.drift_ppm == 0.0
    assert -0.0081 < found.offset_s < 0.0001


def test_what_is_not_there_or_too_short_is_not_found() -> None:
    raw = long_talk()
    assert find_same(made(raw[70 * RATE :: -1][: 6 * RATE]), made(raw)) is None
    assert find_same(made(raw[: round(0.9 * SHORTEST_S * RATE)]), made(raw)) is None
