# SPDX-License-Identifier: GPL-3.0-or-later
"""How the noise under the voice changes: where it jumps in level or colour, and how it drifts.

The floor of a band at a moment is a low quantile of its power over some seconds, as in minimum
statistics (R. Martin, "Noise power spectral density estimation based on optimal smoothing and minimum
statistics", IEEE Trans. Speech Audio Processing 9(5), 2001), with the bias of that quantile taken out.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cache

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source, read_padded
from pulizia.dsp.stft import powers, sine_window
from pulizia.units import powers_to_db

LOOKS_PER_S = 20
LOW_HZ, HIGH_HZ, BANDS = 90.0, 12_000.0, 14
FLOOR_SHARE = 0.15
SIDE_S = 6.0  # how far before and behind a change the floor is compared
CHANGE_DB = 3.0  # root mean square over the bands
SHORTEST_S = 5.0
MOST_CHANGES = 30  # the clearest; a recording with more than that has one restless noise
TRACK_REACH_S = 4.0
MEAN_OF = 6  # looks averaged before the quantile
DIGITAL_SILENCE_DB = -115.0

Progress = Callable[[float], None]


def band_powers(source: Source, progress: Progress = lambda _: None) -> NDArray[np.float32]:
    """(looks, bands) power in logarithmic bands, LOOKS_PER_S times a second."""
    size = int(2 ** round(np.log2(0.04 * source.rate)))
    window = sine_window(size)
    edges = np.geomspace(LOW_HZ, min(HIGH_HZ, 0.45 * source.rate), BANDS + 1) * size / source.rate
    marks = np.maximum.accumulate(np.rint(edges).astype(int) + np.arange(BANDS + 1) * 0)
    for k in range(1, BANDS + 1):  # at low rates the lowest bands are a bin wide
        marks[k] = max(marks[k], marks[k - 1] + 1)
    hop = source.rate // LOOKS_PER_S
    count = max(1, source.frames // hop)
    made = np.zeros((count, BANDS), dtype=np.float32)
    for a in range(0, count, 200):
        b = min(count, a + 200)
        block = read_padded(source, a * hop, (b - 1) * hop + size)
        total = powers(block, np.arange(b - a) * hop, window)
        made[a:b] = np.add.reduceat(total[:, : marks[-1]], marks[:-1], axis=1) / np.diff(marks)
        progress(b / count)
    return made * np.float32(4.0 / size**2 / source.channels)


def changes_s(power: NDArray[np.float32]) -> list[float]:
    """Seconds at which the floor jumps most, at least SHORTEST_S apart; ``power`` is that of :func:`band_powers`."""
    level = powers_to_db(power)
    step, side = LOOKS_PER_S // 4, round(SIDE_S * LOOKS_PER_S)
    shortest = round(SHORTEST_S * LOOKS_PER_S)
    if len(level) < 2 * shortest:
        return []
    # the floor behind a place is the floor before the place one side later
    padded = np.concatenate([np.full((side, level.shape[1]), np.nan), level, np.full((side, level.shape[1]), np.nan)])
    floors = _floors(padded, side, step)
    places = np.arange(0, len(level) + 1, step)
    before, behind = floors[: len(places)], floors[side // step : side // step + len(places)]
    heard = (before > DIGITAL_SILENCE_DB) & (behind > DIGITAL_SILENCE_DB)
    squares = np.where(heard, (behind - before) ** 2, 0.0).sum(axis=1) / np.maximum(heard.sum(axis=1), 1)
    jump = np.where(heard.sum(axis=1) >= level.shape[1] // 2, np.sqrt(squares), 0.0)
    jump[(places < shortest) | (places > len(level) - shortest)] = 0.0
    found: list[float] = []
    while jump.max() >= CHANGE_DB and len(found) < MOST_CHANGES:
        k = int(np.argmax(jump))
        found.append(_refined(level, int(places[k])) / LOOKS_PER_S)
        jump[max(0, k - shortest // step) : k + shortest // step + 1] = 0.0
    return sorted(found)


def _floors(padded: NDArray[np.float64], side: int, step: int) -> NDArray[np.float64]:
    """Low quantile of each window of ``side`` looks, every ``step`` looks; what is not a number does not count."""
    view = np.lib.stride_tricks.sliding_window_view(padded, side, axis=0)[::step]
    made = np.empty(view.shape[:2])
    for a in range(0, len(view), 256):
        ordered = np.sort(view[a : a + 256], axis=2)
        count = np.count_nonzero(~np.isnan(ordered), axis=2)
        at = np.maximum(np.rint(FLOOR_SHARE * (count - 1)).astype(int), 0)
        made[a : a + 256] = np.take_along_axis(ordered, at[:, :, None], axis=2)[:, :, 0]
    return np.nan_to_num(made, nan=2 * DIGITAL_SILENCE_DB)


def _refined(level: NDArray[np.float64], at: int) -> int:
    """The look at which the two floors are told apart best, within three seconds."""
    reach, side = 3 * LOOKS_PER_S, round(SIDE_S * LOOKS_PER_S)
    first, last = max(0, at - side), min(len(level), at + side)
    before = np.quantile(level[first : max(first + 1, at - reach)], FLOOR_SHARE, axis=0)
    behind = np.quantile(level[min(at + reach, last - 1) : last], FLOOR_SHARE, axis=0)
    part = slice(max(first, at - reach), min(last, at + reach))
    # looks that stand clearly above both floors are voice and say nothing
    quiet = level[part] < np.maximum(before, behind) + 6.0
    nearer = np.where(quiet, np.sign(np.abs(level[part] - before) - np.abs(level[part] - behind)), 0.0)
    weight = np.abs(behind - before) >= 2.0
    votes = (nearer * weight).sum(axis=1)  # above 0: nearer to what comes behind
    left = np.concatenate([[0.0], np.cumsum(-votes)])
    return part.start + int(np.argmax(left))


def quantile_spectrum(power: NDArray[np.float32]) -> NDArray[np.float32]:
    """Noise power per bin from frames with voice in them: (frames, bins) to (bins,).

    Means of MEAN_OF frames, a low quantile of those over time, times the bias of that quantile for
    Gaussian noise.
    """
    count = len(power) // MEAN_OF
    if count < 4:
        return np.asarray(power.mean(axis=0), dtype=np.float32)
    means = power[: count * MEAN_OF].reshape(count, MEAN_OF, -1).mean(axis=1)
    return np.asarray(np.quantile(means, FLOOR_SHARE, axis=0) * quantile_bias(), dtype=np.float32)


@cache
def quantile_bias() -> float:
    """Mean over low quantile of the mean of MEAN_OF independent exponential powers (gamma distribution)."""
    from scipy.stats import gamma

    return float(1.0 / gamma.ppf(FLOOR_SHARE, MEAN_OF, scale=1.0 / MEAN_OF))
