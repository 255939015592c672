# SPDX-License-Identifier: GPL-3.0-or-later
"""Findings kept on the disk by the content they were found in, so that a project opens with what was known of it."""

from __future__ import annotations

import contextlib
import dataclasses
import hashlib
import json
from pathlib import Path

from pulizia import __version__
from pulizia.errors import DiskError
from pulizia.inspection.inspect import PROBLEMS
from pulizia.media.write import write_text
from pulizia.tools.finding import Finding, Mark
from pulizia.words import language_shown


class FindingStore:
    """One small file for each inspected sound. A damaged one, or one of another version, counts as none."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def _file(self, key: str) -> Path:
        name = hashlib.sha256(f"{key}|{__version__}|{language_shown()}".encode()).hexdigest()[:32]
        return self._folder / f"{name}.json"

    def save(self, key: str, findings: tuple[Finding, ...]) -> None:
        """Keep what was found in a source with this key; a full disk only costs the memory of it."""
        with contextlib.suppress(DiskError, OSError, TypeError):
            self._folder.mkdir(parents=True, exist_ok=True)
            write_text(self._file(key), json.dumps([dataclasses.asdict(f) for f in findings]))

    def load(self, key: str) -> tuple[Finding, ...] | None:
        """What was found in a source with this key, or None."""
        with contextlib.suppress(OSError, ValueError, TypeError, KeyError, AttributeError):
            rows = json.loads(self._file(key).read_text(encoding="utf-8"))
            return tuple(_finding(row) for row in rows)
        return None


def _finding(row: dict[str, object]) -> Finding:
    marks, channels = row["marks"], row["channels"]
    if row["kind"] not in PROBLEMS or not isinstance(marks, list) or not isinstance(channels, list | None):
        raise ValueError
    made = {"marks": tuple(Mark(**mark) for mark in marks), "channels": None if channels is None else tuple(channels)}
    return Finding(**(row | made))  # type: ignore[arg-type]
