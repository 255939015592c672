# SPDX-License-Identifier: GPL-3.0-or-later
"""What of each cell of a spectrum is the voice itself and its early reflections: a small net for the tail of a room.

A ratio mask (Narayanan, Wang 2013, "Ideal ratio mask estimation using deep neural networks") against late
reverberation, here a net of two hidden layers that all frequencies share: it looks at one cell, at how the level
around it came about within a third of a second, and at the decay time that was measured. Only differences of levels
go in, so that neither level nor colour matter. The weights lie beside the program; ``scripts/learn_room.py`` makes them.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from pulizia.models.cell_net import answers, around, asked_bins, earlier, layers_of

PAST = (1, 2, 3, 4, 6, 8, 11, 15, 20, 26, 33)  # frames of 11 ms
COMING = (1, 2, 3, 4)
WIDE_PAST, WIDE_COMING = (2, 5, 10, 20, 33), (2, 4)
NEAR_BINS, WIDE_BINS = 1, 10  # on both sides of a cell
REACH = max(PAST)
WHOLE_SHARE = 0.9  # what the net tells of a voice without a room: learned by least squares, it never reaches 1
MOST_DB, SCALE_DB = 40.0, 15.0
LEAST_POWER = 1e-12
FRAMES_AT_ONCE = 256
FEATURES = len(PAST) + len(COMING) + len(WIDE_PAST) + len(WIDE_COMING) + 7


def inputs(
    heard: NDArray[np.float32],
    left: NDArray[np.float32],
    t60_s: NDArray[np.floating],
    hz: NDArray[np.floating],
    columns: NDArray[np.intp] | None = None,
) -> NDArray[np.float32]:
    """What the net looks at.

    Parameters
    ----------
    heard, left : (frames, bins) power as it was, and after the prediction took its part; frames 11 ms apart
    t60_s, hz : (bins,) decay time and frequency
    columns : (asked,) the bins that are asked for; all of them by default

    Returns
    -------
    (FEATURES, frames, asked) float32
    """
    asked = np.arange(left.shape[1]) if columns is None else columns
    near, wide = (_db(around(left, reach)[:, asked]) for reach in (NEAR_BINS, WIDE_BINS))
    rows = [near - earlier(near, k) for k in PAST]
    rows += [earlier(near, -k) - near for k in COMING]
    rows += [wide - earlier(wide, k) for k in WIDE_PAST]
    rows += [earlier(wide, -k) - wide for k in WIDE_COMING]
    rows += [near - _highest(near), wide - _highest(wide)]
    rows += [_db(left[:, asked]) - near, near - wide, _db(around(heard, NEAR_BINS)[:, asked]) - near]
    made = np.empty((FEATURES, *near.shape), dtype=np.float32)
    for n, row in enumerate(rows):
        np.clip(row, -MOST_DB, MOST_DB, out=made[n])
    made[:-2] /= np.float32(SCALE_DB)
    made[-2] = np.log2(np.clip(t60_s[asked], 0.1, 3.0))
    made[-1] = np.log2(np.maximum(hz[asked], 40.0) / 1000.0) / 3.0
    return made


def mask(
    heard: NDArray[np.float32], left: NDArray[np.float32], t60_s: NDArray[np.floating], hz: NDArray[np.floating]
) -> NDArray[np.float32]:
    """(frames, bins) share 0..1 of the amplitude of each cell that is direct or early; see :func:`inputs`."""
    frames, bins = left.shape
    asked = asked_bins(bins, float(hz[1]) if bins > 1 else 1.0)
    made = np.empty(left.shape, dtype=np.float32)
    for start in range(0, frames, FRAMES_AT_ONCE):
        stop = min(start + FRAMES_AT_ONCE, frames)
        a, b = max(0, start - REACH - 1), min(frames, stop + max(COMING) + 1)
        part = inputs(heard[a:b], left[a:b], t60_s, hz, asked.at)[:, start - a : stop - a]
        made[start:stop] = asked.between(answers(np.ascontiguousarray(part), layers_of("room")))
    return made


def _highest(level: NDArray[np.float32]) -> NDArray[np.float32]:
    """The highest level from REACH frames before up to now."""
    from scipy.ndimage import maximum_filter1d

    size = REACH + 1
    return np.asarray(maximum_filter1d(level, size, axis=0, origin=size // 2 - 1, mode="nearest"))


def _db(power: NDArray[np.float32]) -> NDArray[np.float32]:
    return np.asarray(10.0 * np.log10(np.maximum(power, 0.0) + np.float32(LEAST_POWER)), dtype=np.float32)
