# SPDX-License-Identifier: GPL-3.0-or-later
"""Axes, bands, sharpening and colour ramps of the sonogram."""

from __future__ import annotations

import tracemalloc

import numpy as np
import pytest

from pulizia.audio.source import ArraySource
from pulizia.desktop.ramps import ramp_colours, srgb_of
from pulizia.desktop.theme import THEMES
from pulizia.measure.frequency_axis import FrequencyAxis, mel_of
from pulizia.measure.sonogram import CODE_FLOOR_DB, CODE_STEP_DB, sonogram
from pulizia.measure.sonogram_scale import SonogramScale

RATE = 48_000


def levels(source: ArraySource, scale: SonogramScale, frames_per_column: float = 480.0) -> np.ndarray:
    return CODE_FLOOR_DB + CODE_STEP_DB * sonogram(source, 24_000, frames_per_column, 64, scale).astype(float)


@pytest.mark.parametrize("kind", ["log", "linear", "mel"])
def test_axes_go_there_and_back_and_run_upwards(kind: str) -> None:
    axis = FrequencyAxis(kind, 40.0, 20_000.0)
    share = np.linspace(0, 1, 101)
    hz = axis.hz_at(share)
    assert hz[[0, -1]] == pytest.approx([40, 20_000])
    assert (np.diff(hz) > 0).all()
    assert axis.share_of(hz) == pytest.approx(share, abs=1e-12)
    assert all(40 <= tick <= 20_000 for tick in axis.ticks())
    assert len(axis.ticks()) >= 5


def test_mel_is_1000_at_1000_hz() -> None:
    assert mel_of(1000.0) == pytest.approx(1000.0, abs=0.1)  # O'Shaughnessy 1987


@pytest.mark.parametrize("axis", ["log", "linear", "mel", "bands"])
@pytest.mark.parametrize("size", [0, 4096])
def test_a_full_scale_tone_reads_zero_at_its_height_on_any_axis(axis: str, size: int) -> None:
    hz = 176 * RATE / 8192  # on a bin of every size
    source = ArraySource(np.sin(2 * np.pi * hz * np.arange(3 * RATE) / RATE)[None].astype(np.float32), RATE)
    scale = SonogramScale(axis=axis, size=size)
    column = levels(source, scale)[:, 30]
    row = int(scale.row_of_hz(hz))
    # a row whose middle lies beside the bin reads what lies between two bins: up to 2 dB less
    assert column[max(0, row - 1) : row + 2].max() == pytest.approx(0.0, abs=2.1)
    assert column[: max(1, row // 2)].max() < -40


def test_white_noise_rises_by_one_decibel_per_third_octave() -> None:
    """Base-ten third octaves of white noise grow by exactly 1 dB (IEC 61260-1, by arithmetic)."""
    noise = np.random.default_rng(5).normal(0, 0.1, (1, 10 * RATE)).astype(np.float32)
    scale = SonogramScale(axis="bands", size=8192, rows=600)
    picture = CODE_FLOOR_DB + CODE_STEP_DB * sonogram(ArraySource(noise, RATE), 0, 4800, 90, scale).astype(float)
    power = 10 * np.log10(np.mean(10 ** (picture / 10), axis=1))
    at = lambda hz: power[int(scale.row_of_hz(hz))]  # noqa: E731
    assert at(10_000) - at(1000) == pytest.approx(10.0, abs=0.4)


def test_sharpening_puts_a_tone_in_one_row_and_a_click_in_one_column() -> None:
    t = np.arange(3 * RATE) / RATE
    tone = 0.5 * np.sin(2 * np.pi * 1000 * t)
    scale = SonogramScale(sharpened=True, size=2048)
    column = levels(ArraySource(tone[None].astype(np.float32), RATE), scale)[:, 30]
    row = int(scale.row_of_hz(1000))
    assert column[row - 1 : row + 2].max() == pytest.approx(-6.0, abs=1.0)
    assert np.delete(column, [row - 1, row, row + 1]).max() < -50
    click = np.zeros((1, 3 * RATE), np.float32)
    click[0, 24_000 + 30 * 120 + 60] = 1.0
    picture = 10 ** (levels(ArraySource(click, RATE), scale, 120.0) / 10)
    energy = picture.sum(axis=0)
    assert energy[30] / energy.sum() > 0.9
    silent = levels(ArraySource(np.zeros((1, 3 * RATE), np.float32), RATE), scale)
    assert silent.max() == CODE_FLOOR_DB


@pytest.mark.parametrize("theme", sorted(THEMES))
def test_straight_ramps_are_even_and_their_lightness_alone_tells_the_level(theme: str) -> None:
    """Steps in OKLab (Ottosson 2020) are equal within a tenth; lightness is monotone for any colour vision."""
    value = np.linspace(0, 1, 33)
    for name in ("straw", "heather"):
        rgb = ramp_colours(name, THEMES[theme], value)
        assert rgb.min() >= 0
        assert rgb.max() <= 1
        lab = oklab_of(rgb)
        steps = np.linalg.norm(np.diff(lab, axis=0), axis=1)
        assert steps.max() / steps.min() < 1.25
        direction = -1 if theme == "linen" else 1
        assert (direction * np.diff(lab[:, 0]) > 0.01).all()


def oklab_of(rgb: np.ndarray) -> np.ndarray:
    """From sRGB, by the published forward matrices: checks the inverse ones of the application."""
    linear = np.where(rgb <= 0.04045, rgb / 12.92, ((rgb + 0.055) / 1.055) ** 2.4)
    to_lms = np.array(
        [
            [0.4122214708, 0.5363325363, 0.0514459929],
            [0.2119034982, 0.6806995451, 0.1073969566],
            [0.0883024619, 0.2817188376, 0.6299787005],
        ]
    )
    to_lab = np.array(
        [
            [0.2104542553, 0.7936177850, -0.0040720468],
            [1.9779984951, -2.4285922050, 0.4505937099],
            [0.0259040371, 0.7827717662, -0.8086757660],
        ]
    )
    return np.cbrt(linear @ to_lms.T) @ to_lab.T


def test_oklab_there_and_back() -> None:
    grey = oklab_of(srgb_of(np.array([[0.5, 0.02, -0.05], [0.8, 0.0, 0.0]])))
    assert grey == pytest.approx(np.array([[0.5, 0.02, -0.05], [0.8, 0.0, 0.0]]), abs=1e-3)


def test_zooming_the_frequency_axis_a_hundred_times_keeps_nothing() -> None:
    source = ArraySource(np.random.default_rng(1).standard_normal((1, RATE)).astype(np.float32), RATE)

    def zoomed(steps: range) -> int:
        for n in steps:
            sonogram(source, 0.0, 400.0, 8, SonogramScale(low_hz=40.0 + n, high_hz=20_000.0 - 10 * n))
        return tracemalloc.get_traced_memory()[0]

    tracemalloc.start()
    try:
        first = zoomed(range(50))
        assert zoomed(range(50, 150)) < first + 500_000  # each step once kept a megabyte
    finally:
        tracemalloc.stop()
