# SPDX-License-Identifier: GPL-3.0-or-later
"""Where somebody speaks: level over a floor that is learned from the recording itself.

After the idea of ITU-T P.56 (level with hang-over), in the band of speech and relative to the noise
of the surroundings; common practice. Good at room tone, useless where speech hardly stands out.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source, read_padded
from pulizia.dsp.stft import hann_window, powers
from pulizia.units import power_to_db, powers_to_db

FRAMES_PER_S = 100
BAND_HZ = (200.0, 6000.0)
FLOOR_SHARE = 0.1
OVER_FLOOR_DB = 8.0
HANG_S, LEAD_S = 0.12, 0.05
READ_S = 10
MOST_LISTENED_S = 1800.0


@dataclass(frozen=True, slots=True)
class Activity:
    """Levels in the band of speech every 10 ms, and where speech is."""

    level_db: NDArray[np.float64]
    active: NDArray[np.bool_]
    floor_db: float
    speech_db: float


def band_levels(
    source: Source, start: int, stop: int, progress: Callable[[float], None] = lambda _: None
) -> NDArray[np.float64]:
    """Level in dB in the band of speech, 100 times a second; window 20 ms."""
    size = 2 ** max(5, round(np.log2(0.02 * source.rate)))
    window = hann_window(size)
    hz = np.arange(size // 2 + 1) * source.rate / size
    inside = (hz >= BAND_HZ[0]) & (hz <= BAND_HZ[1])
    scale = 2.0 / (source.channels * size * float((window**2).sum()))
    levels = []
    count = (stop - start) * FRAMES_PER_S // source.rate
    for first in range(0, count, READ_S * FRAMES_PER_S):
        last = min(count, first + READ_S * FRAMES_PER_S)
        centres = start + (np.arange(first, last) * source.rate // FRAMES_PER_S) + source.rate // (2 * FRAMES_PER_S)
        begin = int(centres[0]) - size // 2
        block = read_padded(source, begin, int(centres[-1]) + size)
        power = powers(block, centres - size // 2 - begin, window)[:, inside].sum(axis=1, dtype=np.float64)
        levels.append(powers_to_db(power * scale))
        progress(last / count)
    return np.concatenate(levels) if levels else np.zeros(0)


def speech_activity(levels: NDArray[np.float64]) -> Activity:
    """Where levels stand clearly above their floor, with a little lead and hang-over."""
    heard = levels[levels > -120.0]
    if len(heard) < FRAMES_PER_S // 2:
        return Activity(levels, np.zeros(len(levels), dtype=bool), -160.0, -160.0)
    floor = float(np.quantile(heard, FLOOR_SHARE))
    top = float(np.quantile(heard, 0.95))
    threshold = floor + max(OVER_FLOOR_DB, 0.3 * (top - floor))
    over = levels >= threshold
    reach = np.ones(round((HANG_S + LEAD_S) * FRAMES_PER_S) + 1)
    spread = np.convolve(over, reach)[round(LEAD_S * FRAMES_PER_S) :][: len(over)] > 0.5
    # a single loud frame is a click, not a word
    runs = np.convolve(over, np.ones(5), mode="same") >= 4
    spread &= np.convolve(runs, np.ones(2 * len(reach)), mode="same") > 0.5
    speech = power_to_db(float(np.mean(10.0 ** (levels[spread & over] / 10.0)))) if (spread & over).any() else floor
    return Activity(levels, spread, floor, speech)


def speech_core(found: Activity) -> NDArray[np.bool_]:
    """Where speech is heard for certain: without lead and hang-over."""
    lead, hang = round(LEAD_S * FRAMES_PER_S), round(HANG_S * FRAMES_PER_S)
    active = found.active.astype(np.int64)
    sums = np.concatenate([[0], np.cumsum(active)])
    n = np.arange(len(active))
    low, high = np.maximum(n - lead, 0), np.minimum(n + hang + 1, len(active))
    return np.asarray(sums[high] - sums[low] == high - low)


def activity_of(source: Source, progress: Callable[[float], None] = lambda _: None) -> Activity:
    """Speech activity of a source; of the middle half hour of a long one."""
    most = round(MOST_LISTENED_S * source.rate)
    start = max(0, (source.frames - most) // 2)
    return speech_activity(band_levels(source, start, min(source.frames, start + most), progress))


def speech_to_noise_db(source: Source, progress: Callable[[float], None] = lambda _: None) -> float | None:
    """Level of speech over the floor in the band of speech; None where no speech stands out."""
    found = activity_of(source, progress)
    if not found.active.any() or found.speech_db - found.floor_db < OVER_FLOOR_DB:
        return None
    return found.speech_db - found.floor_db
