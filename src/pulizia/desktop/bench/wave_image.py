# SPDX-License-Identifier: GPL-3.0-or-later
"""Waveforms and levels of what is removed as small indexed images: computed by workers, recoloured for free."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtGui import QColor, QImage

from pulizia.audio.source import Source, read_padded
from pulizia.desktop.theme import Theme, colour
from pulizia.measure.overview import BIN_FRAMES, Columns, PeakPicture

FLOOR_DB = -60.0
REMOVED_LOW_DB, REMOVED_HIGH_DB = -72.0, -24.0


def height_of(amplitude: NDArray[np.float32], floor_db: float = FLOOR_DB) -> NDArray[np.float64]:
    """Share 0..1 of the half height for an amplitude on the dB axis that begins at ``floor_db``."""
    db = 20.0 * np.log10(np.maximum(amplitude, 1e-7))
    return np.asarray(np.clip(1.0 - db / floor_db, 0.0, 1.0))


def columns_of(source: Source, picture: PeakPicture, first: float, frames_per_column: float, count: int) -> Columns:
    """Columns from the picture where it is fine enough, else straight from the samples (in a worker)."""
    if frames_per_column >= 2 * BIN_FRAMES:
        return picture.columns(first, frames_per_column, count)
    return columns_from_samples(source, first, frames_per_column, count)


def columns_of_picture(picture: PeakPicture, first: float, frames_per_column: float, count: int) -> Columns:
    """Columns from the picture at any width, never from the sound: safe on the window's thread."""
    if frames_per_column >= BIN_FRAMES:
        return picture.columns(first, frames_per_column, count)
    bins = max(2, int(count * frames_per_column / BIN_FRAMES) + 1)
    coarse = picture.columns(first, BIN_FRAMES, bins)
    spread = np.minimum((np.arange(count) * frames_per_column / BIN_FRAMES).astype(int), bins - 1)
    older = None if coarse.older is None else coarse.older[spread]
    return Columns(coarse.low[:, spread], coarse.high[:, spread], coarse.power[:, spread], older)


def columns_from_samples(source: Source, first: float, frames_per_column: float, count: int) -> Columns:
    """Low, high and mean square per column straight from the samples."""
    edges = np.floor(first + np.arange(count + 1) * frames_per_column).astype(np.int64)
    edges[1:] = np.maximum(edges[1:], edges[:-1] + 1)
    start, stop = int(edges[0]), int(edges[-1])
    block = read_padded(source, start, stop)
    at = np.minimum(edges[:-1] - start, block.shape[1] - 1)
    low = np.minimum.reduceat(block, at, axis=1)
    high = np.maximum.reduceat(block, at, axis=1)
    power = np.add.reduceat(block**2, at, axis=1) / np.maximum(np.diff(edges), 1)
    beyond = edges[:-1] >= source.frames
    for figure in (low, high, power):
        figure[:, beyond] = np.nan
    return Columns(low, high, power.astype(np.float32))


def wave_codes(figures: Columns, height: int, floor_db: float = FLOOR_DB) -> NDArray[np.uint8]:
    """(height, columns) codes: the first channel above the middle, the second (or the same) below."""
    shown = np.unique([0, 1 if len(figures.low) > 2 else len(figures.low) - 1])
    peak = np.maximum(np.abs(figures.low[shown]), np.abs(figures.high[shown]))
    body = np.sqrt(_calmed(figures.power[shown]))
    half = height / 2
    rows = half - np.arange(half)  # distance from the middle, outermost row first
    out, inner = height_of(np.nan_to_num(np.stack([peak, body])), floor_db) * half
    codes = np.zeros((height, peak.shape[1]), dtype=np.uint8)
    shapes = [(rows[:, None] <= o).astype(np.uint8) + (rows[:, None] <= i) for o, i in zip(out, inner, strict=True)]
    codes[: len(rows)] = shapes[0]
    codes[height - len(rows) :] = shapes[-1][::-1]
    return _paler(codes, figures)


