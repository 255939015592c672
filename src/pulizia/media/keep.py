# SPDX-License-Identifier: GPL-3.0-or-later
"""A source worked out once, on several threads, into a float file that is then read in place."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path

from pulizia.audio.samples import Samples
from pulizia.audio.source import Source, content_key
from pulizia.media.folders import cache_folder
from pulizia.media.pcm import PcmSource
from pulizia.media.wav_chunks import read_layout
from pulizia.media.write import RawWriter

PART_FRAMES = 6 << 16  # whole groups of chunks: nothing is made twice
AHEAD = 2


@contextmanager
def kept(source: Source, progress: Callable[[float], None] = lambda _: None, *, workers: int = 2) -> Iterator[Source]:
    """The same samples, read from a file that is removed afterwards.

    Parts are made on ``workers`` threads, in order of time. ``progress`` (0..1) may raise to stop.
    """
    path: Path = cache_folder("decoded") / f"worked-{content_key(source.key, id(source))}.wav"
    try:
        with RawWriter(path, rate=source.rate, channels=source.channels) as writer, ThreadPoolExecutor(workers) as pool:
            waiting: deque[Future[Samples]] = deque()
            starts = iter(range(0, source.frames, PART_FRAMES))
            try:
                while True:
                    while len(waiting) < workers + AHEAD and (start := next(starts, None)) is not None:
                        waiting.append(pool.submit(source.read, start, min(start + PART_FRAMES, source.frames)))
                    if not waiting:
                        break
                    writer.write(waiting.popleft().result())
                    progress(writer.frames / source.frames)
            except BaseException:
                for future in waiting:
                    future.cancel()
                raise
        yield PcmSource(path, read_layout(path), content_key("kept", source.key), own=True)
    finally:
        path.unlink(missing_ok=True)
