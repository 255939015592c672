# SPDX-License-Identifier: GPL-3.0-or-later
"""The loudness of what was measured once, kept on the disk by its content: a project opens with the figures of its list. No Qt."""

from __future__ import annotations

import contextlib
import hashlib
import json
from collections.abc import Sequence
from pathlib import Path

from pulizia import __version__
from pulizia.errors import DiskError
from pulizia.media.write import write_text

MOST_OF_A_PLACE = 20


class LoudnessMemory:
    """One small file for each sound. A damaged one, or one of another version, counts as none.

    Keys are those of the sources, ``names`` those of their channels, which weigh in the loudness. Of a place, a
    recording before or after its steps, the newest MOST_OF_A_PLACE are kept, to which undo may lead back: each setting
    that was tried would leave a file.
    """

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._newest: dict[str, list[Path]] = {}

    def _file(self, key: str, names: Sequence[str]) -> Path:
        name = hashlib.sha256("|".join((key, __version__, *names)).encode()).hexdigest()[:32]
        return self._folder / f"{name}.json"

    def save(self, place: str, key: str, names: Sequence[str], integrated_lufs: float | None) -> None:
        """Keep the figure; None is silence. A full disk only costs the memory of it."""
        file, kept = self._file(key, names), self._newest.setdefault(place, [])
        with contextlib.suppress(DiskError, OSError):
            self._folder.mkdir(parents=True, exist_ok=True)
            write_text(file, json.dumps({"integrated_lufs": integrated_lufs}))
            if file in kept:
                kept.remove(file)
            kept.append(file)
            while len(kept) > MOST_OF_A_PLACE:
                kept.pop(0).unlink(missing_ok=True)

    def load(self, key: str, names: Sequence[str]) -> tuple[float | None] | None:
        """The figure alone in a tuple, or None when it was never measured."""
        with contextlib.suppress(OSError, ValueError, TypeError, KeyError):
            known = json.loads(self._file(key, names).read_text(encoding="utf-8"))["integrated_lufs"]
            return (None,) if known is None else (float(known),)
        return None
