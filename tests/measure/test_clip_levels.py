# SPDX-License-Identifier: GPL-3.0-or-later
"""Where peaks were clipped, also when noise, a conversion or a codec came afterwards; and nothing where they were not."""

from __future__ import annotations

from importlib.resources import as_file, files

import numpy as np
import pytest
import soxr
from scipy.signal import fftconvolve, firwin

from pulizia.audio.source import ArraySource
from pulizia.audio.spans import Span
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


def test_levels_hold_for_their_units_and_the_last_one_beyond_the_end() -> None:
    above = np.array([[0.1, 0.0, 0.3], [0.0, 0.0, 0.0]])
    levels = CutLevels(above, np.zeros((2, 3)), np.array([[True, False, False], [False] * 3]), 10)
    assert levels.any
    found = levels.at(0, 8, 30)
    assert np.array_equal(found.above, [0.1] * 2 + [0.0] * 10 + [0.3] * 18)
    assert np.array_equal(found.uneven, [True] * 2 + [False] * 28)
    assert np.array_equal(levels.at(0, -5, 6).above, [0.1] * 6)
    assert np.array_equal(found.part(1, 13).above, [0.1] + [0.0] * 10 + [0.3])
    assert not levels.at(1, 0, 30).any
    assert not found.below.any()
    assert [levels.among(*span) for span in ((0, 10), (10, 20), (19, 21), (20, 30))] == [True, False, True, True]
    assert not CutLevels(np.zeros((1, 3)), np.zeros((1, 3)), np.zeros((1, 3), dtype=bool), 10).any
    below = CutLevels(np.zeros((1, 3)), np.array([[0.0, 0.2, 0.0]]), np.ones((1, 3), dtype=bool), 10)
    assert below.any
    assert below.at(0, 12, 2).any
    assert below.among(15, 16)


def test_pieces_have_levels_of_their_own_and_only_sections_are_looked_at(voice: np.ndarray) -> None:
    """Three recordings in one file, the second and the third clipped before noise at levels of their own."""
    cut, level = clipped(voice, "-50")
    gap = np.zeros(25 * RATE)
    whole = np.concatenate([2.0 * voice, gap, cut, gap, 3.0 * cut, gap])
    seen: list[float] = []
    found = clip_levels(ArraySource(whole[None].astype(np.float32), RATE), (), seen.append)
    assert seen == sorted(seen)
    assert seen[-1] == pytest.approx(1.0)
    sides = np.maximum(found.above[0], found.below[0])
    at = lambda seconds: sides[round(seconds * RATE) // found.unit]  # noqa: E731
    length = len(voice) / RATE
    assert at(length / 2) == 0.0
    assert at(length + 25 + length / 2) == pytest.approx(level, rel=0.06)
    assert at(2 * length + 50 + length / 2) == pytest.approx(3 * level, rel=0.06)
    last = clip_levels(ArraySource(whole[None].astype(np.float32), RATE), (Span(0, len(voice)),), lambda _s: None)
    assert not last.any


def test_what_is_no_number_and_what_is_too_short_is_no_ceiling() -> None:
    wild = np.concatenate([np.full(300, np.nan), np.full(300, 1e30), np.full(300, -1e30)])  # reading leaves no infinity
    for sound in (wild, wild[:7], np.zeros(1), np.full(5000, 0.5)):
        assert not levels_of(sound).uneven.any()
