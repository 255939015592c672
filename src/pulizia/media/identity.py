# SPDX-License-Identifier: GPL-3.0-or-later
"""Whether a file is still the one it was: by its size, times and place on the disk first, by all of its bytes where that matters.

A quick digest of some blocks names a recording at once; it cannot see every change. The digest of
everything is made once for each state of a file, in the background, and kept.
"""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Callable
from pathlib import Path

from pulizia.errors import PuliziaError
from pulizia.media.folders import cache_folder, prune

QUICK_BLOCKS, QUICK_BLOCK_BYTES = 64, 1 << 16
READ_BYTES = 4 << 20
KEPT_BYTES = 4 << 20  # of digests kept: some ten thousand files


def quick_digest(path: Path) -> str:
    """Digest of a file's size and of 64 blocks spread over it; raises OSError."""
    size = path.stat().st_size
    digest = hashlib.blake2b(str(size).encode(), digest_size=16)
    with path.open("rb") as file:
        span = max(0, size - QUICK_BLOCK_BYTES)
        for block in range(QUICK_BLOCKS):
            file.seek(span * block // (QUICK_BLOCKS - 1))
            digest.update(file.read(QUICK_BLOCK_BYTES))
            if size <= QUICK_BLOCK_BYTES:
                break
    return digest.hexdigest()


def state_of(path: Path) -> str:
    """Size, time of the last change and place on the disk: another one after every ordinary write; raises OSError."""
    found = path.stat()
    return f"{found.st_size:x}-{found.st_mtime_ns:x}-{found.st_dev:x}-{found.st_ino:x}"


def whole_digest(path: Path, progress: Callable[[float], None] = lambda _: None) -> str:
    """Digest of all bytes, read only when it is not known for this state of the file; raises OSError.

    ``progress`` (0..1) may raise to stop.
    """
    known = _note_of(path)
    if known is not None:
        with contextlib.suppress(OSError, UnicodeDecodeError):
            text = known.read_text(encoding="ascii")
            if len(text) == 64:
                return text
    size, done = max(1, path.stat().st_size), 0
    digest = hashlib.blake2b(digest_size=32)
    with path.open("rb") as file:
        while block := file.read(READ_BYTES):
            digest.update(block)
            done += len(block)
            progress(min(1.0, done / size))
    made = digest.hexdigest()
    after = _note_of(path)
    if known is not None and after == known:  # nobody wrote to it meanwhile
        with contextlib.suppress(OSError):
            known.write_text(made, encoding="ascii")
            prune(known.parent, KEPT_BYTES)
    return made


def _note_of(path: Path) -> Path | None:
    found = path.stat()
    name = hashlib.blake2b(f"{state_of(path)}-{found.st_ctime_ns:x}".encode(), digest_size=16).hexdigest()
    try:
        return cache_folder("digests") / name
    except PuliziaError:
        return None
