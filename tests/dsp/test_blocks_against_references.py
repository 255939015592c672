# SPDX-License-Identifier: GPL-3.0-or-later
"""Parts of the processing against plain references: SciPy, NumPy, closed forms."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.signal import resample

from pulizia.audio.source import ArraySource
from pulizia.dsp import crossover
from pulizia.dsp.band_frames import band_frames
from pulizia.dsp.dynamics import lines_between, over_frames, smoothed
from pulizia.dsp.limiting import GRID, limiter_reach, limiting_gain, step_frames
from pulizia.dsp.spectral_gain import amplitude_gain, log_mmse_gain
from pulizia.dsp.stft import analyse, hann_window, powers, synthesise
from pulizia.models import treble_net
from pulizia.tools.base import Block
from pulizia.tools.original import OriginalSettings, process

RATE = 48_000
RNG = np.random.default_rng(12)


@settings(max_examples=60, deadline=None)
@given(
    steps=st.integers(1, 40),
    step=st.sampled_from([2, 4, 12, 16, 48]),
    begin=st.integers(-300, 300),
    frames=st.integers(1, 900),
)
def test_lines_between_steps_are_those_of_numpy(steps: int, step: int, begin: int, frames: int) -> None:
    values = np.random.default_rng(steps * step).uniform(0, 1, steps)
    at = np.arange(frames)
    places = (
        begin + step + step // 2 + step * np.arange(steps)
    )  # the first value holds in the middle of the step after begin
    expected = np.interp(at, places, values)
    assert np.abs(lines_between(values, step, begin, step // 2, frames) - expected).max() < 1e-5


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_gains_at_milliseconds_run_over_the_frames_from_middle_to_middle(rate: int) -> None:
    gain_db = RNG.uniform(-20, 0, 50)
    start, frames, first = 1234, 1500, 20
    seconds = (start + np.arange(frames)) / rate
    expected = np.interp(seconds * 1000 - first - 0.5, np.arange(50), 10 ** (gain_db / 20))
    assert np.abs(over_frames(gain_db, first, start, frames, rate) - expected).max() < 2e-3


def test_smoothing_never_overshoots_and_keeps_what_stands_still() -> None:
    wanted = np.repeat(RNG.uniform(-30, 0, 40), 25)
    made = smoothed(wanted, 5.0, 50.0)
    assert made.min() >= wanted.min() - 1e-9
    assert made.max() <= wanted.max() + 1e-9
    assert np.array_equal(smoothed(np.full(100, -7.0), 5.0, 50.0), np.full(100, -7.0))


@pytest.mark.parametrize("frames", [100, 5000, 70_000, 200_001])
def test_bands_in_windows_are_those_of_one_long_transform(frames: int) -> None:
    sound = RNG.standard_normal((2, frames)).astype(np.float32)
    size = 1 << (frames + RATE).bit_length()
    spectrum = np.fft.rfft(sound, size)
    hz = np.fft.rfftfreq(size, 1 / RATE)
    for split, low in zip((300.0, 3800.0), crossover.lows(sound, (300.0, 3800.0), RATE), strict=True):
        expected = np.fft.irfft(spectrum / (1 + (hz / split) ** 4), size)[:, :frames]
        assert np.abs(low - expected).max() < 2e-4 * np.abs(expected).max() + 1e-5


def exact_peaks(samples: np.ndarray, times: int = 16) -> float:
    """True peak of the middle by Fourier interpolation of everything, in dB."""
    finer = np.abs(resample(samples[0].astype(float), times * samples.shape[1]))
    edge = len(finer) // 8
    return float(20 * np.log10(finer[edge:-edge].max()))


@pytest.mark.parametrize("rate", [8000, 22_050, 44_100, 48_000, 96_000])
@pytest.mark.parametrize("adapts", [False, True])
def test_the_limiter_keeps_true_peaks_under_the_ceiling_at_every_rate(rate: int, adapts: bool) -> None:  # noqa: FBT001
    t = np.arange(2 * rate) / rate
    sound = (np.sin(2 * np.pi * 0.19 * rate * t + 0.7) * np.abs(np.sin(2 * np.pi * 1.3 * t)) * 2.0)[None].astype(
        np.float32
    )
    gain = limiting_gain(sound, rate, 0.5, adapts=adapts)
    assert exact_peaks(sound * gain) <= 20 * np.log10(0.5) + 0.05
    assert gain.max() <= 1.0
    assert np.abs(np.diff(gain)).max() < 40.0 / rate  # it never jumps


def test_the_limiter_does_nothing_to_what_is_quiet_and_needs_no_more_context_than_it_says() -> None:
    quiet = (0.2 * RNG.standard_normal((1, RATE))).clip(-0.4, 0.4).astype(np.float32)
    assert np.array_equal(limiting_gain(quiet, RATE, 0.9), np.ones(RATE, np.float32))
    loud = (RNG.standard_normal((1, 6 * RATE)) * np.repeat(RNG.uniform(0.1, 1.0, 60), RATE // 10)).astype(np.float32)
    before, after = limiter_reach(RATE)
    assert before % GRID == 0
    assert GRID % step_frames(RATE) == 0
    whole = limiting_gain(loud, RATE, 0.5)
    first = 4 * RATE // GRID * GRID
    part = limiting_gain(loud[:, first - before : first + 5000 + after], RATE, 0.5)[before : before + 5000]
    assert np.abs(part - whole[first : first + 5000]).max() < 1e-4


@pytest.mark.parametrize("over_db", [28.0, 45.0, 75.0])
def test_a_peak_far_over_the_ceiling_is_held_and_forgotten_within_the_stated_context(over_db: float) -> None:
    quiet = (0.1 * RNG.standard_normal((1, 6 * RATE))).clip(-0.2, 0.2).astype(np.float32)
    loud = quiet.copy()
    loud[:, 2 * RATE : 2 * RATE + 480] = 0.5 * 10 ** (over_db / 20)
    gain = limiting_gain(loud, RATE, 0.5)
    assert exact_peaks(loud * gain) <= 20 * np.log10(0.5) + 0.05
    before, after = limiter_reach(RATE)
    assert np.all(gain[2 * RATE + 480 + before :] == 1.0)
    for past in (480, 9600, 24_000):  # inside the release, the peak itself as far back as the context
        first = (2 * RATE + past) // GRID * GRID
        part = limiting_gain(loud[:, first - before : first + 5000 + after], RATE, 0.5)[before : before + 5000]
        assert np.abs(part - gain[first : first + 5000]).max() < 1e-4


def test_the_amplitude_estimate_is_the_papers_gain_between_its_bounds() -> None:
    gamma = (RNG.exponential(1.0, (50, 30)) * np.linspace(0.5, 200, 30)).astype(np.float32)
    lowest = np.full(30, 0.25, np.float32)
    gain = amplitude_gain(gamma, alpha=0.0, xi_min=1e-3, lowest=lowest)
    xi = np.maximum(gamma - 1.0, 1e-3).astype(np.float32)  # without memory the a-priori SNR is this
    assert np.abs(gain - np.clip(log_mmse_gain(xi, gamma), 0.25, 1.0)).max() < 2e-3
    assert gain.min() >= 0.25
    assert gain.max() <= 1.0


def test_powers_of_some_bins_are_those_of_all() -> None:
    sound = RNG.standard_normal((2, 9000)).astype(np.float32)
    starts = np.arange(0, 8000, 333)
    window = hann_window(512)
    whole = powers(sound, starts, window)
    assert np.array_equal(powers(sound, starts, window, bins=slice(7, 40)), whole[:, 7:40])
    frames = np.stack([sound[:, s : s + 512] for s in starts]) * window
    expected = (np.abs(np.fft.rfft(frames)) ** 2).sum(axis=1)
    assert np.abs(whole - expected).max() < 1e-4 * expected.max()


def test_band_levels_of_a_tone_lie_in_its_band_alone() -> None:
    t = np.arange(RATE) / RATE
    tone = 0.5 * np.sin(2 * np.pi * 1000 * t)
    found, _ = band_frames(
        tone[None].astype(np.float32), 0, RATE, ((100, 400), (700, 1400), (3000, 6000)), step_ms=5.0, window_ms=20.0
    )
    levels = 10 * np.log10(found[:, 10:-10].mean(axis=1) + 1e-20)
    assert levels[1] == pytest.approx(10 * np.log10(0.125), abs=0.1)
    assert max(levels[0], levels[2]) < -80


@pytest.mark.parametrize(("size", "hop"), [(1024, 512), (1024, 256), (2048, 512)])
def test_analysis_and_synthesis_give_the_sound_back(size: int, hop: int) -> None:
    sound = RNG.standard_normal(20 * size).astype(np.float32)
    back = synthesise(analyse(sound, size, hop), size, hop)
    inner = slice(size, len(back) - size)
    assert np.abs(back[inner] - sound[: len(back)][inner]).max() < 1e-5


@pytest.mark.parametrize("offset_frames", [0.0, 17.0, 0.5, -3.25])
def test_the_raw_sound_is_read_between_its_frames(offset_frames: float) -> None:
    """Against the closed form of tones up to 0.4 of the rate."""
    n = np.arange(4 * RATE)
    raw = sum(0.2 * np.sin(2 * np.pi * f * n / RATE + f) for f in (220.0, 5000.0, 19_000.0))
    block = Block(np.zeros((1, 6000), np.float32), 50_000, RATE)
    made = process(
        block,
        OriginalSettings(recording="x", offset_s=offset_frames / RATE),
        ArraySource(raw[None].astype(np.float32), RATE),
    )
    at = 50_000 + np.arange(6000) + offset_frames
    expected = sum(0.2 * np.sin(2 * np.pi * f * at / RATE + f) for f in (220.0, 5000.0, 19_000.0))
    assert np.abs(made[0] - expected).max() < 2e-4
    if offset_frames == int(offset_frames):
        assert np.array_equal(made[0], raw[50_000 + int(offset_frames) :][:6000].astype(np.float32))


def test_drift_gain_and_polarity_of_the_raw_sound_are_followed() -> None:
    n = np.arange(6 * RATE)
    raw = ArraySource((0.2 * np.sin(2 * np.pi * 1000 * n / RATE))[None].astype(np.float32), RATE)
    block = Block(np.zeros((2, 4000), np.float32), 4 * RATE, RATE)
    made = process(block, OriginalSettings(recording="x", drift_count=100.0, gain_db=-6.0, inverted=True), raw)
    at = (4 * RATE + np.arange(4000)) * 1.0001
    expected = -(10 ** (-6 / 20)) * 0.2 * np.sin(2 * np.pi * 1000 * at / RATE)
    assert np.abs(made - expected).max() < 2e-4
    assert np.array_equal(made[0], made[1])
    assert process(block, OriginalSettings(recording="x"), None) is block.samples


def test_the_net_of_treble_hears_only_what_lies_under_the_cut() -> None:
    heard = RNG.uniform(-40, 10, (20, len(treble_net.HEARD_HZ))).astype(np.float32)
    heard[:, :9] = np.maximum(heard[:, :9], -10)
    told = treble_net.treble_db(heard, 3000.0)
    assert told.shape == (20, len(treble_net.MADE_HZ))
    assert np.isfinite(told).all()
    changed = heard.copy()
    changed[:, treble_net.HEARD_HZ > 3600] = 30.0
    assert np.array_equal(treble_net.treble_db(changed, 3000.0), told)
    silent = np.full((5, len(treble_net.HEARD_HZ)), treble_net.LOWEST_DB, np.float32)
    assert treble_net.treble_db(silent, 3000.0).max() < -30  # no voice, no treble


def test_levels_relative_to_a_voice_are_nought_at_its_mean() -> None:
    hz = np.arange(513) * RATE / 1024
    speech, pause = RNG.uniform(1.0, 2.0, 513), np.full(513, 0.01)
    levels = treble_net.relative_db(speech[None].astype(np.float32), speech, pause, hz, treble_net.HEARD_HZ)
    assert np.abs(levels).max() < 0.01
    assert treble_net.relative_db(
        pause[None].astype(np.float32), speech, pause, hz, treble_net.HEARD_HZ
    ) == pytest.approx(treble_net.LOWEST_DB, abs=0.1)
    bins = treble_net.over_bins(np.zeros((3, len(treble_net.MADE_HZ)), np.float32), hz[100:200])
    assert np.abs(bins - 1.0).max() < 1e-6
