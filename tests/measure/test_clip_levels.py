# SPDX-License-Identifier: GPL-3.0-or-later
"""Where peaks were clipped, also when noise, a conversion or a codec came afterwards; and nothing where they were not."""

from __future__ import annotations

from importlib.resources import as_file, files

import numpy as np
import pytest
import soxr
from scipy.signal import fftconvolve, firwin

from pulizia.audio.source import ArraySource
from pulizia.measure.clip_levels import CutLevels, clip_levels
from pulizia.media.open import open_media

RATE = 48_000


@pytest.fixture(scope="module", params=["hall-of-pendulums", "interview-keeper-anselmi"])
def voice(request: pytest.FixtureRequest) -> np.ndarray:
    with as_file(files("pulizia.data").joinpath(f"demo/{request.param}.flac")) as path:
        return open_media(path).source.read(RATE, 16 * RATE)[0].astype(np.float64)


def levels_of(samples: np.ndarray) -> CutLevels:
    return clip_levels(ArraySource(np.atleast_2d(samples).astype(np.float32), RATE), (), lambda _share: None)


def clipped(voice: np.ndarray, what: str) -> tuple[np.ndarray, float]:
    level = float(np.abs(voice).max()) / 2
    cut = np.clip(voice, -level, level)
    if what == "converted":
        there = soxr.resample(cut, 48_000, 44_100, "VHQ")
        cut = np.resize(soxr.resample(there, 44_100, 48_000, "VHQ"), len(cut))
    elif what == "band-limited":
        cut = fftconvolve(cut, firwin(255, 16_000, fs=RATE), "same")
    elif what != "flat":
        cut = cut + np.random.default_rng(3).standard_normal(len(cut)) * level * 10 ** (float(what) / 20)
    return cut, level


@pytest.mark.parametrize("what", ["flat", "-60", "-50", "-40", "converted", "band-limited"])
def test_the_level_is_found_whatever_came_after_the_clipping(voice: np.ndarray, what: str) -> None:
    cut, level = clipped(voice, what)
    found = levels_of(cut)
    assert found.uneven.any() == (what != "flat")
    sides = [side.max() for side in (found.above, found.below) if side.any()]
    assert sides
    assert all(0.93 * level < side < 1.01 * level for side in sides)


def test_clean_voices_limited_ones_and_steady_tones_are_not_clipped(voice: np.ndarray) -> None:
    t = np.arange(8 * RATE) / RATE
    tones = {f"{hz} Hz": 0.5 * np.sin(2 * np.pi * hz * t) for hz in (50, 440, 997, 6000)}
    top = np.abs(voice).max()
    frames = len(voice) // 480 * 480
    peaks = np.abs(voice[:frames]).reshape(-1, 480).max(axis=1)
    around = np.maximum.reduce([np.roll(peaks, k) for k in (-1, 0, 1)])
    gain = np.minimum(1.0, 0.3 * top / np.maximum(around, 1e-9))
    limited = voice[:frames] * np.interp(np.arange(frames), 480 * np.arange(len(gain)) + 240, gain)
    for name, sound in {"voice": voice, "limited": limited, "silence": 0.0 * voice, **tones}.items():
        found = levels_of(sound)
        assert not found.any, name


def test_a_loud_passage_at_another_level_and_channels_are_told_apart(voice: np.ndarray) -> None:
    cut, level = clipped(voice, "-50")
    two = np.stack(
        [np.concatenate([cut, np.zeros(RATE * 30), 2.5 * voice]), np.concatenate([voice, np.zeros(RATE * 30), voice])]
    )
    found = levels_of(two)
    assert not found.above[1].any()
    assert not found.below[1].any()
    clipped_units = np.maximum(found.above[0], found.below[0])
    end = len(voice) // found.unit
    assert clipped_units[: end // 2].max() == pytest.approx(level, rel=0.05)
    assert not clipped_units[-end // 2 :].any()
