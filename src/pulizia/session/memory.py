# SPDX-License-Identifier: GPL-3.0-or-later
"""Memory that is free but still held by the C library goes back to the system."""

from __future__ import annotations

import ctypes
import time

EVERY_S = 5.0
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
