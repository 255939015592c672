# SPDX-License-Identifier: GPL-3.0-or-later
"""The sharpened sonogram: energy is drawn where it lies, not smeared over the window.

Time-frequency reassignment after F. Auger and P. Flandrin, "Improving the readability of
time-frequency and time-scale representations by the reassignment method", IEEE Trans. Signal
Processing 43(5), 1995: each value of the transform moves to the centre of gravity of the energy
around it, which two more transforms give: one with the window times time, one with its derivative.
"""

from __future__ import annotations

from functools import cache

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source, read_padded
from pulizia.dsp.fourier import rfft
from pulizia.measure.sonogram_scale import SonogramScale
from pulizia.measure.spectrum import noise_bandwidth_bins, window
from pulizia.units import powers_to_db

DEFAULT_SIZE = 2048
MOST_LOOKS = 6  # transforms per column
BATCH = 64


def reassigned(
    source: Source, first: float, frames_per_column: float, columns: int, scale: SonogramScale
) -> NDArray[np.float64]:
    """(rows, columns) dBFS; a steady full-scale sine reads 0 dBFS in the row of its frequency."""
    size = scale.size or DEFAULT_SIZE
    looks = int(np.clip(np.ceil(frames_per_column / (size / 8)), 1, MOST_LOOKS))
    hop = frames_per_column / looks
    extra = int(np.ceil(size / 2 / hop)) if hop < size else 1
    centres = first + (np.arange(-extra, columns * looks + extra) + 0.5) * hop
    plain, timed, slope = _windows(scale.window, size)
    bin_hz = source.rate / size
    hz = np.arange(size // 2 + 1) * bin_hz
    norm = (2.0 / float(plain.sum())) ** 2 / (source.channels * looks * noise_bandwidth_bins(scale.window, size))
    power = np.zeros(scale.rows * columns)
    for a in range(0, len(centres), BATCH):
        part = centres[a : a + BATCH]
        starts = np.rint(part - size / 2).astype(np.int64)
        block = np.stack([read_padded(source, int(s), int(s) + size) for s in starts])
        for channel in range(source.channels):
            frames = block[:, channel]
            x = rfft(frames * plain)
            energy = x.real**2 + x.imag**2
            weak = energy < 1e-16
            inverse = np.conj(x) / np.where(weak, 1.0, energy)
            late = np.real(rfft(frames * timed) * inverse)  # frames after the centre
            off = -np.imag(rfft(frames * slope) * inverse) * source.rate / (2 * np.pi)
            column = np.floor((starts[:, None] + size / 2 + late - first) / frames_per_column)
            if frames_per_column > size:
                column = np.floor((part[:, None] - first) / frames_per_column) + 0 * late
            place = np.clip(hz + off, 1e-3, source.rate / 2)
            row = np.floor(scale.rows * (1.0 - scale.frequency.share_of(place)))
            good = ~weak & (column >= 0) & (column < columns) & (row >= 0) & (row < scale.rows)
            at = (row[good] * columns + column[good]).astype(np.int64)
            power += np.bincount(at, weights=energy[good], minlength=len(power))
    return powers_to_db(power.reshape(scale.rows, columns) * norm)


@cache
def _windows(name: str, size: int) -> tuple[NDArray[np.float32], NDArray[np.float32], NDArray[np.float32]]:
    """The window, the window times time in frames from its centre, and its derivative per frame."""
    plain = window(name, size).astype(np.float64)
    timed = plain * (np.arange(size) - size / 2)
    slope = (np.roll(plain, -1) - np.roll(plain, 1)) / 2.0
    return plain.astype(np.float32), timed.astype(np.float32), slope.astype(np.float32)
