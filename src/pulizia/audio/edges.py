# SPDX-License-Identifier: GPL-3.0-or-later
"""Sound with silence around it and fades at its ends."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples, silence
from pulizia.audio.source import Source, content_key


class EdgedSource:
    """A source with silence before and after it, and fades at its ends (raised cosine).

    Parameters
    ----------
    head, tail : frames of silence
    fade_in, fade_out : frames of the source over which it comes and goes
    """

    def __init__(self, source: Source, *, head: int = 0, tail: int = 0, fade_in: int = 0, fade_out: int = 0) -> None:
        self._source, self._head = source, head
        self.rate, self.channels = source.rate, source.channels
        self._in, self._out = min(fade_in, source.frames), min(fade_out, source.frames)
        self.frames = source.frames + head + tail
        self._parts = (head, tail, self._in, self._out)
        self.key = content_key("edged", source.key, self._parts)

    def span_key(self, start: int, stop: int) -> str:
        """Key of a stretch."""
        a, b = self._inside(start, stop)
        inner = self._source.span_key(a, b) if a < b else ""
        return content_key("edged", inner, self._parts, start, stop)

    def read(self, start: int, stop: int) -> Samples:
        """Samples of [start, stop)."""
        out = silence(self.channels, stop - start)
        a, b = self._inside(start, stop)
        if a >= b:
            return out
        block = self._source.read(a, b)
        at = np.arange(a, b)
        if self._in and a < self._in:
            block = block * _risen((at + 0.5) / self._in)
        if self._out and b > self._source.frames - self._out:
            block = block * _risen((self._source.frames - at - 0.5) / self._out)
        out[:, a + self._head - start : b + self._head - start] = block
        return out

    def _inside(self, start: int, stop: int) -> tuple[int, int]:
        return max(0, start - self._head), min(self._source.frames, stop - self._head)


def _risen(share: NDArray[np.float64]) -> NDArray[np.float32]:
    return (0.5 - 0.5 * np.cos(np.pi * np.clip(share, 0.0, 1.0))).astype(np.float32)
