# SPDX-License-Identifier: GPL-3.0-or-later
"""A watched folder: which files in it are complete, and where those go that cannot be worked on."""

from __future__ import annotations

import contextlib
import fcntl
import os
import shutil
import time
from collections.abc import Callable, Collection
from pathlib import Path

from pulizia.errors import DiskError
from pulizia.media.write import disk_words, write_text


class WatchedFolder:
    """Files that arrive in a folder, told once each state of theirs is complete.

    A file is complete when its size and time have stood still for a while and no program on this machine has it
    open for writing. What lies in folders below, and hidden files, are left alone.

    Parameters
    ----------
    endings : in lower case, with their dot
    settle_s : how long a file must stand still
    """

    def __init__(
        self, folder: Path, endings: Collection[str], *, settle_s: float, clock: Callable[[], float] = time.monotonic
    ) -> None:
        self.folder, self._endings, self._settle_s, self._clock = Path(folder), frozenset(endings), settle_s, clock
        self._seen: dict[Path, tuple[tuple[int, int], float]] = {}
        self._told: dict[Path, tuple[int, int]] = {}
        self.unsettled = 0

    def arrived(self) -> list[Path]:
        """Files that are complete and were not told in this state yet, oldest first.

        Raises
        ------
        DiskError
            When the folder cannot be read any more.
        """
        try:
            found = [e for e in os.scandir(self.folder) if self._is_meant(e)]
        except OSError as error:
            message = f"The folder {self.folder} cannot be read ({error.strerror}). Make it available again."
            raise DiskError(message) from error
        complete: list[tuple[int, Path]] = []
        self.unsettled = 0
        for entry in found:
            path = Path(entry.path)
            try:
                known = entry.stat()
            except OSError:
                continue  # gone since
            state = (known.st_size, known.st_mtime_ns)
            if self._told.get(path) == state:
                continue
            before, since = self._seen.get(path, (None, 0.0))
            if before != state:
                self._seen[path] = (state, self._clock())
            elif self._clock() - since >= self._settle_s and not is_being_written(path):
                self._told[path] = state
                complete.append((known.st_mtime_ns, path))
                continue
            self.unsettled += 1
        there = {Path(entry.path) for entry in found}
        for gone in set(self._seen) - there:
            self._seen.pop(gone)
            self._told.pop(gone, None)
        return [path for _, path in sorted(complete)]

    def _is_meant(self, entry: os.DirEntry[str]) -> bool:
        ending = os.path.splitext(entry.name)[1].lower()
        return ending in self._endings and not entry.name.startswith(".") and entry.is_file()


def is_being_written(path: Path) -> bool:
    """Whether a program on this machine has a file open for writing, as far as the file system tells.

    A read lease is granted only on files that nobody has open for writing (fcntl(2), F_SETLEASE).
    """
    try:
        with path.open("rb") as file:
            fcntl.fcntl(file, fcntl.F_SETLEASE, fcntl.F_RDLCK)
            fcntl.fcntl(file, fcntl.F_SETLEASE, fcntl.F_UNLCK)
    except BlockingIOError:
        return True
    except OSError:  # another person's file, or a file system without leases: the time of rest has to do
        return False
    return False


def moved_aside(path: Path, folder: Path, sentence: str) -> Path:
    """Move a file that cannot be worked on into a folder, with the sentence beside it; returns its new place.

    Raises
    ------
    DiskError
        When the folder cannot be written to; the file then stays where it is.
    """
    with disk_words(folder / path.name):
        folder.mkdir(parents=True, exist_ok=True)
        target, number = folder / path.name, 1
        while target.exists():
            number += 1
            target = folder / f"{path.stem}-{number}{path.suffix}"
        shutil.move(path, target)
    with contextlib.suppress(DiskError):  # the sentence is on the terminal too
        write_text(target.with_name(target.name + ".txt"), sentence + "\n")
    return target
