# SPDX-License-Identifier: GPL-3.0-or-later
"""Where two recordings may lie against each other: the movement of 16 band levels at 100 steps a second, over all lags."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source, read_padded
from pulizia.dsp.fourier import fast_length, irfft, rfft
from pulizia.dsp.stft import hann_window, powers

Progress = Callable[[float], None]
STEPS_PER_S, BANDS = 100, 16
LOW_HZ, HIGH_HZ = 120.0, 6500.0
READ_S, SMOOTH_S = 20, 1.0
LEAST_SPREAD = 1.0  # of log power: a band that hardly moves says little
PIECE_S = 120.0  # of the search: drift of 100 ppm moves it by 12 ms
ENOUGH_SCORE, ENOUGH_RATIO = 20.0, 2.0


def movement(source: Source, progress: Progress = lambda _: None) -> NDArray[np.float32]:
    """(bands, steps) how the level of each band moves around its mean of a second, 100 steps a second."""
    rate = source.rate
    size = 2 ** max(6, round(np.log2(0.025 * rate)))
    window = hann_window(size)
    edges = np.rint(np.geomspace(LOW_HZ, min(HIGH_HZ, 0.45 * rate), BANDS + 1) * size / rate).astype(int)
    for k in range(1, BANDS + 1):
        edges[k] = max(edges[k], edges[k - 1] + 1)
    count = source.frames * STEPS_PER_S // rate
    parts = []
    for start in range(0, count, READ_S * STEPS_PER_S):
        stop = min(count, start + READ_S * STEPS_PER_S)
        centres = np.arange(start, stop) * rate // STEPS_PER_S + rate // (2 * STEPS_PER_S)
        begin = int(centres[0]) - size // 2
        block = read_padded(source, begin, int(centres[-1]) + size)
        power = powers(block, centres - size // 2 - begin, window)
        parts.append(np.add.reduceat(power[:, : edges[-1]], edges[:-1], axis=1))
        progress(stop / count)
    if not parts:
        return np.zeros((BANDS, 0), dtype=np.float32)
    power = np.concatenate(parts).T
    floor = np.quantile(power, 0.05, axis=1, keepdims=True) + 1e-13
    level = np.log(power + 2.0 * floor)
    return _calm(level)


def _calm(level: NDArray[np.floating]) -> NDArray[np.float32]:
    from scipy.ndimage import uniform_filter1d

    # two steps together: the beat of a hum's harmonics, 50 or 60 times a second, is no movement of speech
    level = uniform_filter1d(level, 2, axis=1, mode="nearest")
    moved = level - uniform_filter1d(level, round(SMOOTH_S * STEPS_PER_S), axis=1, mode="nearest")
    spread = moved.std(axis=1, keepdims=True)
    return np.asarray(np.clip(moved / np.maximum(spread, LEAST_SPREAD), -4.0, 4.0), dtype=np.float32)


@dataclass(frozen=True, slots=True)
class Coarse:
    """The best piece: where it lies in the first recording, its lag, and how sure."""

    at_s: float
    lag_s: float
    score: float
    ratio: float


def coarse_lag(a: NDArray[np.float32], b: NDArray[np.float32]) -> Coarse | None:
    """Correlate pieces of the shorter recording with all of the other; the surest one speaks."""
    if min(a.shape[1], b.shape[1]) < STEPS_PER_S:
        return None
    turned = a.shape[1] > b.shape[1]
    short, long = (b, a) if turned else (a, b)
    piece = round(PIECE_S * STEPS_PER_S)
    size = fast_length(long.shape[1] + min(piece, short.shape[1]))
    spectra = rfft(long, size)
    best: Coarse | None = None
    starts = range(0, max(1, short.shape[1] - piece // 2), piece)
    strength = [float((short[:, s : s + piece] ** 2).sum()) for s in starts]
    for start in [s for _, s in sorted(zip(strength, starts, strict=True), reverse=True)][:8]:
        part = short[:, start : start + piece]
        curve = irfft((np.conj(rfft(part, size)) * spectra).sum(axis=0), size)
        lags = np.concatenate([curve[: long.shape[1]], curve[size - part.shape[1] + 1 :]])
        values = np.concatenate([np.arange(long.shape[1]), np.arange(-part.shape[1] + 1, 0)])
        # lags at which little of the piece lies over the other: their sums vary less
        over = np.minimum(long.shape[1] - values, part.shape[1]) - np.maximum(0, -values)
        lags = lags / np.sqrt(np.maximum(over, part.shape[1] // 3))
        spread = 1.4826 * float(np.median(np.abs(lags - np.median(lags)))) + 1e-12
        top = int(lags.argmax())
        away = np.abs(values - values[top]) > STEPS_PER_S // 2
        second = float(lags[away].max(initial=0.0))
        score, ratio = float(lags[top]) / spread, float(lags[top]) / max(second, 1e-12)
        where = float(values[top] - start) / STEPS_PER_S
        found = Coarse(start / STEPS_PER_S, -where if not turned else where, score, ratio)
        if turned:
            found = Coarse((values[top]) / STEPS_PER_S, where, score, ratio)
        if best is None or score * min(ratio, 3.0) > best.score * min(best.ratio, 3.0):
            best = found
        if best.score > ENOUGH_SCORE and best.ratio > ENOUGH_RATIO:
            break
    return best
