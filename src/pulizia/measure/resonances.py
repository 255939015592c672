# SPDX-License-Identifier: GPL-3.0-or-later
"""Resonances of a room or a microphone: narrow peaks that stay at one frequency while the voice moves.

In every window the level is taken relative to its surroundings of half an octave, and averaged over windows with
speech (common practice). Rows of peaks at like distances are the harmonics of a voice that keeps to one pitch.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source, read_padded
from pulizia.dsp.fourier import rfft
from pulizia.dsp.stft import hann_window
from pulizia.units import powers_to_db

Progress = Callable[[float], None]
MOST_RESONANCES = 8
LOOK_S = 0.17  # window of the search: 8192 at 48 kHz
MOST_LOOKS = 1500
LOWEST_HZ, HIGHEST_HZ = 160.0, 6000.0  # above, S sounds stand out
GRID_PER_OCTAVE = 48
SURROUND_OCTAVES = 0.6
LEAST_EXCESS_DB = 6.0
SURE_DB, WEAKER_DB, WEAKER_SHARE, WIDER_Q = 8.0, 2.0, 0.5, 4.0  # of peaks beside one that is beyond doubt
USUAL_Q, USUAL_SHARE = 18.0, 0.6  # between 10 and 30 (common practice), and how far a measured width is drawn there
MOST_PEAKS = 32
WIDEST_Q, NARROWEST_Q = 8.5, 60.0  # wider bumps are the voice's own
PITCH_HZ, HIGHEST_HARMONIC, OFF_HARMONIC = (70.0, 450.0), 40, 0.08  # of a speaking voice; a share of the pitch
LEAST_ROW, ABOVE_ROW_DB = 4, 6.0  # harmonics side by side that show a pitch


@dataclass(frozen=True, slots=True)
class Resonance:
    """A resonance: its place, how far it stands out, how narrow it is and how long it rings (60 dB)."""

    hz: float
    excess_db: float
    q: float
    certain: bool = False  # beyond doubt by itself, or only beside one that is

    @property
    def ring_s(self) -> float:
        """Decay by 60 dB of a resonance of this Q: 2.2 Q / f."""
        return 2.2 * self.q / self.hz


def relative_levels(
    source: Source, start: int, stop: int, progress: Progress = lambda _: None
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Frequencies of a fine grid, and the mean level there relative to the surroundings, in dB."""
    rate = source.rate
    size = int(2 ** round(math.log2(LOOK_S * rate)))
    while size > stop - start and size > 512:
        size //= 2
    high = min(HIGHEST_HZ, 0.42 * rate)
    grid = LOWEST_HZ * 2.0 ** (
        np.arange(-GRID_PER_OCTAVE // 2, math.log2(high / LOWEST_HZ) * GRID_PER_OCTAVE + GRID_PER_OCTAVE // 2)
        / GRID_PER_OCTAVE
    )
    window = hann_window(size)
    count = max(1, 2 * (stop - start) // size - 1)
    chosen = np.unique(np.linspace(0, count - 1, min(count, MOST_LOOKS)).astype(int))
    matrix = _grid_matrix(grid, size, rate)
    levels = []
    for a in range(0, len(chosen), 64):
        part = chosen[a : a + 64]
        blocks = np.stack(
            [read_padded(source, start + int(k) * size // 2, start + int(k) * size // 2 + size) for k in part]
        )
        spectrum = rfft(blocks * window)
        power = (spectrum.real**2 + spectrum.imag**2).sum(axis=1)
        levels.append(power @ matrix)
        progress(min(1.0, (a + 64) / len(chosen)))
    power = np.concatenate(levels)
    loud = power.sum(axis=1)
    heard = loud > max(float(loud.max()) * 1e-4, 1e-12)  # pauses tell of the noise, not of the voice
    if not heard.any():
        return grid, np.zeros(len(grid))
    # every window counts alike, whatever its level: a resonance is there in all of them
    share = power[heard] / loud[heard, None]
    level = (
        powers_to_db(share.mean(axis=0)) * 0.5
        + powers_to_db(np.exp(np.log(np.maximum(share, 1e-16)).mean(axis=0))) * 0.5
    )
    reach = round(SURROUND_OCTAVES * GRID_PER_OCTAVE)
    padded = np.pad(level, reach, mode="reflect", reflect_type="odd")
    view = np.lib.stride_tricks.sliding_window_view(padded, 2 * reach + 1)
    around = np.sort(view, axis=1)[:, reach // 2 : reach + reach // 4].mean(axis=1)
    around = np.convolve(np.pad(around, 12, mode="edge"), np.hanning(27)[1:-1] / np.hanning(27).sum(), mode="valid")
    return grid, level - around[: len(level)]


def _grid_matrix(grid: NDArray[np.float64], size: int, rate: int) -> NDArray[np.float32]:
    """(bins, points): mean power over the width of a point of the grid, or between two bins."""
    bins = size // 2 + 1
    matrix = np.zeros((bins, len(grid)), dtype=np.float32)
    half = 2.0 ** (0.5 / GRID_PER_OCTAVE)
    for n, hz in enumerate(grid):
        low, high = hz / half * size / rate, hz * half * size / rate
        a, b = math.ceil(low), math.floor(high)
        if b - a >= 1:
            matrix[a : b + 1, n] = 1.0 / (b - a + 1)
        else:
            middle = min(hz * size / rate, bins - 1.001)
            k = int(middle)
            matrix[k, n], matrix[k + 1, n] = 1.0 - (middle - k), middle - k
    return matrix


def resonances(
    source: Source, start: int, stop: int, least_db: float, progress: Progress = lambda _: None
) -> tuple[list[Resonance], NDArray[np.float64], NDArray[np.float64]]:
    """Resonances that stand out by ``least_db``, the strongest first, with the grid and the levels they were found in.

    Where one of them is beyond doubt, weaker and wider peaks beside it count as well: it seldom comes alone. How wide a
    peak is cannot be told from a voice that moves, so widths are drawn towards those of rooms and microphones.
    """
    grid, relative = relative_levels(source, start, stop, progress)
    peaks: list[Resonance] = []
    rest = relative.copy()
    rest[(grid < LOWEST_HZ) | (grid > min(HIGHEST_HZ, 0.42 * source.rate))] = -99.0
    while len(peaks) < MOST_PEAKS:
        k = int(np.argmax(rest))
        if rest[k] < least_db - WEAKER_DB:
            break
        made, left, right = measured(grid, relative, k)
        rest[max(0, left - 2) : right + 3] = -99.0
        peaks.append(made)
    certain = [r for r in peaks if r.q >= WIDEST_Q and r.excess_db >= least_db]
    certain = _without_pitch(certain, grid, relative)[:MOST_RESONANCES]
    found = [replace(r, certain=True) for r in certain]
    if certain and certain[0].excess_db >= SURE_DB:
        weakest = max(least_db - WEAKER_DB, WEAKER_SHARE * certain[0].excess_db)
        beside = [r for r in peaks if r not in certain and r.q >= WIDER_Q and r.excess_db >= weakest]
        if row := steady_pitch(grid, relative):
            pitch = _pitch_of(row)
            beside = [r for r in beside if abs(r.hz / pitch - round(r.hz / pitch)) >= OFF_HARMONIC]
        found = sorted([*found, *beside], key=lambda r: -r.excess_db)
    return [usual_width(r) for r in found[:MOST_RESONANCES]], grid, relative


def usual_width(found: Resonance) -> Resonance:
    """The resonance with its width drawn towards that of most resonances of rooms and microphones."""
    return replace(found, q=found.q ** (1.0 - USUAL_SHARE) * USUAL_Q**USUAL_SHARE)


def steady_pitch(grid: NDArray[np.float64], relative: NDArray[np.float64]) -> dict[int, float]:
    """Peaks of a voice that keeps to one pitch, by harmonic number: a row of them at like distances; {} when there is none.

    ``relative`` is the level over the surroundings in dB.
    """
    from scipy.signal import find_peaks

    at, _ = find_peaks(relative, height=LEAST_EXCESS_DB / 2, prominence=LEAST_EXCESS_DB / 2)
    places = [measured(grid, relative, int(k))[0].hz for k in at]
    best: dict[int, float] = {}
    for a, b in pairwise(places):
        if not PITCH_HZ[0] <= b - a <= PITCH_HZ[1]:
            continue
        pitch, row = b - a, {}
        for hz in places:  # upwards: each harmonic makes the pitch more exact
            number = round(hz / pitch)
            if 0 < number <= HIGHEST_HARMONIC and abs(hz / pitch - number) < OFF_HARMONIC:
                row[number] = hz
                pitch = hz / number if number > 2 else pitch
        if any(all(n + k in row for k in range(LEAST_ROW)) for n in row) and len(row) > len(best):
            best = row
    return best


def _pitch_of(row: dict[int, float]) -> float:
    """The pitch of a row of harmonics, from its upper half."""
    return float(np.median([hz / number for number, hz in row.items() if number >= max(row) / 2]))


def _without_pitch(found: list[Resonance], grid: NDArray[np.float64], relative: NDArray[np.float64]) -> list[Resonance]:
    """Leaves out the harmonics of a steady pitch, but for one that stands out far above them: a resonance may lie there."""
    row = steady_pitch(grid, relative)
    if not row:
        return found
    pitch = _pitch_of(row)
    heights = {n: float(np.interp(hz, grid, relative)) for n, hz in row.items()}
    kept = []
    for r in found:
        number = round(r.hz / pitch)
        beside = [heights[n] for n in (number - 2, number - 1, number + 1, number + 2) if n in heights]
        on_row = abs(r.hz / pitch - number) < OFF_HARMONIC and bool(beside)
        if not on_row or r.excess_db > float(np.median(beside)) + ABOVE_ROW_DB:
            kept.append(r)
    return kept


def measured(grid: NDArray[np.float64], relative: NDArray[np.float64], k: int) -> tuple[Resonance, int, int]:
    """The resonance at a peak of the grid: place between points, height, width at half its height in dB."""
    k = min(max(k, 1), len(grid) - 2)
    a, b, c = relative[k - 1 : k + 2]
    curve = a - 2 * b + c
    shift = min(max(0.5 * (a - c) / curve, -0.5), 0.5) if curve < -1e-9 else 0.0
    top = float(b - 0.25 * (a - c) * shift)
    left = right = k
    while left > 0 and relative[left] > top / 2:
        left -= 1
    while right < len(grid) - 1 and relative[right] > top / 2:
        right += 1

    def crossing(outer: int, inner: int) -> float:
        span = relative[inner] - relative[outer]
        return outer + (inner - outer) * (top / 2 - relative[outer]) / span if span > 1e-9 else float(outer)

    width = (crossing(right, right - 1) - crossing(left, left + 1)) / GRID_PER_OCTAVE
    hz = float(grid[k] * 2.0 ** (shift / GRID_PER_OCTAVE))
    # a cookbook bell of gain g and width Q has half its decibels over 1 / Q of its frequency
    ratio = 2.0 ** max(width, 0.02)
    q = math.sqrt(ratio) / (ratio - 1.0)
    return Resonance(hz, top, min(q, NARROWEST_Q)), left, right
