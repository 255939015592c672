# SPDX-License-Identifier: GPL-3.0-or-later
"""Rendered chunks by content key: bounded in memory, spilled to the cache folder."""

from __future__ import annotations

import contextlib
import threading
from collections import OrderedDict
from collections.abc import Callable
from pathlib import Path

import numpy as np

from pulizia.audio.samples import Samples

SUFFIX = ".chunk"


class ChunkCache:
    """Chunks of sound, safe to share between threads. The same chunk is never computed twice at once.

    Parameters
    ----------
    memory_bytes
        How much is held in memory; the chunks not asked for longest leave first.
    folder
        Where chunks that leave memory go; None keeps none.
    disk_bytes
        How much the folder may hold; the oldest files leave first.
    """

    def __init__(self, memory_bytes: int = 128 << 20, folder: Path | None = None, disk_bytes: int = 4 << 30) -> None:
        self._memory_bytes, self._disk_bytes = memory_bytes, disk_bytes
        self._folder = folder
        self._chunks: OrderedDict[str, Samples] = OrderedDict()
        self._held = 0
        self._lock = threading.Lock()
        self._busy: dict[str, threading.Lock] = {}
        self._on_disk: OrderedDict[str, int] = OrderedDict()
        if folder is not None:
            self._list_folder(folder)

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
                if chunk is None:
                    chunk = compute()
                chunk.flags.writeable = False
                self._keep(key, chunk)
                return chunk
        finally:
            with self._lock:
                self._busy.pop(key, None)

    def put(self, key: str, chunk: Samples) -> None:
        """Keep a chunk that was made on the way to another."""
        chunk.flags.writeable = False
        self._keep(key, chunk)

    def peek(self, key: str) -> Samples | None:
        """The chunk when it is known, in memory or on the disk."""
        known = self._known(key)
        return known if known is not None else self._from_disk(key)

    def has(self, key: str) -> bool:
        """Whether the chunk can be had without computing."""
        with self._lock:
            return key in self._chunks or key in self._on_disk

    @property
    def held_bytes(self) -> int:
        """Bytes held in memory."""
        return self._held

    def _known(self, key: str) -> Samples | None:
        with self._lock:
            if (chunk := self._chunks.get(key)) is not None:
                self._chunks.move_to_end(key)
            return chunk

    def _keep(self, key: str, chunk: Samples) -> None:
        leaving: list[tuple[str, Samples]] = []
        with self._lock:
            if key not in self._chunks:
                self._chunks[key] = chunk
                self._held += chunk.nbytes
            while self._held > self._memory_bytes and len(self._chunks) > 1:
                old_key, old = self._chunks.popitem(last=False)
                self._held -= old.nbytes
                if old_key not in self._on_disk:
                    leaving.append((old_key, old))
        for old_key, old in leaving:
            self._spill(old_key, old)

    def _spill(self, key: str, chunk: Samples) -> None:
        if self._folder is None:
            return
        path = self._folder / (key + SUFFIX)
        beside = path.with_suffix(".part")
        try:
            with beside.open("wb") as file:
                np.save(file, chunk, allow_pickle=False)
            beside.replace(path)
        except OSError:  # a full disk only costs the cache
            beside.unlink(missing_ok=True)
            return
        with self._lock:
            self._on_disk[key] = chunk.nbytes
            leaving = []
            while sum(self._on_disk.values()) > self._disk_bytes:
                leaving.append(self._on_disk.popitem(last=False)[0])
        for old in leaving:
            (self._folder / (old + SUFFIX)).unlink(missing_ok=True)

    def _from_disk(self, key: str) -> Samples | None:
        with self._lock:
            if self._folder is None or key not in self._on_disk:
                return None
        with contextlib.suppress(OSError, ValueError, EOFError):
            chunk = np.load(self._folder / (key + SUFFIX), allow_pickle=False)
            if chunk.dtype == np.float32 and chunk.ndim == 2:
                return np.asarray(chunk, dtype=np.float32)
        with self._lock:
            self._on_disk.pop(key, None)
        return None

    def _list_folder(self, folder: Path) -> None:
        with contextlib.suppress(OSError):
            files = sorted(folder.glob("*" + SUFFIX), key=lambda f: f.stat().st_mtime)
            for file in files:
                self._on_disk[file.stem] = file.stat().st_size
