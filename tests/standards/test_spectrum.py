# SPDX-License-Identifier: GPL-3.0-or-later
"""Calibration of spectra: closed forms, IEC 61260-1 bands, published window tables."""

from __future__ import annotations

import numpy as np
import pytest

from pulizia.audio.source import ArraySource
from pulizia.measure.spectrum import (
    SPEECH_THIRD_OCTAVES,
    WINDOWS,
    band_centres,
    band_levels_db,
    mains_harmonic,
    nearest_peak,
    noise_bandwidth_bins,
    peaks,
    reference_curve,
    smoothed,
    spectrum,
)

RATE = 48_000


def of(wave: np.ndarray, **options):
    source = ArraySource(np.atleast_2d(wave).astype(np.float32), RATE)
    return spectrum(source, 0, source.frames, **options)


def sine(hz: float, amplitude: float = 1.0, seconds: float = 2.0) -> np.ndarray:
    return amplitude * np.sin(2 * np.pi * hz * np.arange(round(seconds * RATE)) / RATE)


@pytest.mark.parametrize("name", WINDOWS)
@pytest.mark.parametrize("size", [1024, 8192])
def test_a_full_scale_sine_on_a_bin_reads_zero_in_any_window_and_size(name: str, size: int) -> None:
    found = of(sine(round(1000 / RATE * size) * RATE / size), size=size, window_name=name)
    assert found.average_db().max() == pytest.approx(0.0, abs=0.001)
    assert found.maximum_db().max() == pytest.approx(0.0, abs=0.001)


@pytest.mark.parametrize(("name", "bins", "scallop"), [
    ("rectangular", 1.0, -3.92), ("hann", 1.5, -1.424), ("blackman_harris", 2.00435, -0.826), ("flat_top", 3.77025, -0.010),
])  # fmt: skip
def test_windows_have_their_published_bandwidth_and_scalloping(name: str, bins: float, scallop: float) -> None:
    """Harris (1978), Heinzel et al. (2002)."""
    assert noise_bandwidth_bins(name, 4096) == pytest.approx(bins, abs=1e-4)
    assert of(sine(171.5 * RATE / 8192), window_name=name).average_db().max() == pytest.approx(scallop, abs=0.02)


def test_white_noise_reads_its_density_and_level_per_bin() -> None:
    noise = np.random.default_rng(0).standard_normal(RATE * 60) * 0.1
    found = of(noise, size=4096)
    inner = slice(50, -50)
    density = 10 * np.log10(np.mean(10 ** (found.density_db()[inner] / 10)))
    assert density == pytest.approx(-20 - 10 * np.log10(24_000), abs=0.05)
    thirds = band_levels_db(found, 3)
    assert np.diff(thirds[8:]).mean() == pytest.approx(1.0, abs=0.05)  # base-ten bands: 1 dB a step
    at_1k = int(np.argmin(np.abs(band_centres(3) - 1000)))
    assert thirds[at_1k] == pytest.approx(-20 + 3.0103 - 20.170, abs=0.3)


def test_band_centres_are_those_of_the_standard() -> None:
    assert band_centres(3)[[0, 17, 30]] == pytest.approx([19.9526, 1000.0, 19952.62], rel=1e-5)
    assert band_centres(1)[5] == pytest.approx(1000.0)


def test_peaks_are_exact_to_a_hundredth_of_a_hertz_and_named() -> None:
    wave = sine(50.03, 0.1, 8.0) + sine(150.09, 0.05, 8.0) + sine(3333.33, 0.02, 8.0)
    found = of(wave, size=32768, window_name="blackman_harris")
    strongest = peaks(found, most=3)
    assert [p.hz for p in strongest] == pytest.approx([50.03, 150.09, 3333.33], abs=0.01)
    assert [p.level_db for p in strongest] == pytest.approx([-20.0, -26.02, -33.98], abs=0.05)
    assert mains_harmonic(150.09) == "50 Hz \u00d7 3"
    assert mains_harmonic(119.8) == "60 Hz \u00d7 2"
    assert mains_harmonic(3333.0) == ""
    assert nearest_peak(found, 155.0).hz == pytest.approx(150.09, abs=0.01)


def test_smoothing_keeps_the_power_of_noise_and_channels_add_in_power() -> None:
    rng = np.random.default_rng(1)
    found = of(rng.standard_normal(RATE * 10) * 0.1)
    calm = smoothed(found.average, found.hz, 3)
    assert calm[100:3000].sum() == pytest.approx(found.average[100:3000].sum(), rel=0.01)
    assert np.array_equal(smoothed(found.average, found.hz, 0), found.average)
    tone = sine(1000 * 0.999)
    both = of(np.stack([tone, -tone]))
    assert both.average_db().max() == pytest.approx(of(tone).average_db().max(), abs=1e-6)


def test_reference_curves_stand_at_the_level_of_the_passage() -> None:
    assert 10 * np.log10(sum(10 ** (db / 10) for _, db in SPEECH_THIRD_OCTAVES)) == pytest.approx(70.03, abs=0.02)
    found = of(np.random.default_rng(2).standard_normal(RATE * 10) * 0.1)
    hz, level = reference_curve("pink", found)
    octave = np.interp([500.0, 1000.0], hz, level)
    assert octave[1] - octave[0] == pytest.approx(-3.01, abs=0.1)
    inside = (hz >= 63) & (hz <= 16_000)
    own = found.average[(found.hz >= 63) & (found.hz <= 16_000)]
    assert 10 * np.log10(np.sum(10 ** (level[inside] / 10))) == pytest.approx(10 * np.log10(own.sum()), abs=0.1)
    assert reference_curve("nothing", found) is None


def test_passages_shorter_than_a_transform_have_no_spectrum() -> None:
    assert of(np.zeros(100)) is None
    assert np.isfinite(of(np.zeros(10_000)).average_db()).all()


@pytest.mark.parametrize("name", sorted(WINDOWS))
def test_a_tone_between_bins_is_placed_and_measured_exactly_in_any_window(name: str) -> None:
    """Against the tone that was put in: a thousandth of a bin and a hundredth of a decibel."""
    for offset in (-0.45, -0.2, 0.01, 0.33, 0.49):
        hz = (700 + offset) * RATE / 16_384
        sine = 0.1 * np.sin(2 * np.pi * hz * np.arange(4 * RATE) / RATE)
        found = spectrum(ArraySource(sine[None].astype(np.float32), RATE), 0, 4 * RATE, size=16_384, window_name=name)
        top = peaks(found, most=1)[0]
        assert top.hz == pytest.approx(hz, abs=0.004)
        assert top.level_db == pytest.approx(-20.0, abs=0.02)
