# SPDX-License-Identifier: GPL-3.0-or-later
"""Short-time Fourier analysis and synthesis on the recording's own frame grid."""

from __future__ import annotations

from functools import cache

import numpy as np
from numpy.typing import NDArray

from pulizia.dsp.fourier import irfft, rfft

BATCH = 64  # frames per transform call: what fits the cache


@cache
def sine_window(size: int) -> NDArray[np.float32]:
    """Square root of the periodic Hann window: its square sums to a constant when overlapped."""
    return np.sin(np.pi * (np.arange(size) + 0.0) / size).astype(np.float32)


@cache
def hann_window(size: int) -> NDArray[np.float32]:
    """Periodic Hann window (Harris 1978)."""
    return (0.5 - 0.5 * np.cos(2 * np.pi * np.arange(size) / size)).astype(np.float32)


def analyse(samples: NDArray[np.float32], size: int, hop: int) -> NDArray[np.complex64]:
    """Spectra of all whole frames of one channel, sine window.

    Parameters
    ----------
    samples : (n,) float32
    size, hop : window length and distance in samples

    Returns
    -------
    (frames, size // 2 + 1) complex64
    """
    frames = np.lib.stride_tricks.sliding_window_view(samples, size)[::hop]
    window = sine_window(size)
    spectra = np.empty((len(frames), size // 2 + 1), dtype=np.complex64)
    for first in range(0, len(frames), BATCH):
        part = slice(first, first + BATCH)
        spectra[part] = rfft(frames[part] * window, overwrite=True)
    return spectra


def powers(
    samples: NDArray[np.float32], starts: NDArray[np.integer], window: NDArray[np.float32], *, bins: slice = slice(None)
) -> NDArray[np.float32]:
    """Power spectra of windows that begin at ``starts``, channels added; of ``bins`` alone where nothing else is asked for.

    Parameters
    ----------
    samples : (channels, n) float32
    starts : (count,) first samples of the windows, all inside
    window : (size,) float32

    Returns
    -------
    (count, size // 2 + 1) float32, or as many as there are ``bins``
    """
    size = len(window)
    made = np.zeros((len(starts), len(range(size // 2 + 1)[bins])), dtype=np.float32)
    for channel in samples:
        view = np.lib.stride_tricks.sliding_window_view(channel, size)
        for first in range(0, len(starts), BATCH):
            part = slice(first, first + BATCH)
            spectrum = rfft(view[starts[part]] * window, overwrite=True)[:, bins]
            made[part] += np.square(spectrum.real)
            made[part] += np.square(spectrum.imag)
    return made


def synthesise(spectra: NDArray[np.complex64], size: int, hop: int) -> NDArray[np.float32]:
    """Overlap-add with the sine window; undoes :func:`analyse` where all frames overlap.

    Returns
    -------
    ((frames - 1) * hop + size,) float32
    """
    overlap = size // hop
    count = len(spectra)
    scale = np.float32(2.0 / overlap)
    window = sine_window(size) * scale
    out = np.zeros((count + overlap - 1, hop), dtype=np.float32)
    for first in range(0, count, BATCH):
        part = irfft(spectra[first : first + BATCH], size)
        part *= window
        parts = part.reshape(len(part), overlap, hop)
        for k in range(overlap):
            out[first + k : first + k + len(part)] += parts[:, k]
    return out.reshape(-1)
