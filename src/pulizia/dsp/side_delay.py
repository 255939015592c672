# SPDX-License-Identifier: GPL-3.0-or-later
"""How much later one channel comes than another, and shifts by fractions of a frame."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

LONGEST_MS = 50.0
HALF_TAPS = 32


def delay_of(left: NDArray[np.float32], right: NDArray[np.float32], most: int) -> tuple[float, float]:
    """Frames by which ``right`` comes later (negative when earlier), and the correlation there (-1..1).

    The place comes from the cross-spectrum whitened by its magnitude (the generalised cross-correlation
    with phase transform of C. Knapp, G. Carter, IEEE Trans. ASSP 24(4), 1976), between the frames by a
    parabola through the three highest values of the plain correlation.
    """
    from scipy.fft import irfft, next_fast_len, rfft

    size = next_fast_len(len(left) + most + 1, real=True)
    cross = np.conj(rfft(left.astype(np.float64), size)) * rfft(right.astype(np.float64), size)
    scale = np.sqrt(float(np.sum(left.astype(np.float64) ** 2)) * float(np.sum(right.astype(np.float64) ** 2)))
    if scale <= 0.0:
        return 0.0, 0.0
    sharp = irfft(cross / np.maximum(np.abs(cross), 1e-9 * np.abs(cross).max() + 1e-30), size)
    plain = irfft(cross, size) / scale
    lags = np.arange(-most, most + 1)
    # near the whitened peak the plain correlation decides: whitening lets noise outweigh the voice
    score = np.abs(plain[lags]) * (0.2 + np.abs(sharp[lags]) / np.abs(sharp[lags]).max())
    best = int(lags[np.argmax(score)])
    near = np.abs(plain[[best - 1, best, best + 1]])
    bend = near[0] - 2.0 * near[1] + near[2]
    shift = 0.5 * (near[0] - near[2]) / bend if bend < 0.0 else 0.0
    return best + float(np.clip(shift, -0.5, 0.5)), float(plain[best])


def shifted(x: NDArray[np.float32], frames: float) -> NDArray[np.float32]:
    """The sound brought forward by ``frames`` (any positive number), silence coming in at its end.

    Whole frames are moved bit for bit; fractions by a Blackman-windowed sinc of 64 taps.
    """
    whole = int(np.floor(frames + 1e-9))
    part = frames - whole
    moved = np.concatenate([x[whole:], np.zeros(min(whole, len(x)), dtype=np.float32)])[: len(x)]
    if part < 1e-6:
        return moved
    n = np.arange(-HALF_TAPS, HALF_TAPS + 1)
    taps = np.sinc(n + part) * np.blackman(2 * HALF_TAPS + 3)[1:-1]
    taps /= taps.sum()
    return np.convolve(moved, taps.astype(np.float32), mode="same").astype(np.float32)
