# SPDX-License-Identifier: GPL-3.0-or-later
"""Stretches of other sources placed one after the other on one clock: the sound of a lane, and lanes added up."""

from __future__ import annotations

import copy
import threading
from bisect import bisect_left, bisect_right
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from pulizia.audio.fades import Law, likeness_of, rise
from pulizia.audio.samples import Samples, silence
from pulizia.audio.source import Source, content_key, made_key, read_padded

ONE = np.float32(1.0)
MOST_COMPARED = 1 << 20  # frames of a cross-fade whose likeness is measured


@dataclass(frozen=True, slots=True)
class Edge:
    """How a part comes or goes: over how many frames, and by which law."""

    frames: int = 0
    law: Law = "matched"


@dataclass(frozen=True, slots=True, eq=False)
class Part:
    """A stretch of a source at a place of the timeline.

    Attributes
    ----------
    start : where it begins on the timeline
    inner : the frame of the source that is heard there; silence before the source's first frame and after its last
    frames : length
    weights : (channels of the timeline, channels of the source)
    gain_line : (frame from the start of the part, gain in dB), straight in dB between them
    """

    source: Source
    start: int
    inner: int
    frames: int
    weights: NDArray[np.float32]
    gain_line: tuple[tuple[int, float], ...] = ()
    fade_in: Edge = field(default_factory=Edge)
    fade_out: Edge = field(default_factory=Edge)

    @classmethod
    def whole(cls, source: Source, start: int) -> Part:
        """All of a source, each channel on its own."""
        return cls(source, start, 0, source.frames, np.eye(source.channels, dtype=np.float32))

    @property
    def stop(self) -> int:
        """Where it ends on the timeline."""
        return self.start + self.frames

    def shape(self) -> tuple[object, ...]:
        """What gives it its form, wherever it stands."""
        return self.frames, self.weights.tolist(), self.gain_line, self.fade_in, self.fade_out

    def inside(self, begin: int, end: int) -> tuple[int, int]:
        """Frames of the source for [begin, end) counted from the part's start, cut to those that are there."""
        first, last = self.inner + begin, self.inner + end
        return max(0, min(first, self.source.frames)), max(0, min(last, self.source.frames))

    def heard(self, begin: int, end: int) -> Samples:
        """The source's sound for [begin, end) with the gain line, as an array of its own; without fades and weights."""
        sound = read_padded(self.source, self.inner + begin, self.inner + end)
        if self.gain_line:
            at, level = (np.array(column, dtype=np.float64) for column in zip(*self.gain_line, strict=True))
            gain = 10.0 ** (np.interp(np.arange(begin, end) + 0.5, at, level) / 20.0)
            sound = sound * gain.astype(np.float32)
        return np.asarray(sound if sound.flags.writeable else sound.copy(), dtype=np.float32)

    def add(self, sound: Samples, out: Samples, gain: np.float32 = ONE) -> None:
        """Add sound of the source's channels to the timeline's, by the weights and a gain; ``sound`` may be used up."""
        weights = self.weights if gain == ONE else self.weights * gain
        for n, wave in enumerate(sound):
            column = weights[:, n]
            first = column[0]
            if len(column) > 1 and first != 0.0 and (column == first).all():  # one channel in the middle
                if first != ONE:
                    np.multiply(wave, first, out=wave)
                for channel in range(len(out)):
                    out[channel] += wave
                continue
            for channel, weight in enumerate(column):
                if weight == ONE:
                    out[channel] += wave
                elif weight != 0.0:
                    out[channel] += weight * wave

    def placed(self, begin: int, end: int) -> Samples:
        """Its sound for [begin, end) on the timeline's channels; without fades."""
        out = silence(len(self.weights), end - begin)
        self.add(self.heard(begin, end), out)
        return out


