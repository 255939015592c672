# SPDX-License-Identifier: GPL-3.0-or-later
"""Tones under a voice come out with the beginnings and ends that they have, sudden or soft."""

from __future__ import annotations

import numpy as np
import pytest
from tests.conftest import voice_in_noise

from pulizia.dsp.tone_lines import sounding, tone_lines

RATE = 48_000
RINGS = ((0.30, 0.72), (1.05, 1.41))


def rung(hz: float, ramp_s: float, frames: int) -> tuple[np.ndarray, np.ndarray]:
    """A tone that rings twice, and how loud it is at every frame."""
    t = np.arange(frames) / RATE
    shape = np.zeros(frames)
    for a, b in RINGS:
        shape += np.clip(np.minimum((t - a) / max(ramp_s, 1e-9), (b - t) / max(ramp_s, 1e-9)), 0.0, 1.0)
    return shape * np.sin(2 * np.pi * hz * t + 0.7), shape


@pytest.mark.parametrize("ramp_s", [0.0, 0.006, 0.02])
def test_a_ring_is_taken_out_from_its_first_to_its_last_sample(ramp_s: float) -> None:
    voice = voice_in_noise(4.0)[0, RATE : RATE + 86_400].astype(np.float64)
    one, shape = rung(1234.0, ramp_s, len(voice))
    two, _ = rung(1777.0, ramp_s, len(voice))
    loud = np.sqrt(np.mean(voice**2))
    both = loud * 0.3 * (one + 0.7 * two)
    sound = (voice + both)[None].astype(np.float32)
    lines = tone_lines(sound, 0, RATE, [1234.4, 1776.7])
    assert [round(line.hz) for line in lines] == [1234, 1777]
    found = sum(sounding(line, 0, len(voice), RATE) for line in lines)[0]
    error = found - both
    assert 10 * np.log10(np.sum(error**2) / np.sum(both**2)) < -20.0
    beside = np.convolve(shape > 0.0, np.ones(2 * round(0.032 * RATE) + 1), "same") > 0.5
    assert np.sqrt(np.mean(found[~beside] ** 2)) < 0.05 * np.sqrt(np.mean(both[shape > 0.5] ** 2))
    edges = np.diff(shape > 0.5, prepend=False)
    near = np.convolve(edges, np.ones(round(0.03 * RATE)), "same") > 0.5
    assert 10 * np.log10(np.sum(error[near] ** 2) / np.sum(both[near] ** 2)) < -14.0


def test_a_line_is_the_same_wherever_it_is_read_from() -> None:
    voice = voice_in_noise(3.0)[0, :96_000].astype(np.float64)
    tone, _ = rung(900.0, 0.004, len(voice))
    (line,) = tone_lines((voice + 0.2 * tone)[None].astype(np.float32), 5000, RATE, [900.0])
    whole = sounding(line, 5000, 96_000, RATE)[0]
    parts = [sounding(line, 5000 + k, 24_000, RATE)[0] for k in range(0, 96_000, 24_000)]
    assert np.array_equal(np.concatenate(parts), whole)
    assert not sounding(line, 0, 4000, RATE).any()
    assert not sounding(line, 5000 + 97_000, 1000, RATE).any()
