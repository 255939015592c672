# SPDX-License-Identifier: GPL-3.0-or-later
"""A steep band-pass without phase shift, for acting in one band and for listening to it."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, content_key, read_padded
from pulizia.dsp.fourier import fast_length, irfft, rfft

LENGTH_S = 0.085  # of the filter: 4096 at 48 kHz


def half_length(rate: int) -> int:
    """Frames of context that the filter wants on both sides."""
    return round(LENGTH_S * rate / 2)


@lru_cache(maxsize=32)
def _taps(low_hz: float, high_hz: float, rate: int) -> NDArray[np.float32]:
    """Linear-phase band-pass by the window method (Hann), odd length, centred."""
    half = half_length(rate)
    n = np.arange(-half, half + 1)
    high, low = min(high_hz, rate / 2) / rate, max(low_hz, 0.0) / rate
    taps = 2 * high * np.sinc(2 * high * n) - 2 * low * np.sinc(2 * low * n)
    return np.asarray(taps * (0.5 + 0.5 * np.cos(np.pi * n / (half + 1))), dtype=np.float32)


def in_band(x: Samples, band_hz: tuple[float, float], rate: int) -> Samples:
    """What of a block lies in a band; the first and last :func:`half_length` frames lack context."""
    taps = _taps(*band_hz, rate)
    half = len(taps) // 2
    size = fast_length(x.shape[1] + len(taps) - 1)
    return irfft(rfft(x, size) * rfft(taps, size), size)[:, half : half + x.shape[1]]


class BandSource:
    """One band of another source."""

    def __init__(self, source: Source, band_hz: tuple[float, float]) -> None:
        self._source, self._band = source, band_hz
        self._half = half_length(source.rate)
        self.rate, self.channels, self.frames = source.rate, source.channels, source.frames
        self.key = content_key("band", *band_hz, source.key)

    def span_key(self, start: int, stop: int) -> str:
        """Key of a stretch."""
        a, b = max(0, start - self._half), min(self.frames, stop + self._half)
        return content_key("band", *self._band, self._source.span_key(a, b), start, stop)

    def read(self, start: int, stop: int) -> Samples:
        """Samples of [start, stop)."""
        block = read_padded(self._source, start - self._half, stop + self._half)
        return in_band(block, self._band, self.rate)[:, self._half : self._half + stop - start]
