# SPDX-License-Identifier: GPL-3.0-or-later
"""What waveforms and sonograms are drawn from, against direct computation."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st
from tests.conftest import voice_in_noise

from pulizia.audio.source import ArraySource
from pulizia.measure.overview import (
    BIN_FRAMES,
    SEGMENT_FRAMES,
    PeakPicture,
    PeakStore,
    peak_segment,
    sketched_segment,
)
from pulizia.measure.sonogram import CODE_FLOOR_DB, CODE_STEP_DB, SIZES, sonogram
from pulizia.measure.sonogram_scale import SonogramScale
from pulizia.media.open import open_media

RATE = 48_000
LONG = np.tile(voice_in_noise(6.0, channels=2), (1, 8))[:, : 2 * SEGMENT_FRAMES + 12_345]


def filled(source: ArraySource, store: PeakStore | None = None) -> PeakPicture:
    picture = PeakPicture(source, store or PeakStore())
    for index in picture.take_known():
        picture.put(index, picture.compute(index))
    return picture


@settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck))
@given(
    first=st.integers(0, LONG.shape[1] // 2),
    width=st.sampled_from([256, 300, 777, 5000, 40_000]),
    count=st.integers(1, 60),
)
@example(first=SEGMENT_FRAMES - 20_000, width=777, count=60)  # begins in one segment and ends in the next
def test_columns_hold_the_extremes_and_the_power_of_their_frames(first: int, width: int, count: int) -> None:
    columns = PICTURE.columns(first, width, count)
    far = width >= 2 * BIN_FRAMES * 64
    grid = BIN_FRAMES * (64 if far else 1)
    for n in range(count):
        a, b = (int((first + k * width) / grid + 1e-9) * grid for k in (n, n + 1))
        b = max(b, a + grid)
        part = LONG[:, a:b]
        if part.shape[1] < b - a:
            break
        assert columns.low[:, n] == pytest.approx(part.min(axis=1), abs=float(2e-3 * np.abs(part).max()))
        assert columns.high[:, n] == pytest.approx(part.max(axis=1), abs=float(2e-3 * np.abs(part).max()))
        assert columns.power[:, n] == pytest.approx(np.mean(part**2, axis=1), rel=5e-3)


PICTURE = filled(ArraySource(LONG, RATE))


def test_the_fast_way_through_high_words_agrees_with_the_samples(wav: Callable[..., Path]) -> None:
    samples = voice_in_noise(4.0, channels=2)[:, :-100]  # the last bin is not whole
    source = open_media(wav(samples)).source
    fast = peak_segment(source, 0)
    slow = peak_segment(ArraySource(source.read(0, source.frames), RATE), 0)
    for name in ("low", "high", "rms"):
        assert np.allclose(getattr(fast, name), getattr(slow, name), atol=1e-3)
    sketch = sketched_segment(source, 0, 10)
    assert sketch.low.shape == fast.low.shape
    assert np.array_equal(sketch.high[:, 0], fast.high[:, 0])
    whole = sketched_segment(source, 0, 10_000)  # looks at every bin
    assert np.array_equal(whole.low, fast.low)
    assert np.array_equal(whole.high, fast.high)


def test_unknown_parts_are_not_a_number_and_sketches_give_way() -> None:
    source = ArraySource(LONG, RATE)
    picture = PeakPicture(source, PeakStore())
    assert np.isnan(picture.columns(0, 10_000, 20).power).all()
    picture.put(0, sketched_segment(source, 0, 4), sketch=True)
    assert not picture.is_complete
    version = picture.version
    picture.put(0, picture.compute(0))
    assert picture.version > version
    columns = picture.columns(0, SEGMENT_FRAMES, 2)
    assert np.isfinite(columns.power[:, 0]).all()
    assert np.isnan(columns.power[:, 1]).all()


def test_a_file_s_picture_is_kept_on_disk_and_damage_is_no_harm(tmp_path: Path) -> None:
    source = ArraySource(LONG, RATE)
    store = PeakStore(tmp_path)
    whole = [peak_segment(source, n) for n in range(3)]
    store.save("name", whole)
    bins = sum(s.rms.shape[1] for s in whole)
    again = PeakStore(tmp_path).load("name", 2, bins)
    assert all(np.array_equal(a.high, b.high) for a, b in zip(again, whole, strict=True))
    assert store.load("name", 1, bins) is None
    (tmp_path / "name.peaks").write_bytes(b"damaged")
    assert store.load("name", 2, bins) is None
    assert store.load("other", 2, bins) is None


def test_levels_alone_are_the_mean_over_channels() -> None:
    source = ArraySource(LONG, RATE)
    segment = peak_segment(source, 0, levels_only=True)
    assert segment.low.shape[0] == 0
    expected = np.sqrt(np.mean(LONG[:, :BIN_FRAMES] ** 2))
    assert float(segment.rms[0, 0]) == pytest.approx(expected, rel=2e-3)


@pytest.mark.parametrize("size", [0, *SIZES])
@pytest.mark.parametrize("frames_per_column", [40.0, 900.0, 20_000.0])
def test_a_sine_lies_on_its_row_at_its_level(size: int, frames_per_column: float) -> None:
    hz = 937.5  # on a bin of every length from 512
    wave = np.sin(2 * np.pi * hz * np.arange(RATE * 20) / RATE)[None].astype(np.float32)
    scale = SonogramScale(rows=600, size=size)
    codes = sonogram(ArraySource(wave, RATE), RATE * 5, frames_per_column, 8, scale)
    assert codes.shape == (600, 8)
    level = CODE_FLOOR_DB + CODE_STEP_DB * codes[:, 4].max()
    assert level == pytest.approx(0.0, abs=2.0)
    row = float(np.mean(np.flatnonzero(codes[:, 4] == codes[:, 4].max())))
    bin_hz = RATE / (size or 2048)
    assert float(scale.hz_of_row(row + 0.5)) == pytest.approx(hz, abs=bin_hz)


def test_sound_out_of_phase_stays_visible_and_silence_is_bare() -> None:
    wave = 0.5 * np.sin(2 * np.pi * 1000 * np.arange(RATE * 2) / RATE)
    against = ArraySource(np.stack([wave, -wave]).astype(np.float32), RATE)
    alone = ArraySource(wave[None].astype(np.float32), RATE)
    scale = SonogramScale()
    assert np.array_equal(sonogram(against, 9600, 400, 50, scale), sonogram(alone, 9600, 400, 50, scale))
    assert not sonogram(ArraySource(np.zeros((1, RATE), np.float32), RATE), 0, 300, 64, scale).any()


def test_a_click_shows_in_its_column_only() -> None:
    wave = np.zeros((1, RATE * 2), np.float32)
    wave[0, RATE] = 1.0
    codes = sonogram(ArraySource(wave, RATE), 0, 1000.0, 96, SonogramScale()).astype(int)
    high = codes[:60].mean(axis=0)
    assert abs(int(np.argmax(high)) - 48) <= 1
    assert high[40] == 0
    assert high[56] == 0
