# SPDX-License-Identifier: GPL-3.0-or-later
"""Sample-rate conversion of a source as it is read: nothing is rendered beforehand, any reading gives the same samples."""

from __future__ import annotations

import threading
from collections import OrderedDict
from math import gcd

import numpy as np

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, content_key, read_padded

CHUNK_FRAMES = 1 << 15  # of the source, about
MARGIN_FRAMES = 2048  # of the source, beside each chunk: several times the filter's length, so its ends are not heard
MOST_CHUNKS = 8


class PulledRateSource:
    """A source at another sample rate (soxr, "very high quality": flat to 0.913 of half the lower rate).

    Frames are made in chunks that begin where a frame of both rates falls together, each with enough sound on both sides;
    so what is read does not depend on how it is read. The newest chunks are kept.
    """

    def __init__(self, source: Source, rate: int) -> None:
        self.source = source
        self.rate, self.channels = rate, source.channels
        common = gcd(rate, source.rate)
        self._up, self._down = rate // common, source.rate // common
        self._units = max(1, CHUNK_FRAMES // self._down)  # of common frames in a chunk
        self.frames = -(-source.frames * rate // source.rate)
        self.key = content_key("pulled", source.key, rate)
        self._chunks: OrderedDict[int, Samples] = OrderedDict()
        self._lock = threading.Lock()

    def span_key(self, start: int, stop: int) -> str:
        """Key of a stretch: that of the sound it is made of."""
        a, b = self._needed(start // self._chunk, -(-stop // self._chunk))
        inner = self.source.span_key(max(0, a), max(0, min(b, self.source.frames)))
        return content_key("pulled", self.rate, inner, a, start, stop)

    @property
    def _chunk(self) -> int:
        return self._units * self._up

    def _needed(self, first: int, last: int) -> tuple[int, int]:
        """Frames of the source for chunks [first, last)."""
        margin = -(-MARGIN_FRAMES // self._down) * self._down
        step = self._units * self._down
        return first * step - margin, last * step + margin

    def read(self, start: int, stop: int) -> Samples:
        """Samples of [start, stop)."""
        out = np.empty((self.channels, stop - start), dtype=np.float32)
        for index in range(start // self._chunk, -(-stop // self._chunk)):
            base = index * self._chunk
            a, b = max(start, base), min(stop, base + self._chunk)
            out[:, a - start : b - start] = self._made(index)[:, a - base : b - base]
        return out

    def _made(self, index: int) -> Samples:
        with self._lock:
            known = self._chunks.get(index)
            if known is not None:
                self._chunks.move_to_end(index)
                return known
        import soxr

        a, b = self._needed(index, index + 1)
        block = np.ascontiguousarray(read_padded(self.source, a, b).T)
        made = soxr.resample(block, self.source.rate, self.rate, quality="VHQ").reshape(-1, self.channels).T
        lead = (index * self._units * self._down - a) // self._down * self._up
        piece = np.zeros((self.channels, self._chunk), dtype=np.float32)
        part = made[:, lead : lead + self._chunk]
        piece[:, : part.shape[1]] = part
        with self._lock:
            self._chunks[index] = piece
            while len(self._chunks) > MOST_CHUNKS:
                self._chunks.popitem(last=False)
        return piece
