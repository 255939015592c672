# SPDX-License-Identifier: GPL-3.0-or-later
"""Test signals of EBU Tech 3341 and 3342 and of ITU-R BS.1770-5, and an independent meter.

Layouts of the signals after the documents (from memory, cross-checked by closed forms); the exact
values in the tables follow analytically and were confirmed by libebur128 1.2.6 and pyloudnorm 0.2.0.
"""

from __future__ import annotations

import numpy as np
import pyloudnorm
import pytest
from tests.conftest import voice_in_noise

from pulizia.audio.source import ArraySource
from pulizia.measure.blocks import SegmentStore, k_weighting
from pulizia.measure.loudness import Measures, measure

SILENT = -200.0


def tones(
    parts: list[tuple[float, float]],
    *,
    hz: float = 1000.0,
    rate: int = 48_000,
    gains: tuple[float, ...] = (0.0, 0.0),
    cut_s: float = 0.0,
) -> Measures:
    """Measure a tone whose level (dBFS peak) follows ``parts`` of (level, seconds)."""
    amplitude = np.concatenate([np.full(round(s * rate), 10 ** (db / 20)) for db, s in parts])
    amplitude[: round(cut_s * rate)] = 0
    wave = amplitude * np.sin(2 * np.pi * hz * np.arange(len(amplitude)) / rate)
    channels = np.stack([wave * (0.0 if g is None else 10 ** (g / 20)) for g in gains])
    return measure(ArraySource(channels.astype(np.float32), rate))


PROGRAMMES = {
    "3341-1": ([(-23, 20)], -22.9933),
    "3341-2": ([(-33, 20)], -32.9933),
    "3341-3": ([(-36, 10), (-23, 60), (-36, 10)], -23.0139),
    "3341-4": ([(-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10)], -23.0139),
    "3341-5": ([(-26, 20), (-20, 20.1), (-26, 20)], -22.9787),
}


@pytest.mark.parametrize("name", PROGRAMMES)
def test_integrated_loudness_of_the_minimum_requirement_signals(name: str) -> None:
    parts, exact = PROGRAMMES[name]
    found = tones(parts).integrated_lufs
    assert found == pytest.approx(-33.0 if name == "3341-2" else -23.0, abs=0.1)
    assert found == pytest.approx(exact, abs=0.002)


def test_steady_tone_reads_the_same_on_all_three_time_scales() -> None:
    figures = tones([(-23, 20)])
    for value in (figures.momentary_max_lufs, figures.short_term_max_lufs, figures.integrated_lufs):
        assert value == pytest.approx(-23.0, abs=0.1)


def test_five_channels_with_their_weights_3341_6() -> None:
    figures = tones([(0, 20)], gains=(-28, -28, -24, -30, -30))
    assert figures.integrated_lufs == pytest.approx(-23.0163, abs=0.002)


@pytest.mark.parametrize(("gains", "expected"), [
    ((0.0,), -3.0103), ((0.0, None), -3.0103), ((0.0, 0.0), 0.0),
    ((None, None, None, 0.0, None), -1.5181), ((None, None, None, 0.0, None, None), None),
])  # fmt: skip
def test_channel_weights_of_bs1770(gains: tuple[float, ...], expected: float | None) -> None:
    found = tones([(0, 20)], hz=997.0, gains=gains).integrated_lufs
    assert found == (None if expected is None else pytest.approx(expected, abs=0.002))


def test_short_term_is_constant_3341_9_and_momentary_3341_12() -> None:
    figures = tones([(-20, 1.34), (-30, 1.66)] * 5)
    assert np.allclose(figures.short_term[300:], -22.9863, atol=0.01)
    figures = tones([(-20, 0.18), (-30, 0.22)] * 25)
    assert np.allclose(figures.momentary[100:], -22.9605, atol=0.01)


@pytest.mark.parametrize("i", range(0, 20, 3))
def test_maxima_do_not_depend_on_where_the_sound_begins_3341_10_and_13(i: int) -> None:
    figures = tones([(SILENT, 0.15 * i), (-23, 3), (SILENT, 1)])
    assert figures.short_term_max_lufs == pytest.approx(-23.0, abs=0.1)
    figures = tones([(SILENT, 0.02 * i), (-23, 0.4), (SILENT, 1)])
    assert figures.momentary_max_lufs == pytest.approx(-23.0, abs=0.1)