class TimelineSource:
    """Parts by place on one clock. Two neighbours may overlap: there the earlier passes into the later one.

    In an overlap the law is that of the later part's ``fade_in``, and its length is the overlap; elsewhere a part
    comes and goes by its own edges.

    Parameters
    ----------
    spans : (start, stop) of each part, by start; no part inside another, never three at once
    make : gives the part of a number, when it is needed: of thousands only a few are heard at a time
    """

    def __init__(
        self, spans: Sequence[tuple[int, int]], make: Callable[[int], Part], *, rate: int, channels: int, frames: int
    ) -> None:
        self.rate, self.channels, self.frames = rate, channels, frames
        self._starts = [start for start, _ in spans]
        self._stops = [stop for _, stop in spans]
        self._make = make
        self._parts: dict[int, Part] = {}
        self._likeness: dict[int, float] = {}
        self._lock = threading.Lock()
        self._key, self._parts_key = (0, ""), ""  # the first with the frames that it is for

    @classmethod
    def of_parts(cls, parts: Sequence[Part], *, rate: int, channels: int, frames: int) -> TimelineSource:
        """Parts that are there already.

        Raises
        ------
        ValueError
            When more than two parts sound at once, or one lies inside another.
        """
        row = sorted(parts, key=lambda p: p.start)
        for a, b in pairwise(row):
            if b.stop < a.stop:
                message = "a part lies inside another"
                raise ValueError(message)
        for a, c in zip(row, row[2:], strict=False):
            if c.start < a.stop:
                message = "three parts sound at once"
                raise ValueError(message)
        return cls([(p.start, p.stop) for p in row], row.__getitem__, rate=rate, channels=channels, frames=frames)

    def _part(self, index: int) -> Part:
        part = self._parts.get(index)
        if part is None:
            part = self._parts[index] = self._make(index)
        return part

    @property
    def key(self) -> str:
        """Changes exactly when the content may have changed; made when it is asked for, as there may be thousands of parts."""
        if self._key[0] != self.frames or not self._key[1]:
            if not self._parts_key:
                parts = [self._part(n) for n in range(len(self._starts))]
                self._parts_key = content_key([(p.start, p.shape(), *self._part_key(p, 0, p.frames)) for p in parts])
            self._key = self.frames, content_key("timeline", self.frames, self.channels, self._parts_key)
        return self._key[1]

    def made_key(self) -> str | None:
        """The key, where it was made already."""
        return self.key if self._parts_key else None

    def lasting(self, frames: int) -> TimelineSource:
        """The same parts in a timeline of another length; what is known of them is shared."""
        if frames == self.frames:
            return self
        made = copy.copy(self)
        made.frames = frames
        return made

    @staticmethod
    def _part_key(part: Part, begin: int, end: int) -> tuple[object, ...]:
        a, b = part.inside(begin, end)
        return (part.inner + begin - a, part.source.span_key(a, b) if a < b else "")

    def _sounding(self, start: int, stop: int) -> range:
        return range(bisect_right(self._stops, start), bisect_left(self._starts, stop))

    def _overlap(self, index: int) -> tuple[int, int]:
        """Frames that a part shares with the one before and the one behind."""
        before = max(0, self._stops[index - 1] - self._starts[index]) if index else 0
        behind = max(0, self._stops[index] - self._starts[index + 1]) if index + 1 < len(self._starts) else 0
        return before, behind

    def span_key(self, start: int, stop: int) -> str:
        """Key of a stretch, counted from its own start: it stays when the whole is moved."""
        told = []
        for index in self._sounding(start, stop):
            part = self._part(index)
            begin, end = max(0, start - part.start), min(part.frames, stop - part.start)
            before, behind = self._overlap(index)
            told.append((part.start - start, part.shape(), before, behind, *self._part_key(part, begin, end)))
            if before and begin < before:  # what is heard there depends on how like both are over all of it
                other = self._part(index - 1)
                told.append(("cross", self._part_key(part, 0, before), self._part_key(other, other.frames - before, other.frames)))  # fmt: skip
            if behind and end > part.frames - behind:
                other = self._part(index + 1)
                told.append(("cross", self._part_key(part, part.frames - behind, part.frames), self._part_key(other, 0, behind)))  # fmt: skip
        return content_key("timeline", stop - start, self.channels, told)

    def read(self, start: int, stop: int) -> Samples:
        """Samples of [start, stop)."""
        out = silence(self.channels, stop - start)
        self.add_to(out, start, stop)
        return out

    def add_to(self, out: Samples, start: int, stop: int, gain: np.float32 = ONE) -> None:
        """Add the samples of [start, stop), times a gain, to what is there."""
        for index in self._sounding(start, stop):
            part = self._part(index)
            begin, end = max(0, start - part.start), min(part.frames, stop - part.start)
            sound = part.heard(begin, end)
            for a, b, weight in self._fades(index, begin, end):
                sound[:, a - begin : b - begin] *= weight
            part.add(sound, out[:, part.start + begin - start : part.start + end - start], gain)

    def _fades(self, index: int, begin: int, end: int) -> Iterator[tuple[int, int, NDArray[np.float32]]]:
        """Where in [begin, end) of a part its level changes: from, to, gains."""
        part = self._part(index)
        before, behind = self._overlap(index)
        length_in = before or min(part.fade_in.frames, part.frames)
        length_out = behind or min(part.fade_out.frames, part.frames)
        if begin < length_in:
            stop = min(end, length_in)
            likeness = self._likeness_before(index) if before and part.fade_in.law == "matched" else 0.0
            share = (np.arange(begin, stop) + 0.5) / length_in
            yield begin, stop, rise(share, part.fade_in.law, likeness).astype(np.float32)
        if end > part.frames - length_out:
            start = max(begin, part.frames - length_out)
            law = self._part(index + 1).fade_in.law if behind else part.fade_out.law
            likeness = self._likeness_before(index + 1) if behind and law == "matched" else 0.0
            share = (part.frames - np.arange(start, end) - 0.5) / length_out
            yield start, end, rise(share, law, likeness).astype(np.float32)

    def _likeness_before(self, index: int) -> float:
        """Correlation of a part with the one before it, where both sound."""
        with self._lock:
            known = self._likeness.get(index)
        if known is None:
            part, other = self._part(index), self._part(index - 1)
            frames = min(other.stop - part.start, MOST_COMPARED)
            begin = part.start - other.start
            known = likeness_of(other.placed(begin, begin + frames), part.placed(0, frames))
            with self._lock:
                self._likeness[index] = known
        return known


