# SPDX-License-Identifier: GPL-3.0-or-later
"""One window at a time writes a project: the second one is told."""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import os
from pathlib import Path

from pulizia.errors import PuliziaError
from pulizia.media.folders import state_folder


class ProjectLock:
    """Held while a project is open; the system takes it away when the process ends, however it ends."""

    def __init__(self) -> None:
        self._held: tuple[Path, int] | None = None

    def take(self, path: Path) -> bool:
        """Hold the lock of a project in place of the one held before; False when another window has it."""
        try:
            name = hashlib.blake2b(str(path.resolve()).encode(), digest_size=12).hexdigest()
            file = state_folder("open") / f"{name}.lock"
        except (OSError, PuliziaError):
            return True  # no place for locks: nothing is lost by going on
        if self._held is not None and self._held[0] == file:
            return True
        try:
            handle = os.open(file, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        except OSError:
            return True
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            os.close(handle)
            return False
        self.release()
        self._held = (file, handle)
        return True

    def release(self) -> None:
        """Let another window have it."""
        if self._held is not None:
            file, handle = self._held
            self._held = None
            with contextlib.suppress(OSError):
                file.unlink()
            os.close(handle)
