# SPDX-License-Identifier: GPL-3.0-or-later
"""Temporary files beside outputs: named after the process that writes them, removed when it was killed."""

from __future__ import annotations

import contextlib
import os
import re
import socket
import tempfile
import time
from pathlib import Path

SUFFIX = ".part"
ABANDONED_S = 3600.0  # nobody writes to a file for so long: its process, on whatever machine, is gone
_NAME = re.compile(r"\.pulizia-(?P<host>[A-Za-z0-9_.]+)-(?P<pid>\d+)-[^-]+\.part")


def temporary_beside(folder: Path) -> tuple[int, str]:
    """An open temporary file in a folder and its path; raises OSError."""
    return tempfile.mkstemp(prefix=f".pulizia-{_host()}-{os.getpid()}-", suffix=SUFFIX, dir=folder)


def remove_leftovers(folder: Path) -> int:
    """Remove the temporary files of processes that were killed; returns how many."""
    removed = 0
    with contextlib.suppress(OSError):
        for path in folder.glob(".pulizia-*.part"):
            found = _NAME.fullmatch(path.name)
            gone = found is not None and found["host"] == _host() and not is_running(int(found["pid"]))
            with contextlib.suppress(OSError):
                if gone or time.time() - path.stat().st_mtime > ABANDONED_S:
                    path.unlink()
                    removed += 1
    return removed


def _host() -> str:
    return re.sub(r"[^A-Za-z0-9_.]", "_", socket.gethostname()) or "here"


def is_running(pid: int) -> bool:
    """Whether a process of this machine is there; one that has ended and waits for its parent is not."""
    if not 0 < pid < 2**31:  # from a damaged file
        return False
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    with contextlib.suppress(OSError, IndexError):
        state = Path(f"/proc/{pid}/stat").read_text(encoding="utf-8", errors="replace").rpartition(")")[2].split()[0]
        return state not in ("Z", "X")
    return True
