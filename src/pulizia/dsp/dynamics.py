# SPDX-License-Identifier: GPL-3.0-or-later
"""Gain computers and detectors of compressors.

D. Giannoulis, M. Massberg, J. Reiss, "Digital dynamic range compressor design: a tutorial and analysis",
JAES 60(6), 2012: the static curve with its soft knee (equation 4) and the branching smooth detector on
the gain in dB (equation 17). An attack or release time is that in which 63 % of a step in dB is done.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

STEPS_PER_S = 1000
SILENT_DB = -160.0
COLUMNS = 16


def static_gain_db(
    level_db: NDArray[np.float64], threshold_db: float, ratio: float, knee_db: float
) -> NDArray[np.float64]:
    """Gain in dB (0 or below) at each level in dB: 1 / ratio above the threshold, a parabola in the knee."""
    over = level_db - threshold_db
    slope = 1.0 / ratio - 1.0
    if knee_db <= 0.0:
        return np.asarray(slope * np.maximum(over, 0.0))
    inside = slope * np.clip(over + knee_db / 2.0, 0.0, knee_db) ** 2 / (2.0 * knee_db)
    return np.asarray(np.where(over > knee_db / 2.0, slope * over, inside))


def step_levels(samples: NDArray[np.float32], start: int, rate: int) -> tuple[NDArray[np.float64], int]:
    """Level in dBFS of the highest sample in each millisecond of the recording, all channels, and the first step.

    Parameters
    ----------
    samples : (channels, frames) float32
    start : the recording's frame at ``samples[:, 0]``
    """
    first = -(-start * STEPS_PER_S // rate)
    last = (start + samples.shape[1]) * STEPS_PER_S // rate
    if last <= first:
        return np.zeros(0), int(first)
    edges = (np.arange(first, last + 1) * rate + STEPS_PER_S - 1) // STEPS_PER_S - start
    loudest = np.abs(samples[0]) if len(samples) == 1 else np.abs(samples).max(axis=0)
    peak = np.maximum.reduceat(loudest, edges[:-1])[: last - first]
    return 20.0 * np.log10(np.maximum(peak.astype(np.float64), 10.0 ** (SILENT_DB / 20.0))), int(first)


def held(level_db: NDArray[np.float64], steps: int) -> NDArray[np.float64]:
    """The highest level of the last ``steps``: a period of a low voice does not let the detector fall."""
    from scipy.ndimage import maximum_filter1d

    return np.asarray(maximum_filter1d(level_db, steps, origin=(steps - 1) // 2, mode="nearest"))


def smoothed(gain_db: NDArray[np.float64], attack_ms: float, release_ms: float) -> NDArray[np.float64]:
    """Gain over steps: falling with the attack, rising with the release."""
    fall = math.exp(-1000.0 / (attack_ms * STEPS_PER_S)) if attack_ms > 0.0 else 0.0
    rise = math.exp(-1000.0 / (release_ms * STEPS_PER_S)) if release_ms > 0.0 else 0.0
    state = float(gain_db[0]) if len(gain_db) else 0.0
    return np.array([
        state := goal + fall * (state - goal) if goal < state else goal + rise * (state - goal)
        for goal in gain_db.tolist()
    ])  # fmt: skip


def over_frames(gain_db: NDArray[np.float64], first: int, start: int, frames: int, rate: int) -> NDArray[np.float32]:
    """Gains in dB at milliseconds as factors at every frame of a block: straight lines from middle to middle.

    Parameters
    ----------
    gain_db : (steps,)
    first : the first step, counted from the recording's frame 0
    start, frames : the block's first frame, and its length

    Returns
    -------
    (frames,) float32
    """
    if not len(gain_db):
        return np.ones(frames, dtype=np.float32)
    gain = 10.0 ** (gain_db / 20.0)
    step, left = divmod(rate, STEPS_PER_S)
    if left:
        at = (np.arange(frames) + start) * (STEPS_PER_S / rate) - first - 0.5
        return np.asarray(np.interp(at, np.arange(len(gain)), gain), dtype=np.float32)
    return lines_between(gain, step, (first - 1) * step - start, step // 2, frames)


def lines_between(values: NDArray[np.float64], step: int, begin: int, middle: int, frames: int) -> NDArray[np.float32]:
    """Values at the middles of steps of whole frames, joined by straight lines; level before and behind.

    Parameters
    ----------
    values : (steps,), at least one
    step : frames of a step
    begin : frame at which the step before the first begins
    middle : frame within a step at which its value holds
    frames : length of the curve

    Returns
    -------
    (frames,) float32
    """
    steady = np.concatenate([values[:1], values, values[-1:]]).astype(np.float32)
    rise, share = np.diff(steady), (np.arange(step) / step).astype(np.float32)
    lines = np.empty((len(rise), step), dtype=np.float32)
    if step < COLUMNS:  # rows this short cost more to begin than to fill
        for n, part in enumerate(share):
            np.add(steady[:-1], rise * part, out=lines[:, n])
    else:
        np.multiply(rise[:, None], share, out=lines)
        lines += steady[:-1, None]
    flat = lines.reshape(-1)
    begin += middle
    a = min(max(0, begin), frames)
    b = max(a, min(frames, begin + len(flat)))
    if a == 0 and b == frames and b > a:
        return flat[-begin : frames - begin]
    out = np.full(frames, steady[-1], dtype=np.float32)
    out[:a] = steady[0]
    if b > a:
        out[a:b] = flat[a - begin : b - begin]
    return out