def test_live_maxima_rise_step_by_step_3341_11_and_14() -> None:
    parts = [p for i in range(20) for p in ((SILENT, 0.15 * i), (-38 + i, 3), (SILENT, 3 - 0.15 * i))]
    curve = tones(parts).short_term
    for i in range(20):
        assert curve[600 * i : 600 * (i + 1)].max() == pytest.approx(-38 + i, abs=0.1)
    parts = [p for i in range(20) for p in ((SILENT, 0.02 * i), (-38 + i, 0.4), (SILENT, 0.4 - 0.02 * i))]
    curve = tones(parts).momentary
    for i in range(20):
        assert curve[80 * i : 80 * (i + 1)].max() == pytest.approx(-38 + i, abs=0.1)


@pytest.mark.parametrize(("period", "amplitude", "degrees", "expected"), [
    (4, 0.5, 0, -6.0), (4, 0.5, 45, -6.0), (6, 0.5, 60, -6.0), (8, 0.5, 67.5, -6.0), (4, 1.41, 45, 3.0),
])  # fmt: skip
def test_true_peak_of_tones_between_the_samples_3341_15_to_19(
    period: int, amplitude: float, degrees: float, expected: float
) -> None:
    wave = amplitude * np.sin(2 * np.pi * np.arange(48_000) / period + np.radians(degrees))
    fade = np.hanning(960)[:480]
    wave[:480] *= fade
    wave[-480:] *= fade[::-1]
    figures = measure(ArraySource(wave[None].astype(np.float32), 48_000))
    assert expected - 0.4 <= figures.true_peak_dbtp <= expected + 0.2
    assert figures.true_peak_dbtp == pytest.approx(expected, abs=0.05)


@pytest.mark.parametrize(("samples", "exact"), [(2, 2.098), (4, 4.597)])
def test_true_peak_of_exact_intersample_patterns(samples: int, exact: float) -> None:
    wave = np.zeros(4800, dtype=np.float32)
    places = np.arange(samples) - samples // 2
    wave[2400 + places] = np.sign(np.sinc(places + 0.5))
    figures = measure(ArraySource(wave[None], 48_000))
    assert figures.true_peak_dbtp == pytest.approx(exact, abs=0.45)  # Annex 2's own example reads 0.2 to 0.45 low
    assert figures.true_peak_dbtp > exact - 0.3


@pytest.mark.parametrize(("rate", "exact"), [
    (8000, -22.986), (11025, -22.959), (16000, -22.960), (22050, -22.971), (32000, -22.986), (44100, -22.997),
    (88200, -23.016), (96000, -23.017), (176400, -23.026), (192000, -23.027),
])  # fmt: skip
def test_loudness_and_true_peak_at_any_rate(rate: int, exact: float) -> None:
    figures = tones([(-23, 5)], hz=997.0, rate=rate)
    assert figures.integrated_lufs == pytest.approx(exact, abs=0.002)
    assert figures.true_peak_dbtp == pytest.approx(-23.0, abs=0.1)


RANGES = {
    "3342-1": ([(-20, 20), (-30, 20)], 10.0), "3342-2": ([(-20, 20), (-15, 20)], 5.0),
    "3342-3": ([(-40, 20), (-20, 20)], 20.0), "steady": ([(-20, 20)], 0.0), "short": ([(-20, 2)], 0.0),
    "3342-4": ([(-50, 20), (-35, 20), (-20, 20), (-35, 20), (-50, 20)], 15.0),
}  # fmt: skip


@pytest.mark.parametrize("name", RANGES)
def test_loudness_range(name: str) -> None:
    parts, expected = RANGES[name]
    assert tones(parts).loudness_range_lu == pytest.approx(expected, abs=0.01)


@pytest.mark.parametrize(("parts", "expected"), [
    ([(-69.9, 10)], -69.9), ([(-70.1, 10)], None), ([(-20, 30), (-29, 30)], -22.4953),
    ([(-20, 30), (-33.2, 30)], -20.0207), ([(-23, 0.3999)], None), ([(-23, 0.4)], -22.999), ([(SILENT, 10)], None),
])  # fmt: skip
def test_gates(parts: list[tuple[float, float]], expected: float | None) -> None:
    found = tones(parts, hz=997.0).integrated_lufs
    assert found == (None if expected is None else pytest.approx(expected, abs=0.002))


