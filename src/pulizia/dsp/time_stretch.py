# SPDX-License-Identifier: GPL-3.0-or-later
"""Speech slower or faster with its pitch kept: overlap-add of the segments that continue best.

WSOLA (Verhelst and Roelands 1993, "An overlap-add technique based on waveform similarity for high quality time-scale
modification of speech"): segments of 40 ms follow each other every 20 ms; each is taken from within 10 ms of where the
speed asks for it, there where it is most alike to what would have followed the last one.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples

HOP_S, SEARCH_S = 0.02, 0.01
EVERY = 4  # samples of which one is looked at in the search


class Stretcher:
    """One pass through a sound, block by block.

    Parameters
    ----------
    read : gives (channels, stop - start) samples for any start and stop, silence outside the sound
    rate : frames a second
    speed : frames of the sound for each frame that is made, above 0
    start : frame of the sound to begin at
    """

    def __init__(self, read: Callable[[int, int], Samples], rate: int, speed: float, start: int) -> None:
        self._read, self._speed = read, speed
        self.hop = max(16, round(HOP_S * rate))
        self._search = round(SEARCH_S * rate)
        self.place = float(start)  # frame of the sound that the next block begins at
        rise = np.sin(np.linspace(0.0, np.pi / 2, self.hop, endpoint=False)) ** 2
        self._rise = rise.astype(np.float32)
        self._tail: Samples | None = None  # the second half of the last segment
        self._next_like: NDArray[np.float32] | None = None  # what would have followed its first half

    def block(self) -> Samples:
        """The next ``hop`` frames: (channels, hop) float32."""
        hop, wanted = self.hop, round(self.place)
        if self._tail is None or self._next_like is None:
            segment = self._read(wanted, wanted + 2 * hop)
            made = segment[:, :hop].copy()
        else:
            around = self._read(wanted - self._search, wanted + 2 * hop + self._search)
            shift = self._best(around)
            segment = around[:, shift : shift + 2 * hop]
            made = self._tail * (1 - self._rise) + segment[:, :hop] * self._rise
        self._tail = segment[:, hop:]
        self._next_like = self._tail.mean(axis=0)[::EVERY]
        self.place += hop * self._speed
        return np.asarray(made, dtype=np.float32)

    def _best(self, around: Samples) -> int:
        """Where in ``around`` a segment continues the last one best: the highest normalised correlation."""
        like = self._next_like
        assert like is not None  # noqa: S101 - there is a last segment
        looked = around.mean(axis=0)[::EVERY]
        count = 2 * self._search // EVERY + 1
        products = np.correlate(looked[: count + len(like) - 1], like, "valid")
        sums = np.concatenate([[0.0], np.cumsum(looked.astype(np.float64) ** 2)])
        power = sums[len(like) : len(like) + len(products)] - sums[: len(products)]
        alike = products / np.sqrt(np.maximum(power, 1e-9))
        if alike.max(initial=0.0) <= 0.0:
            return self._search  # silence: where it was asked for
        return int(np.argmax(alike)) * EVERY
