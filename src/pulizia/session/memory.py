# SPDX-License-Identifier: GPL-3.0-or-later
"""The heap of the C library: few of them, and what is free in them goes back to the system."""

from __future__ import annotations

import ctypes
import time

EVERY_S = 5.0
ARENAS, KEPT_BYTES = 3, 32 << 20
_TRIM_THRESHOLD, _MMAP_THRESHOLD, _ARENA_MAX = -1, -3, -8  # of glibc's malloc.h
_last = 0.0


def give_back(*, at_once: bool = False) -> None:
    """Return free pages (glibc's malloc_trim, with the interpreter's lock released); does nothing elsewhere, or too often."""
    global _last  # noqa: PLW0603 - one heap, one clock
    now = time.monotonic()
    if now - _last < EVERY_S and not at_once:
        return
    _last = now
    trim = getattr(ctypes.CDLL(None), "malloc_trim", None)
    if trim is not None:
        trim(ctypes.c_size_t(0))


def settle_heap() -> None:
    """Few heaps for many threads (glibc's mallopt), each keeping little beyond what is used; before threads begin.

    By itself the library makes a heap for each thread, up to eight for each core, and lets each keep up to 64 MB at
    its end after large arrays have gone. Does nothing elsewhere.
    """
    tune = getattr(ctypes.CDLL(None), "mallopt", None)
    if tune is not None:
        for name, value in ((_ARENA_MAX, ARENAS), (_MMAP_THRESHOLD, KEPT_BYTES), (_TRIM_THRESHOLD, KEPT_BYTES)):
            tune(ctypes.c_int(name), ctypes.c_int(value))