def test_k_weighting_gives_the_tables_of_bs1770_and_the_gain_at_997_hz() -> None:
    shelf, high_pass = k_weighting(48_000)
    assert np.allclose(
        shelf,
        [1.53512485958697, -2.69169618940638, 1.19839281085285, 1, -1.69065929318241, 0.73248077421585],
        atol=1e-12,
    )
    assert np.allclose(high_pass, [1, -2, 1, 1, -1.99004745483398, 0.99007225036621], atol=1e-12)


@pytest.mark.parametrize("seed", range(4))
def test_agrees_with_an_independent_meter_on_random_material(seed: int) -> None:
    """Pyloudnorm 0.2 with the De Man filters (the tables of BS.1770)."""
    rng = np.random.default_rng(seed)
    rate = (44_100, 48_000, 96_000, 48_000)[seed]
    samples = voice_in_noise(12.0, rate, 2, seed) * np.repeat(rng.uniform(0.05, 1.0, 24), rate // 2)[None, :]
    reference = pyloudnorm.Meter(rate, filter_class="DeMan")
    expected = reference.integrated_loudness(samples.T.astype(np.float64))
    figures = measure(ArraySource(samples.astype(np.float32), rate))
    assert figures.integrated_lufs == pytest.approx(expected, abs=0.01)


def test_true_peak_equals_a_long_fourier_interpolation() -> None:
    """Exact up to the filter's reach: white noise band-limited to 18 kHz, 16 times by zero padding."""
    rng = np.random.default_rng(3)
    spectrum = np.fft.rfft(rng.standard_normal(48_000))
    spectrum[18_000:] = 0
    wave = np.fft.irfft(spectrum, 48_000) * 0.2
    wave *= np.hanning(48_000)
    fine = np.fft.irfft(np.fft.rfft(wave), 48_000 * 16) * 16
    figures = measure(ArraySource(wave[None].astype(np.float32), 48_000))
    assert figures.true_peak_dbtp == pytest.approx(20 * np.log10(np.abs(fine).max()), abs=0.05)


@pytest.mark.slow
def test_an_edit_costs_only_the_segments_that_it_touches() -> None:
    class Counting(SegmentStore):
        made = 0

        def put(self, key, segment):
            Counting.made += 1
            super().put(key, segment)

    from pulizia.audio.spans import Span
    from pulizia.score.cache import ChunkCache
    from pulizia.score.chain import AnalysisStore, Chain
    from pulizia.score.steps import make_step

    source = ArraySource(voice_in_noise(60.0), 48_000)
    store = Counting()
    measure(source, store)
    assert Counting.made == 6
    step = make_step("level", {"way": "gain", "gain_db": 6.0}, spans=(Span(48_000 * 25, 48_000 * 26),))
    chain = Chain(source, [step], ChunkCache(), AnalysisStore())
    again = measure(chain.after, store)
    assert Counting.made == 7
    assert again.integrated_lufs == pytest.approx(measure(chain.after).integrated_lufs, abs=1e-9)


@pytest.mark.parametrize("samples", [
    np.zeros((1, 48_000)), np.zeros((1, 1)), np.full((1, 48_000), 0.5), np.ones((8, 100)), np.full((2, 1), 1e-9),
])  # fmt: skip
def test_odd_material_gives_figures_or_dashes_never_nonsense(samples: np.ndarray) -> None:
    figures = measure(ArraySource(samples.astype(np.float32), 48_000)).figures()
    for value in figures.values():
        if isinstance(value, float):
            assert np.isfinite(value)


@pytest.mark.slow
def test_true_peaks_are_found_again_when_the_loudest_passage_goes() -> None:
    """Segments skip true peaks under the largest one known; after an edit they must look again."""
    from pulizia.audio.spans import Span
    from pulizia.score.cache import ChunkCache
    from pulizia.score.chain import AnalysisStore, Chain
    from pulizia.score.steps import make_step

    samples = voice_in_noise(45.0, channels=2) * np.float32(0.3)
    samples[:, 48_000 * 5 : 48_000 * 5 + 400] = np.float32(0.8) * np.sin(np.arange(400) * 1.4)
    source, store = ArraySource(samples, 48_000), SegmentStore()
    first = measure(source, store)
    step = make_step("level", {"way": "gain", "gain_db": -60.0}, spans=(Span(48_000 * 4, 48_000 * 6),))
    quieter = Chain(source, [step], ChunkCache(), AnalysisStore()).after
    again, fresh = measure(quieter, store), measure(quieter)
    assert again.true_peak_dbtp < first.true_peak_dbtp - 10
    assert again.channel_true_peak_dbtp == fresh.channel_true_peak_dbtp
