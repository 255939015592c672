# SPDX-License-Identifier: GPL-3.0-or-later
"""Rendered chunks in a folder of the cache that all processes of the program share: bounded, longest unused first out.

The file system is the one truth: a chunk that is read gets the time of now, and whoever finds the folder over its
bound looks through all of it and removes what was not read for longest, whichever process wrote it.
"""

from __future__ import annotations

import contextlib
import os
import queue
import threading
import time
from pathlib import Path

import numpy as np

from pulizia.audio.arrays import read_array, write_array
from pulizia.audio.samples import Samples

SUFFIX, UNFINISHED = ".chunk", ".part"
MOST_WAITING = 64  # chunks that wait to be written; what comes beyond that is not kept: it can be made again
ROOM_SHARE = 0.9  # of the bound that is left after making room, so that it is not made for each chunk
LOOK_EVERY_SHARE = 0.05  # of the bound written by this process, after which it looks at what others wrote
ABANDONED_S = 600.0  # after which a half-written file is what a crash has left


class DiskChunks:
    """Chunks by key. They are written by a thread of their own: whoever renders or plays never waits for the disk.

    Parameters
    ----------
    folder : where they lie
    most_bytes : how much all processes together may keep there
    """

    def __init__(self, folder: Path, most_bytes: int) -> None:
        self._folder, self._most = folder, most_bytes
        self._keys: set[str] = set()
        self._written = 0  # since the folder was looked through
        self._lock = threading.Lock()
        self._waiting: queue.Queue[tuple[str, Samples]] = queue.Queue(MOST_WAITING)
        self._writer: threading.Thread | None = None
        self.make_room()

    def has(self, key: str) -> bool:
        """Whether it is there, as far as this process knows."""
        return key in self._keys

    def load(self, key: str) -> Samples | None:
        """The chunk, or None; what was read counts as used now."""
        if key not in self._keys:
            return None
        path = self._path(key)
        with contextlib.suppress(OSError, ValueError):
            with path.open("rb") as file:
                chunk = read_array(file)
            if chunk.dtype == np.float32 and chunk.ndim == 2:
                with contextlib.suppress(OSError):
                    os.utime(path)
                return np.asarray(chunk, dtype=np.float32)
        self._keys.discard(key)  # removed by another process, or damaged
        return None

    def store(self, key: str, chunk: Samples) -> None:
        """Have it written; nothing when the disk is behind by too much."""
        if key in self._keys:
            return
        with self._lock:
            if self._writer is None:
                self._writer = threading.Thread(target=self._write_all, name="chunks", daemon=True)
                self._writer.start()
        with contextlib.suppress(queue.Full):
            self._waiting.put_nowait((key, chunk))

    def flush(self) -> None:
        """Wait until all that was stored is written."""
        self._waiting.join()

    def make_room(self) -> None:
        """Look through the folder: forget what is gone, remove left-overs and what lies beyond the bound."""
        found: list[tuple[float, int, str]] = []
        now, held = time.time(), 0
        with contextlib.suppress(OSError):
            for entry in os.scandir(self._folder):
                with contextlib.suppress(OSError):
                    known = entry.stat()
                    if entry.name.endswith(SUFFIX):
                        found.append((known.st_mtime, known.st_size, entry.name))
                        held += known.st_size
                    elif entry.name.endswith(UNFINISHED) and now - known.st_mtime > ABANDONED_S:
                        os.unlink(entry.path)
        if held > self._most:
            found.sort()
            for n, (_, size, name) in enumerate(found):
                if held <= ROOM_SHARE * self._most:
                    found = found[n:]
                    break
                (self._folder / name).unlink(missing_ok=True)
                held -= size
        self._keys = {name.removesuffix(SUFFIX) for _, _, name in found}
        self._written = 0

    def _path(self, key: str) -> Path:
        return self._folder / (key + SUFFIX)

    def _write_all(self) -> None:
        while True:
            key, chunk = self._waiting.get()
            try:
                self._write(key, chunk)
            finally:
                self._waiting.task_done()

    def _write(self, key: str, chunk: Samples) -> None:
        path = self._path(key)
        beside = self._folder / f"{key}-{os.getpid()}{UNFINISHED}"  # two processes may make the same chunk
        try:
            with beside.open("wb") as file:
                write_array(file, chunk)
            beside.replace(path)
        except OSError:  # a full disk only costs the cache
            with contextlib.suppress(OSError):
                beside.unlink(missing_ok=True)
            return
        self._keys.add(key)
        self._written += chunk.nbytes
        if self._written > LOOK_EVERY_SHARE * self._most:
            self.make_room()
