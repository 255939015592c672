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


def static_gain_db(level_db: NDArray[np.float64], threshold_db: float, ratio: float, knee_db: float) -> NDArray[np.float64]:
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
    peak = np.maximum.reduceat(np.abs(samples).max(axis=0), edges[:-1])[: last - first]
    return 20.0 * np.log10(np.maximum(peak.astype(np.float64), 10.0 ** (SILENT_DB / 20.0))), int(first)


def held(level_db: NDArray[np.float64], steps: int) -> NDArray[np.float64]:
    """The highest level of the last ``steps``: a period of a low voice does not let the detector fall."""
    from scipy.ndimage import maximum_filter1d

    return np.asarray(maximum_filter1d(level_db, steps, origin=(steps - 1) // 2, mode="nearest"))


def smoothed(gain_db: NDArray[np.float64], attack_ms: float, release_ms: float) -> NDArray[np.float64]:
    """Gain over steps: falling with the attack, rising with the release."""
    fall = math.exp(-1000.0 / (attack_ms * STEPS_PER_S)) if attack_ms > 0.0 else 0.0
    rise = math.exp(-1000.0 / (release_ms * STEPS_PER_S)) if release_ms > 0.0 else 0.0
    made: list[float] = []
    keep = made.append
    state = float(gain_db[0]) if len(gain_db) else 0.0
    for goal in gain_db.tolist():
        state = goal + (fall if goal < state else rise) * (state - goal)
        keep(state)
    return np.array(made)


def over_frames(gain_db: NDArray[np.float64], first: int, start: int, frames: int, rate: int) -> NDArray[np.float32]:
    """Gains at steps as factors at every frame of a block: straight lines from middle to middle."""
    if not len(gain_db):
        return np.ones(frames, dtype=np.float32)
    gain = 10.0 ** (gain_db / 20.0)
    at = (np.arange(frames) + start) * (STEPS_PER_S / rate) - first - 0.5
    return np.asarray(np.interp(at, np.arange(len(gain)), gain), dtype=np.float32)
