# SPDX-License-Identifier: GPL-3.0-or-later
"""Where somebody speaks: told by a small net from how far the bands lie over a floor that follows the noise.

The floor follows as in minimum statistics (R. Martin, IEEE Trans. Speech Audio Processing 9(5), 2001); the net
(:mod:`pulizia.models.speech_net`) tells how likely each moment lies in a phrase, with hysteresis. What lies far under
the voice of the recording is not taken for speech.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source, read_padded
from pulizia.dsp.stft import hann_window, powers
from pulizia.models import speech_net
from pulizia.units import power_to_db, powers_to_db

FRAMES_PER_S = 100
BAND_HZ = (200.0, 6000.0)  # of the level
LOW_HZ, HIGH_HZ, BANDS = 100.0, 7500.0, 20  # of the likelihood
OVER_FLOOR_DB, LEAST_OVER_FLOOR_DB = 8.0, 1.5
READ_S = 10
MOST_LISTENED_S = 1800.0
FLOOR_SHARE, FLOOR_REACH_S, FLOOR_BIAS = 0.12, 5.0, 1.25  # quantile of 40 ms means, and what it lies under the mean
LOWEST_POWER, SILENT_DB, LOW_SHARE = 1e-11, -120.0, 0.05
SMOOTH_STEPS, BEGINS, GOES_ON = 5, 0.7, 0.5  # of how likely a phrase is
CERTAIN = 0.6  # that the voice is heard
UNDER_VOICE_DB = 40.0


@dataclass(frozen=True, slots=True)
class Activity:
    """What was heard every 10 ms.

    Attributes
    ----------
    level_db : (steps,) level in the band of speech in dBFS
    active : (steps,) where a phrase is: with a little before and after, and without its own short gaps
    core : (steps,) where somebody speaks for certain
    floor_db : level of the pauses in the band of speech
    speech_db : mean level of the speech there
    first_frame : where in the source the first step lies
    """

    level_db: NDArray[np.float64]
    active: NDArray[np.bool_]
    core: NDArray[np.bool_]
    floor_db: float
    speech_db: float
    first_frame: int = 0

    def level_of(self, start: int, stop: int, rate: int) -> float | None:
        """Mean level in dBFS of the steps that begin in these frames of the source, one at least; None outside."""
        first = (start - self.first_frame) * FRAMES_PER_S // rate
        last = max(first + 1, (stop - self.first_frame) * FRAMES_PER_S // rate)
        return float(self.level_db[first:last].mean()) if 0 <= first < len(self.level_db) else None


def speech_between(
    source: Source, start: int, stop: int, progress: Callable[[float], None] = lambda _: None
) -> Activity:
    """Listen to a stretch of a source."""
    power, level = _heard(source, start, stop, progress)
    count = len(level)
    nothing = np.zeros(count, dtype=bool)
    heard = level[level > -120.0]
    if len(heard) < FRAMES_PER_S // 2:
        return Activity(level, nothing, nothing, -160.0, -160.0, start)
    phrase, voiced = speech_net.speaks(*looked_at(power, level))
    active = _with_hysteresis(_smooth(phrase, SMOOTH_STEPS))
    core = voiced > CERTAIN
    loud = level - _loudness(level, core & active)
    active &= _smooth(loud, 5) > -UNDER_VOICE_DB
    core &= active
    pause = level[~active & (level > -120.0)]
    floor = float(np.median(pause)) if len(pause) >= FRAMES_PER_S // 10 else float(np.quantile(heard, 0.02))
    if not core.any():
        return Activity(level, nothing, nothing, floor, floor, start)
    speech = power_to_db(float(np.mean(10.0 ** (level[core] / 10.0))))
    if speech - floor < LEAST_OVER_FLOOR_DB:
        return Activity(level, nothing, nothing, floor, floor, start)
    return Activity(level, active, core, floor, speech, start)


def _heard(
    source: Source, start: int, stop: int, progress: Callable[[float], None]
) -> tuple[NDArray[np.float32], NDArray[np.float64]]:
    """(steps, bands) mean square in bands, and the level in the band of speech in dB; window about 30 ms."""
    rate = source.rate
    size = 2 ** max(5, round(np.log2(0.03 * rate)))
    window = hann_window(size)
    wanted = np.rint(np.geomspace(LOW_HZ, HIGH_HZ, BANDS + 1) * size / rate).astype(int)
    for k in range(1, BANDS + 1):  # the lowest bands are a bin wide
        wanted[k] = max(wanted[k], wanted[k - 1] + 1)
    edges = wanted[wanted <= 0.45 * size]
    hz = np.arange(size // 2 + 1) * rate / size
    inside = (hz >= BAND_HZ[0]) & (hz <= BAND_HZ[1])
    scale = 2.0 / (source.channels * size * float((window**2).sum()))
    count = (stop - start) * FRAMES_PER_S // rate
    bands = np.zeros((count, BANDS), dtype=np.float32)  # bands that the rate does not hold stay empty
    levels = np.zeros(count)
    for first in range(0, count, READ_S * FRAMES_PER_S):
        last = min(count, first + READ_S * FRAMES_PER_S)
        centres = start + (np.arange(first, last) * rate // FRAMES_PER_S) + rate // (2 * FRAMES_PER_S)
        begin = int(centres[0]) - size // 2
        block = read_padded(source, begin, int(centres[-1]) + size)
        power = powers(block, centres - size // 2 - begin, window)
        levels[first:last] = powers_to_db(power[:, inside].sum(axis=1, dtype=np.float64) * scale)
        bands[first:last, : len(edges) - 1] = np.add.reduceat(power[:, : edges[-1]], edges[:-1], axis=1) * scale
        progress(last / count)
    return bands, levels


def looked_at(
    power: NDArray[np.float32], level: NDArray[np.float64]
) -> tuple[NDArray[np.float32], NDArray[np.float32], float]:
    """What the net of speech is told: power over the floor, level under that of the voice, voice over the floor."""
    over = _floors(power)
    np.divide(power, over, out=over)
    over[:, power.max(axis=0) <= 0.0] = 1.0
    heard = level[level > SILENT_DB]
    voice = float(np.quantile(heard, speech_net.LOUD_SHARE))
    return over, (level - voice).astype(np.float32), voice - float(np.quantile(heard, LOW_SHARE))


def _floors(power: NDArray[np.float32]) -> NDArray[np.float32]:
    """Noise under each step and band: a low quantile of 40 ms means over FLOOR_REACH_S to both sides."""
    thin, step = 4, 8
    count = max(1, len(power) // thin)
    padded = (
        np.pad(power, ((0, max(0, count * thin - len(power))), (0, 0)), mode="edge") if len(power) < thin else power
    )
    means = np.maximum(padded[: count * thin].reshape(count, thin, -1).mean(axis=1), LOWEST_POWER)
    reach = round(FLOOR_REACH_S * FRAMES_PER_S / thin)
    around = np.pad(means, ((reach, reach), (0, 0)), constant_values=np.nan)
    view = np.lib.stride_tricks.sliding_window_view(around, 2 * reach + 1, axis=0)[::step]
    floors = np.empty(view.shape[:2], dtype=np.float32)
    for a in range(0, len(view), 512):
        ordered = np.sort(view[a : a + 512], axis=2)
        heard = np.count_nonzero(~np.isnan(ordered), axis=2)
        at = np.rint(FLOOR_SHARE * (heard - 1)).astype(int)
        floors[a : a + 512] = np.take_along_axis(ordered, at[:, :, None], axis=2)[:, :, 0]
    where = np.arange(len(power)) / thin
    places = np.arange(len(floors)) * step
    made = np.empty(power.shape, dtype=np.float32)
    for k in range(power.shape[1]):  # one band at a time: of ten hours all of them would be gigabytes
        made[:, k] = np.exp(np.interp(where, places, np.log(floors[:, k]))) * FLOOR_BIAS
    return made


def _smooth(values: NDArray[np.floating], frames: int) -> NDArray[np.float64]:
    from scipy.ndimage import uniform_filter1d

    return np.asarray(uniform_filter1d(np.asarray(values, dtype=np.float64), frames, mode="nearest"))


def _with_hysteresis(smooth: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Stretches that stay above GOES_ON and reach BEGINS."""
    from scipy.ndimage import label, maximum

    groups, count = label(smooth > GOES_ON)
    if not count:
        return np.zeros(len(smooth), dtype=bool)
    reached = np.concatenate([[False], np.atleast_1d(maximum(smooth, groups, np.arange(1, count + 1))) > BEGINS])
    return np.asarray(reached[groups])


def _loudness(level: NDArray[np.float64], speaking: NDArray[np.bool_]) -> float:
    """Mean level where somebody speaks; of the loudest tenth where that is not known."""
    part = level[speaking] if speaking.any() else level[level >= np.quantile(level, 0.9)]
    return power_to_db(float(np.mean(10.0 ** (part / 10.0))))


def activity_of(source: Source, progress: Callable[[float], None] = lambda _: None) -> Activity:
    """Speech activity of a source; of the middle half hour of a long one."""
    most = round(MOST_LISTENED_S * source.rate)
    start = max(0, (source.frames - most) // 2)
    return speech_between(source, start, min(source.frames, start + most), progress)


def speech_to_noise_db(source: Source, progress: Callable[[float], None] = lambda _: None) -> float | None:
    """Level of speech over the floor in the band of speech; None where no speech stands out."""
    found = activity_of(source, progress)
    if not found.active.any() or found.speech_db - found.floor_db < OVER_FLOOR_DB:
        return None
    return found.speech_db - found.floor_db
