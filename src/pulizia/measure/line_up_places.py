# SPDX-License-Identifier: GPL-3.0-or-later
"""Lags of two recordings at single places, and the line through them that places which heard something else do not move."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source, read_padded
from pulizia.dsp.fourier import fast_length
from pulizia.measure.line_up_coarse import STEPS_PER_S

MOST_PPM = 200.0
PLACES, WINDOW_S, REACH_S = 96, 1.0, 0.06
FINE_HZ = (150.0, 5500.0)
WHITENED = 0.75  # exponent of the magnitude that is taken out
UPSAMPLED = 8
INSIDE_S = 0.0012  # of the line: farther places are outliers
JUMP_S = 0.03
FINE_RATE = 16_000
SIZE = round(WINDOW_S * FINE_RATE)


@dataclass(frozen=True, slots=True)
class Piece:
    """A part of the first recording in which one offset holds; recorders may jump."""

    start_s: float
    stop_s: float
    offset_s: float


@dataclass(frozen=True, slots=True)
class Line:
    """Lags of places: ``level`` + ``slope`` x second of the first recording; ``times`` are those on it, ``heard`` all."""

    slope: float
    level: float
    times: NDArray[np.float64]
    heard: NDArray[np.float64]
    share: float
    pieces: tuple[Piece, ...]


def line_of_places(
    first: Source,
    second: Source,
    moved: NDArray[np.float32],
    at_s: float,
    lag_s: float,
    progress: Callable[[float], None],
) -> Line | None:
    """A line through the lags of loud places, from the surest one outwards: what is known of the drift predicts the next lag.

    ``moved`` is the movement of the first recording; None when fewer than three places heard something.
    """
    order = sorted(_loud_places(first, second, moved, lag_s), key=lambda t: abs(t - at_s))
    known_t, known_lag, found = [at_s], [lag_s], []
    for n, t in enumerate(order):
        expected = _expected(known_t, known_lag, t)
        lag, strength = lag_at(first, second, t, expected, REACH_S)
        if strength > 0.0:
            found.append((t, lag))
            if strength > 4.0:
                known_t.append(t)
                known_lag.append(lag)
        progress((n + 1) / len(order))
    if len(found) < 3:
        return None
    where, lags = np.array(found).T
    slope, level, inside = _line(where, lags)
    return Line(slope, level, where[inside], where, float(inside.mean()), _pieces(where, lags, slope, level, inside))


def settled(first: Source, second: Source, line: Line, slope: float, level: float) -> tuple[float, float, float]:
    """Slope and level of the line once more through the peaks nearest to it, and how far they lie off, in seconds."""
    found = []
    for t in line.times:
        lag, strength = lag_at(first, second, float(t), level + slope * float(t), 0.0015)
        if strength > 1.5:
            found.append((float(t), lag))
    if len(found) < 3:
        return slope, level, INSIDE_S
    where, lags = np.array(found).T
    for _ in range(4):
        away = lags - level - slope * where
        scale = 1.4826 * float(np.median(np.abs(away - np.median(away)))) + 1e-7
        weight = 1.0 / (1.0 + (away / (2.0 * scale)) ** 2)
        if np.ptp(where) < 5.0:
            slope, level = 0.0, float(np.sum(weight * lags) / np.sum(weight))
        else:
            slope, level = (float(v) for v in np.polyfit(where, lags, 1, w=np.sqrt(weight)))
    return slope, level, float(np.median(np.abs(lags - level - slope * where)))


def _loud_places(first: Source, second: Source, a: NDArray[np.float32], lag_s: float) -> list[float]:
    """Middles of windows, in seconds of the first recording, spread over all that both share: the loudest of each part."""
    begin = max(WINDOW_S, lag_s + WINDOW_S)
    end = min(first.frames / first.rate, second.frames / second.rate + lag_s) - WINDOW_S
    if end - begin < 2 * WINDOW_S:
        return [] if end <= begin else [(begin + end) / 2]
    strength = np.convolve((np.maximum(a, 0.0) ** 2).sum(axis=0), np.ones(STEPS_PER_S), "same")
    edges = np.linspace(begin, end, min(PLACES, max(3, int((end - begin) / WINDOW_S))) + 1)
    found = []
    for low, high in itertools.pairwise(edges):
        i, j = int(low * STEPS_PER_S), max(int(low * STEPS_PER_S) + 1, int(high * STEPS_PER_S))
        part = strength[i:j]
        if len(part):
            found.append((i + int(part.argmax())) / STEPS_PER_S)
    return found


def _expected(times: list[float], lags: list[float], t: float) -> float:
    """The lag at a time, from the nearest known ones."""
    if len(times) < 4:
        near = int(np.argmin(np.abs(np.array(times) - t)))
        return lags[near]
    where, values = np.array(times[-24:]), np.array(lags[-24:])
    if np.ptp(where) < 20.0:
        return float(np.median(values))
    slope, level, _ = _line(where, values)
    return float(level + np.clip(slope, -MOST_PPM * 1e-6, MOST_PPM * 1e-6) * t)


def lag_at(first: Source, second: Source, t: float, lag_s: float, reach_s: float) -> tuple[float, float]:
    """The lag at a second of the first recording near the expected one, and how far its peak stands out."""
    reach = round(reach_s * FINE_RATE)
    x, y = exact(first, t, SIZE), exact(second, t - lag_s, SIZE + 2 * reach)
    return _peak(x, y, lag_s, reach)


def exact(source: Source, centre_s: float, size: int) -> NDArray[np.float64]:
    """Samples around a time at FINE_RATE, with the fraction of a frame taken out."""
    from scipy.signal import resample_poly

    rate, pad = source.rate, 256
    up, down = FINE_RATE // int(np.gcd(rate, FINE_RATE)), rate // int(np.gcd(rate, FINE_RATE))
    start = int(np.floor((centre_s - size / 2 / FINE_RATE) * rate)) - pad * down // up
    start -= start % down  # whole frames of both rates begin together
    length = round((size + 3 * pad) * down / up) // down * down
    block = read_padded(source, start, start + length).sum(axis=0, dtype=np.float64)
    low = resample_poly(block, up, down)
    place = (centre_s - start / rate) * FINE_RATE - size / 2
    whole = int(np.floor(place))
    part = low[whole - 32 : whole + size + 32]
    if len(part) < size + 64:
        part = np.pad(part, (0, size + 64 - len(part)))
    n = fast_length(len(part))
    turn = np.exp(2j * np.pi * np.fft.rfftfreq(n) * (place - whole))
    return np.asarray(np.fft.irfft(np.fft.rfft(part, n) * turn, n)[32 : 32 + size])


def _peak(x: NDArray[np.float64], y: NDArray[np.float64], lag_s: float, reach: int) -> tuple[float, float]:
    if not x.any() or not y.any():
        return lag_s, 0.0
    taper = np.hanning(SIZE)
    n = fast_length(SIZE + len(y))
    fx, fy = np.fft.rfft(x * taper, n), np.fft.rfft(y, n)
    hz = np.fft.rfftfreq(n, 1.0 / FINE_RATE)
    cross = np.conj(fx) * fy
    band = (hz >= FINE_HZ[0]) & (hz <= FINE_HZ[1])
    weight = np.where(band, 1.0 / np.maximum(np.abs(cross), 1e-9 * np.abs(cross).max() + 1e-30) ** WHITENED, 0.0)
    big = n * UPSAMPLED
    spectrum = np.zeros(big // 2 + 1, dtype=complex)
    spectrum[: len(cross)] = cross * weight
    curve = np.fft.irfft(spectrum, big)[: 2 * reach * UPSAMPLED + 1]
    height = np.abs(curve)
    top = int(height.argmax())
    strength = float(height[top]) / (float(np.median(height)) + 1e-30)
    lag = lag_s - (top / UPSAMPLED - reach) / FINE_RATE
    return lag, strength


def _line(times: NDArray[np.float64], lags: NDArray[np.float64]) -> tuple[float, float, NDArray[np.bool_]]:
    """Slope and level of a line that most places lie on, and which do."""
    if np.ptp(times) < 5.0:
        level = float(np.median(lags))
        return 0.0, level, np.abs(lags - level) < INSIDE_S
    best, most = (0.0, float(np.median(lags))), -1
    rng = np.random.default_rng(1)
    count = len(times)
    pairs = rng.integers(0, count, (min(1500, count * count), 2))
    span = np.ptp(times)
    for i, j in pairs:
        if abs(times[i] - times[j]) < 0.15 * span:
            continue
        slope = (lags[i] - lags[j]) / (times[i] - times[j])
        if abs(slope) > MOST_PPM * 1e-6:
            continue
        level = lags[i] - slope * times[i]
        near = int((np.abs(lags - level - slope * times) < INSIDE_S).sum())
        if near > most:
            best, most = (slope, level), near
    slope, level = best
    for _ in range(3):
        inside = np.abs(lags - level - slope * times) < INSIDE_S
        if inside.sum() < 3:
            break
        slope, level = (float(v) for v in np.polyfit(times[inside], lags[inside], 1))
    return slope, level, np.abs(lags - level - slope * times) < INSIDE_S


def _pieces(
    times: NDArray[np.float64], lags: NDArray[np.float64], slope: float, level: float, inside: NDArray[np.bool_]
) -> tuple[Piece, ...]:
    """Runs of places that agree with each other: one where all lie on the line."""
    order = np.argsort(times)
    times, away, inside = times[order], (lags - level - slope * times)[order], inside[order]
    runs: list[list[int]] = []
    for n in range(len(times)):
        if runs and abs(away[n] - np.median(away[runs[-1]])) < JUMP_S / 10:
            runs[-1].append(n)
        elif (
            runs and not inside[n] and n + 1 < len(times) and abs(away[n + 1] - np.median(away[runs[-1]])) < JUMP_S / 10
        ):
            continue  # one place that heard nothing
        else:
            runs.append([n])
    runs = [run for run in runs if len(run) >= 4]
    found = [
        Piece(float(times[r[0]]), float(times[r[-1]]), float(level + np.median(away[r])) / (1.0 - slope)) for r in runs
    ]
    joined: list[Piece] = []
    for piece in found:
        if joined and abs(piece.offset_s - joined[-1].offset_s) < JUMP_S / 2:
            joined[-1] = Piece(joined[-1].start_s, piece.stop_s, joined[-1].offset_s)
        else:
            joined.append(piece)
    return tuple(joined)
