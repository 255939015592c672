# SPDX-License-Identifier: GPL-3.0-or-later
"""Half-open stretches of whole frames, and the weight with which an edit acts in them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pulizia.words import tr


@dataclass(frozen=True, slots=True, order=True)
class Span:
    """Frames from ``start`` up to, not including, ``stop``."""

    start: int
    stop: int

    def __post_init__(self) -> None:
        if self.start < 0 or self.stop < self.start:
            message = tr("span {start}..{stop} is not ordered", start=self.start, stop=self.stop)
            raise ValueError(message)

    @property
    def frames(self) -> int:
        """Length in frames."""
        return self.stop - self.start

    def overlaps(self, start: int, stop: int) -> bool:
        """Whether any frame of [start, stop) lies inside."""
        return self.start < stop and start < self.stop


def with_edge(span: Span | None, which: str, frame: int, frames: int) -> Span:
    """The span with its "start" or "stop" moved to a frame; None stands for all of ``frames``.

    Empty where one edge passes the other.
    """
    first, last = (span.start, span.stop) if span is not None else (0, frames)
    return Span(frame, max(last, frame)) if which == "start" else Span(min(first, frame), frame)


def normalised(spans: Iterable[Span]) -> tuple[Span, ...]:
    """Ordered, without empty ones, touching or overlapping ones joined."""
    joined: list[Span] = []
    for span in sorted(s for s in spans if s.frames):
        if joined and span.start <= joined[-1].stop:
            joined[-1] = Span(joined[-1].start, max(joined[-1].stop, span.stop))
        else:
            joined.append(span)
    return tuple(joined)


def without(spans: Sequence[Span], holes: Sequence[Span]) -> tuple[Span, ...]:
    """What is left of ``spans`` after the ``holes`` are cut out."""
    left = list(normalised(spans))
    for hole in normalised(holes):
        rest: list[Span] = []
        for span in left:
            if not span.overlaps(hole.start, hole.stop):
                rest.append(span)
                continue
            if span.start < hole.start:
                rest.append(Span(span.start, hole.start))
            if hole.stop < span.stop:
                rest.append(Span(hole.stop, span.stop))
        left = rest
    return tuple(left)


def clipped(spans: Iterable[Span], frames: int) -> tuple[Span, ...]:
    """The spans inside a recording of ``frames`` frames."""
    return normalised(Span(min(s.start, frames), min(s.stop, frames)) for s in spans if s.start < frames)


def edge_weight(spans: Sequence[Span], start: int, stop: int, *, fade: int, frames: int) -> NDArray[np.float32]:
    """Weight 0..1 with which an edit acts on each frame of [start, stop).

    Inside a span the weight rises as a raised cosine over ``fade`` frames from each edge, outside
    it is exactly 0. An edge that coincides with the recording's own start or end (``frames``) is
    not faded: nothing follows there that could click.
    """
    weight = np.zeros(stop - start, dtype=np.float32)
    for span in spans:
        if not span.overlaps(start, stop):
            continue
        first, last = max(span.start, start), min(span.stop, stop)
        part = np.ones(last - first, dtype=np.float32)
        ramp = min(fade, span.frames // 2)
        if ramp > 0:
            position = np.arange(first, last)
            if span.start > 0:
                _ramp(part, position - span.start, ramp)
            if span.stop < frames:
                _ramp(part, span.stop - 1 - position, ramp)
        weight[first - start : last - start] = part
    return weight


def _ramp(part: NDArray[np.float32], depth: NDArray[np.int64], ramp: int) -> None:
    near = depth < ramp
    part[near] *= (0.5 - 0.5 * np.cos(np.pi * (depth[near] + 1) / (ramp + 1))).astype(np.float32)
