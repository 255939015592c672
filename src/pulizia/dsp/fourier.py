# SPDX-License-Identifier: GPL-3.0-or-later
"""Fourier transforms that keep float32, loaded at first use: importing them costs a third of a start."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def rfft(x: NDArray[np.float32], size: int | None = None, *, overwrite: bool = False) -> NDArray[np.complex64]:
    """Transform of real rows along the last axis."""
    import scipy.fft

    return np.asarray(scipy.fft.rfft(x, size, axis=-1, overwrite_x=overwrite), dtype=np.complex64)


def irfft(spectrum: NDArray[np.complexfloating | np.floating], size: int) -> NDArray[np.float32]:
    """Inverse of :func:`rfft`."""
    import scipy.fft

    return np.asarray(scipy.fft.irfft(spectrum, size, axis=-1), dtype=np.float32)


def fast_length(size: int) -> int:
    """The next length that transforms quickly."""
    import scipy.fft

    return int(scipy.fft.next_fast_len(size, real=True))
