# SPDX-License-Identifier: GPL-3.0-or-later
"""The sonogram: level over time and frequency, several transform lengths blended into one picture.

Short transforms show moments, long ones show lines; below a few hundred hertz the picture comes
from long transforms and above from ever shorter ones, cross-faded in dB over about an octave.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.source import Source, read_padded
from pulizia.dsp.fourier import rfft
from pulizia.measure.sonogram_scale import SonogramScale
from pulizia.measure.spectrum import BAND_RATIO, band_centres, noise_bandwidth_bins, window
from pulizia.units import powers_to_db

CODE_STEP_DB = 0.5
CODE_FLOOR_DB = -127.5  # code 0; code 255 is 0 dBFS
BLEND = ((8192, 260.0), (4096, 900.0), (2048, 4200.0), (1024, 1e9))  # at 48 kHz: length, up to Hz
SIZES = (256, 512, 1024, 2048, 4096, 8192, 16384)
FAR_FRAMES = 1 << 17  # a column this wide (2.7 s) is only sampled: one look, not three
FINER = 3  # columns looked at within one column of the picture
KEPT = 32  # of what belongs to a frequency axis, which has other ends after every zoom


def sonogram(
    source: Source, first: float, frames_per_column: float, columns: int, scale: SonogramScale
) -> NDArray[np.uint8]:
    """Levels of consecutive columns as codes of half a decibel.

    A full-scale sine reads 0 dBFS whatever the length. Channels are averaged in power, never added
    as samples: sound out of phase stays visible.

    Parameters
    ----------
    first
        Frame at the left edge of the first column.
    frames_per_column
        Width of a column.

    Returns
    -------
    (rows, columns) uint8, row 0 on top; level = CODE_FLOOR_DB + code * CODE_STEP_DB
    """
    if scale.sharpened:
        from pulizia.measure.reassigned import reassigned

        return codes_of(reassigned(source, first, frames_per_column, columns, scale))
    level = np.zeros((scale.rows, columns))
    for size, weight in _weights(scale, source.rate):
        part = np.flatnonzero(weight)
        if len(part):
            rows = slice(int(part[0]), int(part[-1]) + 1)
            db = _levels(source, first, frames_per_column, columns, size, scale, rows)
            level[rows] += weight[rows, None] * db
    return codes_of(level)


def codes_of(level_db: NDArray[np.floating]) -> NDArray[np.uint8]:
    """Levels in dBFS as codes."""
    codes = np.rint((level_db - CODE_FLOOR_DB) / CODE_STEP_DB)
    return np.asarray(np.clip(codes, 0, 255), dtype=np.uint8)


def _levels(
    source: Source, first: float, frames_per_column: float, columns: int, size: int,
    scale: SonogramScale, rows: slice,
) -> NDArray[np.float64]:  # fmt: skip
    """(rows, columns) dBFS from one transform length."""
    finer = FINER if size / 2 < frames_per_column < FAR_FRAMES else 1
    sparse = 1  # when columns are far narrower than the window, compute every few and interpolate
    while finer == 1 and frames_per_column * sparse * 2 <= size / 8 and sparse < 32:
        sparse *= 2
    count = columns * finer if sparse == 1 else columns // sparse + 2
    step = frames_per_column / finer * sparse
    offset = step / 2 if sparse == 1 else frames_per_column / 2
    centres = first + offset + np.arange(count) * step
    starts = np.rint(centres - size / 2).astype(np.int64)
    wanted = _rows_of(scale, source.rate, size, rows.start, rows.stop)
    power = np.zeros((count, wanted.high - wanted.low), dtype=np.float32)
    shape = window(scale.window, size)
    scale_power = np.float32((2.0 / float(shape.sum())) ** 2 / source.channels)
    for a in range(0, count, 64):
        b = min(a + 64, count)
        for frames in _framed(source, starts[a:b], size):
            spectrum = rfft(frames * shape, overwrite=True)[:, wanted.low : wanted.high]
            power[a:b] += spectrum.real**2 + spectrum.imag**2
    power *= scale_power
    picked = wanted.of(power)
    db = powers_to_db(picked).T
    if finer > 1:
        fine = db.reshape(db.shape[0], columns, finer)
        return np.asarray(0.5 * (fine.mean(axis=2) + fine.max(axis=2)))
    if sparse > 1:
        at = np.arange(columns) / sparse
        left = at.astype(int)
        share = at - left
        return np.asarray(db[:, left] * (1 - share) + db[:, left + 1] * share)
    return db


def _framed(source: Source, starts: NDArray[np.int64], size: int) -> list[NDArray[np.float32]]:
    """Windows at the given starts, one array (windows, size) per channel."""
    begin, end = int(starts[0]), int(starts[-1]) + size
    if end - begin <= 4 * size * len(starts):
        block = read_padded(source, begin, end)
        view = np.lib.stride_tricks.sliding_window_view(block, size, axis=1)
        return [channel[starts - begin] for channel in view]
    blocks = np.stack([read_padded(source, int(s), int(s) + size) for s in starts])
    return [blocks[:, c] for c in range(source.channels)]


@dataclass(frozen=True, slots=True)
class _Rows:
    """How the bins [low, high) of a spectrum become rows of the picture.

    Attributes
    ----------
    narrow, left, share : rows narrower than a bin, the bins beside them, how far they lie on the way to the next one
    wide, begins : rows wider than a bin, and where each one's bins begin
    bands : (bins, rows) shares of each bin, where rows show bands; without narrow and wide ones
    """

    rows: int
    low: int
    high: int
    narrow: NDArray[np.intp]
    left: NDArray[np.intp]
    share: NDArray[np.float32]
    wide: NDArray[np.intp]
    begins: NDArray[np.intp]
    bands: NDArray[np.float32] | None = None

    def of(self, power: NDArray[np.float32]) -> NDArray[np.float32]:
        """(columns, rows) from the powers (columns, high - low)."""
        if self.bands is not None:
            return power @ self.bands
        picked = np.zeros((len(power), self.rows), dtype=np.float32)
        if len(self.narrow):
            lower = power[:, self.left]
            picked[:, self.narrow] = lower + self.share * (power[:, self.left + 1] - lower)
        if len(self.wide):  # the highest of their bins: a line keeps its level
            picked[:, self.wide] = np.maximum.reduceat(power, self.begins, axis=1)
        return picked


@lru_cache(maxsize=KEPT)
def _rows_of(scale: SonogramScale, rate: int, size: int, first: int, stop: int) -> _Rows:
    """Rows [first, stop) of a picture from one transform length."""
    bins, none = size // 2 + 1, np.zeros(0, dtype=np.intp)
    if scale.axis == "bands":
        bands = _band_matrix(scale, rate, size)[:, first:stop]
        used = np.flatnonzero(bands.any(axis=1))
        low, high = (int(used[0]), int(used[-1]) + 1) if len(used) else (0, 1)
        return _Rows(stop - first, low, high, none, none, np.zeros(0, np.float32), none, none, bands[low:high])
    edges = scale.hz_of_row(np.arange(first, stop + 1.0)) * size / rate  # the upper one of each row, in bins
    upper, lower = edges[:-1], edges[1:]
    centres = 0.5 * (upper + lower)
    narrow = np.flatnonzero((upper - lower <= 1.0) & (centres < bins - 1))
    left = centres[narrow].astype(np.intp)
    share = (centres[narrow] - left).astype(np.float32)
    wide = np.flatnonzero((upper - lower > 1.0) & (lower < bins - 1))[::-1]
    begins = np.ceil(lower[wide] - 0.5).astype(np.intp)
    ends = [int(left.max()) + 2] if len(left) else []
    if len(wide):
        ends.append(max(min(int(np.ceil(upper[wide[-1]] - 0.5)), bins), int(begins[-1]) + 1))
    low = min([*left[:1].tolist(), *left[-1:].tolist(), *begins[:1].tolist()], default=0)
    high = max(ends, default=low + 1)
    return _Rows(stop - first, low, high, narrow, left - low, share, wide, begins - low)


@lru_cache(maxsize=len(SIZES))
def _band_matrix(scale: SonogramScale, rate: int, size: int) -> NDArray[np.float32]:
    """(bins, rows): the power of the third-octave band (IEC 61260-1) in which a row lies."""
    bins = size // 2 + 1
    centres = band_centres(3)
    reach = BAND_RATIO ** (1 / 6)
    lower = np.arange(bins) - 0.5
    hz = scale.hz_of_row(np.arange(scale.rows) + 0.5)
    nearest = np.abs(np.log(hz[:, None] / centres)).argmin(axis=1)
    matrix = np.zeros((bins, scale.rows), dtype=np.float32)
    share = 1.0 / noise_bandwidth_bins(scale.window, size)
    for row, band in enumerate(nearest):
        low, high = centres[band] / reach * size / rate, centres[band] * reach * size / rate
        matrix[:, row] = share * np.clip(np.minimum(lower + 1.0, high) - np.maximum(lower, low), 0.0, 1.0)
    return matrix


@lru_cache(maxsize=KEPT)
def _weights(scale: SonogramScale, rate: int) -> tuple[tuple[int, NDArray[np.float64]], ...]:
    """Transform lengths with the share of each row that comes from them."""
    if scale.size:
        return ((scale.size, np.ones(scale.rows)),)
    hz = scale.hz_of_row(np.arange(scale.rows) + 0.5)
    found, below = [], np.zeros(scale.rows)
    for size, limit in BLEND:
        # 1 well below the limit, 0 well above it, over an octave
        reach = np.clip(0.5 - np.log2(hz / limit), 0.0, 1.0)
        scaled = max(256, int(2 ** round(np.log2(size * rate / 48_000))))
        found.append((scaled, reach - below))
        below = reach
    return tuple(found)
