# SPDX-License-Identifier: GPL-3.0-or-later
"""Sound files that a person names, one by one or by their folders."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from pulizia.media import suffixes


def sound_files(paths: Iterable[Path]) -> list[Path]:
    """Files as they are named; of folders all sound files in them and below, by name."""
    found: list[Path] = []
    for path in paths:
        if path.is_dir():
            found += sorted(
                p
                for p in path.rglob("*")
                if p.suffix.lower() in suffixes.ALL and p.is_file() and not p.name.startswith(".")
            )
        else:
            found.append(path)
    return found
