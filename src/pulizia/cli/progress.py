# SPDX-License-Identifier: GPL-3.0-or-later
"""Progress on a terminal; nothing anywhere else."""

from __future__ import annotations

import sys
import time


class TerminalProgress:
    """One line on standard error that is rewritten a few times a second."""

    def __init__(self, what: str) -> None:
        self._what = what
        self._shown = sys.stderr.isatty()
        self._last = 0.0

    def __call__(self, share: float, detail: str = "") -> None:
        """Show 0..1."""
        now = time.monotonic()
        if not self._shown or (now - self._last < 0.1 and share < 1.0):
            return
        self._last = now
        print(f"\r{self._what} {detail} {100 * share:3.0f} %   ", end="", file=sys.stderr, flush=True)

    def done(self) -> None:
        """Clear the line."""
        if self._shown:
            print("\r" + " " * 78 + "\r", end="", file=sys.stderr, flush=True)
