# SPDX-License-Identifier: GPL-3.0-or-later
"""A source worked out once, on several threads, into a float file that is then read in place."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from pulizia.audio.source import Source, content_key
from pulizia.media.ahead import PART_FRAMES, made_ahead
from pulizia.media.folders import cache_folder
from pulizia.media.pcm import PcmSource
from pulizia.media.wav_chunks import read_layout
from pulizia.media.write import RawWriter


@contextmanager
def kept(source: Source, progress: Callable[[float], None] = lambda _: None) -> Iterator[Source]:
    """The same samples, read from a file that is removed afterwards.

    They are made on several threads, in order of time. ``progress`` (0..1) may raise to stop.
    """
    path: Path = cache_folder("decoded") / f"worked-{content_key(source.key, id(source))}.wav"
    try:
        with RawWriter(path, rate=source.rate, channels=source.channels) as writer, made_ahead(source) as made:
            for start in range(0, source.frames, PART_FRAMES):
                writer.write(made.read(start, min(start + PART_FRAMES, source.frames)))
                progress(writer.frames / source.frames)
        yield PcmSource(path, read_layout(path), content_key("kept", source.key), own=True)
    finally:
        path.unlink(missing_ok=True)
