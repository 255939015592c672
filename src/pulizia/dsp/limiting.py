# SPDX-License-Identifier: GPL-3.0-or-later
"""Look-ahead true-peak limiting with finite memory: the same samples whatever the reading order."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples
from pulizia.dsp.dynamics import lines_between
from pulizia.dsp.oversample import BLOCK, TAPS, factor_for, interpolator
from pulizia.units import ms_to_frames

LOOK_AHEAD_MS = 4.0
RELEASE_DB_PER_S = 60.0
SLOW_S = 0.4  # of the part of the release that adapts
GRID = BLOCK  # steps lie on the recording's frame 0: what is handed in begins on a multiple of this
DEEPEST_DB = 30.0  # of reduction that the release begins from, so that its memory has an end


def limiter_margin(rate: int) -> tuple[int, int]:
    """Context in frames before and after at the usual look-ahead and release."""
    return limiter_reach(rate)


def limiter_reach(
    rate: int, *, look_ahead_ms: float = LOOK_AHEAD_MS, release_db_per_s: float = RELEASE_DB_PER_S, adapts: bool = False
) -> tuple[int, int]:
    """Context in frames before and after: the longest release, and the look-ahead; whole GRIDs before."""
    look = ms_to_frames(look_ahead_ms, rate) + 2 * step_frames(rate)
    slow = round(SLOW_S * rate) if adapts else 0
    before = round(DEEPEST_DB / release_db_per_s * rate) + slow + 2 * look + TAPS
    return -(-before // GRID) * GRID, 2 * look + TAPS + GRID


def limiting_gain(
    samples: Samples, rate: int, ceiling: float, *,
    look_ahead_ms: float = LOOK_AHEAD_MS, release_db_per_s: float = RELEASE_DB_PER_S, adapts: bool = False,
) -> NDArray[np.float32]:  # fmt: skip
    """Gain per frame that keeps the true peak of all channels under ``ceiling``.

    The gain needed in each step of a few frames, from the interpolated signal around it, is held over
    the look-ahead by a sliding minimum, let go at a constant rate in dB (from DEEPEST_DB where more was
    needed), and smoothed by moving averages as long as the look-ahead: it then arrives before the peak and never jumps. Between the
    middles of steps it goes in straight lines; one step more is held for them.

    Parameters
    ----------
    samples : (channels, frames) float32, from a whole number of GRID frames of the recording
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
    step = step_frames(rate)
    level = _true_levels(samples, rate, ceiling, step)
    if level is None:
        return np.ones(frames, dtype=np.float32)
    needed_db = 20.0 * np.log10(np.minimum(1.0, ceiling / np.maximum(level, 1e-12)))
    look = max(1, -(-ms_to_frames(look_ahead_ms, rate) // step))
    from scipy.ndimage import minimum_filter1d

    held = minimum_filter1d(needed_db, 2 * look + 3, mode="nearest")
    slope = release_db_per_s / rate * step * np.arange(len(held))
    remembered = np.maximum(held, -DEEPEST_DB)
    released = np.minimum(held, np.minimum.accumulate(remembered - slope) + slope)
    if adapts:
        released = np.minimum(released, _past_mean(released, round(SLOW_S * rate / step)))
    gain = _smoothed(10.0 ** (released / 20.0), look)
    gain[gain > 1.0 - 1e-7] = 1.0
    return lines_between(gain, step, -step, step // 2, frames)


def step_frames(rate: int) -> int:
    """Frames in which the gain has one value: about 0.1 ms, and a power of two that parts BLOCK."""
    step = 4
    while step < BLOCK and rate > 16_000 * step:
        step *= 2
    return step


def _past_mean(x: NDArray[np.float64], steps: int) -> NDArray[np.float64]:
    """Mean of the last ``steps`` values at each place; what lies before the first counts as 0."""
    sums = np.concatenate([np.zeros(steps), np.cumsum(x)])
    return np.asarray((sums[steps:] - np.concatenate([np.zeros(1), sums])[: len(x)]) / steps)


def _true_levels(samples: Samples, rate: int, ceiling: float, step: int) -> NDArray[np.float64] | None:
    """Largest interpolated magnitude in each step where it can pass the ceiling, 0 or the sample's elsewhere."""
    filter_ = interpolator(factor_for(rate))
    frames = samples.shape[1]
    before = TAPS // 2 - 1
    rows = -(-frames // BLOCK)
    level = np.zeros((rows, BLOCK // step), dtype=np.float32)
    found = False
    for channel in samples:
        padded = np.zeros(before + rows * BLOCK + TAPS // 2, dtype=np.float32)
        padded[before : before + frames] = channel
        own = padded[before : before + rows * BLOCK].reshape(rows, BLOCK)
        most = np.zeros(rows + 2, dtype=np.float32)
        np.maximum(own.max(axis=1), -own.min(axis=1), out=most[1:-1])
        around = np.maximum(np.maximum(most[:-2], most[1:-1]), most[2:])
        loud = np.flatnonzero(around * filter_.largest_gain > ceiling)
        if not len(loud):
            continue
        found = True
        windows = np.lib.stride_tricks.sliding_window_view(padded, BLOCK + TAPS - 1)[::BLOCK]
        between = filter_.between(windows[loud])
        peaks = np.abs(own[loud])
        for part in range(filter_.factor - 1):
            np.maximum(peaks, np.abs(between[:, part]), out=peaks)
        # a peak between two frames counts for both of them
        last = peaks[:, -1].copy()
        parts = peaks.reshape(len(loud), -1, step)
        made = parts[:, :, 0].copy()
        for n in range(1, step):
            np.maximum(made, parts[:, :, n], out=made)
        np.maximum(made[:, 1:], parts[:, :-1, -1], out=made[:, 1:])
        joined = np.flatnonzero(np.diff(loud) == 1) + 1
        made[joined, 0] = np.maximum(made[joined, 0], last[joined - 1])
        level[loud] = np.maximum(level[loud], made)
    return level.reshape(-1)[: -(-frames // step)].astype(np.float64) if found else None


def _smoothed(gain: NDArray[np.float64], look: int) -> NDArray[np.float64]:
    """Three centred moving averages that reach ``look`` steps to both sides together."""
    from scipy.ndimage import uniform_filter1d

    if gain.min() >= 1.0:
        return gain
    reduction = 1.0 - gain
    size = 2 * (look // 3) + 1
    for _ in range(3):
        reduction = uniform_filter1d(reduction, size, mode="nearest")
    reduction[reduction < 1e-9] = 0.0
    return np.asarray(1.0 - reduction)
