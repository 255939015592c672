# SPDX-License-Identifier: GPL-3.0-or-later
"""The journal: every unsaved project is kept in the state folder until it is saved or dropped."""

from __future__ import annotations

import contextlib
import json
import os
import threading
from dataclasses import dataclass
from pathlib import Path

from pulizia.errors import ProjectError
from pulizia.media.leftovers import is_running
from pulizia.media.write import write_text
from pulizia.project.file import compact_text, parse_project
from pulizia.project.model import Project


@dataclass(frozen=True, slots=True, kw_only=True)
class Recovered:
    """A project that an earlier session did not save."""

    project: Project
    path: Path | None
    journal: Path


class Journal:
    """One session's unsaved state. It may be written by a worker while the window goes on."""

    def __init__(self, folder: Path) -> None:
        self._file = folder / f"{os.getpid()}-{id(self):x}.journal"
        self._lock = threading.Lock()
        self._turn = 0  # rises when the journal is dropped: what was begun before is not written any more

    @property
    def turn(self) -> int:
        """To be given to :meth:`keep` by a worker that was sent now."""
        return self._turn

    def keep(self, project: Project, path: Path | None, turn: int | None = None) -> None:
        """Write the project down, unless the journal was dropped since ``turn``; raises DiskError."""
        content = {
            "pid": os.getpid(),
            "path": None if path is None else str(path),
            "project": compact_text(project, Path("/")),
        }
        text = json.dumps(content)
        with self._lock:
            if turn is None or turn == self._turn:
                write_text(self._file, text)

    def drop(self) -> None:
        """Forget: the project was saved or given up."""
        with self._lock:
            self._turn += 1
            self._file.unlink(missing_ok=True)


def left_behind(folder: Path) -> list[Recovered]:
    """Journals of sessions that ended without saving, newest first; damaged ones are dropped."""
    found = []
    for file in sorted(folder.glob("*.journal"), key=lambda f: -f.stat().st_mtime):
        try:
            content = json.loads(file.read_text(encoding="utf-8"))
            if is_running(int(content["pid"])):
                continue
            project = parse_project(content["project"], file.name, Path("/"))
            path = content["path"]
            found.append(Recovered(project=project, path=None if path is None else Path(path), journal=file))
        except (OSError, ValueError, KeyError, TypeError, ProjectError):
            with contextlib.suppress(OSError):
                file.rename(file.with_suffix(".damaged"))
    return found
