# SPDX-License-Identifier: GPL-3.0-or-later
"""A recording on the clock of another: read at places a little apart from its frames, by band-limited interpolation."""

from __future__ import annotations

import functools
import math

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, content_key, read_padded

HALF, PHASES, BETA = 32, 1024, 9.0  # taps on one side, positions between two frames, shape of the window
PIECE_FRAMES = 1 << 14


@functools.cache
def _kernels() -> NDArray[np.float32]:
    """(PHASES + 1, 2 HALF) sinc under a Kaiser window (J. O. Smith and P. Gossett, ICASSP 1984), each of sum 1."""
    places = np.arange(-HALF + 1, HALF + 1) - np.arange(PHASES + 1)[:, None] / PHASES
    window = np.i0(BETA * np.sqrt(np.maximum(0.0, 1.0 - (places / HALF) ** 2))) / np.i0(BETA)
    made = np.sinc(places) * window
    return np.asarray(made / made.sum(axis=1, keepdims=True), dtype=np.float32)


class AlignedSource:
    """Frame m is heard at frame m x (1 + drift_ppm / 1e6) + shift of the source, at the same rate.

    Each frame depends on its own place alone, so what is read does not depend on how it is read. Flat within 0.1 dB to
    0.9 of half the rate.
    """

    def __init__(self, source: Source, drift_ppm: float, shift: float) -> None:
        self._source, self._step, self._shift = source, 1.0 + 1e-6 * drift_ppm, shift
        self.rate, self.channels = source.rate, source.channels
        self.frames = max(0, math.floor((source.frames - shift) / self._step))
        self.key = content_key("aligned", source.key, drift_ppm, shift)

    def _needed(self, start: int, stop: int) -> tuple[int, int]:
        first = math.floor(start * self._step + self._shift) - HALF + 1
        last = math.floor((stop - 1) * self._step + self._shift) + HALF + 2
        return first, last

    def span_key(self, start: int, stop: int) -> str:
        """Key of a stretch: that of the sound it is made of."""
        a, b = self._needed(start, max(stop, start + 1))
        last = min(max(b, 0), self._source.frames)
        inner = self._source.span_key(min(max(a, 0), last), last)
        return content_key("aligned", self._step, self._shift, inner, start, stop)

    def read(self, start: int, stop: int) -> Samples:
        """Samples of [start, stop)."""
        out = np.empty((self.channels, stop - start), dtype=np.float32)
        kernels = _kernels()
        for at in range(start, stop, PIECE_FRAMES):
            end = min(stop, at + PIECE_FRAMES)
            first, last = self._needed(at, end)
            block = read_padded(self._source, first, last)
            places = np.arange(at, end) * self._step + self._shift
            whole = np.floor(places).astype(np.int64)
            phase = (places - whole) * PHASES
            low = phase.astype(np.int64)
            part = (phase - low).astype(np.float32)
            for channel in range(self.channels):
                around = np.lib.stride_tricks.sliding_window_view(block[channel], 2 * HALF)[whole - HALF + 1 - first]
                a = np.einsum("ij,ij->i", around, kernels[low])
                b = np.einsum("ij,ij->i", around, kernels[low + 1])
                out[channel, at - start : end - start] = a + part * (b - a)
        return out
