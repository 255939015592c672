# SPDX-License-Identifier: GPL-3.0-or-later
"""Band splits with the magnitudes of fourth-order Linkwitz-Riley filters and no phase.

S. Linkwitz, "Active crossover networks for noncoincident drivers", JAES 24(1), 1976: the fourth-order
low-pass is a Butterworth filter squared, |H|^2 = 1 / (1 + (f / fc)^4). Used without its phase, low and
high add up to exactly 1 at every frequency, so that bands that are left alone give back the sound itself.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

import numpy as np

from pulizia.audio.samples import Samples
from pulizia.dsp.fourier import irfft, rfft

WINDOW_RINGS = 8  # a window holds at least this many rings: three quarters of it are new
BATCH = 8
RING_S = 0.03  # the impulse response at 60 Hz has died away to -100 dB
LOWEST_HZ = 60.0


def ring_frames(rate: int) -> int:
    """Context in frames on each side."""
    return round(RING_S * rate)


def lows(samples: Samples, splits_hz: Sequence[float], rate: int) -> list[Samples]:
    """What lies below each split, rising; half the context at both ends is not complete.

    Worked through in overlapping windows that fit the processor's cache (overlap-save).

    Parameters
    ----------
    samples : (channels, frames) float32
    splits_hz : rising
    """
    channels, frames = samples.shape
    ring = ring_frames(rate)
    size = 1 << (WINDOW_RINGS * ring - 1).bit_length()
    step = size - 2 * ring
    count = -(-frames // step)
    padded = np.zeros((channels, count * step + 2 * ring), dtype=np.float32)
    padded[:, ring : ring + frames] = samples
    hz = np.arange(size // 2 + 1) * (rate / size)
    weights = [(1.0 / (1.0 + (hz / split) ** 4)).astype(np.float32) for split in splits_hz]
    made = [np.empty((channels, count, step), dtype=np.float32) for _ in weights]
    for channel in range(channels):
        windows = np.lib.stride_tricks.sliding_window_view(padded[channel], size)[::step]
        for first in range(0, count, BATCH):
            part = slice(first, min(first + BATCH, count))
            spectrum = rfft(windows[part], size)
            for weight, low in zip(weights, made, strict=True):
                low[channel, part] = irfft(spectrum * weight, size)[:, ring : ring + step]
    return [low.reshape(channels, -1)[:, :frames] for low in made]


def bands(samples: Samples, splits_hz: Sequence[float], rate: int) -> list[Samples]:
    """The sound in one band more than there are splits; they add up to it."""
    below = lows(samples, splits_hz, rate)
    return [below[0], *(high - low for low, high in pairwise([*below, samples]))]
