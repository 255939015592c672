# SPDX-License-Identifier: GPL-3.0-or-later
"""Everything that sounds: random access to samples under a content key."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence
from functools import cached_property
from typing import Protocol, runtime_checkable

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.samples import Samples, silence
from pulizia.words import N_


@runtime_checkable
class Source(Protocol):
    """Random access to sound. Thread-safe; reading has no side effects that can be heard."""

    @property
    def rate(self) -> int:
        """Sample rate in Hz."""

    @property
    def channels(self) -> int:
        """Number of channels."""

    @property
    def frames(self) -> int:
        """Length in frames."""

    @property
    def key(self) -> str:
        """Changes exactly when the content may have changed."""

    def span_key(self, start: int, stop: int) -> str:
        """Key of the content of [start, stop) alone: it survives edits elsewhere."""

    def read(self, start: int, stop: int) -> Samples:
        """Samples of [start, stop), (channels, stop - start) float32; inside 0..frames."""


@runtime_checkable
class ByChannel(Protocol):
    """A source that can read some of its channels alone."""

    def read_channels(self, start: int, stop: int, channels: Sequence[int]) -> Samples:
        """Samples of [start, stop) of these channels, in this order."""


def content_key(*parts: object) -> str:
    """Digest of the parts' representations."""
    digest = hashlib.blake2b(digest_size=16)
    for part in parts:
        digest.update(repr(part).encode())
        digest.update(b"\0")
    return digest.hexdigest()


def read_padded(source: Source, start: int, stop: int) -> Samples:
    """Like ``source.read`` but with silence before the first and after the last frame."""
    first, last = max(start, 0), min(stop, source.frames)
    if first >= last:
        return silence(source.channels, stop - start)
    if first == start and last == stop:
        return source.read(start, stop)
    block = silence(source.channels, stop - start)
    block[:, first - start : last - start] = source.read(first, last)
    return block


def made_key(source: Source) -> str | None:
    """The key of a source; None where it was never asked for and takes long to make, as that of thousands of clips does."""
    made: Callable[[], str | None] | None = getattr(source, "made_key", None)
    return source.key if made is None else made()


class ArraySource:
    """Sound held in memory."""

    def __init__(self, samples: Samples, rate: int) -> None:
        self._samples = np.ascontiguousarray(samples, dtype=np.float32)
        self.rate = rate
        self.channels = int(self._samples.shape[0])
        self.frames = int(self._samples.shape[1])
        self.key = content_key("array", rate, hashlib.blake2b(self._samples.tobytes()).hexdigest())

    def span_key(self, start: int, stop: int) -> str:
        """Key of a stretch."""
        return content_key(self.key, start, stop)

    def read(self, start: int, stop: int) -> Samples:
        """Samples of [start, stop)."""
        return self._samples[:, start:stop].copy()


class SpanSource:
    """A stretch of a source, counted from its own start."""

    def __init__(self, source: Source, start: int, stop: int) -> None:
        self._source, self._start = source, start
        self.rate, self.channels, self.frames = source.rate, source.channels, stop - start
        self.key = content_key("span", source.span_key(start, stop))

    def span_key(self, start: int, stop: int) -> str:
        """Key of a stretch; not that of the same stretch in the whole, whose surroundings count."""
        inner = self._source.span_key(self._start + start, self._start + stop)
        return content_key("span", inner, start, stop)

    def read(self, start: int, stop: int) -> Samples:
        """Samples of [start, stop)."""
        return self._source.read(self._start + start, self._start + stop)


PICKS: dict[str, tuple[tuple[float, float], str]] = {
    "left": ((1.0, 0.0), "left"),
    "right": ((0.0, 1.0), "right"),
    "mid": ((0.5, 0.5), N_("mid, the mean of both")),
    "side": ((0.5, -0.5), N_("side, half their difference")),
    "mono": ((1.0, 1.0), N_("mono sum, as one loudspeaker gives it")),
}
"""Ways to listen to two channels: weights of left and right, and words."""


class ChannelsSource:
    """Some channels of a source, in this order.

    Parameters
    ----------
    channels : numbers from 0
    """

    def __init__(self, source: Source, channels: Sequence[int]) -> None:
        self._source, self._taken = source, list(channels)
        self.rate, self.frames, self.channels = source.rate, source.frames, len(self._taken)
        self.key = content_key("channels", source.key, self._taken)
        self._by_channel = source if isinstance(source, ByChannel) else None

    def span_key(self, start: int, stop: int) -> str:
        """Key of a stretch."""
        return content_key("channels", self._source.span_key(start, stop), self._taken)

    def read(self, start: int, stop: int) -> Samples:
        """Samples of [start, stop)."""
        if self._by_channel is not None:  # the others need not be decoded
            return self._by_channel.read_channels(start, stop, self._taken)
        return np.ascontiguousarray(self._source.read(start, stop)[self._taken])


class MixedSource:
    """Channels as weighted sums of a source's channels.

    Parameters
    ----------
    weights : (channels, channels of the source)
    """

    def __init__(self, source: Source, weights: NDArray[np.floating]) -> None:
        self._source = source
        self._weights = weights.astype(np.float32)
        self.rate, self.frames, self.channels = source.rate, source.frames, len(weights)
        self._name = repr(self._weights.tolist())
        self.key = content_key("mixed", source.key, self._name)

    def span_key(self, start: int, stop: int) -> str:
        """Key of a stretch."""
        return content_key("mixed", self._source.span_key(start, stop), self._name)

    def read(self, start: int, stop: int) -> Samples:
        """Samples of [start, stop)."""
        return np.asarray(self._weights @ self._source.read(start, stop), dtype=np.float32)


def picked(source: Source, pick: str) -> MixedSource:
    """Two channels of which both carry one mixture, for listening; see PICKS."""
    weights = np.array(PICKS[pick][0])
    return MixedSource(source, np.stack([weights, weights]))


class DifferenceSource:
    """What a chain takes away: ``before - after``."""

    def __init__(self, before: Source, after: Source) -> None:
        self.before, self.after = before, after
        self.rate, self.channels, self.frames = after.rate, after.channels, after.frames

    @cached_property
    def key(self) -> str:
        """Changes exactly when the content may have changed."""
        return content_key("difference", self.before.key, self.after.key)

    def made_key(self) -> str | None:
        """The key, where that takes no time."""
        return self.key if None not in (made_key(self.before), made_key(self.after)) else None

    def span_key(self, start: int, stop: int) -> str:
        """Key of a stretch."""
        return content_key("difference", self.before.span_key(start, stop), self.after.span_key(start, stop))

    def read(self, start: int, stop: int) -> Samples:
        """Samples of [start, stop)."""
        return self.before.read(start, stop) - self.after.read(start, stop)
