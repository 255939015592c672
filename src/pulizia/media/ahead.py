# SPDX-License-Identifier: GPL-3.0-or-later
"""Work on all cores: parts of a Source are made side by side, in order of time."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager

import numpy as np

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source

PART_FRAMES = 6 << 16  # whole groups of chunks: nothing is made twice
MOST_THREADS = 4  # of one sound; more would wait for the same upstream parts


def threads() -> int:
    """How many threads are worth while here."""
    return min(MOST_THREADS, max(1, os.cpu_count() or 1))


def render(
    source: Source, start: int = 0, stop: int | None = None, progress: Callable[[float], None] = lambda _share: None
) -> None:
    """Make [start, stop) of a source whose stages keep what they made, so that who reads it next finds it there.

    ``progress`` (0..1) may raise to stop.
    """
    stop = source.frames if stop is None else min(stop, source.frames)
    first, last = start // PART_FRAMES, -(-stop // PART_FRAMES)

    def make(part: int) -> None:
        source.read(max(start, part * PART_FRAMES), min(stop, (part + 1) * PART_FRAMES))

    if last - first < 2:
        for part in range(first, last):
            make(part)
        return
    with ThreadPoolExecutor(threads()) as pool:
        jobs = [pool.submit(make, part) for part in range(first, last)]
        try:
            for n, job in enumerate(jobs, 1):
                job.result()
                progress(n / len(jobs))
        except BaseException:
            for job in jobs:
                job.cancel()
            raise


class _Ahead:
    """The same samples; while they are read forward, threads make what comes next."""

    def __init__(self, source: Source, pool: ThreadPoolExecutor, ahead: int) -> None:
        self._source, self._pool, self._ahead = source, pool, ahead
        self.rate, self.channels, self.frames, self.key = source.rate, source.channels, source.frames, source.key
        self._parts: dict[int, Future[Samples]] = {}

    def span_key(self, start: int, stop: int) -> str:
        """That of the source."""
        return self._source.span_key(start, stop)

    def read(self, start: int, stop: int) -> Samples:
        """Samples of [start, stop)."""
        out = np.empty((self.channels, stop - start), dtype=np.float32)
        if stop <= start:
            return out
        first, last, most = start // PART_FRAMES, -(-stop // PART_FRAMES), -(-self.frames // PART_FRAMES)
        self._parts = {n: part for n, part in self._parts.items() if first <= n < last + self._ahead}
        for n in range(first, min(last + self._ahead, most)):
            if n not in self._parts:
                begin = n * PART_FRAMES
                self._parts[n] = self._pool.submit(self._source.read, begin, min(begin + PART_FRAMES, self.frames))
        for n in range(first, last):
            begin = n * PART_FRAMES
            a, b = max(start, begin), min(stop, begin + PART_FRAMES)
            out[:, a - start : b - start] = self._parts[n].result()[:, a - begin : b - begin]
        return out


@contextmanager
def made_ahead(source: Source) -> Iterator[Source]:
    """The source for one thread that reads it forward: what comes next is made meanwhile, on the other cores."""
    count = threads()
    pool = ThreadPoolExecutor(count)
    try:
        yield _Ahead(source, pool, count)
    finally:
        pool.shutdown(wait=True, cancel_futures=True)
