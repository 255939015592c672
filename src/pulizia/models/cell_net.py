# SPDX-License-Identifier: GPL-3.0-or-later
"""Small nets that all cells of a spectrum share: each cell is told from how levels lie around it in time and frequency."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cache, lru_cache
from importlib.resources import files

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.arrays import read_archive

STEPS = ((2000.0, 1), (5000.0, 2), (math.inf, 3))  # up to these frequencies every bin, every second, every third
CELLS_AT_ONCE = 4096  # what stays in the processor's memory

Layers = tuple[tuple[NDArray[np.float32], NDArray[np.float32]], ...]
"""(outputs, inputs) weights and (outputs, 1) biases of each layer."""


@cache
def layers_of(name: str) -> Layers:
    """The weights that lie beside the program under a name."""
    content = (files("pulizia.data") / f"{name}.npz").read_bytes()
    found = read_archive(content)
    return tuple(
        (np.ascontiguousarray(found[f"w{n}"].T, dtype=np.float32), found[f"b{n}"].astype(np.float32)[:, None])
        for n in range(len(found) // 2)
    )


def answers(values: NDArray[np.float32], layers: Layers) -> NDArray[np.float32]:
    """What a net says of each cell, 0..1.

    Parameters
    ----------
    values : (inputs, frames, bins) float32

    Returns
    -------
    (frames, bins) float32
    """
    cells = values.reshape(len(values), -1)
    made = np.empty(cells.shape[1], dtype=np.float32)
    for start in range(0, len(made), CELLS_AT_ONCE):
        out = cells[:, start : start + CELLS_AT_ONCE]
        for n, (weights, bias) in enumerate(layers):
            if n:
                np.maximum(out, 0.0, out=out)
            out = weights @ out
            out += bias
        made[start : start + CELLS_AT_ONCE] = out[0]
    np.clip(made, 0.0, 1.0, out=made)
    return made.reshape(values.shape[1:])


def around(power: NDArray[np.float32], reach: int) -> NDArray[np.float32]:
    """Mean over so many neighbouring bins on both sides; (frames, bins)."""
    sums = np.cumsum(np.pad(power, ((0, 0), (reach + 1, reach)), mode="edge"), axis=1, dtype=np.float64)
    width = 2 * reach + 1
    return ((sums[:, width:] - sums[:, :-width]) / width).astype(np.float32)


def earlier(level: NDArray[np.float32], frames: int) -> NDArray[np.float32]:
    """What lay so many frames earlier (later below 0); the first or last one beyond the ends."""
    return level[np.clip(np.arange(len(level)) - frames, 0, len(level) - 1)]


@dataclass(frozen=True, slots=True)
class Asked:
    """The bins that a net tells: all of the lows, fewer of the treble, where neighbours tell the same.

    Attributes
    ----------
    at : (asked,) those bins
    below : (bins,) for each bin the place in ``at`` of the asked one at or below it
    weight : (bins,) how far it lies on the way to the next one, 0..1
    """

    at: NDArray[np.intp]
    below: NDArray[np.intp]
    weight: NDArray[np.float32]

    def between(self, told: NDArray[np.float32]) -> NDArray[np.float32]:
        """(frames, bins) of (frames, asked): what lies between two asked bins lies on a line."""
        lower = told[:, self.below]
        upper = told[:, np.minimum(self.below + 1, len(self.at) - 1)]
        upper -= lower
        upper *= self.weight
        upper += lower
        return upper


@lru_cache(maxsize=16)
def asked_bins(bins: int, bin_hz: float) -> Asked:
    """Which of so many bins are asked for; see STEPS."""
    at = [0]
    while at[-1] < bins - 1:
        step = next(step for hz, step in STEPS if at[-1] * bin_hz < hz)
        at.append(min(at[-1] + step, bins - 1))
    places, every = np.array(at, dtype=np.intp), np.arange(bins)
    below = np.searchsorted(places, every, side="right") - 1
    width = np.diff(places, append=places[-1] + 1)[below]
    return Asked(places, below, ((every - places[below]) / width).astype(np.float32))


def decibels(power: NDArray[np.float32], least: float) -> NDArray[np.float32]:
    """Levels in dB of powers, ``least`` at the least."""
    return np.asarray(10.0 * np.log10(np.maximum(power, np.float32(least))), dtype=np.float32)
