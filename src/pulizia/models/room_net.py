# SPDX-License-Identifier: GPL-3.0-or-later
"""What of each cell of a spectrum is the voice itself and its early reflections: a small net for the tail of a room.

A ratio mask (Narayanan, Wang 2013, "Ideal ratio mask estimation using deep neural networks") against late
reverberation, here a net of two hidden layers that all frequencies share: it looks at one cell, at how the level
around it came about within a third of a second, and at the decay time that was measured. Only differences of levels
go in, so that neither level nor colour matter. The weights lie beside the program; ``scripts/learn_room.py`` makes them.
"""

from __future__ import annotations

from functools import cache
from importlib.resources import files
from io import BytesIO

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import maximum_filter1d

PAST = (1, 2, 3, 4, 6, 8, 11, 15, 20, 26, 33)  # frames of 11 ms
COMING = (1, 2, 3, 4)
WIDE_PAST, WIDE_COMING = (2, 5, 10, 20, 33), (2, 4)
NEAR_BINS, WIDE_BINS = 1, 10  # on both sides of a cell
REACH = max(PAST)
MOST_DB, SCALE_DB = 40.0, 15.0
LEAST_POWER = 1e-12
FRAMES_AT_ONCE, CELLS_AT_ONCE = 256, 4096  # parts that stay in the processor's memory
FEATURES = len(PAST) + len(COMING) + len(WIDE_PAST) + len(WIDE_COMING) + 7


def inputs(
    heard: NDArray[np.float32], left: NDArray[np.float32], t60_s: NDArray[np.floating], hz: NDArray[np.floating]
) -> NDArray[np.float32]:
    """What the net looks at.

    Parameters
    ----------
    heard, left : (frames, bins) power as it was, and after the prediction took its part; frames 11 ms apart
    t60_s, hz : (bins,) decay time and frequency

    Returns
    -------
    (FEATURES, frames, bins) float32
    """
    near, wide = _db(_around(left, NEAR_BINS)), _db(_around(left, WIDE_BINS))
    rows = [near - _moved(near, k) for k in PAST]
    rows += [_moved(near, -k) - near for k in COMING]
    rows += [wide - _moved(wide, k) for k in WIDE_PAST]
    rows += [_moved(wide, -k) - wide for k in WIDE_COMING]
    rows += [near - _highest(near), wide - _highest(wide)]
    rows += [_db(left) - near, near - wide, _db(_around(heard, NEAR_BINS)) - near]
    made = np.empty((FEATURES, *near.shape), dtype=np.float32)
    for n, row in enumerate(rows):
        np.clip(row, -MOST_DB, MOST_DB, out=made[n])
    made[:-2] /= np.float32(SCALE_DB)
    made[-2] = np.log2(np.clip(t60_s, 0.1, 3.0))
    made[-1] = np.log2(np.maximum(hz, 40.0) / 1000.0) / 3.0
    return made


def mask(
    heard: NDArray[np.float32], left: NDArray[np.float32], t60_s: NDArray[np.floating], hz: NDArray[np.floating]
) -> NDArray[np.float32]:
    """(frames, bins) share 0..1 of the amplitude of each cell that is direct or early; see :func:`inputs`."""
    frames = len(left)
    made = np.empty(left.shape, dtype=np.float32)
    for start in range(0, frames, FRAMES_AT_ONCE):
        stop = min(start + FRAMES_AT_ONCE, frames)
        a, b = max(0, start - REACH - 1), min(frames, stop + max(COMING) + 1)
        part = inputs(heard[a:b], left[a:b], t60_s, hz)[:, start - a : stop - a]
        made[start:stop] = _answers(part)
    return made


def _answers(values: NDArray[np.float32]) -> NDArray[np.float32]:
    cells = values.reshape(len(values), -1)
    made = np.empty(cells.shape[1], dtype=np.float32)
    for start in range(0, len(made), CELLS_AT_ONCE):
        out = cells[:, start : start + CELLS_AT_ONCE]
        for n, (weights, bias) in enumerate(_weights()):
            if n:
                np.maximum(out, 0.0, out=out)
            out = weights @ out
            out += bias
        made[start : start + CELLS_AT_ONCE] = out[0]
    np.clip(made, 0.0, 1.0, out=made)
    return made.reshape(values.shape[1:])


def _around(power: NDArray[np.float32], reach: int) -> NDArray[np.float32]:
    """Mean over neighbouring bins."""
    sums = np.cumsum(np.pad(power, ((0, 0), (reach + 1, reach)), mode="edge"), axis=1, dtype=np.float64)
    width = 2 * reach + 1
    return ((sums[:, width:] - sums[:, :-width]) / width).astype(np.float32)


def _db(power: NDArray[np.float32]) -> NDArray[np.float32]:
    return np.asarray(10.0 * np.log10(np.maximum(power, 0.0) + np.float32(LEAST_POWER)), dtype=np.float32)


def _moved(level: NDArray[np.float32], frames: int) -> NDArray[np.float32]:
    """What lay so many frames earlier (later below 0); the first or last one beyond the ends."""
    at = np.clip(np.arange(len(level)) - frames, 0, len(level) - 1)
    return level[at]


def _highest(level: NDArray[np.float32]) -> NDArray[np.float32]:
    """The highest level from REACH frames before up to now."""
    size = REACH + 1
    return np.asarray(maximum_filter1d(level, size, axis=0, origin=size // 2 - 1, mode="nearest"))


@cache  # (outputs, inputs) and (outputs, 1) of each layer
def _weights() -> tuple[tuple[NDArray[np.float32], NDArray[np.float32]], ...]:
    content = files("pulizia.data").joinpath("room.npz").read_bytes()
    with np.load(BytesIO(content)) as found:
        count = len(found.files) // 2
        return tuple(
            (np.ascontiguousarray(found[f"w{n}"].T, dtype=np.float32), found[f"b{n}"].astype(np.float32)[:, None])
            for n in range(count)
        )
