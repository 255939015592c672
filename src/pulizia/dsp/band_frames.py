# SPDX-License-Identifier: GPL-3.0-or-later
"""Powers in a few bands at short steps on the recording's own grid: what finders of moments look at."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cache

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.dsp.fourier import fast_length, irfft, rfft
from pulizia.dsp.stft import hann_window, powers
from pulizia.units import SILENCE_DB

THINNER, THIN_BAND, THIN_HALF = (8, 4, 2), 0.3, 5  # factors; share of the new rate that stays whole; new samples


def step_frames(rate: float, step_ms: float) -> int:
    """Frames of a step."""
    return max(1, round(rate * step_ms / 1000.0))


def band_frames(
    samples: Samples,
    start: int,
    rate: float,
    bands_hz: Sequence[tuple[float, float]],
    *,
    step_ms: float,
    window_ms: float,
) -> tuple[NDArray[np.float64], int]:
    """(bands, steps) mean square in each band, channels averaged, and the index of the first step.

    Step k is centred at frame k times the step, whatever block it is seen in.
    """
    step = step_frames(rate, step_ms)
    size = int(2 ** np.ceil(np.log2(rate * window_ms / 1000.0)))
    factor = _thinning(rate, step, size, max(high for _, high in bands_hz))
    if factor > 1:
        samples, start = _thinned(samples, start, factor)
        rate, step, size = rate / factor, step // factor, size // factor
    first = -(-(start + size // 2) // step)
    last = (start + samples.shape[1] - size // 2) // step
    count = max(0, last - first + 1)
    window = hann_window(size)
    scale = 2.0 / (len(samples) * size * float((window**2).sum()))
    edges = [
        (round(low * size / rate), max(round(low * size / rate) + 1, round(min(high, rate / 2) * size / rate)))
        for low, high in bands_hz
    ]
    if not count:
        return np.zeros((len(bands_hz), 0)), int(first)
    lowest, highest = min(low for low, _ in edges), max(high for _, high in edges)
    power = powers(samples, (first + np.arange(count)) * step - size // 2 - start, window, bins=slice(lowest, highest))
    return scale * np.stack(
        [power[:, low - lowest : high - lowest].sum(axis=1, dtype=np.float64) for low, high in edges]
    ), int(first)


def _thinning(rate: float, step: int, size: int, highest_hz: float) -> int:
    """By how much the sample rate may be lowered for bands up to a frequency: transforms then cost as much less."""
    fitting = (f for f in THINNER if step % f == 0 and size % f == 0 and highest_hz <= THIN_BAND * rate / f)
    return next(fitting, 1)


@cache
def _thinning_taps(factor: int) -> NDArray[np.float32]:
    """Window method with a Kaiser window: flat within 0.01 dB to THIN_BAND of the new rate, 80 dB down where it folds."""
    from scipy.signal import firwin

    return np.asarray(firwin(2 * THIN_HALF * factor + 1, 1.0 / factor, window=("kaiser", 8.0)), dtype=np.float32)


def _thinned(samples: Samples, start: int, factor: int) -> tuple[Samples, int]:
    """The samples at every ``factor``-th frame of the recording, low-passed, and the number of the first of them."""
    from scipy.signal import upfirdn

    half = THIN_HALF * factor
    first = -(-(start + half) // factor)
    count = (start + samples.shape[1] - 1 - half) // factor - first + 1
    if count < 1:
        return np.zeros((len(samples), 0), dtype=np.float32), first
    begin = first * factor - half - start
    made = upfirdn(_thinning_taps(factor), samples[:, begin : begin + (count - 1) * factor + 2 * half + 1], down=factor)
    return np.ascontiguousarray(made[:, 2 * THIN_HALF : 2 * THIN_HALF + count], dtype=np.float32), first


def around(
    level: NDArray[np.float64], first: int, reach: int, thin: int, shares: Sequence[float]
) -> NDArray[np.float64]:
    """Quantiles of levels over ``reach`` steps to both sides; digital silence does not count.

    Looked at every ``thin`` steps of the recording (``first`` is the index of the first) and
    interpolated.

    Returns
    -------
    (shares, steps) dB; SILENCE_DB where all is silent
    """
    padded = np.pad(np.where(level > -150.0, level, np.nan), reach, constant_values=np.nan)
    view = np.lib.stride_tricks.sliding_window_view(padded, 2 * reach + 1)[-first % thin :: thin, ::2]
    ordered = np.sort(view, axis=1)  # what is not a number goes to the end
    count = np.count_nonzero(~np.isnan(ordered), axis=1)
    rows = np.arange(len(ordered))
    at = np.arange(len(level))
    made = np.empty((len(shares), len(level)))
    for n, share in enumerate(shares):
        picked = ordered[rows, np.maximum(np.rint(share * (count - 1)).astype(int), 0)]
        made[n] = np.interp(at, rows * thin + (-first % thin), np.where(count > 0, picked, SILENCE_DB))
    return made


def spread(values: NDArray[np.float64], first: int, step: int, start: int, frames: int) -> NDArray[np.float32]:
    """Values at steps as a curve over the frames of a block; flat beyond the first and last step."""
    if not len(values):
        return np.zeros(frames, dtype=np.float32)
    at = (np.arange(frames) + start) / step - first
    return np.interp(at, np.arange(len(values)), values).astype(np.float32)


def low_taps(rate: int, corner_hz: float, half: int) -> NDArray[np.float32]:
    """Symmetrical low-pass (Hann) of 2 half + 1 taps, unity at 0 Hz."""
    n = np.arange(-half, half + 1)
    taps = np.sinc(2.0 * corner_hz / rate * n) * np.hanning(2 * half + 3)[1:-1]
    return np.asarray(taps / taps.sum(), dtype=np.float32)


def shaped_taps(hz: NDArray[np.float64], magnitude: NDArray[np.float64], half: int) -> NDArray[np.float32]:
    """Symmetrical filter of 2 half + 1 taps with a magnitude (window method, Hann).

    Parameters
    ----------
    hz : rising, evenly spaced from 0 to half the sample rate
    magnitude : of the same length
    """
    size = 2 * (len(hz) - 1)
    pulse = np.roll(irfft(magnitude.astype(np.float32), size), size // 2)
    middle = (
        pulse[size // 2 - half : size // 2 + half + 1]
        if half < size // 2
        else np.pad(pulse, (half - size // 2, half - size // 2 + 1))
    )
    return np.asarray(middle * np.hanning(2 * half + 3)[1:-1], dtype=np.float32)


def filtered(samples: Samples, taps: NDArray[np.float32]) -> Samples:
    """Symmetrical filter, same length; half a filter at both ends lacks context."""
    half = len(taps) // 2
    size = fast_length(samples.shape[1] + 2 * half)
    return irfft(rfft(samples, size) * rfft(taps, size), size)[:, half : half + samples.shape[1]]
