# SPDX-License-Identifier: GPL-3.0-or-later
"""Rendered chunks by content key: bounded in memory, spilled to the cache folder."""

from __future__ import annotations

import mmap
import threading
from collections import OrderedDict
from collections.abc import Callable
from pathlib import Path

import numpy as np

from pulizia.audio.samples import Samples
from pulizia.score.disk_chunks import DiskChunks


class ChunkCache:
    """Chunks of sound, safe to share between threads. The same chunk is never computed twice at once.

    Parameters
    ----------
    memory_bytes
        How much is held in memory; the chunks not asked for longest leave first.
    folder
        Where chunks that leave memory go; None keeps none.
    disk_bytes
        How much the folder may hold, of all processes together; what was not used for longest leaves first.
    """

    def __init__(self, memory_bytes: int = 128 << 20, folder: Path | None = None, disk_bytes: int = 4 << 30) -> None:
        self._memory_bytes = memory_bytes
        self._chunks: OrderedDict[str, Samples] = OrderedDict()
        self._held = 0
        self._lock = threading.Lock()
        self._busy: dict[str, threading.Lock] = {}
        self._disk = DiskChunks(folder, disk_bytes) if folder is not None else None

    def get(self, key: str, compute: Callable[[], Samples]) -> Samples:
        """The chunk under ``key``; computed by ``compute`` when unknown. Do not write to it."""
        if (known := self._known(key)) is not None:
            return known
        with self._lock:
            busy = self._busy.setdefault(key, threading.Lock())
        try:
            with busy:
                if (known := self._known(key)) is not None:
                    return known
                chunk = self._from_disk(key)
                return self._keep(key, chunk if chunk is not None else compute())
        finally:
            with self._lock:
                self._busy.pop(key, None)

    def put(self, key: str, chunk: Samples) -> None:
        """Keep a chunk that was made on the way to another."""
        self._keep(key, chunk)

    def peek(self, key: str) -> Samples | None:
        """The chunk when it is known, in memory or on the disk."""
        known = self._known(key)
        return known if known is not None else self._from_disk(key)

    def has(self, key: str) -> bool:
        """Whether the chunk can be had without computing."""
        with self._lock:
            return key in self._chunks or (self._disk is not None and self._disk.has(key))

    @property
    def held_bytes(self) -> int:
        """Bytes held in memory."""
        return self._held

    def _known(self, key: str) -> Samples | None:
        with self._lock:
            if (chunk := self._chunks.get(key)) is not None:
                self._chunks.move_to_end(key)
            return chunk

    def _keep(self, key: str, chunk: Samples) -> Samples:
        leaving: list[tuple[str, Samples]] = []
        chunk = _apart(chunk)
        with self._lock:
            if key not in self._chunks:
                self._chunks[key] = chunk
                self._held += chunk.nbytes
            while self._held > self._memory_bytes and len(self._chunks) > 1:
                old_key, old = self._chunks.popitem(last=False)
                self._held -= old.nbytes
                leaving.append((old_key, old))
        if self._disk is not None:
            for old_key, old in leaving:
                self._disk.store(old_key, old)
        return chunk

    def flush(self) -> None:
        """Wait until what has left memory lies on the disk."""
        if self._disk is not None:
            self._disk.flush()

    def _from_disk(self, key: str) -> Samples | None:
        return self._disk.load(key) if self._disk is not None else None


def _apart(chunk: Samples) -> Samples:
    """The same samples in pages of their own, read only.

    A chunk is often a view into the block that it was made in, with all its context, and would keep that alive.
    It stays for long among what lives for moments: on the common heap it would keep whole arenas from being returned.
    """
    if not chunk.size:
        return chunk
    pages = mmap.mmap(-1, chunk.nbytes, flags=mmap.MAP_PRIVATE | mmap.MAP_ANONYMOUS)
    made = np.frombuffer(pages, dtype=chunk.dtype).reshape(chunk.shape)
    made[...] = chunk
    made.flags.writeable = False
    return made
