# SPDX-License-Identifier: GPL-3.0-or-later
"""Filters and interpolation against handbook values and a reference library (SciPy)."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.signal import butter, freqz_sos, sosfilt

from pulizia.audio.source import ArraySource
from pulizia.dsp import biquads
from pulizia.dsp.autoregression import detection, fill, model_of, models
from pulizia.score.cache import ChunkCache
from pulizia.score.chain import AnalysisStore, Chain
from pulizia.score.steps import make_step
from pulizia.tools import equaliser
from pulizia.tools.equaliser import EqualiserSettings

RATE = 48_000


@pytest.mark.parametrize(
    ("made", "expected"),
    [
        (
            biquads.bell(1000, 6, 1, RATE),
            (1.043953086990, -1.895320723937, 0.867722284760, -1.895320723937, 0.911675371750),
        ),
        (
            biquads.bell(6500, -9, 4, RATE),
            (0.912078133800, -1.138988847882, 0.815374777551, -1.138988847882, 0.727452911351),
        ),
        (
            biquads.notch(50, 30, RATE),
            (0.999890929598, -1.999739027197, 0.999890929598, -1.999739027197, 0.999781859196),
        ),
        (biquads.band(1000, 2, RATE), (0.031600378776, 0.0, -0.031600378776, -1.920229656437, 0.936799242447)),
        (
            biquads.shelf(200, 6, np.sqrt(0.5), RATE, high=False),
            (1.006445577851, -1.968612352320, 0.963120058273, -1.968850107386, 0.969327881058),
        ),
        (
            biquads.shelf(8000, -4, np.sqrt(0.5), RATE, high=True),
            (0.739665724473, -0.367563410894, 0.159448628069, -0.737999011332, 0.269549952980),
        ),
    ],
)
def test_sections_equal_the_cookbook(made: np.ndarray, expected: tuple[float, ...]) -> None:
    """Coefficients at 48 kHz from the formulae, equal to an independent double-precision implementation."""
    assert np.delete(made[0], 3) == pytest.approx(expected, abs=2e-6)
    assert made[0, 3] == 1.0


@pytest.mark.parametrize("order", range(1, 9))
@pytest.mark.parametrize("high", [True, False])
def test_slopes_are_butterworth(order: int, *, high: bool) -> None:
    hz = np.array([100.0, 500.0, 1000.0, 2000.0, 10_000.0])
    _, reference = freqz_sos(butter(order, 1000, "high" if high else "low", fs=RATE, output="sos"), hz, fs=RATE)
    made = biquads.response_db(biquads.passes(1000, order, RATE, high=high), hz, RATE)
    assert made == pytest.approx(20 * np.log10(np.abs(reference)), abs=1e-6)
    assert made[2] == pytest.approx(-3.0103, abs=1e-4)


@pytest.mark.parametrize("phase", ["minimum", "linear"])
def test_the_drawn_curve_is_that_of_the_filter_that_runs(phase: str) -> None:
    """Measured with an impulse through the step, to 20 kHz within a tenth of a decibel."""
    bands = [
        ["high-pass", 80.0, 0.0, 18.0],
        ["bell", 900.0, -5.0, 3.0],
        ["high shelf", 6000.0, 4.0, 0.707],
        ["low-pass", 15_000.0, 0.0, 12.0],
    ]
    step = make_step("equaliser", {"bands": bands, "phase": phase, "matched": True})
    impulse = np.zeros((1, 4 * RATE), np.float32)
    impulse[0, 2 * RATE] = 1.0
    made = Chain(ArraySource(impulse, RATE), [step], ChunkCache(), AnalysisStore()).after.read(0, 4 * RATE)[0]
    spectrum = 20 * np.log10(np.abs(np.fft.rfft(made.astype(float))) + 1e-9)
    hz = np.array([100.0, 200.0, 700.0, 900.0, 1500.0, 5000.0, 9000.0, 14_000.0, 20_000.0])
    drawn = equaliser.response_db(step.settings, hz, RATE)
    assert spectrum[(hz * 4).astype(int)] == pytest.approx(drawn, abs=0.1)
    if phase == "linear":
        assert made[2 * RATE - 5000 : 2 * RATE] == pytest.approx(made[2 * RATE + 5000 : 2 * RATE : -1], abs=1e-6)


def test_opposite_bells_cancel_and_an_empty_equaliser_is_bit_exact() -> None:
    noise = np.random.default_rng(1).normal(0, 0.1, (1, RATE)).astype(np.float32)
    pair = [["bell", 1000.0, 6.0, 1.0], ["bell", 1000.0, -6.0, 1.0]]
    made = Chain(
        ArraySource(noise, RATE), [make_step("equaliser", {"bands": pair})], ChunkCache(), AnalysisStore()
    ).after.read(0, RATE)
    assert made == pytest.approx(noise, abs=1e-6)
    same = Chain(ArraySource(noise, RATE), [make_step("equaliser", {})], ChunkCache(), AnalysisStore()).after.read(
        0, RATE
    )
    assert np.array_equal(same, noise)
    zero = EqualiserSettings(bands=(("bell", 500.0, 0.0, 1.0),))
    assert equaliser.response_db(zero, np.array([500.0]), RATE) == pytest.approx([0.0])


def test_missing_samples_of_known_models_are_recovered() -> None:
    """A decaying resonance and a sine are recovered exactly, polynomials continue (least squares, by arithmetic)."""
    n = np.arange(60)
    decay = 0.9**n * np.cos(0.2 * np.pi * n)
    gap = (n >= 20) & (n < 30)
    assert fill(decay, gap, np.array([1.0, -1.45623059, 0.81])) == pytest.approx(decay, abs=1e-7)
    n = np.arange(400)
    w = 2 * np.pi * 1000 / RATE
    gap = (n >= 150) & (n < 198)
    sine = np.sin(w * n + 0.3)
    assert fill(np.where(gap, 0.0, sine), gap, np.array([1.0, -2 * np.cos(w), 1.0])) == pytest.approx(sine, abs=1e-4)
    line = np.array([1.0, 2, 3, 0, 5, 6, 7])
    assert fill(line, np.arange(7) == 3, np.array([1.0, -2.0, 1.0]))[3] == pytest.approx(4.0, abs=1e-6)


def test_models_and_detection_have_their_known_figures() -> None:
    """Process of 1 kHz and radius 0.98: coefficients within 0.005; a click gains 10 log10(sum a^2) by the matched filter."""
    rng = np.random.default_rng(2)
    truth = np.array([1.0, -1.94323193, 0.9604])
    x = sosfilt(np.array([[1.0, 0.0, 0.0, *truth]]), rng.normal(0, 1, 30_000))[5000:]
    assert model_of(x[:19_200], 2) == pytest.approx(truth, abs=0.005)
    frames = np.stack([x[:4096], x[4096:8192]]).astype(np.float32)
    fitted = models(frames * np.hanning(4096).astype(np.float32), 2)
    assert fitted[0] == pytest.approx(truth, abs=0.02)
    alone = np.abs(detection(frames, fitted))
    frames[0, 2000] += 0.5 * float(frames.std())
    clicked = np.abs(detection(frames, fitted))
    expected = 0.5 * frames.std() * np.sqrt(np.sum(truth**2))  # in sigmas of the error
    assert clicked[0, 2000] == pytest.approx(expected, rel=0.35)
    inner = slice(100, -100)  # the edges of a frame lack context
    assert clicked[0, inner].argmax() == 1900
    assert clicked[0, 2000] > 3 * alone[0, inner].max()
    assert np.array_equal(clicked[1], alone[1])
