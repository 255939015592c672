# SPDX-License-Identifier: GPL-3.0-or-later
"""Tops that were cut flat by an overloaded stage: runs of equal samples between steep flanks.

Common practice: three or more equal samples in a row near the largest level. A low tone has equal
samples at its own crest as well, but arrives there with a flat flank; a cut top is entered at speed.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples

SHORTEST_RUN = 3
NEAR_PEAK = 0.7  # of the largest sample of the stretch
QUIETEST = 0.02  # amplitude; below it single steps of 16 bits look like tops
STEEP = 0.0025  # of the level, the step into or out of the run
STEEP_LEAST = 1e-4


def flattened(samples: Samples, edges: Sequence[int]) -> NDArray[np.uint16]:
    """Number of samples in flattened tops per block, all channels together.

    Parameters
    ----------
    samples : (channels, frames) float32
    edges
        Frames at which blocks begin, and the end of the last.
    """
    counts = np.zeros(len(edges) - 1, dtype=np.int64)
    for channel in samples:
        starts, stops = flat_runs(channel)
        if len(starts):
            block = np.searchsorted(np.asarray(edges), starts, "right") - 1
            np.add.at(counts, np.clip(block, 0, len(counts) - 1), stops - starts)
    return np.minimum(counts, 65_535).astype(np.uint16)


def flat_runs(x: NDArray[np.float32], look: int = 0) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """Starts and stops of the flattened tops of one channel.

    Parameters
    ----------
    x : (n,) float32
    look : frames over which the largest sample counts, as peaks may be cut far below the loudest sound elsewhere; 0 is all
    """
    none = np.zeros(0, dtype=np.intp)
    level = np.abs(x)
    at = np.flatnonzero(level >= _limits(level, look))
    if len(at) < SHORTEST_RUN:
        return none, none
    same = (np.diff(at) == 1) & (x[at[1:]] == x[at[:-1]])
    bounds = np.flatnonzero(np.diff(np.concatenate([[False], same, [False]]).astype(np.int8)))
    first, last = bounds[0::2], bounds[1::2]
    long = last - first + 1 >= SHORTEST_RUN
    starts, stops = at[first[long]], at[last[long]] + 1
    value = x[starts]
    into = np.abs(value - x[np.maximum(starts - 1, 0)])
    out = np.abs(value - x[np.minimum(stops, len(x) - 1)])
    steep = np.maximum(into, out) >= np.maximum(STEEP * np.abs(value), STEEP_LEAST)
    return starts[steep], stops[steep]


def _limits(level: NDArray[np.float32], look: int) -> NDArray[np.float32] | float:
    """The level from which samples may be tops: one for all, or for each stretch its own."""
    whole = len(level) // look * look if look else 0
    if not whole:
        return max(QUIETEST, NEAR_PEAK * float(level.max(initial=0.0)))
    tops = level[:whole].reshape(-1, look).max(axis=1)
    if whole < len(level):
        tops = np.append(tops, level[whole:].max())
    limits = np.maximum(np.float32(NEAR_PEAK) * tops, np.float32(QUIETEST))
    return np.repeat(limits, look)[: len(level)]
