# SPDX-License-Identifier: GPL-3.0-or-later
"""What is heard: a Source with its gain and channels, and how its blocks are read and joined. No Qt."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.layouts import channel_names, into_two
from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, read_padded
from pulizia.words import N_

JOIN_S = 0.005  # over which sound goes from one place or material to another: too short to be heard, too long to click


class Listening(Enum):
    """What is heard."""

    BEFORE = N_("Before")
    AFTER = N_("After")
    REMOVED = N_("Removed")
    STEP = N_("By step")

    @property
    def is_removed(self) -> bool:
        """Whether it is what was taken away, which is no programme to measure."""
        return self in (Listening.REMOVED, Listening.STEP)


@dataclass(frozen=True, slots=True)
class Heard:
    """A Source with the gain that matches its level to the others, and its channels' names."""

    source: Source
    gain: float = 1.0
    names: tuple[str, ...] = ()
    only: int | None = None  # one channel alone, on both sides

    def weights(self) -> NDArray[np.float32]:
        """(2, channels): how its channels are heard from two loudspeakers."""
        channels = self.source.channels
        if self.only is not None and self.only < channels:
            weights = np.zeros((2, channels))
            weights[:, self.only] = 1.0
        else:
            weights = into_two(channel_names(channels, self.names))
        return weights.astype(np.float32)


def read_heard(heard: Heard, start: int, stop: int) -> Samples:
    """(channels, frames) of what is heard, at its gain."""
    block = heard.source.read(start, stop)
    return block if heard.gain == 1.0 else block * np.float32(heard.gain)


def read_on(heard: Heard, start: int, frames: int) -> Samples:
    """What would have followed, with silence after the end."""
    count = min(frames, round(JOIN_S * heard.source.rate))
    return read_padded(heard.source, start, start + count) * np.float32(heard.gain)


def faded_to(block: Samples, start: int, ends_at: int | None, source: Source) -> Samples:
    """A block that begins at ``start``, faded where playing ends inside the source: no click there."""
    if ends_at is None or ends_at >= source.frames:
        return block
    left = ends_at - np.arange(start, start + block.shape[1])
    count = round(JOIN_S * source.rate)
    if left[-1] > count:
        return block
    return block * (np.clip(left / count, 0.0, 1.0)).astype(np.float32)


def joined(old: Samples, new: Samples, rate: int) -> Samples:
    """The new samples, cross-faded over from the old ones."""
    count = min(new.shape[1], old.shape[1], round(JOIN_S * rate))
    weight = np.linspace(0.0, 1.0, count, dtype=np.float32)
    mixed = new.copy()
    mixed[:, :count] = old[:, :count] * (1 - weight) + new[:, :count] * weight
    return mixed
