# SPDX-License-Identifier: GPL-3.0-or-later
"""Marked areas of the time-frequency plane: lowered, levelled to what surrounds them, or written anew.

What is written anew takes its levels and texture from the cells around the area (mirrored at the edges,
levels interpolated in dB), and its phases from the iteration of D. Griffin, J. Lim, "Signal estimation
from modified short-time Fourier transform", IEEE Trans. ASSP 32(2), 1984, in which all cells outside the
area stay as they are, so that the new cells agree with their neighbours.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from pulizia.dsp.moments import runs
from pulizia.dsp.stft import analyse, synthesise

ITERATIONS = 24
TEXTURE_FRAMES = 48  # reach of the cells that a texture is taken from: half a second at hop 512 and 48 kHz
TEXTURE_BINS = 40
WHOLE = 0.5  # a cell counts as inside where its share is above


def transform_size(rate: int) -> int:
    """Window length: 43 ms at 48 kHz; the hop is a quarter."""
    return max(256, int(2 ** round(np.log2(rate * 0.0427))))


def inside_outline(outline: NDArray[np.float64], x: NDArray[np.float64], y: NDArray[np.float64]) -> NDArray[np.bool_]:
    """(len(x), len(y)) whether each crossing of x and y lies inside a closed outline (even-odd rule).

    Parameters
    ----------
    outline : (corners, 2) x and y
    x, y : rising positions of columns and rows
    """
    inside = np.zeros((len(x), len(y)), dtype=bool)
    for (x0, y0), (x1, y1) in zip(outline, np.roll(outline, -1, axis=0), strict=True):
        if x0 == x1:
            continue
        hit = (x >= min(x0, x1)) & (x < max(x0, x1))
        crossing = y0 + (x[hit] - x0) * (y1 - y0) / (x1 - x0)
        inside[hit] ^= y[None, :] >= crossing[:, None]
    return inside


def levelled(spectra: NDArray[np.complex64], share: NDArray[np.float32]) -> NDArray[np.float32]:
    """Gains that bring cells inside an area down to the level around it, never up.

    Parameters
    ----------
    spectra : (frames, bins) complex64
    share : (frames, bins) 0..1

    Returns
    -------
    (frames, bins) float32 in 0..1
    """
    power = spectra.real**2 + spectra.imag**2
    target = _around_in_time(power, share > 0.0)
    return np.asarray(np.sqrt(np.minimum(1.0, target / np.maximum(power, 1e-20))), dtype=np.float32)


def rewritten(
    spectra: NDArray[np.complex64], share: NDArray[np.float32], size: int, hop: int, *, along: str
) -> NDArray[np.complex64]:
    """Spectra whose cells inside an area are made from what lies around it.

    Parameters
    ----------
    spectra : (frames, bins) complex64
    share : (frames, bins) 0..1
        How much of each cell is exchanged.
    size, hop : of the transform
    along : "time" or "frequency"
        Where the surroundings are taken from: before and after, or above and below.
    """
    magnitude = np.abs(spectra)
    area = share > 0.0
    wanted = _textured(magnitude, area) if along == "time" else _textured(magnitude.T, area.T, TEXTURE_BINS).T
    inside = np.flatnonzero(area.any(axis=1))
    overlap = size // hop
    near = slice(max(0, int(inside[0]) - overlap), int(inside[-1]) + overlap + 1) if len(inside) else slice(0, 0)
    made, area, wanted = spectra[near].copy(), area[near], wanted[near]
    made[area] = (wanted * np.exp(1j * _continued(spectra[near], area, hop / size)))[area].astype(np.complex64)
    for _ in range(ITERATIONS if len(inside) else 0):
        again = analyse(synthesise(made, size, hop), size, hop)[: len(made)]
        cells = again[area]
        made[area] = wanted[area] * cells / np.maximum(np.abs(cells), 1e-12)
    out = spectra.copy()
    weight = share[near]
    out[near] = spectra[near] * (1.0 - weight) + made * weight
    return out


def _continued(spectra: NDArray[np.complex64], area: NDArray[np.bool_], hop_share: float) -> NDArray[np.float64]:
    """Phases that go on as they turned before each run of marked cells, and lead to those behind it."""
    phase = np.angle(spectra).astype(np.float64)
    count = len(phase)
    for k in np.flatnonzero(area.any(axis=0)):
        usual = 2.0 * np.pi * k * hop_share
        for a, b in runs(area[:, k]):
            turn_in = phase[a - 1, k] - phase[a - 2, k] if a >= 2 else usual
            turn_out = phase[b + 1, k] - phase[b, k] if b + 1 < count else usual
            middle = (a + b) // 2 if b < count else b
            if a >= 1:
                phase[a:middle, k] = phase[a - 1, k] + turn_in * np.arange(1, middle - a + 1)
            if b < count:
                start = middle if a >= 1 else a
                phase[start:b, k] = phase[b, k] - turn_out * np.arange(b - start, 0, -1)
    return phase


def _around_in_time(power: NDArray[np.float32], area: NDArray[np.bool_]) -> NDArray[np.float64]:
    """Mean power beside each run of marked cells, interpolated in dB between its two sides."""
    level = power.astype(np.float64)
    for k in np.flatnonzero(area.any(axis=0)):
        column = power[:, k]
        for a, b in runs(area[:, k]):
            left, right = column[max(0, a - TEXTURE_FRAMES) : a], column[b : b + TEXTURE_FRAMES]
            ends = [float(side.mean()) for side in (left, right) if len(side)]
            if not ends:
                level[a:b, k] = 0.0
                continue
            decibels = np.log(np.maximum([ends[0], ends[-1]], 1e-20))
            level[a:b, k] = np.exp(np.interp(np.arange(a, b), [a - 1, b], decibels))
    return level


def _textured(
    magnitude: NDArray[np.float32], area: NDArray[np.bool_], reach: int = TEXTURE_FRAMES
) -> NDArray[np.float32]:
    """Magnitudes of marked cells from their neighbours along axis 0: mirrored texture on interpolated levels."""
    made = magnitude.copy()
    for k in np.flatnonzero(area.any(axis=0)):
        column = magnitude[:, k]
        free = ~area[:, k]
        for a, b in runs(area[:, k]):
            before = column[max(0, a - reach) : a][free[max(0, a - reach) : a]]
            after = column[b : b + reach][free[b : b + reach]]
            made[a:b, k] = _bridged(before, after, b - a)
    return made


def _bridged(before: NDArray[np.float32], after: NDArray[np.float32], count: int) -> NDArray[np.float64]:
    if not len(before) and not len(after):
        return np.zeros(count)
    sides = [s for s in (before, after) if len(s)]
    means = [max(float(np.sqrt(np.mean(s.astype(np.float64) ** 2))), 1e-12) for s in sides]
    to_end = (np.arange(count) + 1.0) / (count + 1.0)
    level = np.exp(np.log(means[0]) * (1.0 - to_end) + np.log(means[-1]) * to_end)
    textures = []
    if len(before):
        textures.append(_mirrored(before[::-1] / means[0], count))
    if len(after):
        textures.append(_mirrored(after / means[-1], count)[::-1])
    if len(textures) == 1:
        return np.asarray(level * textures[0])
    return np.asarray(level * np.sqrt(textures[0] ** 2 * (1.0 - to_end) + textures[1] ** 2 * to_end))


def _mirrored(texture: NDArray[np.floating], count: int) -> NDArray[np.float64]:
    """A texture read away from an edge and back, as long as needed."""
    there_and_back = np.concatenate([texture, texture[::-1]]).astype(np.float64)
    return np.resize(there_and_back, count)
