# SPDX-License-Identifier: GPL-3.0-or-later
"""Short resonances in noise: what is known of them comes out, over their range, at any rate, one or two."""

from __future__ import annotations

import numpy as np
import pytest

from pulizia.dsp.damped import HIGHEST_HZ, LOWEST_HZ, damped_part

WHITE = np.concatenate([[1.0], np.zeros(12)])  # noise that cannot be predicted
VOICE = np.poly([0.97 * np.exp(1j * w) for w in (0.06, -0.06)]).real  # a formant of 420 Hz


def ring(rate: int, hz: float, tau_s: float, start: float, frames: int) -> np.ndarray:
    """A damped sinusoid that begins at rest at a place between samples."""
    t = (np.arange(frames) - start) / rate
    return np.where(t >= 0.0, np.exp(-np.maximum(t, 0.0) / tau_s) * np.sin(2 * np.pi * hz * t), 0.0)


def error_db(found: np.ndarray, true: np.ndarray) -> float:
    return float(10 * np.log10(np.sum((found - true) ** 2) / np.sum(true**2)))


@pytest.mark.parametrize("hz", [1300.0, 2200.0, 4100.0, 6300.0, 8700.0])
@pytest.mark.parametrize("tau_s", [0.0003, 0.0008, 0.0025])
def test_one_is_found_with_its_frequency_decay_and_place(hz: float, tau_s: float) -> None:
    noise = 0.01 * np.random.default_rng(round(hz)).standard_normal(3200)
    true = ring(48_000, hz, tau_s, 1500.4, 3200)
    fit = damped_part(noise + true, WHITE, 1498, 1620, 48_000)
    assert error_db(fit.wave, true) < -26.0
    assert fit.strongest > 0.98
    assert fit.share >= fit.strongest - 1e-9
    assert not fit.wave[:1499].any()


@pytest.mark.parametrize("rate", [16_000, 44_100, 96_000])
def test_two_in_a_row_are_told_apart_under_a_voice_at_any_rate(rate: int) -> None:
    from scipy.signal import lfilter

    model = VOICE if rate == 44_100 else WHITE
    frames, first = round(0.07 * rate), round(0.03 * rate)
    rng = np.random.default_rng(rate)
    under = lfilter([1.0], model, 0.002 * rng.standard_normal(frames))
    second = first + round(0.0037 * rate)
    true = ring(rate, 2700.0, 0.0007, first, frames) + 0.6 * ring(rate, 3900.0, 0.0009, second, frames)
    fit = damped_part(under + true, model, first - 2, second + round(0.002 * rate), rate)
    assert error_db(fit.wave, true) < -20.0
    assert fit.share > 0.97
    assert 0.4 < fit.strongest < 0.9  # the other is a third of the energy


def test_noise_silence_and_what_lies_outside_the_range_hold_none() -> None:
    noise = np.random.default_rng(2).standard_normal(3000)
    for x in (noise, np.zeros(3000)):
        fit = damped_part(x, WHITE, 1500, 1700, 48_000)
        assert fit.share == fit.strongest == 0.0
        assert not fit.wave.any()
    for hz in (0.5 * LOWEST_HZ, 1.35 * HIGHEST_HZ):
        outside = 0.001 * noise + ring(48_000, hz, 0.004, 1500, 3000)
        assert damped_part(outside, WHITE, 1500, 1700, 48_000).strongest < 0.8
    assert damped_part(noise, WHITE, 1500, 1501, 48_000).share == 0.0
