# SPDX-License-Identifier: GPL-3.0-or-later
"""What of each cell of a spectrum is voice, where the noise under it is known: a small net beside the classical estimate.

A phase-sensitive mask (Erdogan, Hershey, Watanabe, Le Roux, ICASSP 2015) told by a net of two hidden layers that all
frequencies share. It looks at how far the power lies over the noise in the cell, in its neighbours, in the band and in
the whole frame, before and after, and at the gain of the classical estimate (``dsp.spectral_gain``). The weights lie
beside the program; ``scripts/learn_noise.py`` makes them.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from pulizia.models.cell_net import answers, around, asked_bins, decibels, earlier, layers_of

NEAR = (8, 5, 3, 2, 1, 0, -1, -2, -3)  # frames of 21 ms, those that come below 0
WIDE = (4, 2, 1, 0, -1, -2)
WHOLE = (4, 1, 0, -1, -4)
BESIDE = (-4, -2, -1, 1, 2, 4)  # bins
NEAR_BINS, WIDE_BINS = 1, 10  # on both sides of a cell
VOICE_HZ = (300.0, 4000.0)  # of the whole frame
HIGHEST_HZ = 12_000.0  # what lies above is left to the classical estimate
LOWEST_DB, HIGHEST_DB, SCALE_DB = -15.0, 35.0, 15.0
LEAST_RATIO, MOST_RATIO, LEAST_GAIN = 1e-3, 1e3, 0.03
SILENT_RATIO = 0.03
FRAMES_AT_ONCE = 128
FEATURES = len(NEAR) + 3 + len(WIDE) + len(WHOLE) + len(BESIDE) + 2
BEFORE, BEHIND = max(NEAR), max(-k for k in WHOLE)


def inputs(
    ratio: NDArray[np.float32],
    classical: NDArray[np.float32],
    hz: NDArray[np.floating],
    columns: NDArray[np.intp] | None = None,
) -> NDArray[np.float32]:
    """What the net looks at.

    Parameters
    ----------
    ratio : (frames, bins) power over that of the noise; frames 21 ms apart
    classical : (frames, bins) amplitude gain of the classical estimate
    hz : (bins,)
    columns : (asked,) the bins that are asked for; all of them by default

    Returns
    -------
    (FEATURES, frames, asked) float32
    """
    bins = ratio.shape[1]
    asked = np.arange(bins) if columns is None else columns
    near, wide = (decibels(around(ratio, reach)[:, asked], LEAST_RATIO) for reach in (NEAR_BINS, WIDE_BINS))
    every = decibels(ratio, LEAST_RATIO)
    cell = every[:, asked]
    low, high = np.searchsorted(hz, VOICE_HZ)
    voice = np.minimum(ratio, np.float32(MOST_RATIO))[:, low : max(high, low + 1)].mean(axis=1, keepdims=True)
    whole = decibels(voice, LEAST_RATIO)
    made = np.empty((FEATURES, *cell.shape), dtype=np.float32)
    rows = [earlier(near, k) for k in NEAR]
    rows += [earlier(cell, k) for k in (0, 1, -1)]
    rows += [earlier(wide, k) for k in WIDE]
    rows += [np.broadcast_to(earlier(whole, k), cell.shape) for k in WHOLE]
    rows += [every[:, np.clip(asked - k, 0, bins - 1)] for k in BESIDE]
    rows.append(decibels(np.square(classical[:, asked]), LEAST_GAIN**2))
    for n, row in enumerate(rows):
        np.clip(row, LOWEST_DB, HIGHEST_DB, out=made[n])
    made[:-1] /= np.float32(SCALE_DB)
    made[-1] = np.log2(np.maximum(hz[asked], 40.0) / 1000.0) / 3.0
    return made


def share(ratio: NDArray[np.float32], classical: NDArray[np.float32], hz: NDArray[np.floating]) -> NDArray[np.float32]:
    """(frames, bins) share 0..1 of the amplitude of each cell that is voice; see :func:`inputs`.

    In the treble, where neighbouring bins tell the same, only some are asked for and those between lie on a line.
    """
    frames, bins = ratio.shape
    asked = asked_bins(bins, float(hz[1]) if bins > 1 else 1.0)
    made = np.empty(ratio.shape, dtype=np.float32)
    # where not even the noise is heard, digital silence or the time before the recording, what follows is no onset
    ratio = np.where(ratio.mean(axis=1, keepdims=True) < SILENT_RATIO, np.float32(1.0), ratio)
    for start in range(0, frames, FRAMES_AT_ONCE):
        stop = min(start + FRAMES_AT_ONCE, frames)
        a, b = max(0, start - BEFORE), min(frames, stop + BEHIND)
        part = inputs(ratio[a:b], classical[a:b], hz, asked.at)[:, start - a : stop - a]
        made[start:stop] = asked.between(answers(np.ascontiguousarray(part), layers_of("noise")))
    return made
