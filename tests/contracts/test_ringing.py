# SPDX-License-Identifier: GPL-3.0-or-later
"""What Ringing takes for a resonance."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.signal import lfilter, sosfilt

from pulizia.audio.source import ArraySource
from pulizia.dsp import biquads
from pulizia.inspection.inspect import find_kind
from pulizia.tools import ringing

RATE = 48_000
PLACES = (480.0, 1130.0, 2710.0)


def voice(pitch_hz: float, spread: float, seconds: float = 12.0) -> np.ndarray:
    """Pulses through changing formants, with some noise; the pitch wanders by a share ``spread`` of itself."""
    rng = np.random.default_rng(2)
    n = round(seconds * RATE)
    t = np.arange(n) / RATE
    wander = np.interp(
        t, np.arange(0, seconds + 1, 0.4), rng.uniform(-spread, spread, len(np.arange(0, seconds + 1, 0.4)))
    )
    phase = np.cumsum(pitch_hz * (1 + wander) / RATE)
    pulses = np.diff(np.floor(phase), prepend=0.0)
    sound = np.zeros(n)
    for start in range(0, n, RATE // 4):
        part = pulses[start : start + RATE // 4]
        for hz in rng.uniform((300, 900, 2000), (800, 1900, 3200)):
            r = np.exp(-np.pi * 120 / RATE)
            sound[start : start + len(part)] += lfilter(
                [1.0], [1.0, -2 * r * np.cos(2 * np.pi * hz / RATE), r * r], part
            )
    sound *= np.clip(np.sin(2 * np.pi * 0.5 * t) * 4 + 2, 0, 1)
    return 0.05 * sound / sound.std() + rng.normal(0, 1e-4, n)


def found(sound: np.ndarray) -> list[float]:
    source = ArraySource(sound[None].astype(np.float32), RATE)
    return [r.hz for r in ringing.analyse(source, (), ringing.RingingSettings(), lambda _share: None)]


@pytest.mark.parametrize("pitch_hz", [118.0, 200.3, 241.0])
def test_a_voice_that_keeps_to_one_pitch_has_no_resonances(pitch_hz: float) -> None:
    harmonics = [hz for hz in found(voice(pitch_hz, 0.012)) if abs(hz / pitch_hz - round(hz / pitch_hz)) < 0.08]
    assert len(harmonics) <= 1


def test_resonances_are_found_behind_a_voice_that_moves() -> None:
    """Three bells of 14 dB."""
    sections = np.concatenate([biquads.bell(hz, 14.0, 18.0, RATE) for hz in PLACES])
    places = found(sosfilt(sections, voice(131.0, 0.15)))
    assert sum(any(abs(hz / place - 1) < 0.02 for hz in places) for place in PLACES) >= 2


@pytest.mark.parametrize(("gain_db", "told"), [(10.0, False), (12.0, True)])
def test_only_what_stands_out_further_than_in_clean_voices_is_told(gain_db: float, *, told: bool) -> None:
    """The step finds both, 6.2 and 7.6 dB over the voice; somebody has to add it for the weaker one."""
    sound = sosfilt(np.atleast_2d(biquads.bell(PLACES[1], gain_db, 18.0, RATE)), voice(131.0, 0.15))
    assert any(abs(hz / PLACES[1] - 1) < 0.02 for hz in found(sound))
    assert (find_kind("ringing", ArraySource(sound[None].astype(np.float32), RATE)) is not None) is told
