# SPDX-License-Identifier: GPL-3.0-or-later
"""The spectrum of short moments beside that of what surrounds them: a picture of what a finder took."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.dsp.stft import hann_window, powers
from pulizia.units import powers_to_db

SIZE_S = 0.0427


def moment_spectra(
    passage: Samples, rate: int, moments: Sequence[tuple[int, int]]
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64] | None]:
    """Frequencies, mean level of the passage, and of its moments (None where there are none), in dBFS per bin.

    Parameters
    ----------
    passage : (channels, frames) float32
    moments : (start, stop) in frames of the passage
    """
    size = int(2 ** round(np.log2(SIZE_S * rate)))
    hz = np.arange(size // 2 + 1) * rate / size
    if passage.shape[1] < size:
        passage = np.pad(passage, ((0, 0), (0, size - passage.shape[1])))
    window = hann_window(size)
    scale = 4.0 / float(window.sum()) ** 2 / len(passage)
    whole = powers(passage, np.arange(0, passage.shape[1] - size + 1, size // 2), window).mean(axis=0) * scale
    centres = np.array([(a + b) // 2 for a, b in moments], dtype=np.int64)
    starts = np.clip(centres - size // 2, 0, passage.shape[1] - size)
    found = powers_to_db(powers(passage, starts, window).mean(axis=0) * scale) if len(starts) else None
    return hz, powers_to_db(whole), found
