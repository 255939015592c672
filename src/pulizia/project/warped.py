# SPDX-License-Identifier: GPL-3.0-or-later
"""A recording whose moments come earlier or later in one stretch, with its pitch kept."""

from __future__ import annotations

import threading
from collections.abc import Sequence

import numpy as np

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, content_key, read_padded
from pulizia.dsp.time_stretch import SEARCH_S, Stretcher
from pulizia.words import tr

CROSS_S = 0.008  # into what follows the stretch
MOST_FRAMES = 12_000_000  # of the stretch: a minute at the highest rate
SLOWEST, FASTEST = 0.4, 2.5  # frames of the recording for each that is heard
Anchors = tuple[tuple[int, int], ...]
"""(frame as it is heard, frame of the recording), both rising: the first pair is one frame, from the last on all comes later by
their difference."""


def checked(anchors: Sequence[Sequence[int]]) -> Anchors:
    """The anchors as they can be used.

    Raises
    ------
    ValueError
        When they do not rise, change the speed too much, or cover too long a stretch.
    """
    try:
        rows = np.array(anchors, dtype=np.int64).reshape(-1, 2)
    except OverflowError as error:
        raise ValueError(tr("the moments of a fitted clip do not follow each other")) from error
    steps = np.diff(rows, axis=0)
    if len(rows) < 2 or rows[0, 0] != rows[0, 1] or rows[0, 0] < 0 or (steps <= 0).any():
        raise ValueError(tr("the moments of a fitted clip do not follow each other"))
    speed = steps[:, 1] / steps[:, 0]
    if speed.min() < SLOWEST or speed.max() > FASTEST or rows[-1, 0] - rows[0, 0] > MOST_FRAMES:
        raise ValueError(tr("a clip is made slower or faster by more than can be"))
    return tuple((int(a), int(b)) for a, b in rows)


class WarpedSource:
    """A source, made slower and faster between anchors (:mod:`pulizia.dsp.time_stretch`), itself before and behind them.

    The stretch is made in one go when it is first read, so what is read does not depend on how it is read.
    """

    def __init__(self, source: Source, anchors: Anchors) -> None:
        self._source, self._anchors = source, anchors
        self.rate, self.channels = source.rate, source.channels
        (self._first, _), (self._last, behind) = anchors[0], anchors[-1]
        self._later = behind - self._last  # what follows lies so much farther on in the recording
        self.frames = max(0, source.frames - self._later)
        self.key = content_key("warped", 1, source.key, anchors)
        self._lock = threading.Lock()
        self._made: Samples | None = None

    def span_key(self, start: int, stop: int) -> str:
        """Key of a stretch: that of the sound it is made of."""
        reach = round(SEARCH_S * self.rate) + 2 * round(0.02 * self.rate)
        a = start if start < self._first else min(start + self._later, self._first)
        b = stop if stop <= self._first else max(stop + self._later, self._anchors[-1][1] + reach)
        last = min(max(b, 0), self._source.frames)
        return content_key("warped", 1, self._anchors, self._source.span_key(min(max(a, 0), last), last), start, stop)

    def read(self, start: int, stop: int) -> Samples:
        """Samples of [start, stop)."""
        parts = []
        if start < self._first:
            parts.append(read_padded(self._source, start, min(stop, self._first)))
        a, b = max(start, self._first), min(stop, self._last)
        if a < b:
            parts.append(self._stretch()[:, a - self._first : b - self._first].copy())  # who reads may change it
        if stop > self._last:
            a = max(start, self._last)
            parts.append(read_padded(self._source, a + self._later, stop + self._later))
        return np.concatenate(parts, axis=1) if len(parts) != 1 else parts[0]

    def _stretch(self) -> Samples:
        with self._lock:
            if self._made is None:
                self._made = self._stretched()
            return self._made

    def _stretched(self) -> Samples:
        heard, told = np.array(self._anchors, dtype=np.float64).T
        stretcher = Stretcher(lambda a, b: read_padded(self._source, a, b), self.rate, 1.0, self._first)
        count = self._last - self._first
        blocks = []
        for at in range(0, count, stretcher.hop):
            if at:  # the middle of each segment falls where the anchors say; the first follows what lies before
                stretcher.place = float(np.interp(self._first + at + stretcher.hop, heard, told)) - stretcher.hop
            blocks.append(stretcher.block())
        made = np.concatenate(blocks, axis=1)[:, :count]
        cross = min(round(CROSS_S * self.rate), count)
        rise = np.linspace(0.0, 1.0, cross, endpoint=False, dtype=np.float32)
        follows = read_padded(self._source, self._last - cross + self._later, self._last + self._later)
        made[:, count - cross :] = made[:, count - cross :] * (1.0 - rise) + follows * rise
        return np.asarray(made, dtype=np.float32)
