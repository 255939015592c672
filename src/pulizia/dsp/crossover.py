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
from pulizia.dsp.fourier import fast_length, irfft, rfft

RING_S = 0.03  # the impulse response at 60 Hz has died away to -100 dB
LOWEST_HZ = 60.0


def ring_frames(rate: int) -> int:
    """Context in frames on each side."""
    return round(RING_S * rate)


def lows(samples: Samples, splits_hz: Sequence[float], rate: int) -> list[Samples]:
    """What lies below each split, rising; half the context at both ends is not complete.

    Parameters
    ----------
    samples : (channels, frames) float32
    splits_hz : rising
    """
    frames = samples.shape[1]
    size = fast_length(frames + 2 * ring_frames(rate))
    spectrum = rfft(samples, size)
    hz = np.arange(size // 2 + 1) * (rate / size)
    made = []
    for split in splits_hz:
        weight = (1.0 / (1.0 + (hz / split) ** 4)).astype(np.float32)
        made.append(irfft(spectrum * weight, size)[:, :frames])
    return made


def bands(samples: Samples, splits_hz: Sequence[float], rate: int) -> list[Samples]:
    """The sound in one band more than there are splits; they add up to it."""
    below = lows(samples, splits_hz, rate)
    edges = [np.zeros_like(samples), *below, samples]
    return [high - low for low, high in pairwise(edges)]
