# SPDX-License-Identifier: GPL-3.0-or-later
"""What to do with a fault that nobody foresaw: one sentence for the person, the details in a file of the state folder."""

from __future__ import annotations

import os
import sys
import time
import traceback

from pulizia import __version__
from pulizia.errors import PuliziaError
from pulizia.media.folders import prune, state_folder
from pulizia.words import tr

KEPT_BYTES = 1 << 20


def note_fault(error: BaseException, doing: str = "") -> str:
    """Write a fault down; returns the sentence to show."""
    what = tr("{doing} failed", doing=doing) if doing else tr("Something failed")
    lines = traceback.format_exception(error)
    now = time.strftime("%Y-%m-%d %H:%M:%S")
    head = f"Pulizia {__version__}, Python {sys.version.split()[0]}, {now}\n{what}\n\n"
    try:
        folder = state_folder("faults")
        path = folder / f"{time.strftime('%Y%m%d-%H%M%S')}-{os.getpid()}-{time.monotonic_ns() % 1_000_000}.txt"
        path.write_text(head + "".join(lines), encoding="utf-8")
        prune(folder, KEPT_BYTES)
    except (PuliziaError, OSError):
        return tr(
            "{what} in a way that the program did not foresee ({name}). Please report it.",
            what=what,
            name=type(error).__name__,
        )
    return tr(
        "{what} in a way that the program did not foresee. Please report it, with the file {path}.",
        what=what,
        path=path,
    )
