# SPDX-License-Identifier: GPL-3.0-or-later
"""Clicks that somebody marked, wider than they are: found inside the mark and rebuilt, the rest left as it is."""

from __future__ import annotations

import numpy as np
import pytest
from numpy.typing import NDArray
from tests.contracts.test_moments import treated

from pulizia.dsp.click_detection import Sought, clicks_in
from pulizia.dsp.click_marks import clicks_marked

RATE = 48_000
LONGEST = round(0.012 * RATE)


@pytest.fixture
def spoken(voice: np.ndarray) -> NDArray[np.float64]:
    """One channel of the voice."""
    return voice[0].astype(np.float64)


def popped(
    voice: NDArray[np.floating], at: int, ms: float, height: float
) -> tuple[NDArray[np.float32], NDArray[np.float64]]:
    """The voice with a smooth pop of so many times the loudest within 20 ms, and the pop."""
    frames = round(ms * RATE / 1000)
    pop = np.zeros(len(voice))
    pop[at : at + frames] = np.hanning(frames + 2)[1:-1] * max(0.02, height * np.abs(voice[at - 960 : at + 960]).max())
    return (voice + pop).astype(np.float32), pop


@pytest.mark.parametrize("ms", [0.2, 0.8, 1.5])
@pytest.mark.parametrize("mark_ms", [8.0, 25.0, 60.0])
def test_a_pop_in_a_wide_mark_is_rebuilt_and_the_rest_of_the_mark_is_untouched(
    spoken: np.ndarray, ms: float, mark_ms: float
) -> None:
    for at in (60_000, 97_000, 150_000):  # in words and between them
        sound, pop = popped(spoken, at, ms, 5.0)
        begin, end = at / RATE - 0.4 * mark_ms / 1000, at / RATE + 0.6 * mark_ms / 1000
        made = treated(sound, "clicks", mend_s=[[begin, end]], left_s=[[0.0, 1.1]], sensitivity_db=-12.0)[0]
        error = np.sum((made - spoken) ** 2) / np.sum(pop**2)
        # 7 dB of a row of locked harmonics, 30 to 47 dB of recorded voices
        assert error < 0.25, (at, 10 * np.log10(error))
        if mark_ms > 12.0:
            changed = np.flatnonzero(made != sound)
            assert len(changed) < 0.012 * RATE
            assert at - 96 <= changed[0]
            assert changed[-1] <= at + (ms + 2.0) * RATE / 1000


def test_what_is_found_in_a_mark_is_the_same_wherever_the_block_begins(spoken: np.ndarray) -> None:
    rng = np.random.default_rng(2)
    crack = spoken.astype(np.float32)
    crack[80_010:80_014] += 0.02 * rng.normal(0, 1.0, 4).astype(
        np.float32
    )  # softer than the voice: heard by prediction error
    marks = [clicks_marked(crack[first:], 79_600 - first, 80_600 - first, RATE, LONGEST) for first in (0, 311, 40_000)]
    moved = [[(a + first, b + first) for a, b in found] for first, found in zip((0, 311, 40_000), marks, strict=True)]
    assert moved[0] == moved[1] == moved[2]


def test_a_mark_over_nothing_but_voice_holds_no_click(spoken: np.ndarray) -> None:
    held = [
        clicks_marked(spoken.astype(np.float32), a, a + 1200, RATE, LONGEST) for a in range(30_000, 200_000, 17_000)
    ]
    assert sum(bool(found) for found in held) <= 1
    assert clicks_marked(np.zeros(20_000, np.float32), 9000, 10_000, RATE, LONGEST) == []


@pytest.mark.slow
def test_a_click_at_the_very_end_of_a_recording_is_found_without_a_fault(spoken: np.ndarray) -> None:
    for cut in range(100_000, 100_200, 7):
        sound = spoken[:cut].astype(np.float32)
        sound[-3:] = (0.9, -0.9, 0.9)
        for kind in ("clicks", "lip", "crackle"):
            found = clicks_in(sound, 0, Sought(kind, 6.0, 10.0), RATE)
            assert all(0 <= a < b <= len(sound) for a, b in found)
