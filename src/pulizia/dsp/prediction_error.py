# SPDX-License-Identifier: GPL-3.0-or-later
"""Weighted prediction error: the part of each bin that its own past, some frames ago, predicts is reverberation.

T. Nakatani et al., "Speech dereverberation based on variance-normalized delayed linear prediction", IEEE
Trans. ASLP 18(7), 2010; several channels after T. Yoshioka, T. Nakatani, 20(10), 2012. The variance is
averaged over neighbouring frames, without which the filter follows single frames.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

SPREAD = 2  # frames to both sides over which the variance is averaged
LOADING = 1e-5
BINS_AT_ONCE = 48  # their matrices stay in the processor's cache
WINDOW_S, OVERLAP = 0.0427, 4
TAPS_S, DELAY_S = 0.11, 0.032
HIGHEST_HZ = 10_000.0  # rooms swallow what lies above
ITERATIONS = 2  # rounds of variance and filter
MOST_CHANNELS = 2  # that are predicted together


def grid_of(rate: int) -> tuple[int, int]:
    """Size and hop of the transform in frames."""
    size = int(2 ** round(np.log2(WINDOW_S * rate)))
    return size, size // OVERLAP


def bins_of(rate: int, size: int) -> int:
    """How many bins are predicted, from the lowest."""
    return min(size // 2 + 1, round(HIGHEST_HZ * size / rate))


def frames_of(rate: int, hop: int, channels: int) -> tuple[int, int]:
    """Taps and delay in hops."""
    taps = max(2, round(TAPS_S * rate / hop / (1.0 if channels == 1 else 1.4)))
    return taps, max(1, round(DELAY_S * rate / hop))


def predictors(spectra: NDArray[np.complex64], *, taps: int, delay: int, iterations: int) -> NDArray[np.complex64]:
    """Filters that predict late reverberation.

    Parameters
    ----------
    spectra : (channels, frames, bins) complex64
    taps, delay : frames
        Length of the filter, and how far back it begins.
    iterations : int
        Rounds of variance and filter.

    Returns
    -------
    (bins, channels * taps, channels) complex64
    """
    channels, _, bins = spectra.shape
    filters = np.zeros((bins, channels * taps, channels), dtype=np.complex64)
    for first in range(0, bins, BINS_AT_ONCE):
        part = np.ascontiguousarray(spectra[:, :, first : first + BINS_AT_ONCE].transpose(2, 0, 1))
        past = past_frames(part, taps, delay)
        dry = part
        G: NDArray[np.complex64] = filters[first : first + BINS_AT_ONCE]
        for _ in range(iterations):
            weighted = past * _inverse_variance(dry)[:, None, :]
            R = weighted @ past.conj().transpose(0, 2, 1)
            P = weighted @ part.conj().transpose(0, 2, 1)
            trace = np.real(np.einsum("bkk->b", R)) / R.shape[1]
            R[:, range(R.shape[1]), range(R.shape[1])] += (LOADING * trace + 1e-20)[:, None]
            G = np.linalg.solve(R, P).astype(np.complex64)
            dry = part - G.conj().transpose(0, 2, 1) @ past
        filters[first : first + BINS_AT_ONCE] = G
    return filters


def without_tail(
    spectra: NDArray[np.complex64], filters: NDArray[np.complex64], *, taps: int, delay: int
) -> NDArray[np.complex64]:
    """The spectra less what the filters predict; same shape."""
    out = np.empty_like(spectra)
    for first in range(0, spectra.shape[2], BINS_AT_ONCE):
        part = np.ascontiguousarray(spectra[:, :, first : first + BINS_AT_ONCE].transpose(2, 0, 1))
        G = filters[first : first + BINS_AT_ONCE]
        dry = part - G.conj().transpose(0, 2, 1) @ past_frames(part, taps, delay)
        out[:, :, first : first + BINS_AT_ONCE] = dry.transpose(1, 2, 0)
    return out


def past_frames(part: NDArray[np.complex64], taps: int, delay: int) -> NDArray[np.complex64]:
    """(bins, channels * taps, frames): what lies ``delay`` and more frames back; silence before the first.

    Parameters
    ----------
    part : (bins, channels, frames) complex64
    """
    bins, channels, frames = part.shape
    past = np.zeros((bins, taps * channels, frames), dtype=np.complex64)
    for tap in range(taps):
        back = delay + tap
        if back < frames:
            past[:, tap * channels : (tap + 1) * channels, back:] = part[:, :, : frames - back]
    return past


def _inverse_variance(dry: NDArray[np.complex64]) -> NDArray[np.float32]:
    """(bins, frames) one over the mean power around each frame, all channels."""
    from scipy.ndimage import uniform_filter1d

    power = (dry.real**2 + dry.imag**2).mean(axis=1)
    calm = uniform_filter1d(power, 2 * SPREAD + 1, axis=1, mode="nearest")
    floor = 1e-6 * calm.max(axis=1, keepdims=True) + 1e-20
    return np.asarray(1.0 / np.maximum(calm, floor), dtype=np.float32)
