# SPDX-License-Identifier: GPL-3.0-or-later
"""Tools that only run forward, as stretches that begin anew: the same samples whatever is asked first.

The recording is parted into units. Each unit is made by a stream that starts a little before it and
runs to its end; a chunk in the middle of a unit is reached by running through what lies before it,
and all that is made on the way is kept.
"""

from __future__ import annotations

import threading
from typing import Any, Protocol

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, content_key, read_padded
from pulizia.score.cache import ChunkCache
from pulizia.score.steps import Step
from pulizia.tools.base import Stream

CHUNK_FRAMES = 1 << 16
UNIT_CHUNKS = 24
RUN_UP_CHUNKS = 4
MOST_STREAMS = 2  # open at once per step: each may hold a model


class Running(Protocol):
    """What a run asks of the stage that it belongs to."""

    heard: Source
    step: Step
    cache: ChunkCache
    rate: int
    frames: int

    @property
    def analysis_key(self) -> str:
        """Identity of what was learned."""
        ...

    def analysis(self) -> Any:  # noqa: ANN401 - each tool's own
        """What was learned."""
        ...


class Runs:
    """The running streams of one step."""

    def __init__(self, stage: Running) -> None:
        self._stage = stage
        self._streams: dict[int, tuple[Stream, int]] = {}  # unit: stream, its next chunk
        self._lock = threading.Lock()

    @staticmethod
    def begin(first: int) -> int:
        """Where the context of a chunk begins: its unit's start, and the run-up before it."""
        unit = CHUNK_FRAMES * UNIT_CHUNKS
        return first // unit * unit - RUN_UP_CHUNKS * CHUNK_FRAMES

    def taken(self, first: int, last: int) -> Samples:
        """What the stream gives for one whole chunk."""
        chunk = first // CHUNK_FRAMES
        key = self._key(chunk)
        return self._stage.cache.get(key, lambda: self._run_to(chunk))[:, : last - first]

    def _key(self, chunk: int) -> str:
        stage = self._stage
        first = chunk * CHUNK_FRAMES
        context = stage.heard.span_key(max(0, self.begin(first)), min(stage.frames, first + 2 * CHUNK_FRAMES))
        return content_key("run", stage.step.tool.id, stage.step.tool.version, stage.analysis_key, context, chunk)

    def _run_to(self, chunk: int) -> Samples:
        stage = self._stage
        make = stage.step.tool.stream
        assert make is not None  # noqa: S101 - only made for such tools
        unit = chunk // UNIT_CHUNKS
        analysis = stage.analysis()
        with self._lock:
            if (known := stage.cache.peek(self._key(chunk))) is not None:
                return known  # made by another thread meanwhile
            stream, at = self._streams.pop(unit, (None, 0))
            if stream is None or at > chunk:
                at = unit * UNIT_CHUNKS
                read = lambda a, b: read_padded(stage.heard, a, b)  # noqa: E731
                stream = make(read, stage.rate, stage.heard.channels, at * CHUNK_FRAMES, analysis)
            while True:
                first = at * CHUNK_FRAMES
                made = stream.take(first, min(first + CHUNK_FRAMES, stage.frames))
                at += 1
                if at > chunk:
                    break
                stage.cache.put(self._key(at - 1), made)
            if at % UNIT_CHUNKS:
                self._streams[unit] = (stream, at)
            while len(self._streams) > MOST_STREAMS:
                self._streams.pop(next(iter(self._streams)))
            return made
