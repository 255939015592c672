# SPDX-License-Identifier: GPL-3.0-or-later
"""The gain rules against closed forms, and what the noise tool does to noise and voice."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.signal import sosfilt
from tests.conftest import voice_in_noise

from pulizia.audio.source import ArraySource
from pulizia.audio.spans import Span
from pulizia.dsp.block_filter import BlockFilter
from pulizia.dsp.limiting import limiter_margin, limiting_gain
from pulizia.dsp.spectral_gain import GainState, decision_directed, log_mmse_gain, noise_gain
from pulizia.dsp.stft import analyse, synthesise
from pulizia.errors import AnalysisError
from pulizia.measure.blocks import k_weighting
from pulizia.measure.noise_floor import quiet_spans
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.steps import make_step


@pytest.mark.parametrize(("xi_db", "gamma_db", "gain"), [
    (-25, -10, 0.133058), (-25, 0, 0.042136), (-25, 10, 0.013513), (-15, 0, 0.133200), (-15, 20, 0.030838),
    (-5, 10, 0.243682), (0, -10, 1.717384), (0, 5, 0.522681), (5, 10, 0.759769), (15, 20, 0.969347),
])  # fmt: skip
def test_log_mmse_gain_equals_the_closed_form(xi_db: float, gamma_db: float, gain: float) -> None:
    """Ephraim and Malah (1985); values by mpmath and by integrating the posterior."""
    xi, gamma = (np.array([10 ** (db / 10)], np.float32) for db in (xi_db, gamma_db))
    assert 20 * np.log10(log_mmse_gain(xi, gamma)[0] / gain) == pytest.approx(0.0, abs=0.04)


@pytest.mark.parametrize(("xi_min_db", "level_db"), [(-15, -16.6), (-25, -19.6)])
def test_decision_directed_noise_floor_in_white_noise(xi_min_db: float, level_db: float) -> None:
    """Alpha 0.98, true noise spectrum, independent frames: power after the gain (bin simulation)."""
    gamma = np.random.default_rng(1).exponential(1.0, (4000, 257)).astype(np.float32)
    xi = decision_directed(gamma, GainState(), alpha=0.98, xi_min=10 ** (xi_min_db / 10))
    power = float(np.mean(log_mmse_gain(xi, gamma)[200:] ** 2 * gamma[200:]))
    assert 10 * np.log10(power) == pytest.approx(level_db, abs=0.3)


def test_batches_of_frames_do_not_show_in_the_gain() -> None:
    gamma = np.random.default_rng(2).exponential(3.0, (100, 129)).astype(np.float32)
    options = {"alpha": 0.96, "xi_min": 0.003, "lowest": 0.2, "bin_hz": 93.75}
    whole = noise_gain(gamma, **options)
    longer = noise_gain(np.concatenate([gamma, gamma]), **options)
    assert np.array_equal(whole, longer[:100])
    assert whole.min() >= 0.2 * 0.9999
    assert whole.max() <= 1.0 + 1e-6


def test_stft_gives_the_signal_back() -> None:
    x = np.random.default_rng(0).standard_normal(20_000).astype(np.float32)
    y = synthesise(analyse(x, 2048, 512), 2048, 512)
    assert np.abs(y[2048:-4096] - x[2048 : len(y) - 4096]).max() < 2e-6


def test_block_filter_equals_a_plain_recursive_filter() -> None:
    x = np.random.default_rng(0).standard_normal((2, 48 * 500)).astype(np.float32)
    made = BlockFilter.of_sections(k_weighting(48_000), 48).apply(x)
    expected = sosfilt(k_weighting(48_000), x.astype(np.float64))
    assert np.abs(made - expected).max() < 1e-4 * np.abs(expected).max()


def repaired(samples: np.ndarray, settings: dict, rate: int = 48_000) -> np.ndarray:
    chain = Chain(ArraySource(samples, rate), [make_step("noise", settings)], ChunkCache(), AnalysisStore())
    return chain.after.read(0, chain.after.frames)


def level(samples: np.ndarray) -> float:
    return 10 * np.log10(np.mean(samples.astype(np.float64) ** 2))


@pytest.mark.parametrize("reduction", [6.0, 12.0, 20.0])
def test_noise_alone_falls_by_the_reduction_and_the_voice_stays(reduction: float) -> None:
    samples = voice_in_noise(8.0)
    after = repaired(samples, {"profile_spans_s": [[0.1, 0.9]], "reduction_db": reduction})
    fell = level(samples[:, 4800:43_200]) - level(after[:, 4800:43_200])
    assert fell == pytest.approx(reduction, abs=0.6)
    loud = np.abs(samples) > 0.05
    assert level(after[loud]) == pytest.approx(level(samples[loud]), abs=0.2)


def test_no_reduction_is_bit_exact_and_stereo_keeps_its_balance() -> None:
    samples = voice_in_noise(4.0, channels=2)
    assert np.array_equal(repaired(samples, {"reduction_db": 0.0, "profile_spans_s": [[0.1, 0.9]]}), samples)
    leaning = samples * np.array([[1.0], [0.5]], np.float32)
    after = repaired(leaning, {"profile_spans_s": [[0.1, 0.9]]})
    voiced = slice(60_000, 180_000)
    before_balance = level(leaning[0, voiced]) - level(leaning[1, voiced])
    assert level(after[0, voiced]) - level(after[1, voiced]) == pytest.approx(before_balance, abs=0.1)


def test_without_a_profile_the_quietest_passages_are_found() -> None:
    samples = voice_in_noise(8.0)
    spans = quiet_spans(ArraySource(samples, 48_000))
    assert all(span.stop <= 1.1 * 48_000 or level(samples[:, span.start : span.stop]) < -50 for span in spans)
    after = repaired(samples, {"reduction_db": 12.0})
    assert level(samples[:, 4800:43_200]) - level(after[:, 4800:43_200]) == pytest.approx(12, abs=1.0)


@pytest.mark.parametrize(("spans", "sentence"), [
    ([[0.1, 0.12]], "20 ms long"), ([[50, 51]], "outside the recording"), ([[7.0, 7.5]], "digital silence"),
])  # fmt: skip
def test_a_useless_profile_is_refused_in_one_sentence(spans: list, sentence: str) -> None:
    samples = voice_in_noise(8.0)
    samples[:, 48_000 * 7 :] = 0
    with pytest.raises(AnalysisError, match=sentence):
        repaired(samples, {"profile_spans_s": spans})


@pytest.mark.parametrize("kind", ["tone", "noise", "pattern", "square"])
@pytest.mark.parametrize("ceiling_db", [-1.0, -6.0])
def test_limiter_keeps_the_exact_true_peak_under_the_ceiling(kind: str, ceiling_db: float) -> None:
    """Exact true peak by 16 times Fourier interpolation, not by the limiter's own detector.

    Clipped noise and square are band-limited to 20 kHz: closer to half the sample rate than 0.43 of it the
    detector's filter falls off, as every converter's does.
    """
    n = 48_000
    rng = np.random.default_rng(4)
    below_20k = lambda x: np.fft.irfft(np.fft.rfft(x) * (np.arange(n // 2 + 1) < 20_000))  # noqa: E731
    wave = {
        "tone": np.sqrt(2) * np.sin(np.pi / 2 * np.arange(n) + np.pi / 4),
        "noise": below_20k(np.clip(rng.standard_normal(n) * 0.5, -1, 1)),
        "pattern": np.where(np.arange(n) % 997 < 2, 1.6, 0.01),
        "square": below_20k(np.sign(np.sin(2 * np.pi * 1000 * np.arange(n) / n))),
    }[kind]
    wave = (wave * np.minimum(1, np.minimum(np.arange(n), n - np.arange(n)) / 2000)).astype(np.float32)
    ceiling = 10 ** (ceiling_db / 20)
    out = wave * limiting_gain(wave[None], 48_000, ceiling)
    fine = np.fft.irfft(np.fft.rfft(out.astype(np.float64)), n * 16) * 16
    assert 20 * np.log10(np.abs(fine).max()) <= ceiling_db + (0.1 if kind == "noise" else 0.05)


def test_limiter_leaves_quiet_sound_alone_and_forgets_after_its_margin() -> None:
    quiet = voice_in_noise(3.0)
    assert np.array_equal(limiting_gain(quiet, 48_000, 0.9), np.ones(quiet.shape[1], np.float32))
    loud = quiet.copy()
    loud[0, 1000:1010] = 3.0
    gain = limiting_gain(loud, 48_000, 0.9)
    before, after = limiter_margin(48_000)
    assert gain[1005] < 0.35
    assert np.array_equal(gain[1010 + before :], np.ones(len(gain) - 1010 - before, np.float32))
    assert np.array_equal(limiting_gain(loud[:, : 60_000 + after], 48_000, 0.9)[:60_000], gain[:60_000])


def test_a_step_confined_to_a_band_changes_only_that_band() -> None:
    rng = np.random.default_rng(0)
    samples = (rng.standard_normal((1, 48_000 * 2)) * 0.1).astype(np.float32)
    step = make_step("level", {"way": "gain", "gain_db": -60.0}, band_hz=(1000.0, 4000.0), spans=(Span(0, 96_000),))
    chain = Chain(ArraySource(samples, 48_000), [step], ChunkCache(), AnalysisStore())
    spectrum = lambda x: np.abs(np.fft.rfft(x[0, 9600:86_400])) ** 2  # noqa: E731
    before, after = spectrum(samples), spectrum(chain.after.read(0, 96_000))
    hz = np.fft.rfftfreq(76_800, 1 / 48_000)
    inside, outside = (hz > 1200) & (hz < 3600), (hz < 850) | (hz > 4700)
    assert 10 * np.log10(after[inside].sum() / before[inside].sum()) < -40  # the side lobes of a Hann-windowed filter
    assert 10 * np.log10(after[outside].sum() / before[outside].sum()) == pytest.approx(0, abs=0.01)