def _paler(codes: NDArray[np.uint8], figures: Columns) -> NDArray[np.uint8]:
    """The codes with the paler colours where an earlier picture stands in."""
    if figures.older is not None:
        codes[:, figures.older] += np.where(codes[:, figures.older] > 0, 2, 0).astype(np.uint8)
    return codes


def row_codes(
    figures: Columns, height: int, *, linear: bool, floor_db: float = FLOOR_DB, top: float = 1.0
) -> NDArray[np.uint8]:
    """(height, columns) codes with one row per channel, each around its own middle line.

    ``top`` is the amplitude at the edges of a linear row, ``floor_db`` the level in the middle of one in dB.
    """
    count = len(figures.low)
    low, high = np.nan_to_num(figures.low.astype(np.float64)), np.nan_to_num(figures.high.astype(np.float64))
    body = np.sqrt(np.nan_to_num(_calmed(figures.power)))
    codes = np.zeros((height, low.shape[1]), dtype=np.uint8)
    each = height // count
    at = np.arange(each)[:, None] + 0.5
    middle, half = each / 2, each / 2 - 1
    for channel in range(count):
        if linear:
            up, down, inner = high[channel] / top, low[channel] / top, body[channel] / top
        else:
            up = height_of(np.maximum(high[channel], -low[channel]), floor_db)
            down, inner = -up, height_of(body[channel], floor_db)
        offset = (middle - at) / half
        spare = 0.5 / half  # silence still is a line of a pixel
        shape = ((offset <= np.clip(up, -1, 1) + spare) & (offset >= np.clip(down, -1, 1) - spare)).astype(np.uint8)
        shape += shape * (np.abs(offset) <= np.minimum(inner, np.maximum(up, -down)))
        codes[channel * each : (channel + 1) * each] = shape
    return _paler(codes, figures)


def removed_heights(picture: PeakPicture, first: float, frames_per_column: float, count: int) -> NDArray[np.float64]:
    """Share 0..1 of a strip's height: the level of what a step takes away, calmed over columns."""
    power = columns_of_picture(picture, first, frames_per_column, count).power
    db = 10.0 * np.log10(np.maximum(np.nan_to_num(power.mean(axis=0)), 1e-20))
    if len(db) > 8:
        db = np.convolve(np.pad(db, 3, mode="edge"), np.full(7, 1 / 7), mode="valid")
    return np.asarray(np.clip((db - REMOVED_LOW_DB) / (REMOVED_HIGH_DB - REMOVED_LOW_DB), 0.0, 1.0))


def removed_codes(heights: NDArray[np.float64], height: int) -> NDArray[np.uint8]:
    """(height, columns) codes: filled up to each height from below."""
    rows = height - np.arange(height)
    return np.asarray(rows[:, None] <= heights, dtype=np.uint8)


def wave_table(theme: Theme) -> list[int]:
    """Colours of nothing, peaks and bodies, and of both where an earlier picture stands in."""
    body = theme.rms_opacity
    return [0, *(colour(t, a).rgba() for t, a in (("soft", 0.55), ("ink", body), ("soft", 0.3), ("ink", 0.4 * body)))]


def indexed_image(codes: NDArray[np.uint8], table: list[int]) -> QImage:
    """An image of its own from codes and their colours."""
    codes = np.ascontiguousarray(codes)
    rows, columns = codes.shape
    image = QImage(codes.data, columns, rows, columns, QImage.Format.Format_Indexed8)
    image.setColorTable(table)
    return image.copy()


def token_table(token: str) -> list[int]:
    """Colours of nothing and of one token."""
    return [0, QColor(colour(token)).rgba()]


def _calmed(power: NDArray[np.float32]) -> NDArray[np.float32]:
    """Power over three columns: the body of the sound, not its single periods."""
    if power.shape[1] < 3:
        return power
    calm = power.copy()
    calm[:, 1:-1] = (power[:, :-2] + power[:, 1:-1] + power[:, 2:]) / 3
    return calm
