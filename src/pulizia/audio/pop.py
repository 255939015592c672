# SPDX-License-Identifier: GPL-3.0-or-later
"""The 2-pop: one picture frame of tone two seconds before the programme, by which sound and picture are laid together."""

from __future__ import annotations

import numpy as np

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, content_key
from pulizia.units import db_to_gain

BEFORE_S, TONE_HZ, LEVEL_DBFS = 2.0, 1000.0, -20.0  # common practice: the peak of a sine of 1 kHz


class PopSource:
    """A source with a tone of some frames laid into its silence at a frame; everything else is bit for bit the source."""

    def __init__(self, source: Source, at: int, length: int) -> None:
        self._source, self._at, self._length = source, at, length
        self.rate, self.channels, self.frames = source.rate, source.channels, source.frames
        self.key = content_key("pop", source.key, at, length)

    def span_key(self, start: int, stop: int) -> str:
        """Key of a stretch."""
        inner = self._source.span_key(start, stop)
        return (
            inner
            if stop <= self._at or start >= self._at + self._length
            else content_key("pop", inner, self._at, self._length, start)
        )

    def read(self, start: int, stop: int) -> Samples:
        """Samples of [start, stop)."""
        block = self._source.read(start, stop)
        first, last = max(start, self._at), min(stop, self._at + self._length)
        if first < last:
            t = np.arange(first - self._at, last - self._at) / self.rate
            tone = db_to_gain(LEVEL_DBFS) * np.sin(2 * np.pi * TONE_HZ * t)
            block = block.copy()
            block[:, first - start : last - start] += tone.astype(np.float32)
        return block