class MixSource:
    """Sources of equal rate and channels added up, each with a gain; as long as the longest."""

    def __init__(self, sources: Sequence[tuple[Source, float]], *, rate: int, channels: int, frames: int) -> None:
        self._sources = [(source, np.float32(gain)) for source, gain in sources]
        self.rate, self.channels, self.frames = rate, channels, frames

    @property
    def key(self) -> str:
        """Changes exactly when the content may have changed."""
        return content_key("mix", self.frames, self.channels, [(s.key, float(g)) for s, g in self._sources])

    def made_key(self) -> str | None:
        """The key, where those of all sources were made already."""
        return self.key if all(made_key(s) is not None for s, _ in self._sources) else None

    def span_key(self, start: int, stop: int) -> str:
        """Key of a stretch."""
        told = [
            (s.span_key(min(start, s.frames), min(stop, s.frames)), float(g)) for s, g in self._sources if start < s.frames
        ]  # fmt: skip
        return content_key("mix", stop - start, self.channels, told)

    def read(self, start: int, stop: int) -> Samples:
        """Samples of [start, stop)."""
        out = silence(self.channels, stop - start)
        for source, gain in self._sources:
            last = min(stop, source.frames)
            if start < last and isinstance(source, TimelineSource):
                source.add_to(out[:, : last - start], start, last, gain)
            elif start < last:
                block = source.read(start, last)
                out[:, : last - start] += block if gain == 1.0 else block * gain
        return out
