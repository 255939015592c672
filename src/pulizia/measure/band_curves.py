# SPDX-License-Identifier: GPL-3.0-or-later
"""Levels of a few bands over a whole source, read piece by piece."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source, read_padded
from pulizia.dsp.band_frames import band_frames, step_frames

READ_S = 20


def band_curves(
    source: Source, bands_hz: Sequence[tuple[float, float]], start: int, stop: int, *, step_ms: float, window_ms: float,
    progress: Callable[[float], None] = lambda _: None,
) -> NDArray[np.float64]:  # fmt: skip
    """(bands, steps) mean square in each band, channels averaged, for the whole steps of [start, stop)."""
    rate, step = source.rate, step_frames(source.rate, step_ms)
    reach = int(2 ** np.ceil(np.log2(rate * window_ms / 1000.0)))
    first, last = -(-start // step), stop // step
    each = max(1, READ_S * rate // step)
    parts = []
    for a in range(first, last, each):
        b = min(last, a + each)
        begin = a * step - reach
        power, at = band_frames(
            read_padded(source, begin, b * step + reach), begin, rate, bands_hz, step_ms=step_ms, window_ms=window_ms
        )
        parts.append(power[:, a - at : b - at])
        progress((b - first) / max(1, last - first))
    return np.concatenate(parts, axis=1) if parts else np.zeros((len(bands_hz), 0))
