# SPDX-License-Identifier: GPL-3.0-or-later
"""Which sound arrived first, where reflections are as strong as the direct sound.

The precedence effect: beginnings of sounds come before their reflections (J. Huang, N. Ohnishi and N. Sugie, IEEE Trans.
Instrum. Meas. 44(3), 1995; the figures here are our own). In five bands the envelope is weakened by what was heard
before it; what is left is correlated and added over many places, and the earliest strong peak is the direct sound.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source
from pulizia.dsp.fourier import fast_length
from pulizia.measure.line_up_places import FINE_RATE, SIZE, Line, exact

BANDS_HZ = ((300.0, 700.0), (700.0, 1300.0), (1300.0, 2200.0), (2200.0, 3400.0), (3400.0, 5200.0))
WEAKENED, GAP_S, DECAY_S, OVER_FLOOR = 0.3, 0.001, 0.005, 1.5
WHITENED, UPSAMPLED, REACH_S = 0.5, 4, 0.03
MOST_PLACES = 96
EARLY_S, EARLY_SHARE = 0.025, 0.65
TURN_S, LEAST_SPAN_S, CLEARLY = 0.006, 5.0, 1.0  # of the slope: over all places together


@dataclass(frozen=True, slots=True)
class Candidate:
    """A place where the second recording may lie, and how strong its peak is against the strongest (0..1)."""

    offset_s: float
    share: float


@dataclass(frozen=True, slots=True)
class Arrival:
    """The line of the chosen arrival; all candidates against it, in seconds of lag, chosen first; how clear it is (0..1)."""

    slope: float
    level: float
    inverted: bool
    candidates: tuple[Candidate, ...]
    clear: float


def first_arrival(first: Source, second: Source, line: Line) -> Arrival:
    """The earliest strong arrival near a line of places."""
    reach = round(REACH_S * FINE_RATE)
    length = 2 * reach * UPSAMPLED + 1
    curves, times = [], []
    for t in np.sort(line.heard)[:: max(1, -(-len(line.heard) // MOST_PLACES))]:
        x = exact(first, float(t), SIZE)
        y = exact(second, float(t) - line.level - line.slope * float(t), SIZE + 2 * reach)
        if x.any() and y.any():
            curves.append(np.convolve(_curve(x, y, length), np.hanning(9) / 4.0, "same"))
            times.append(float(t))
    if not curves:
        return Arrival(line.slope, line.level, inverted=False, candidates=(Candidate(0.0, 1.0),), clear=0.5)
    smooth, turn = _turned(np.array(curves), np.array(times))
    slope, level = line.slope + turn, line.level - turn * float(np.mean(times))
    height = np.abs(smooth)
    peaks = np.flatnonzero((height[1:-1] >= height[:-2]) & (height[1:-1] > height[2:])) + 1
    floor = 3.0 * float(np.median(height))
    strong = [int(p) for p in peaks if height[p] > floor]
    if not strong:
        return Arrival(slope, level, inverted=False, candidates=(Candidate(0.0, 1.0),), clear=0.5)
    top = max(strong, key=lambda p: float(height[p]))
    early = top - EARLY_S * FINE_RATE * UPSAMPLED
    chosen = min(p for p in strong if early <= p <= top and height[p] >= EARLY_SHARE * height[top])
    rest = sorted((p for p in strong if abs(p - chosen) > 4 * UPSAMPLED), key=lambda p: -float(height[p]))
    places = [(_shift(p, reach), float(height[p] / height[top])) for p in (chosen, *rest[:4])]
    rival = max((height[p] for p in rest), default=0.0) / height[chosen]
    clear = float(np.clip(1.6 - rival, 0.0, 1.0))
    candidates = tuple(Candidate(shift - places[0][0], share) for shift, share in places)
    return Arrival(slope, level + places[0][0], inverted=bool(smooth[chosen] < 0), candidates=candidates, clear=clear)


def _turned(curves: NDArray[np.float64], times: NDArray[np.float64]) -> tuple[NDArray[np.float64], float]:
    """All curves added along the slope on which they agree best, and that slope against the line's.

    Where a reflection is as strong as the direct sound, the lags of single places jump between both, and a line through
    them may go from one to the other.
    """
    span = float(np.ptp(times))
    if span < LEAST_SPAN_S:
        return curves.sum(axis=0), 0.0
    away = (times - times.mean()) / span
    most = round(TURN_S * FINE_RATE * UPSAMPLED)
    padded = np.pad(curves, ((0, 0), (most, most)))
    length = curves.shape[1]

    def added(end: int) -> NDArray[np.float64]:
        starts = most - np.rint(end * away).astype(int)
        return np.asarray(np.sum([padded[n, s : s + length] for n, s in enumerate(starts)], axis=0))

    plain = float(np.abs(added(0)).max())
    best = max(range(-most, most + 1), key=lambda end: float(np.abs(added(end)).max()))
    if float(np.abs(added(best)).max()) < CLEARLY * plain:
        best = 0
    return added(best), best / (UPSAMPLED * FINE_RATE) / span


def _shift(peak: int, reach: int) -> float:
    """A later arrival has a smaller lag and lies farther right."""
    return -(peak / UPSAMPLED - reach) / FINE_RATE


def _curve(x: NDArray[np.float64], y: NDArray[np.float64], length: int) -> NDArray[np.float64]:
    """(length,) correlation of the beginnings in all bands, each curve in units of its own median."""
    total = np.zeros(length)
    for u, v in zip(_beginnings(x), _beginnings(y), strict=True):
        n = fast_length(len(x) + len(y))
        cross = np.conj(np.fft.rfft(u * np.hanning(len(u)), n)) * np.fft.rfft(v, n)
        cross /= (np.abs(cross) + 1e-3 * np.abs(cross).max() + 1e-30) ** WHITENED
        spectrum = np.zeros(n * UPSAMPLED // 2 + 1, dtype=complex)
        spectrum[: len(cross)] = cross
        curve = np.fft.irfft(spectrum, n * UPSAMPLED)[:length]
        total += curve / (np.median(np.abs(curve)) + 1e-30)
    return total


def _beginnings(x: NDArray[np.float64]) -> list[NDArray[np.float64]]:
    """Each band, weakened by its own past: the highest level of before, falling by 1/e in DECAY_S."""
    from scipy.signal import lfilter

    spectrum, hz = np.fft.rfft(x), np.fft.rfftfreq(len(x), 1.0 / FINE_RATE)
    gap, fall = round(GAP_S * FINE_RATE), np.arange(len(x)) / (DECAY_S * FINE_RATE)
    found = []
    for low, high in BANDS_HZ:
        weight = np.clip((hz - 0.85 * low) / (0.15 * low), 0, 1) * np.clip((1.15 * high - hz) / (0.15 * high), 0, 1)
        whole = np.zeros(len(x), dtype=complex)
        whole[: len(spectrum)] = 2.0 * spectrum * weight
        band = np.fft.ifft(whole)
        envelope = lfilter(np.full(4, 0.25), [1.0], np.abs(band))
        before = np.concatenate([np.zeros(gap), envelope[:-gap]])
        past = np.exp(np.maximum.accumulate(np.log(before + 1e-12) + fall) - fall)
        quiet = float(np.quantile(envelope, 0.2))
        found.append(
            band.real * np.clip((envelope - WEAKENED * past - OVER_FLOOR * quiet) / (envelope + 1e-12), 0.0, 1.0)
        )
    return found
