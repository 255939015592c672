# SPDX-License-Identifier: GPL-3.0-or-later
"""All phases turned by one angle: cos of it times the sound plus sin of it times its Hilbert transform."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.dsp.band_frames import filtered

LENGTH_S = 0.05  # flat within 0.1 dB from 60 Hz on


def half_length(rate: int) -> int:
    """Half the filter in frames."""
    return round(LENGTH_S * rate / 2)


@lru_cache(maxsize=4)
def _quarter_taps(rate: int) -> NDArray[np.float32]:
    """Windowed Hilbert transformer of odd length (Oppenheim and Schafer, type III)."""
    half = half_length(rate)
    n = np.arange(-half, half + 1)
    odd = n % 2 != 0
    taps = np.where(odd, 2.0 / (np.pi * np.where(odd, n, 1)), 0.0) * np.blackman(2 * half + 3)[1:-1]
    return taps.astype(np.float32)


def turned(samples: Samples, degrees: float, rate: int) -> Samples:
    """The sound with every phase turned by ``degrees``; half a filter at both ends lacks context."""
    c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
    return np.asarray(
        np.float32(c) * samples + np.float32(s) * filtered(samples, _quarter_taps(rate)), dtype=np.float32
    )
