# SPDX-License-Identifier: GPL-3.0-or-later
"""Some channels of a file read by themselves: the samples that an independent reader finds, whatever the coding."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile as sf

from pulizia.audio.source import ArraySource, ByChannel, ChannelsSource
from pulizia.media.open import open_media
from pulizia.media.pcm import PIECE

RATE, FRAMES, CHANNELS = 48_000, 2 * PIECE + 77, 5  # pieces, and what is left of one


@pytest.mark.parametrize("coding", ["PCM_U8", "PCM_16", "PCM_24", "PCM_32", "FLOAT", "DOUBLE"])
def test_channels_are_what_another_reader_finds_in_them(coding: str, tmp_path: Path) -> None:
    rng = np.random.default_rng(4)
    sound = np.clip(rng.normal(0, 0.3, (FRAMES, CHANNELS)), -1.0, 1.0 - 2.0**-7)
    sound[:3] = [[-1.0] * CHANNELS, [0.0] * CHANNELS, [1.0 - 2.0**-7] * CHANNELS]  # the ends of the scale
    path = tmp_path / "poly.wav"
    sf.write(path, sound, RATE, subtype=coding)
    told = sf.read(path, dtype="float64", always_2d=True)[0].T.astype(np.float32)  # libsndfile
    source = open_media(path).source
    np.testing.assert_array_equal(source.read(0, FRAMES), told)
    np.testing.assert_array_equal(source.read(PIECE - 5, PIECE + 9), told[:, PIECE - 5 : PIECE + 9])
    np.testing.assert_array_equal(source.read_channels(10, FRAMES, [3, 1]), told[[3, 1], 10:])
    assert source.read_channels(FRAMES, FRAMES, [4]).shape == (1, 0)
    assert isinstance(source, ByChannel)
    one = ChannelsSource(source, [CHANNELS - 1])  # the last one ends with the file
    np.testing.assert_array_equal(one.read(0, FRAMES), told[-1:])
    held = ChannelsSource(ArraySource(told, RATE), [CHANNELS - 1])  # of a source that knows no channels alone
    np.testing.assert_array_equal(held.read(0, FRAMES), one.read(0, FRAMES))
    assert (one.rate, one.channels, one.frames) == (RATE, 1, FRAMES)
    assert len({one.key, ChannelsSource(source, [0]).key, source.key}) == 3
    assert one.span_key(0, 100) == ChannelsSource(source, [CHANNELS - 1]).span_key(0, 100) != one.span_key(0, 101)
