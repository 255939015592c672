# SPDX-License-Identifier: GPL-3.0-or-later
"""Time stretching: length, pitch, silence, and speech against the voice it was made from."""

from __future__ import annotations

import numpy as np
import pytest
from tests.conftest import voice_in_noise

from pulizia.audio.source import ArraySource, read_padded
from pulizia.dsp.time_stretch import Stretcher

RATE = 48_000


def stretched(samples: np.ndarray, speed: float, seconds: float) -> np.ndarray:
    source = ArraySource(samples.astype(np.float32), RATE)
    made = Stretcher(lambda a, b: read_padded(source, a, b), RATE, speed, 0)
    return np.concatenate([made.block() for _ in range(round(seconds / 0.02))], axis=1)


def test_at_its_own_speed_a_sound_comes_out_as_it_is() -> None:
    voice = voice_in_noise(2.0)
    made = stretched(voice, 1.0, 1.8)
    assert np.abs(made - voice[:, : made.shape[1]]).max() < 1e-6


@pytest.mark.parametrize("speed", [0.5, 0.7, 1.5, 2.0])
def test_the_spectrum_of_a_voice_stays_and_its_envelope_follows_the_speed(speed: float) -> None:
    voice = voice_in_noise(4.0, channels=2)
    made = stretched(voice, speed, 3.6 / max(speed, 1.0))
    used = voice[:, : round(made.shape[1] * speed)]
    spectra = []
    for sound in (used, made):
        looks = sound[0][: len(sound[0]) // 2048 * 2048].reshape(-1, 2048) * np.hanning(2048)
        power = (np.abs(np.fft.rfft(looks)) ** 2).mean(axis=0)
        thirds = [power[round(f / 23.4) : round(1.26 * f / 23.4) + 1].mean() for f in (120, 250, 500, 1000, 2000)]
        spectra.append(10 * np.log10(thirds))
    assert np.abs(spectra[0] - spectra[1]).max() < 2.0  # dB, in thirds of octaves: no formant has moved
    count = 40
    envelope = [np.sqrt([part.var() for part in np.array_split(sound[0], count)]) for sound in (used, made)]
    assert np.corrcoef(*envelope)[0, 1] > 0.9


def test_silence_stays_silence_and_channels_stay_together() -> None:
    assert not stretched(np.zeros((2, RATE)), 0.5, 1.0).any()
    voice = voice_in_noise(2.0)[0]
    made = stretched(np.stack([voice, -0.5 * voice]), 0.5, 2.0)
    assert np.abs(made[1] + 0.5 * made[0]).max() < 1e-6
