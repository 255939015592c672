"""Look-ahead true-peak limiting with finite memory: the same samples whatever the reading order."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.dsp.oversample import BLOCK, TAPS, factor_for, interpolator
from pulizia.units import ms_to_frames

LOOK_AHEAD_MS = 4.0
RELEASE_DB_PER_S = 60.0
SLOW_S = 0.4  # of the part of the release that adapts
DEEPEST_DB = 30.0  # of reduction that the release still remembers


def limiter_margin(rate: int) -> tuple[int, int]:
    """Context in frames before and after at the usual look-ahead and release."""
    return limiter_reach(rate)


def limiter_reach(
    rate: int, *, look_ahead_ms: float = LOOK_AHEAD_MS, release_db_per_s: float = RELEASE_DB_PER_S, adapts: bool = False
) -> tuple[int, int]:
    """Context in frames before and after: the longest release, and the look-ahead."""
    look = ms_to_frames(look_ahead_ms, rate)
    slow = round(SLOW_S * rate) if adapts else 0
    return round(DEEPEST_DB / release_db_per_s * rate) + slow + 2 * look + TAPS, 2 * look + TAPS


def limiting_gain(
    samples: Samples, rate: int, ceiling: float, *,
    look_ahead_ms: float = LOOK_AHEAD_MS, release_db_per_s: float = RELEASE_DB_PER_S, adapts: bool = False,
) -> NDArray[np.float32]:  # fmt: skip
    """Gain per frame that keeps the true peak of all channels under ``ceiling``.

    The gain needed at each frame, from the interpolated signal around it, is held over the
    look-ahead by a sliding minimum, let go at a constant rate in dB, and smoothed by
    moving averages as long as the look-ahead: it then arrives before the peak and never jumps.

    Parameters
    ----------
    samples : (channels, frames) float32
    rate : Hz
    ceiling : amplitude
    look_ahead_ms, release_db_per_s
        How early the gain falls, and how fast it is let go.
    adapts
        Let go no further than the mean reduction of the last SLOW_S: dense peaks do not pump.

    Returns
    -------
    (frames,) float32 in 0..1; exactly 1 where nothing has to be done
    """
    frames = samples.shape[1]
    level = _true_levels(samples, rate, ceiling)
    if level is None:
        return np.ones(frames, dtype=np.float32)
    needed_db = 20.0 * np.log10(np.minimum(1.0, ceiling / np.maximum(level, 1e-12)))
    look = max(1, ms_to_frames(look_ahead_ms, rate))
    from scipy.ndimage import minimum_filter1d

    held = minimum_filter1d(needed_db, 2 * look + 1, mode="nearest")
    slope = release_db_per_s / rate * np.arange(frames)
    released = np.minimum.accumulate(held - slope) + slope
    released = np.minimum(np.maximum(released, -DEEPEST_DB * 2), 0.0)
    if adapts:
        released = np.minimum(released, _past_mean(released, round(SLOW_S * rate)))
    gain = _smoothed(10.0 ** (released / 20.0), look)
    gain[gain > 1.0 - 1e-7] = 1.0
    return gain.astype(np.float32)


def _past_mean(x: NDArray[np.float64], frames: int) -> NDArray[np.float64]:
    """Mean of the last ``frames`` values at each place; what lies before the first counts as 0."""
    sums = np.concatenate([np.zeros(frames), np.cumsum(x)])
    return np.asarray((sums[frames:] - np.concatenate([np.zeros(1), sums])[: len(x)]) / frames)


def _true_levels(samples: Samples, rate: int, ceiling: float) -> NDArray[np.float64] | None:
    """Largest interpolated magnitude around each frame where it can pass the ceiling."""
    filter_ = interpolator(factor_for(rate))
    frames = samples.shape[1]
    before = TAPS // 2 - 1
    rows = -(-frames // BLOCK)
    level = np.zeros(rows * BLOCK)
    found = False
    for channel in samples:
        padded = np.zeros(before + rows * BLOCK + TAPS // 2, dtype=np.float32)
        padded[before : before + frames] = channel
        magnitude = np.abs(padded[before : before + rows * BLOCK])
        windows = np.lib.stride_tricks.sliding_window_view(padded, BLOCK + TAPS - 1)[::BLOCK]
        loud = np.abs(windows).max(axis=1) * filter_.largest_gain > ceiling
        if not loud.any():
            continue
        found = True
        between = np.abs(filter_.between(windows[loud])).max(axis=1)
        own = magnitude.reshape(rows, BLOCK)
        own[loud] = np.maximum(own[loud], between)
        # a peak between two frames counts for both of them
        follows = own.reshape(-1)
        follows[1:] = np.maximum(follows[1:], follows[:-1].copy())
        np.maximum(level, follows, out=level)
    return level[:frames] if found else None


def _smoothed(gain: NDArray[np.float64], look: int) -> NDArray[np.float64]:
    """Three centred moving averages that reach ``look`` frames to both sides together."""
    from scipy.ndimage import uniform_filter1d

    if gain.min() >= 1.0:
        return gain
    reduction = 1.0 - gain
    size = 2 * (look // 3) + 1
    for _ in range(3):
        reduction = uniform_filter1d(reduction, size, mode="nearest")
    reduction[reduction < 1e-9] = 0.0
    return np.asarray(1.0 - reduction)
